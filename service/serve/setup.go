package serve

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/viper"

	"rotanex.example/doctor"
)

// setup makes what a service needs on a machine: its settings, its folder and its key.
func setup(config *viper.Viper) *cobra.Command {
	var file, as string
	c := &cobra.Command{
		Use: "setup", Short: "Make what the service needs on this machine, and say how to go on", Args: cobra.NoArgs,
		Long: `Writes a file of settings with those that are given and all others as remarks, makes the
state folder and the key of secrets for the user that the service is to run as, checks what it
stands on, and says how to start it. What is there already stays as it is: it may be repeated.`,
		Example: "  rotanex-service setup --file /etc/rotanex/service.yaml --as rotanex --zone Europe/Lisbon\n" +
			"  rotanex-service setup --file service.yaml --state-dir ./state",
		RunE: func(cmd *cobra.Command, _ []string) error {
			out := cmd.OutOrStdout()
			owner, err := ownerOf(as)
			if err != nil {
				return err
			}
			if _, _, err := settings(config, nil); err != nil {
				return err
			}
			// Whoever it runs as, what is kept lies in one place.
			if err := writeSettings(out, file, documented(config, "state-dir"), owner); err != nil {
				return err
			}
			config.Set("config", file)
			if err := read(config); err != nil {
				return err
			}
			_, state, err := settings(config, nil)
			if err != nil {
				return err
			}
			if err := owner.folder(state); err != nil {
				return err
			}
			key := keyFileOf(config, state)
			if _, err := secretsKey(key); err != nil {
				return err
			}
			if err := owner.owns(key); err != nil {
				return err
			}
			all, err := checks(config)
			if err != nil {
				return err
			}
			told := doctor.Run(cmd.Context(), all).Show(out, "text")
			next(out, file, as)
			return told
		},
	}
	c.Flags().StringVar(&file, "file", "rotanex-service.yaml", "file of settings to write, unless it is there")
	c.Flags().StringVar(&as, "as", "", "user that the service is to run as; default who asks")
	return c
}

// next says how to go on.
func next(out io.Writer, file, as string) {
	by := ""
	if as != "" {
		by = "sudo -u " + as + " "
	}
	start := by + "rotanex-service --config " + file
	if _, err := os.Stat("/run/systemd/system"); err == nil {
		start = "systemctl enable --now rotanex-service"
	}
	_, _ = fmt.Fprintf(out, "\nNext:\n  %s\n  %srotanex-service token --admin --config %s     # the first token, if its log is not at hand\n  then open the console at the address in %s\n", start, by, file, file)
}

// writeSettings writes the file of settings for its owner to read, unless it is there.
func writeSettings(out io.Writer, file, text string, o owner) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o640)
	if errors.Is(err, fs.ErrExist) {
		_, err = fmt.Fprintf(out, "%s is there, and stays as it is\n", file)
		return err
	}
	if err != nil {
		return err
	}
	_, err = io.Copy(f, strings.NewReader(text))
	if err = errors.Join(err, f.Close()); err == nil && o.given {
		err = os.Chown(file, 0, o.gid) // it may read its settings, not change them
	}
	if err == nil {
		_, err = fmt.Fprintf(out, "Wrote %s\n", file)
	}
	return err
}

// owner is whom the service is to run as.
type owner struct {
	given    bool
	uid, gid int
}

func ownerOf(name string) (o owner, err error) {
	if name == "" {
		return o, nil
	}
	u, err := user.Lookup(name)
	if err != nil {
		return o, fmt.Errorf("--as %s: there is no such user: make one with adduser --system --group %s", name, name)
	}
	if o.uid, err = strconv.Atoi(u.Uid); err == nil {
		o.gid, err = strconv.Atoi(u.Gid)
	}
	o.given = true
	return o, err
}

// folder makes a folder for the owner.
func (o owner) folder(path string) error {
	if err := os.MkdirAll(path, 0o755); err != nil {
		return err
	}
	return o.owns(path)
}

func (o owner) owns(path string) error {
	if !o.given {
		return nil
	}
	if err := os.Chown(path, o.uid, o.gid); err != nil {
		return fmt.Errorf("%w: setup --as wants to be started as root", err)
	}
	return nil
}
