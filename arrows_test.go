package rotanex_test

import (
	"encoding/json"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Which way arrows point: see docs/architecture.md. Each line says what a part may
// import of Rotanex besides itself.
var arrows = map[string][]string{
	"core":      {},
	"api":       {},
	"launchers": {"core"},
	"charts":    {"api", "core"},
	"providers": {"core"},
	"service":   {"api", "charts", "core", "doctor", "launchers", "manual", "providers"},
	"agent":     {"api", "core", "doctor", "launchers"},
	"doctor":    {},
	"manual":    {"core"},
	"cli":       {"api", "core", "manual"},
	"simulator": {"core", "providers"},
	"processes": {},
	"demo":      {"api", "cli", "core", "processes", "providers", "service/postgres"},
	"bench":     {"api", "core", "e2e/browser", "processes", "service/postgres"},
	"chaos":     {"api", "core", "processes", "providers", "service/postgres"},
	"e2e":       {"e2e"},
	"cmd":       {"agent", "bench", "chaos", "cli", "core", "demo", "doctor", "launchers", "manual", "service/serve", "simulator"},
}

func TestArrows(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "./...").Output()
	require.NoError(t, err)
	const module = "rotanex.example/"
	for d := json.NewDecoder(strings.NewReader(string(out))); d.More(); {
		var p struct {
			ImportPath string
			Imports    []string
		}
		require.NoError(t, d.Decode(&p))
		own, ok := strings.CutPrefix(p.ImportPath, module)
		if !ok {
			continue
		}
		part, _, _ := strings.Cut(own, "/")
		allowed, known := arrows[part]
		require.True(t, known, "a part that docs/architecture.md does not know: %s", part)
		for _, i := range p.Imports {
			to, ours := strings.CutPrefix(i, module)
			if !ours {
				assert.False(t, part == "core" && (strings.HasPrefix(i, "net/http") || strings.HasPrefix(i, "database/sql") || i == "log" || i == "log/slog" || i == "os"),
					"%s imports %s: the core has no HTTP, SQL, files or logging", own, i)
				continue
			}
			fits := strings.HasPrefix(to+"/", part+"/")
			for _, a := range allowed {
				fits = fits || strings.HasPrefix(to+"/", a+"/")
			}
			assert.True(t, fits, "%s must not import %s", own, to)
		}
	}
}
