// Package postgres runs a PostgreSQL server of one's own: on loopback, on a free
// port, as an unprivileged user, with its data in a folder. It is for people who
// have none, for the demo and for tests; anybody else passes a database URL.
package postgres

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Server is a running PostgreSQL server.
type Server struct {
	folder string
	port   int
	bin    string
	who    *syscall.Credential
	ran    bool   // before we came
	secret string // nobody gets in without it, on this machine neither
}

// Programs returns the folder of PostgreSQL's server programs, newest first, or
// an error that says how to install them.
func Programs() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	slices.SortFunc(found, func(a, b string) int { return version(b) - version(a) })
	for _, program := range found {
		return filepath.Dir(program), nil
	}
	if program, err := exec.LookPath("postgres"); err == nil {
		return filepath.Dir(program), nil
	}
	return "", errors.New("PostgreSQL's server is not installed: apt-get install postgresql")
}

func version(program string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(program))))
	return n
}

// Start starts the server with its data in folder, making the cluster at the
// first start. A server that already runs there is taken over.
func Start(ctx context.Context, folder string) (*Server, error) {
	bin, err := Programs()
	if err != nil {
		return nil, err
	}
	folder, err = filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	s := &Server{folder: folder, bin: bin}
	if err := s.chooseUser(); err != nil {
		return nil, err
	}
	if err := s.makeFolder(); err != nil {
		return nil, err
	}
	_, err = os.Stat(filepath.Join(folder, "data", "PG_VERSION"))
	made := err == nil
	if s.secret, err = s.readSecret(); err != nil {
		return nil, err
	}
	if s.secret == "" {
		if err := s.makeSecret(); err != nil {
			return nil, err
		}
	}
	if !made {
		if err := s.run(ctx, "initdb", "-D", s.data(), "-U", "rotanex", "-A", "scram-sha-256", "--pwfile", s.secretFile(), "-E", "UTF8", "--no-locale", "--no-sync", "--no-instructions"); err != nil {
			return nil, err
		}
	}
	port, running := s.running(ctx)
	if s.port, s.ran = port, running; !running {
		if s.port, err = freePort(); err != nil {
			return nil, err
		}
		err = s.Restart(ctx)
	}
	if err == nil {
		err = s.shut(ctx)
	}
	return s, err
}

// Running is how to connect to the server of a folder, if one runs there; nothing is started or made.
func Running(ctx context.Context, folder string) (url string, runs bool, err error) {
	s := &Server{folder: folder}
	if s.bin, err = Programs(); err != nil {
		return "", false, err
	}
	if err := s.chooseUser(); err != nil {
		return "", false, err
	}
	if s.secret, err = s.readSecret(); err != nil {
		return "", false, err
	}
	s.port, runs = s.running(ctx)
	return s.URL(), runs, nil
}

func (s *Server) secretFile() string { return filepath.Join(s.folder, "secret") }

// readSecret reads it; "" where there is none yet.
func (s *Server) readSecret() (string, error) {
	data, err := os.ReadFile(s.secretFile())
	if errors.Is(err, os.ErrNotExist) {
		return "", nil
	}
	return string(data), err
}

// makeSecret draws one and keeps it where the server's user and we can read it, and nobody else.
func (s *Server) makeSecret() error {
	s.secret = rand.Text()
	return s.write(s.secretFile(), s.secret)
}

// write writes a file for the server's user alone.
func (s *Server) write(file, text string) error {
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		return err
	}
	if s.who == nil {
		return nil
	}
	return os.Chown(file, int(s.who.Uid), int(s.who.Gid))
}

// trusting is a rule by which a server lets in anybody on this machine, as ours did before there was a secret.
var trusting = regexp.MustCompile(`(?m)\btrust$`)

// shut has a server that lets in anybody ask for the secret.
func (s *Server) shut(ctx context.Context) error {
	order, rules := filepath.Join(s.folder, "shut.sql"), filepath.Join(s.data(), "pg_hba.conf")
	data, err := os.ReadFile(rules)
	if err != nil || !trusting.Match(data) {
		return err
	}
	defer func() { _ = os.Remove(order) }()
	if err := s.write(order, "SET password_encryption = 'scram-sha-256'; ALTER ROLE rotanex PASSWORD '"+s.secret+"';"); err != nil {
		return err
	}
	if err := s.run(ctx, "psql", "-v", "ON_ERROR_STOP=1", "-h", "127.0.0.1", "-p", strconv.Itoa(s.port), "-U", "rotanex", "-d", "postgres", "-f", order); err != nil {
		return err
	}
	if err := s.write(rules, trusting.ReplaceAllString(string(data), "scram-sha-256")); err != nil {
		return err
	}
	return s.run(ctx, "pg_ctl", "-D", s.data(), "reload")
}

func (s *Server) data() string { return filepath.Join(s.folder, "data") }

// chooseUser picks whom the server runs as: PostgreSQL refuses root.
func (s *Server) chooseUser() error {
	if os.Geteuid() != 0 {
		return nil
	}
	if info, err := os.Stat(s.data()); err == nil { // it is somebody's already: of a service that does not run as root
		if owner, ok := info.Sys().(*syscall.Stat_t); ok && owner.Uid != 0 {
			s.who = &syscall.Credential{Uid: owner.Uid, Gid: owner.Gid}
			return nil
		}
	}
	for _, name := range []string{"postgres", "nobody"} {
		u, err := user.Lookup(name)
		if err != nil {
			continue
		}
		uid, _ := strconv.ParseUint(u.Uid, 10, 32)
		gid, _ := strconv.ParseUint(u.Gid, 10, 32)
		s.who = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
		return nil
	}
	return errors.New("PostgreSQL does not run as root, and there is neither a user postgres nor nobody to run it as")
}

func (s *Server) makeFolder() error {
	if err := os.MkdirAll(s.folder, 0o755); err != nil {
		return err
	}
	if s.who == nil {
		return nil
	}
	if err := os.Chown(s.folder, int(s.who.Uid), int(s.who.Gid)); err != nil {
		return err
	}
	for parent := filepath.Dir(s.folder); parent != "/"; parent = filepath.Dir(parent) {
		if info, err := os.Stat(parent); err == nil && info.Mode().Perm()&0o001 == 0 {
			return fmt.Errorf("PostgreSQL's user cannot enter %s: choose a state folder elsewhere, such as /var/lib/rotanex", parent)
		}
	}
	return nil
}

func (s *Server) run(ctx context.Context, program string, args ...string) error {
	ctx, cancel := context.WithTimeout(ctx, 90*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, filepath.Join(s.bin, program), args...)
	cmd.Dir = s.folder
	// A group of its own: a Ctrl-C at the terminal is for us, and we stop it.
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: s.who, Setpgid: true}
	log, err := os.CreateTemp("", "rotanex-postgres-*.log")
	if err != nil {
		return err
	}
	defer func() { _ = log.Close(); _ = os.Remove(log.Name()) }()
	cmd.Stdout, cmd.Stderr = log, log // a file: the server must not hold a pipe of ours
	if err := cmd.Run(); err != nil {
		said, _ := os.ReadFile(log.Name())
		return fmt.Errorf("%s: %w: %s", program, err, strings.TrimSpace(string(said)))
	}
	return nil
}

// running reads where a server of this folder listens, if one does.
func (s *Server) running(ctx context.Context) (int, bool) {
	lines := s.pidFile()
	if len(lines) < 4 || s.run(ctx, "pg_ctl", "-D", s.data(), "status") != nil {
		return 0, false
	}
	port, err := strconv.Atoi(strings.TrimSpace(lines[3]))
	return port, err == nil
}

func (s *Server) pidFile() []string {
	data, err := os.ReadFile(filepath.Join(s.data(), "postmaster.pid"))
	if err != nil {
		return nil
	}
	return strings.Split(string(data), "\n")
}

// Pid returns the process id of the server, or 0 if it does not run.
func (s *Server) Pid() int {
	lines := s.pidFile()
	if len(lines) == 0 {
		return 0
	}
	pid, _ := strconv.Atoi(strings.TrimSpace(lines[0]))
	return pid
}

// URL is how to connect.
func (s *Server) URL() string { return s.URLFor("postgres") }

// URLFor is how to connect to one of its databases.
func (s *Server) URLFor(database string) string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword("rotanex", s.secret), Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(s.port)), Path: "/" + database, RawQuery: "sslmode=disable"}
	return u.String()
}

// Ran reports whether the server ran already when it was taken over.
func (s *Server) Ran() bool { return s.ran }

// Restart starts the server again on the same port, after it died.
func (s *Server) Restart(ctx context.Context) error {
	options := fmt.Sprintf("-c listen_addresses=127.0.0.1 -c port=%d -c unix_socket_directories='' -c max_connections=200", s.port)
	return s.run(ctx, "pg_ctl", "-D", s.data(), "-l", filepath.Join(s.folder, "postgres.log"), "-w", "-t", "60", "-o", options, "start")
}

// Stop ends the server and waits until it is gone.
func (s *Server) Stop() error {
	return s.run(context.Background(), "pg_ctl", "-D", s.data(), "-m", "fast", "-w", "-t", "60", "stop")
}

// freePort asks the kernel for a port that nobody listens on now.
func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer func() { _ = l.Close() }()
	return l.Addr().(*net.TCPAddr).Port, nil
}
