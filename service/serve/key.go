package serve

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
	"github.com/spf13/viper"
	"gorm.io/gorm"

	"rotanex.example/service/app"
	"rotanex.example/service/store"
)

// secretsKey reads the key with which providers' secrets are sealed, or makes one. Who
// has the database without this file has no secret.
func secretsKey(path string) ([]byte, error) {
	key, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		key, err = newKey(path)
		if errors.Is(err, os.ErrExist) {
			return secretsKey(path) // another service was faster
		}
	}
	if err == nil && len(key) != 32 {
		err = fmt.Errorf("--key-file %s: want 32 bytes, it has %d", path, len(key))
	}
	return key, err
}

// newKey makes a key in a file that is not there yet.
func newKey(path string) ([]byte, error) {
	key := make([]byte, 32)
	if _, err := rand.Read(key); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, err
	}
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	_, err = file.Write(key)
	return key, errors.Join(err, file.Sync(), file.Close())
}

// rotateKey seals all secrets anew with another key.
func rotateKey(config *viper.Viper) *cobra.Command {
	var lost bool
	c := &cobra.Command{
		Use: "rotate-key", Short: "Seal all secrets anew, with another key", Args: cobra.NoArgs,
		Long: `Makes a key, seals the secrets of sources and receivers with it, and puts it in the place
of the one before, which is kept beside it until you remove it. Stop every service before,
and give each the new key file after it: one with another key does not start.

With --lost there is no key to open them with: the key file, made if it is not there, is gone
by from now on, and the secrets have to be stored again.`,
		Example: "  rotanex-service rotate-key --state-dir /var/lib/rotanex\n  rotanex-service rotate-key --lost --key-file /var/lib/rotanex/secrets.key",
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			place, done, err := at(cmd.Context(), config)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, done()) }()
			log := slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))
			s, err := store.Open(cmd.Context(), place.Database, log)
			if err != nil {
				return err
			}
			defer s.Close()
			if lost {
				key, err := secretsKey(place.KeyFile)
				if err == nil {
					err = app.LostKey(s.WithContext(cmd.Context()), key)
				}
				if err == nil {
					_, err = fmt.Fprintf(cmd.OutOrStdout(), "Services go by the key in %s now: store the secrets of sources again (rotanex sources secret), and make receivers anew\n", place.KeyFile)
				}
				return err
			}
			rotate := func(from, to []byte) (n int, err error) {
				return n, s.WithContext(cmd.Context()).Transaction(func(tx *gorm.DB) error {
					n, err = app.Reseal(tx, from, to)
					return err
				})
			}
			secrets, err := swapKey(place.KeyFile, rotate)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "Sealed %d secrets with a new key in %s; the one before is in %s\n", secrets, place.KeyFile, place.KeyFile+".before")
			return err
		},
	}
	c.Flags().BoolVar(&lost, "lost", false, "the key before is lost")
	return c
}

// swapKey makes a new key in the place of the one of a file, once everything was sealed with it. Cut short at any point, the
// key with which things are sealed is in the file or beside it.
func swapKey(file string, rotate func(from, to []byte) (int, error)) (int, error) {
	old, err := os.ReadFile(file)
	if err != nil {
		return 0, fmt.Errorf("the key that is to be replaced: %w", err)
	}
	if _, err := os.Stat(file + ".new"); !errors.Is(err, fs.ErrNotExist) {
		return 0, fmt.Errorf("%s.new is there, of a rotation that was cut short: if the service starts with %s, remove it; else move it there", file, file)
	}
	key, err := newKey(file + ".new")
	if err != nil {
		return 0, err
	}
	n, err := rotate(old, key)
	if err != nil {
		return 0, errors.Join(err, os.Remove(file+".new"))
	}
	return n, errors.Join(os.WriteFile(file+".before", old, 0o600), os.Rename(file+".new", file))
}
