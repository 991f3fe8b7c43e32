package e2e

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"rotanex.example/service/postgres"
)

// What all tests here share: the built programs, and one PostgreSQL server in
// which every test has a database of its own.
var (
	bin string
	db  *postgres.Server
)

func TestMain(m *testing.M) {
	os.Exit(run(m))
}

func run(m *testing.M) int {
	folder, err := os.MkdirTemp("", "rotanex-e2e-*")
	if err == nil {
		err = os.Chmod(folder, 0o755) // PostgreSQL's user must get in
	}
	if err != nil {
		return fail(err)
	}
	defer func() { _ = os.RemoveAll(folder) }()
	bin = filepath.Join(folder, "bin")
	build := exec.Command("go", "build", "-o", bin+"/", "../cmd/...")
	build.Stderr = os.Stderr
	if err := build.Run(); err != nil {
		return fail(err)
	}
	if err := os.Setenv("PATH", bin+string(os.PathListSeparator)+os.Getenv("PATH")); err != nil {
		return fail(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	if db, err = postgres.Start(ctx, filepath.Join(folder, "postgres")); err != nil {
		return fail(err)
	}
	defer func() { _ = db.Stop() }()
	return m.Run()
}

func fail(err error) int {
	fmt.Fprintln(os.Stderr, "e2e:", err)
	return 1
}
