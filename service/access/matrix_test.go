package access

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rotanex.example/api"
)

// The matrix of docs/security.md is made of the contract and the rule, and current.
func TestTheMatrixOfWhoMayDoWhat(t *testing.T) {
	const file, begin, end = "../../docs/security.md", "<!-- matrix -->\n", "<!-- /matrix -->"
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	before, rest, found := strings.Cut(string(text), begin)
	require.True(t, found)
	_, after, found := strings.Cut(rest, end)
	require.True(t, found)
	now := before + begin + matrix(t) + end + after
	if os.Getenv("ROTANEX_UPDATE") != "" {
		require.NoError(t, os.WriteFile(file, []byte(now), 0o600))
	}
	assert.Equal(t, now, string(text), "ROTANEX_UPDATE=1 go test ./service/access -run Matrix writes it")
}

func matrix(t *testing.T) string {
	doc, err := api.GetSpec()
	require.NoError(t, err)
	all := []string{Viewer, Operator, Admin, Agent}
	by := map[string][]string{} // by who may
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			var may []string
			for _, role := range all {
				if allow(Principal{Role: role}, method, path) == nil {
					may = append(may, role)
				}
			}
			who := strings.Join(may, ", ")
			if open(path, method) {
				who = "anybody"
			}
			by[who] = append(by[who], fmt.Sprintf("| `%s %s` | %s |", method, path, op.Summary))
		}
	}
	var out strings.Builder
	for _, who := range []string{"anybody", "viewer, operator, admin", "operator, admin", "admin", "agent"} {
		slices.Sort(by[who])
		require.NotEmpty(t, by[who], who)
		fmt.Fprintf(&out, "\n### %s\n\n| | |\n|---|---|\n%s\n", strings.ToUpper(who[:1])+who[1:], strings.Join(by[who], "\n"))
		delete(by, who)
	}
	require.Empty(t, by)
	return out.String() + "\n"
}
