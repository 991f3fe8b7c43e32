package serve

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
	"github.com/spf13/viper"

	"rotanex.example/core/version"
	"rotanex.example/service/app"
	"rotanex.example/service/backup"
	"rotanex.example/service/postgres"
)

// at is where the service keeps what it has, with a database of its own started if it does not run. Call done in the end.
func at(ctx context.Context, config *viper.Viper) (p backup.Place, done func() error, err error) {
	state, err := filepath.Abs(config.GetString("state-dir"))
	if err != nil {
		return p, nil, err
	}
	p.Database, p.KeyFile = config.GetString("database-url"), keyFileOf(config, state)
	done = func() error { return nil }
	if p.Database == "" {
		own, err := postgres.Start(ctx, filepath.Join(state, "postgres"))
		if err != nil {
			return p, nil, err
		}
		if !own.Ran() {
			done = own.Stop
		}
		p.Database = own.URL()
	}
	if p.Blobs, err = app.OpenBlobs(ctx, blobsOf(config, state)); err != nil {
		return p, nil, errors.Join(err, done())
	}
	stop := done
	return p, func() error { return errors.Join(p.Blobs.Close(), stop()) }, nil
}

func keyFileOf(config *viper.Viper, state string) string {
	if file := config.GetString("key-file"); file != "" {
		return file
	}
	return filepath.Join(state, "secrets.key")
}

func blobsOf(config *viper.Viper, state string) string {
	if place := config.GetString("blobs"); place != "" {
		return place
	}
	return filepath.Join(state, "pictures")
}

func say(cmd *cobra.Command) func(string) {
	return func(what string) { fmt.Fprintln(cmd.ErrOrStderr(), what) }
}

// backupCommand writes all that the service keeps into a folder.
func backupCommand(config *viper.Viper) *cobra.Command {
	var to string
	var list bool
	c := &cobra.Command{
		Use: "backup --to DIR", Short: "Write all that the service keeps into a folder", Args: cobra.NoArgs,
		Long: `Writes the database, pictures, packages and the key of secrets into a folder, and checks
each. The service may run meanwhile. Into the folder of an earlier backup only what is new
of the pictures is copied. The folder has the key: keep it as you keep the service itself.`,
		Example: "  rotanex-service backup --to /mnt/backup/rotanex --state-dir /var/lib/rotanex\n  rotanex-service backup --to /mnt/backup/rotanex --list-pictures --blobs s3://frames",
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if to == "" {
				return errors.New("say where to with --to DIR")
			}
			from, done, err := at(cmd.Context(), config)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, done()) }()
			m, err := backup.Make(cmd.Context(), from, to, backup.Options{Version: version.Ours, List: list, Say: say(cmd)})
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "Written and checked: the database, %d pictures and parts of packages (%.1f MB%s)%s, in %s\n",
				m.Pictures, float64(m.Bytes)/1e6, map[bool]string{true: ", listed alone"}[m.Listed], map[bool]string{true: ", the key"}[m.Key], to)
			return err
		},
	}
	c.Flags().StringVar(&to, "to", "", "folder to write into: empty, or that of an earlier backup")
	c.Flags().BoolVar(&list, "list-pictures", false, "list the pictures instead of copying them, where their store has a backup of its own")
	return c
}

// restoreCommand makes a service of a backup.
func restoreCommand(config *viper.Viper) *cobra.Command {
	var from string
	c := &cobra.Command{
		Use: "restore --from DIR", Short: "Make a service of a backup, in an empty state folder and database", Args: cobra.NoArgs,
		Long: `Reads a backup into a database, a place for pictures and a key file that have nothing yet,
and checks each. Then start the service as usual: agents go on by themselves, frames that
were done since are rendered again, and servers at sources that the backup knows nothing of
are ended and accounted for. Jobs at farms that were handed in since are not known: end
them there.`,
		Example: "  rotanex-service restore --from /mnt/backup/rotanex --state-dir /var/lib/rotanex-new",
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if from == "" {
				return errors.New("say where from with --from DIR")
			}
			if _, err := backup.Read(from); err != nil {
				return err // before anything is made
			}
			if err := os.MkdirAll(config.GetString("state-dir"), 0o755); err != nil {
				return err
			}
			to, done, err := at(cmd.Context(), config)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, done()) }()
			m, err := backup.Restore(cmd.Context(), from, to, say(cmd))
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "Restored as of %s: start the service now, with the same settings\n", m.MadeAt.Format("2006-01-02 15:04 UTC"))
			return err
		},
	}
	c.Flags().StringVar(&from, "from", "", "folder of the backup")
	return c
}
