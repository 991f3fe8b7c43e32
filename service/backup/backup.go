// Package backup writes all that a service keeps into a folder, and makes a service of it again: the database, as pg_dump writes
// it, the pictures and packages, and the key with which secrets are sealed. Each is checked when it is written and when it is
// read.
package backup

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"gocloud.dev/blob"
	"gorm.io/gorm"

	"rotanex.example/service/postgres"
)

// Place is where a service keeps what it has.
type Place struct {
	Database string       // URL
	Blobs    *blob.Bucket // pictures and packages
	KeyFile  string
}

// Manifest says what a backup has. It is written last.
type Manifest struct {
	Format   string    `json:"format"`
	Service  string    `json:"service"` // version
	MadeAt   time.Time `json:"made_at"`
	SHA256   string    `json:"database_sha256"`
	Pictures int       `json:"pictures"` // and parts of packages
	Bytes    int64     `json:"pictures_bytes"`
	Listed   bool      `json:"listed,omitempty"` // they are in a list, and themselves where they were
	Key      bool      `json:"key"`
}

const (
	format       = "rotanex-backup-1"
	manifestFile = "backup.json"
	databaseFile = "database.dump"
	picturesDir  = "pictures"
	listFile     = "pictures.txt"
	keyFile      = "secrets.key"
)

// Options are what is wanted of a backup.
type Options struct {
	Version string
	List    bool         // the pictures are listed, not copied: their store has a backup of its own
	Say     func(string) // is told how far it is
}

// Make writes a backup into a folder, that of an earlier one or a new one: pictures that are there already are not copied again.
// The service may run meanwhile: pictures are never changed, and they are copied after the database.
func Make(ctx context.Context, from Place, to string, o Options) (m Manifest, err error) {
	if err := usable(to); err != nil {
		return m, err
	}
	m = Manifest{Format: format, Service: o.Version, MadeAt: time.Now().UTC().Truncate(time.Second), Listed: o.List}
	o.Say("writing the database")
	aside := filepath.Join(to, databaseFile+".part")
	var wanted []picture
	err = snapshot(ctx, from.Database, func(id string, tx *gorm.DB) (err error) {
		if err = program(ctx, from.Database, "pg_dump", "--format=custom", "--no-owner", "--no-privileges", "--snapshot", id, "--file", aside); err == nil {
			wanted, err = picturesOf(tx)
		}
		return err
	})
	if err != nil {
		return m, err
	}
	if err := program(ctx, "", "pg_restore", "--list", aside); err != nil {
		return m, fmt.Errorf("what was written of the database cannot be read again: %w", err)
	}
	if m.SHA256, err = sumOf(aside); err != nil {
		return m, err
	}
	if err := os.Chmod(aside, 0o600); err != nil {
		return m, err
	}
	if err := os.Rename(aside, filepath.Join(to, databaseFile)); err != nil {
		return m, err
	}
	if m.Pictures, m.Bytes, err = keepPictures(ctx, from.Blobs, to, o); err != nil {
		return m, err
	}
	if m.Key, err = copyKey(from.KeyFile, filepath.Join(to, keyFile)); err != nil {
		return m, err
	}
	o.Say("checking that every picture is there")
	there, err := kept(ctx, to, o.List)
	if err != nil {
		return m, err
	}
	if err := complete(wanted, there); err != nil {
		return m, err
	}
	return m, writeWhole(filepath.Join(to, manifestFile), m)
}

// usable makes a backup's folder, which has to be empty or one before.
func usable(to string) error {
	if err := os.MkdirAll(to, 0o700); err != nil {
		return err
	}
	all, err := os.ReadDir(to)
	if err != nil {
		return err
	}
	for _, x := range all {
		if x.Name() == manifestFile || strings.HasPrefix(x.Name(), databaseFile) {
			return nil
		}
	}
	if len(all) > 0 {
		return fmt.Errorf("--to %s: has %s and %d more that no backup wrote: want an empty folder, or that of an earlier backup", to, all[0].Name(), len(all)-1)
	}
	return nil
}

// program runs one of PostgreSQL's, with the database's address where nobody else on the machine reads it.
func program(ctx context.Context, database, name string, args ...string) error {
	dir, err := postgres.Programs()
	if err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, filepath.Join(dir, name), args...)
	if database != "" {
		settings, err := environment(database)
		if err != nil {
			return err
		}
		cmd.Env = append(os.Environ(), settings...)
	}
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
	cmd.WaitDelay = 10 * time.Second
	if said, err := cmd.CombinedOutput(); err != nil {
		return errors.Join(ctx.Err(), fmt.Errorf("%s: %w: %s", name, err, strings.TrimSpace(string(said[:min(len(said), 2000)]))))
	}
	return nil
}

func sumOf(path string) (string, error) {
	file, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer func() { _ = file.Close() }()
	sum := sha256.New()
	_, err = io.Copy(sum, file)
	return hex.EncodeToString(sum.Sum(nil)), err
}

// copyKey copies the key; false where there is none.
func copyKey(from, to string) (bool, error) {
	key, err := os.ReadFile(from)
	if errors.Is(err, os.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if had, err := os.ReadFile(to); err == nil && string(had) == string(key) {
		return true, nil
	}
	return true, os.WriteFile(to, key, 0o600)
}

// writeWhole writes a record beside its place, and puts it there when it is on the disk.
func writeWhole(path string, v any) error {
	text, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	file, err := os.Create(path + ".part")
	if err != nil {
		return err
	}
	_, err = file.Write(append(text, '\n'))
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
		return err
	}
	return os.Rename(path+".part", path)
}

// Read reads what a backup says of itself, and holds its database against that.
func Read(from string) (m Manifest, err error) {
	text, err := os.ReadFile(filepath.Join(from, manifestFile))
	if err != nil {
		return m, fmt.Errorf("--from %s is no backup that was finished: %w", from, err)
	}
	if err := json.Unmarshal(text, &m); err != nil || m.Format != format {
		return m, fmt.Errorf("--from %s: %s is not of a backup of the format %s", from, manifestFile, format)
	}
	sum, err := sumOf(filepath.Join(from, databaseFile))
	if err == nil && sum != m.SHA256 {
		err = fmt.Errorf("%s has SHA-256 %s, and %s was written: it is not whole", databaseFile, sum, m.SHA256)
	}
	return m, err
}

// Restore makes a service of a backup, in a database that has nothing yet. What is restored is in the past: leases, sessions and
// the positions of live streams are put right, and what sources let to us that it knows nothing of is ended by the service
// once it runs.
func Restore(ctx context.Context, from string, to Place, say func(string)) (m Manifest, err error) {
	if m, err = Read(from); err != nil {
		return m, err
	}
	if err := empty(ctx, to.Database); err != nil {
		return m, err
	}
	if err := fitsKey(filepath.Join(from, keyFile), to.KeyFile); err != nil {
		return m, err
	}
	if !m.Listed {
		say("bringing the pictures back")
		if err := bringPictures(ctx, from, to.Blobs, say); err != nil {
			return m, err
		}
	}
	if m.Key {
		if err := os.MkdirAll(filepath.Dir(to.KeyFile), 0o755); err != nil {
			return m, err
		}
		if _, err := copyKey(filepath.Join(from, keyFile), to.KeyFile); err != nil {
			return m, err
		}
	}
	say("bringing the database back")
	if err := program(ctx, to.Database, "pg_restore", "--no-owner", "--no-privileges", "--exit-on-error", "--single-transaction", "--dbname", nameOf(to.Database), filepath.Join(from, databaseFile)); err != nil {
		return m, err
	}
	if err := putRight(ctx, to.Database); err != nil {
		return m, err
	}
	say("checking that every picture is there")
	return m, with(ctx, to.Database, func(db *gorm.DB) error {
		wanted, err := picturesOf(db)
		if err != nil {
			return err
		}
		return complete(wanted, func(key string) (bool, error) { return to.Blobs.Exists(ctx, key) })
	})
}

// fitsKey refuses to write over another key.
func fitsKey(from, to string) error {
	key, err := os.ReadFile(from)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if had, err := os.ReadFile(to); err == nil && string(had) != string(key) {
		return fmt.Errorf("--key-file %s is another key than the backup's: name a file that is not there, or move it away", to)
	}
	return nil
}
