// Package serve is the service's own command line: it reads its settings, starts
// a database if there is none to use, and serves until it is told to stop.
package serve

import (
	"context"
	"crypto/tls"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/viper"

	"rotanex.example/core/version"
	"rotanex.example/doctor"
	"rotanex.example/manual"
	"rotanex.example/service/app"
	"rotanex.example/service/postgres"
)

// New returns the command.
func New() *cobra.Command {
	config := viper.New()
	c := &cobra.Command{
		Use: "rotanex-service", Short: "Serve Rotanex: the interface, the console and the work behind them", Args: cobra.NoArgs, Version: version.Built(),
		Long: `Serves until it is told to stop. Without --database-url it runs a PostgreSQL server
of its own, on loopback, with its data in the state folder.

It listens on loopback. For another address it wants TLS (--tls-cert, --tls-key), or
--behind-proxy, which says that a proxy in front of it does TLS.

Every setting may also come from the environment, as ROTANEX_DATABASE_URL for
--database-url, or from the file named by --config.`,
		Example: `  rotanex-service
  rotanex-service --database-url postgres://rotanex@db.example/rotanex --listen 0.0.0.0:7070 --tls-cert cert.pem --tls-key key.pem`,
		SilenceUsage: true, SilenceErrors: true,
		RunE: func(cmd *cobra.Command, _ []string) error { return run(cmd.Context(), config) },
		PersistentPreRunE: func(*cobra.Command, []string) error {
			return read(config)
		},
	}
	c.AddCommand(setup(config), token(config), configCommand(config), manual.Command(), backupCommand(config), restoreCommand(config), rotateKey(config), doctor.Command("the service", "  rotanex-service doctor\n  rotanex-service doctor --config /etc/rotanex/service.yaml --output json", func() ([]doctor.Check, error) { return checks(config) }))
	flags(c.PersistentFlags())
	_ = config.BindPFlags(c.PersistentFlags())
	return c
}

func run(ctx context.Context, v *viper.Viper) error {
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	if v.GetString("log") == "json" {
		log = slog.New(slog.NewJSONHandler(os.Stderr, nil))
	}
	slog.SetDefault(log)
	c, state, err := settings(v, log)
	if err != nil {
		return err
	}
	if c.Key, err = secretsKey(keyFileOf(v, state)); err != nil {
		return err
	}
	if c.DatabaseURL == "" {
		own, err := postgres.Start(ctx, filepath.Join(state, "postgres"))
		if err != nil {
			return err
		}
		defer func() { _ = own.Stop() }()
		c.DatabaseURL = own.URL()
	}
	return serve(ctx, v, c, log)
}

// goodbye is how long requests in hand may take when the service stops.
const goodbye = 5 * time.Second

func serve(ctx context.Context, v *viper.Viper, c app.Config, log *slog.Logger) error {
	listener, err := net.Listen("tcp", v.GetString("listen"))
	if err != nil {
		return err
	}
	scheme := "http"
	if cert := v.GetString("tls-cert"); cert != "" {
		pair, err := tls.LoadX509KeyPair(cert, v.GetString("tls-key"))
		if err != nil {
			return err
		}
		scheme, listener = "https", tls.NewListener(listener, &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12})
	}
	if c.Address == "" {
		c.Address = scheme + "://" + listener.Addr().String()
	}
	machine, err := os.Hostname()
	if err != nil {
		return err
	}
	c.Name = machine + " " + listener.Addr().String()
	if at := v.GetString("debug-listen"); at != "" {
		stop, err := profiles(ctx, at, log)
		if err != nil {
			_ = listener.Close()
			return err
		}
		defer stop()
	}
	s, err := app.Start(ctx, c)
	if err != nil {
		_ = listener.Close()
		return err
	}
	defer s.Close()
	if s.FirstToken != "" {
		fmt.Printf("First admin token, shown this once: %s\n", s.FirstToken)
	}
	// Requests that wait (live updates, agents' questions) end when this does.
	serving, stop := context.WithCancel(context.WithoutCancel(ctx))
	server := &http.Server{
		Handler: s.Handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		BaseContext: func(net.Listener) context.Context { return serving },
	}
	server.RegisterOnShutdown(stop)
	defer stop()
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(listener) }()
	log.Info("serving", "address", scheme+"://"+listener.Addr().String())
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	log.Info("stopping")
	leaving, cancel := context.WithTimeout(context.Background(), goodbye)
	defer cancel()
	if err := server.Shutdown(leaving); err != nil {
		return server.Close()
	}
	return nil
}
