package cli

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"strconv"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/viper"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAListIsStreamedPageByPage(t *testing.T) {
	t.Parallel()
	type thing struct {
		N int `json:"n"`
	}
	const there = 2*pageOf + 10
	for limit, want := range map[int]int{0: there, 1: 1, pageOf: pageOf, pageOf + 1: pageOf + 1, there: there, 10 * pageOf: there} {
		for _, how := range []string{"table", "json", "csv"} {
			a := &app{config: viper.New()}
			a.config.Set("output", how)
			var out, errs bytes.Buffer
			cmd := &cobra.Command{}
			cmd.SetOut(&out)
			cmd.SetErr(&errs)
			require.NoError(t, stream(a, cmd, listing{columns: []string{"n"}, empty: "None."}, limit, func(l *listing, x thing) { l.add(strconv.Itoa(x.N)) }, func(cursor string, most int) ([]thing, string, error) {
				from, _ := strconv.Atoi(cursor)
				var page []thing
				for n := from; n < min(there, from+most); n++ {
					page = append(page, thing{n})
				}
				if to := from + len(page); to < there {
					return page, strconv.Itoa(to), nil
				}
				return page, "", nil
			}))
			assert.Equal(t, want < there, errs.Len() > 0, "%s, %d: what is left out is said", how, limit)
			switch how {
			case "json":
				var all []thing
				require.NoError(t, json.Unmarshal(out.Bytes(), &all))
				require.Len(t, all, want)
				assert.Equal(t, want-1, all[want-1].N)
			case "csv":
				rows, err := csv.NewReader(&out).ReadAll()
				require.NoError(t, err)
				assert.Len(t, rows, want+1)
			default:
				assert.Equal(t, want+2, bytes.Count(out.Bytes(), []byte("\n")), "with its header")
			}
		}
	}
}

func TestAListOfNothing(t *testing.T) {
	t.Parallel()
	for how, want := range map[string]string{"table": "None.\n", "json": "[]\n", "csv": "n\n"} {
		a := &app{config: viper.New()}
		a.config.Set("output", how)
		var out bytes.Buffer
		cmd := &cobra.Command{}
		cmd.SetOut(&out)
		require.NoError(t, stream(a, cmd, listing{columns: []string{"n"}, empty: "None."}, 0, func(*listing, int) {}, func(string, int) ([]int, string, error) { return nil, "", nil }))
		assert.Equal(t, want, out.String())
		assert.ErrorContains(t, stream(a, cmd, listing{}, -1, func(*listing, int) {}, nil), "--limit -1")
	}
}
