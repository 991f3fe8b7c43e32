package serve

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/shirou/gopsutil/v4/disk"
	"github.com/spf13/viper"

	"rotanex.example/core/version"
	"rotanex.example/doctor"
	"rotanex.example/service/app"
	"rotanex.example/service/notify"
	"rotanex.example/service/postgres"
	"rotanex.example/service/store"
)

// examined is a service that the doctor looks at: its settings, and what was seen so far.
type examined struct {
	*viper.Viper
	app.Config
	state string
	look  *store.Look // nil: the database was not reached
}

// checks are what the service stands on.
func checks(v *viper.Viper) ([]doctor.Check, error) {
	c, state, err := settings(v, slog.New(slog.DiscardHandler))
	if err != nil {
		return nil, err
	}
	x := &examined{Viper: v, Config: c, state: state}
	return []doctor.Check{
		{Name: "version", Look: func(context.Context) doctor.Finding { return doctor.Fine("%s", version.Built()) }},
		{Name: "address", Look: x.address},
		{Name: "certificate", Look: x.certificate},
		{Name: "database", Look: x.database},
		{Name: "tables", Look: x.tables},
		{Name: "clock", Look: x.clock},
		{Name: "key of secrets", Look: x.key},
		{Name: "pictures", Look: x.pictures},
		{Name: "disk", Look: x.disk},
		{Name: "backup", Look: x.dumps},
		{Name: "agent for servers", Look: x.agent},
		{Name: "mail", Look: x.mail},
	}, nil
}

func (x *examined) address(ctx context.Context) doctor.Finding {
	at := x.GetString("listen")
	l, err := (&net.ListenConfig{}).Listen(ctx, "tcp", at)
	if err == nil {
		_ = l.Close()
		return doctor.Fine("%s is free: the service does not run, or elsewhere", at)
	}
	scheme := "http"
	if x.GetString("tls-cert") != "" {
		scheme = "https"
	}
	ask := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}} // whether anybody answers: nothing is told
	r, problem := http.NewRequestWithContext(ctx, http.MethodGet, scheme+"://"+at+"/readyz", nil)
	if problem == nil {
		if answer, failed := ask.Do(r); failed == nil {
			_ = answer.Body.Close()
			if answer.StatusCode == http.StatusOK {
				return doctor.Fine("%s: a service answers, and is ready", at)
			}
			return doctor.Fail("see the checks below, and the service's log", "%s: a service answers, and is not ready (%s)", at, answer.Status)
		}
	}
	return doctor.Fail("stop what listens there, or choose another address with --listen", "%v", err)
}

func (x *examined) certificate(context.Context) doctor.Finding {
	file := x.GetString("tls-cert")
	if file == "" && x.Proxied {
		return doctor.Skip("a proxy in front has it")
	}
	if file == "" {
		return doctor.Skip("none is needed on loopback")
	}
	pair, err := tls.LoadX509KeyPair(file, x.GetString("tls-key"))
	if err != nil {
		return doctor.Fail("name a certificate and its key, both in PEM, with --tls-cert and --tls-key", "%v", err)
	}
	leaf, err := x509.ParseCertificate(pair.Certificate[0])
	if err != nil {
		return doctor.Fail("make the certificate anew", "%s: %v", file, err)
	}
	ends := leaf.NotAfter.UTC().Format("2006-01-02 15:04 UTC")
	const renew = "put a new certificate in its place, and restart the service"
	switch left := time.Until(leaf.NotAfter); {
	case left < 0:
		return doctor.Fail(renew, "%s: it expired on %s", file, ends)
	case left < 14*24*time.Hour:
		return doctor.Warn(renew, "%s: it expires on %s", file, ends)
	}
	return doctor.Fine("%s, until %s", file, ends)
}

func (x *examined) database(ctx context.Context) doctor.Finding {
	at, own := x.DatabaseURL, ""
	if at == "" {
		folder := filepath.Join(x.state, "postgres")
		found, runs, err := postgres.Running(ctx, folder)
		switch {
		case err != nil:
			return doctor.Fail("install it, or name another with --database-url", "%v", err)
		case !runs:
			return doctor.Skip("its own, in %s: it does not run, and is started with the service", folder)
		}
		at, own = found, " of its own, in "+folder
	}
	look, err := store.LookAt(ctx, at)
	if err != nil {
		return doctor.Fail("check that it runs, and --database-url: the user, the password and the database's name", "%s: %v", place(at), withoutURL(err, at))
	}
	x.look = &look
	if open, most := look.Connections[0], look.Connections[1]; open > most*9/10 {
		return doctor.Warn("raise max_connections, or find out who holds them: SELECT * FROM pg_stat_activity", "PostgreSQL %s%s: %d of %d connections are open", look.PostgreSQL, own, open, most)
	}
	return doctor.Fine("PostgreSQL %s%s", look.PostgreSQL, own)
}

// place is where a database is, without who may enter.
func place(at string) string {
	if u, err := url.Parse(at); err == nil && u.Host != "" {
		return u.Host + u.Path
	}
	return "--database-url"
}

// withoutURL is an error without the address that it may repeat, which has a password.
func withoutURL(err error, at string) error {
	return errors.New(strings.ReplaceAll(err.Error(), at, place(at)))
}

func (x *examined) tables(context.Context) doctor.Finding {
	const later = "install the programs of the newer version: an older one does not know these tables"
	switch {
	case x.look == nil:
		return doctor.Skip("not looked at: no database is reached")
	case x.look.Tables == 0:
		return doctor.Skip("none yet: they are made at the first start")
	case x.look.Tables < x.look.Ours:
		return doctor.Warn("make a backup: the next start brings them up to date", "version %d, this program brings %d", x.look.Tables, x.look.Ours)
	case x.look.Tables > x.look.Ours:
		return doctor.Fail(later, "version %d, this program knows %d", x.look.Tables, x.look.Ours)
	}
	return doctor.Fine("version %d, as this program has them", x.look.Tables)
}

// apart is how far clocks may be from each other before people wonder about times in logs.
const apart = 5 * time.Second

func (x *examined) clock(context.Context) doctor.Finding {
	if x.look == nil {
		return doctor.Skip("not compared: no database is reached")
	}
	if by := x.look.Ahead.Abs(); by > apart {
		return doctor.Warn("set both by NTP: services go by the database's clock, but certificates and logs by this machine's", "the database's and this machine's are %s apart", by.Round(time.Second))
	}
	return doctor.Fine("as the database's, by which services go")
}

func (x *examined) key(context.Context) doctor.Finding {
	file := keyFileOf(x.Viper, x.state)
	key, err := os.ReadFile(file)
	switch {
	case errors.Is(err, os.ErrNotExist) && (x.look == nil || x.look.Sealed == ""):
		return doctor.Skip("%s: made at the first start", file)
	case err != nil:
		return doctor.Fail("put it back from a backup; if it is lost: rotanex-service rotate-key --lost", "%v", err)
	case len(key) != 32:
		return doctor.Fail("put it back from a backup; if it is lost: rotanex-service rotate-key --lost", "%s: want 32 bytes, it has %d", file, len(key))
	}
	if x.look != nil && x.look.Sealed != "" {
		if err := app.KeyOpens(x.look.Sealed, key); err != nil {
			return doctor.Fail("give this service the key file of the others, or of before", "%s is not the key with which the secrets in the database are sealed", file)
		}
	}
	if info, err := os.Stat(file); err == nil && info.Mode().Perm()&0o077 != 0 {
		return doctor.Warn("chmod 600 "+file, "%s may be read by others than its owner (%s)", file, info.Mode().Perm())
	}
	return doctor.Fine("%s", file)
}

func (x *examined) pictures(ctx context.Context) doctor.Finding {
	const fix = "make room or give the service's user the right to write there, or name another place with --blobs"
	if _, err := os.Stat(x.Blobs); filepath.IsAbs(x.Blobs) && errors.Is(err, os.ErrNotExist) {
		return doctor.Skip("%s: made at the first start", x.Blobs)
	}
	bucket, err := app.OpenBlobs(ctx, x.Blobs)
	if err != nil {
		return doctor.Fail(fix, "%s: %v", x.Blobs, err)
	}
	defer func() { _ = bucket.Close() }()
	probe := "doctor/" + uuid.NewString()
	err = bucket.WriteAll(ctx, probe, []byte(probe), nil)
	if err == nil {
		var read []byte
		if read, err = bucket.ReadAll(ctx, probe); err == nil && string(read) != probe {
			err = errors.New("what is read is not what was written")
		}
		err = errors.Join(err, bucket.Delete(ctx, probe))
	}
	if err != nil {
		return doctor.Fail(fix, "%s: %v", x.Blobs, err)
	}
	return doctor.Fine("%s: written, read and deleted", x.Blobs)
}

// little is what a disk should have free: bytes.
const little = 10e9

func (x *examined) disk(ctx context.Context) doctor.Finding {
	at := x.state
	for _, err := os.Stat(at); err != nil && at != filepath.Dir(at); _, err = os.Stat(at) {
		at = filepath.Dir(at) // the folder is made at the first start
	}
	usage, err := disk.UsageWithContext(ctx, at)
	if err != nil {
		return doctor.Warn("look with df", "%s: %v", at, err)
	}
	said := fmt.Sprintf("%.0f GB of %.0f GB free on the disk of %s", float64(usage.Free)/1e9, float64(usage.Total)/1e9, at)
	if usage.Free < little {
		return doctor.Warn("make room: rotanex storage says what grows, and for how long it is kept", "%s", said)
	}
	return doctor.Fine("%s", said)
}

func (x *examined) dumps(context.Context) doctor.Finding {
	folder, err := postgres.Programs()
	if err == nil {
		_, err = os.Stat(filepath.Join(folder, "pg_dump"))
	}
	if err != nil {
		_, err = exec.LookPath("pg_dump")
	}
	if err != nil {
		return doctor.Warn("apt-get install postgresql-client", "pg_dump is not here: rotanex-service backup cannot be made")
	}
	return doctor.Fine("pg_dump is here; make one with rotanex-service backup --to FOLDER")
}

func (x *examined) agent(ctx context.Context) doctor.Finding {
	out, err := exec.CommandContext(ctx, x.Agent, "--version").Output()
	if err != nil {
		return doctor.Warn("put rotanex-agent beside rotanex-service, or name it with --agent; without it servers that are reached over SSH cannot be set up", "%s: %v", x.Agent, err)
	}
	return doctor.Fine("%s", strings.TrimSpace(string(out)))
}

func (x *examined) mail(ctx context.Context) doctor.Finding {
	if x.SMTP == "" {
		return doctor.Skip("no mail server is set: only web hooks are told")
	}
	m, err := notify.NewMail(x.SMTP, x.MailFrom)
	if err != nil {
		return doctor.Fail("see rotanex-service config check", "%v", err)
	}
	at := m.Address()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", at)
	if err != nil {
		return doctor.Fail("check --smtp, and that a firewall lets this machine through", "%s: %v", at, err)
	}
	_ = conn.Close()
	return doctor.Fine("%s answers; rotanex notify test NAME sends one", at)
}
