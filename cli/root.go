// Package cli is the command line: Cobra commands in the order of the job. It
// talks to the service only through the generated client, and to the core for
// commands that work on files.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
	"github.com/spf13/viper"
	"golang.org/x/term"

	"rotanex.example/api/client"
	"rotanex.example/core/version"
	"rotanex.example/manual"
)

// Exit statuses. They are part of the interface: docs/commands.md lists them.
const (
	ExitOK         = 0
	ExitFailed     = 1
	ExitLate       = 3
	ExitOverBudget = 4
	ExitImpossible = 5
	ExitIncomplete = 6
	ExitUnsure     = 7
)

// exit is an outcome that is no error but not plain success either.
type exit struct {
	status int
	text   string
}

func (e exit) Error() string { return e.text }

// Main runs the command line and returns the exit status.
func Main(ctx context.Context, args []string, in io.Reader, out, errs io.Writer) int {
	if f, ok := out.(*os.File); !ok || !term.IsTerminal(int(f.Fd())) {
		text.DisableColors() // what is not looked at needs none
	}
	root := New()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errs)
	err := root.ExecuteContext(ctx)
	var e exit
	switch {
	case err == nil:
		return ExitOK
	case errors.As(err, &e):
		if e.text != "" {
			_, _ = fmt.Fprintln(errs, e.text)
		}
		return e.status
	default:
		_, _ = fmt.Fprintln(errs, "rotanex:", err)
		return ExitFailed
	}
}

// app is what all commands share.
type app struct {
	config *viper.Viper
	said   atomic.Pointer[func(string)] // changes what is said to be going on, while something is
}

// New returns the root command.
func New() *cobra.Command {
	a := &app{config: viper.New()}
	root := &cobra.Command{
		Use:   "rotanex",
		Short: "Spread animation frames over mixed machines, at the least cost, by the deadline",
		Long: `Rotanex times test frames on your machines, plans the cheapest schedule that
meets the deadline, carries it out, and says what it cost.

The job, in order:
  hosts import → shots import → preflight → trials sweep → compare → plan → start → watch → download → ledger

Settings come from flags, else from the environment (ROTANEX_SERVICE, ROTANEX_TOKEN),
else from the file config.yaml in ` + configFolder() + `.`,
		Example: `  rotanex hosts import stock.yaml
  rotanex trials sweep orrery-020 --budget 40m
  rotanex plan orrery-020 --by 20:00
  rotanex start latest && rotanex watch latest`,
		Version:           version.Built(),
		SilenceUsage:      true,
		SilenceErrors:     true,
		PersistentPreRunE: func(*cobra.Command, []string) error { return a.configure() },
	}
	flags := root.PersistentFlags()
	flags.String("service", "http://127.0.0.1:7070", "the service's address")
	flags.String("token", "", "access token")
	flags.StringP("output", "o", "table", "table, json or csv")
	for _, name := range []string{"service", "token", "output"} {
		_ = a.config.BindPFlag(name, flags.Lookup(name))
	}
	_ = root.RegisterFlagCompletionFunc("output", cobra.FixedCompletions([]string{"table", "json", "csv"}, cobra.ShellCompDirectiveNoFileComp))
	root.AddGroup(&cobra.Group{ID: "job", Title: "The job, in order:"}, &cobra.Group{ID: "more", Title: "Looking after it:"})
	for _, group := range []struct {
		id   string
		list []*cobra.Command
	}{
		{"job", []*cobra.Command{a.hosts(), a.offers(), a.sources(), a.shots(), a.packages(), a.preflight(), a.memory(), a.trials(), a.compare(), a.settings(), a.plan(), a.curve(), a.why(), a.start(), a.watch(), a.download(), a.preview(), a.ledger()}},
		{"more", []*cobra.Command{a.plans(), a.forecast(), a.effects(), a.computations(), a.waiting(), a.notify(), a.replan(), a.schedule(), a.backlog(), a.solve(), a.times(), a.timing(), a.licences(), a.exchangeRates(), a.farms(), a.entries(), a.runs(), a.frames(), a.setState("pause", "paused"), a.setState("resume", "running"), a.setState("cancel", "cancelled"), a.audit(), a.storage(), a.tokens(), a.whoami()}},
	} {
		for _, c := range group.list {
			c.GroupID = group.id
			root.AddCommand(c)
		}
	}
	root.AddCommand(manual.Command())
	cobra.EnableCommandSorting = false
	a.complete(root)
	return root
}

func configFolder() string {
	if folder, err := os.UserConfigDir(); err == nil {
		return filepath.Join(folder, "rotanex")
	}
	return "~/.config/rotanex"
}

func (a *app) configure() error {
	a.config.SetEnvPrefix("rotanex")
	a.config.SetEnvKeyReplacer(strings.NewReplacer("-", "_"))
	a.config.AutomaticEnv()
	a.config.SetConfigFile(filepath.Join(configFolder(), "config.yaml"))
	if err := a.config.ReadInConfig(); err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("settings: %w", err)
	}
	switch o := a.config.GetString("output"); o {
	case "table", "json", "csv":
		return nil
	default:
		return fmt.Errorf("--output %q: want table, json or csv", o)
	}
}

// client returns the way to the service.
func (a *app) client() (*client.Client, error) {
	address, token := strings.TrimRight(a.config.GetString("service"), "/"), a.config.GetString("token")
	if token == "" {
		return nil, errors.New("a token is needed: pass --token, or set ROTANEX_TOKEN; the service prints the first one at its first start")
	}
	patient := client.Await{Doer: http.DefaultClient, Progress: a.computing}
	clean := cleaning{next: patient, raw: a.config.GetString("output") == "json"}
	return client.NewClient(address+"/api/v1", client.WithHTTPClient(clean), client.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+token)
		return nil
	}))
}

// reach explains an error of not getting through at all.
func (a *app) reach(err error) error {
	if dial := (*net.OpError)(nil); errors.As(err, &dial) && dial.Op == "dial" {
		return fmt.Errorf("the service at %s does not answer: start it with rotanex-service, or pass --service", a.config.GetString("service"))
	}
	return err
}
