package rotanex_test

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// shownOtherwise are calls of the command line that the console does not make, as it shows the same by others.
var shownOtherwise = []string{
	"getTrial", "getSweep", "getStudy", // as their lists have them
	"listFrames",       // the map of frames, and each frame
	"listComputations", // each beside what waits for it
	"getPicture", "getFrameFile",
}

// read is all text below a folder of files that are named like one of some endings.
func read(t *testing.T, folder string, endings ...string) string {
	t.Helper()
	var all strings.Builder
	require.NoError(t, filepath.WalkDir(folder, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || !slices.Contains(endings, filepath.Ext(path)) || strings.Contains(path, ".gen.") || strings.Contains(path, "test.") {
			return err
		}
		text, err := os.ReadFile(path)
		all.Write(text)
		return err
	}))
	return all.String()
}

// What the command line can, the console can: each calls what it needs of the one contract.
func TestTheConsoleCanWhatTheCommandLineCan(t *testing.T) {
	t.Parallel()
	contract, err := openapi3.NewLoader().LoadFromFile("api/openapi.yaml")
	require.NoError(t, err)
	commands, console := read(t, "cli", ".go"), read(t, "console/src", ".ts", ".tsx")
	shared := 0
	var missing []string
	for path, item := range contract.Paths.Map() {
		for method, op := range item.Operations() {
			name := strings.ToUpper(op.OperationID[:1]) + op.OperationID[1:]
			if !regexp.MustCompile(`\.` + name + `(With\w*Body)?\(`).MatchString(commands) {
				continue
			}
			called := regexp.MustCompile(`client\.` + method + `\(\s*"` + regexp.QuoteMeta(path) + `"`).MatchString(console)
			linked := regexp.MustCompile("/api/v1" + regexp.MustCompile(`\\\{\w+\\\}`).ReplaceAllString(regexp.QuoteMeta(path), `\$$\{[^}]+\}`) + "[`\"?]").MatchString(console)
			switch {
			case called || method == "GET" && linked:
				shared++
			case !slices.Contains(shownOtherwise, op.OperationID):
				missing = append(missing, method+" "+path)
			}
		}
	}
	assert.Empty(t, missing)
	assert.Greater(t, shared, 60, "the calls were found")
}
