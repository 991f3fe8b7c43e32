package serve

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/spf13/viper"
)

// configCommand prints and checks the file of settings.
func configCommand(v *viper.Viper) *cobra.Command {
	c := &cobra.Command{
		Use: "config", Short: "The file of settings",
		Long: `Every setting of the service may stand in one file, which --config or ROTANEX_CONFIG names. A flag
comes before the environment, the environment before the file.`,
	}
	c.AddCommand(&cobra.Command{
		Use: "print", Short: "Print a file with every setting, what it means, and what it is", Args: cobra.NoArgs,
		Long: `Prints a file with every setting and what it means: as it is set now, or else as a remark with what it
is without being set. The passwords in addresses are printed too: keep the file as you keep the service's folder.`,
		Example: "  rotanex-service config print > /etc/rotanex/service.yaml\n  rotanex-service config print --config /etc/rotanex/service.yaml",
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, err := io.WriteString(cmd.OutOrStdout(), documented(v))
			return err
		},
	}, &cobra.Command{
		Use: "check", Short: "Check the settings, and change nothing", Args: cobra.NoArgs,
		Long:    "Checks that every setting is known and may be what it is. Whether what they name is there, rotanex-service doctor says.",
		Example: "  rotanex-service config check --config /etc/rotanex/service.yaml",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if _, _, err := settings(v, nil); err != nil {
				return err
			}
			_, err := fmt.Fprintln(cmd.OutOrStdout(), "The settings are good.")
			return err
		},
	})
	return c
}

// documented is the file of settings, with what is set and what is not. Some are always set.
func documented(v *viper.Viper, always ...string) string {
	known := pflag.NewFlagSet("", pflag.ContinueOnError)
	known.SortFlags = false
	flags(known)
	var out strings.Builder
	out.WriteString("# Settings of rotanex-service: see rotanex-service --help. What is not set is as the remarks say.\n")
	known.VisitAll(func(f *pflag.Flag) {
		if f.Name == "config" {
			return
		}
		set, remark := v.Get(f.Name), ""
		if value := fmt.Sprint(set); value == f.DefValue && !slices.Contains(always, f.Name) {
			remark = "# "
		}
		line, err := yaml.Marshal(map[string]any{f.Name: set})
		if err != nil {
			return
		}
		fmt.Fprintf(&out, "\n# %s\n%s%s", f.Usage, remark, line)
	})
	return out.String()
}
