package serve

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
	"github.com/spf13/viper"

	"rotanex.example/service/access"
	"rotanex.example/service/clock"
	"rotanex.example/service/postgres"
	"rotanex.example/service/store"
)

// token is the way back in for who has the machine and no token any more.
func token(config *viper.Viper) *cobra.Command {
	c := &cobra.Command{
		Use: "token --admin", Short: "Make an admin's token on the machine itself, where none is left", Args: cobra.NoArgs,
		Long:    "Makes a token of the role admin in the service's database and prints it. The service may run or not.",
		Example: "  rotanex-service token --admin --state-dir /var/lib/rotanex",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if !config.GetBool("admin") {
				return errors.New("say --admin: other tokens are made with rotanex tokens create")
			}
			secret, err := adminToken(cmd.Context(), config)
			if err == nil {
				_, err = fmt.Fprintln(cmd.OutOrStdout(), secret)
			}
			return err
		},
	}
	c.Flags().Bool("admin", false, "of the role admin")
	_ = config.BindPFlag("admin", c.Flags().Lookup("admin"))
	return c
}

func adminToken(ctx context.Context, config *viper.Viper) (secret string, err error) {
	database := config.GetString("database-url")
	if database == "" {
		own, err := postgres.Start(ctx, filepath.Join(config.GetString("state-dir"), "postgres"))
		if err != nil {
			return "", err
		}
		if !own.Ran() {
			defer func() { err = errors.Join(err, own.Stop()) }()
		}
		database = own.URL()
	}
	s, err := store.Open(ctx, database, slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn})))
	if err != nil {
		return "", err
	}
	defer s.Close()
	_, secret, err = access.New(s, clock.Wall(), false, false).Make(ctx, "made on the service's machine", access.Admin, "", 0)
	return secret, err
}
