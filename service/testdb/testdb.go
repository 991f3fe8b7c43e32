// Package testdb gives tests databases: one PostgreSQL server for a test process, and in
// it a database of its own for each test, so that tests run side by side.
//
//	func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }
//
//	func TestSomething(t *testing.T) {
//		s := testdb.Open(t)
package testdb

import (
	"context"
	"flag"
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"rotanex.example/service/postgres"
	"rotanex.example/service/store"
)

const template = "migrated"

var (
	base  url.URL // of the server
	count atomic.Int64
)

// inherited names a server that a process has from the one that began it, as a fuzzer's workers have.
const inherited = "ROTANEX_TESTDB"

// Main starts the server, runs the tests and ends it; it returns the exit status.
func Main(m *testing.M) int {
	flag.Parse()
	if at, err := url.Parse(os.Getenv(inherited)); err == nil && at.Host != "" {
		base = *at
		return m.Run()
	}
	folder, err := os.MkdirTemp(place(), "rotanex-db-*")
	if err == nil {
		err = os.Chmod(folder, 0o755) // PostgreSQL's user must get in
	}
	if err != nil {
		return fail(err)
	}
	defer func() { _ = os.RemoveAll(folder) }()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	server, err := postgres.Start(ctx, filepath.Join(folder, "postgres"))
	if err != nil {
		return fail(err)
	}
	defer func() { _ = server.Stop() }()
	if err := fill(ctx, server.URL()); err != nil {
		return fail(err)
	}
	return m.Run()
}

// fill makes a server ready: a database of it is there with every table, to be copied for each test.
func fill(ctx context.Context, server string) error {
	at, err := url.Parse(server)
	if err != nil {
		return err
	}
	base = *at
	if err := os.Setenv(inherited, server); err != nil {
		return err
	}
	if err := Sync(ctx, false); err != nil {
		return err
	}
	if err := say(ctx, "CREATE DATABASE "+template); err != nil {
		return err
	}
	s, err := store.Open(ctx, urlFor(template), slog.New(slog.DiscardHandler))
	if err == nil {
		s.Close()
	}
	return err
}

func urlFor(database string) string {
	at := base
	at.Path = "/" + database
	return at.String()
}

// place is where databases lie: in memory where there is room, as each is some five hundred
// files, which take a disk half a second to make. What is measured lies on the disk.
func place() string {
	const memory, room = "/dev/shm", 4 << 30
	var there unix.Statfs_t
	measures := flag.Lookup("test.bench")
	if measures.Value.String() != "" || unix.Statfs(memory, &there) != nil || there.Bavail*uint64(there.Bsize) < room {
		return ""
	}
	return memory
}

func fail(err error) int {
	fmt.Fprintln(os.Stderr, "testdb:", err)
	return 1
}

// URL makes a database for a test, with every table and no row, and returns its address.
func URL(t testing.TB) string {
	t.Helper()
	return made(t, " TEMPLATE "+template)
}

// Empty makes a database for a test that has nothing, and returns its address.
func Empty(t testing.TB) string {
	t.Helper()
	return made(t, "")
}

func made(t testing.TB, from string) string {
	t.Helper()
	name := fmt.Sprintf("t%d_%d", os.Getpid(), count.Add(1))
	// A template can be copied by one at a time.
	require.NoError(t, say(context.Background(), "SELECT pg_advisory_lock(1)", "CREATE DATABASE "+name+from))
	t.Cleanup(func() {
		assert.NoError(t, say(context.Background(), "DROP DATABASE IF EXISTS "+name+" WITH (FORCE)"))
	})
	return urlFor(name)
}

// Open makes a database for a test as URL does, and opens it.
func Open(t testing.TB) *store.Store {
	t.Helper()
	s, err := store.Open(t.Context(), URL(t), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// Sync says whether a commit waits for the disk. Tests do not: the machine on which they run
// does not lose its power, and what dies with it is of no use. What is measured does.
func Sync(ctx context.Context, on bool) error {
	if err := say(ctx, fmt.Sprintf("ALTER SYSTEM SET fsync = %t", on)); err != nil {
		return err
	}
	return say(ctx, "SELECT pg_reload_conf()")
}

// say has the server carry out statements that belong to no test's database, on one connection.
func say(ctx context.Context, statements ...string) error {
	conn, err := pgx.Connect(ctx, urlFor("postgres"))
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(ctx) }()
	for _, statement := range statements {
		if _, err := conn.Exec(ctx, statement); err != nil {
			return err
		}
	}
	return nil
}

// Reopen opens the database at url once more, as another process would.
func Reopen(t testing.TB, url string) *store.Store {
	t.Helper()
	s, err := store.Open(context.WithoutCancel(t.Context()), url, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	return s
}

// Patience bounds every wait of a test. It is long because the machine may be busy;
// nothing waits for it to pass.
const Patience = 2 * time.Minute

// Until waits until something is so, and fails the test if it never is. It looks less and
// less often, as what it looks at shares the machine.
func Until(t testing.TB, what string, is func() bool) {
	t.Helper()
	until(t, what, is, 150*time.Millisecond)
}

// Onward is Until for what a test moves on itself at each look, such as a clock, many times.
func Onward(t testing.TB, what string, is func() bool) {
	t.Helper()
	until(t, what, is, 15*time.Millisecond)
}

func until(t testing.TB, what string, is func() bool, longest time.Duration) {
	t.Helper()
	limit := time.After(Patience)
	for pause := 10 * time.Millisecond; !is(); pause = min(pause*3/2, longest) {
		select {
		case <-limit:
			require.FailNow(t, "waited for "+what)
		case <-time.After(pause):
		}
	}
}
