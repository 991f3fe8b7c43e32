package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"rotanex.example/service/testdb"
)

// bin is the folder of the built programs, which all tests here share.
var bin string

func TestMain(m *testing.M) {
	os.Exit(run(m))
}

func run(m *testing.M) int {
	folder, err := os.MkdirTemp("", "rotanex-e2e-*")
	if err == nil {
		err = os.Chmod(folder, 0o755) // some tests keep a PostgreSQL here, whose user must get in
	}
	if err != nil {
		return fail(err)
	}
	defer func() { _ = os.RemoveAll(folder) }()
	bin = filepath.Join(folder, "bin")
	build := exec.Command("go", "build", "-ldflags", "-s -w", "-o", bin+"/", "../cmd/rotanex", "../cmd/rotanex-service", "../cmd/rotanex-agent", "../cmd/rotanex-simulator")
	build.Stderr = os.Stderr
	if err := build.Run(); err != nil {
		return fail(err)
	}
	if err := os.Setenv("PATH", bin+string(os.PathListSeparator)+os.Getenv("PATH")); err != nil {
		return fail(err)
	}
	defer func() { shut() }()
	return testdb.Main(m)
}

func fail(err error) int {
	fmt.Fprintln(os.Stderr, "e2e:", err)
	return 1
}
