package cli

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
)

func (a *app) audit() *cobra.Command {
	var ask api.ListAuditParams
	var since, until string
	c := &cobra.Command{
		Use: "audit", Short: "Say who did what, newest first", Args: cobra.NoArgs,
		Long: `Everything that a person or a script changed, and what the service let or bought by
itself (--who service): who, when, from where, what, as it was and as it is. Records are
never changed; how long they are kept is a setting (rotanex storage). Needs the role operator.`,
		Example: "  rotanex audit --since 24h\n  rotanex audit --about /hosts/eddy --output csv > eddy.csv\n  rotanex audit --who service --text tern-solo",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) (err error) {
			for text, to := range map[string]**time.Time{since: &ask.Since, until: &ask.Until} {
				if text != "" {
					if *to, err = pastTime(text, time.Now()); err != nil {
						return err
					}
				}
			}
			all, err := pages(func(cursor string) ([]api.AuditRecord, string, error) {
				ask.Cursor, ask.Limit = some(cursor), new(500)
				page, err := client.Decode[api.AuditList](c.ListAudit(cmd.Context(), &ask))
				return page.Items, page.Next, err
			})
			if err != nil {
				return err
			}
			l := listing{columns: []string{"at", "who", "role", "from", "did", "about", "what changed|changed"}, records: all, empty: "Nothing was done that fits."}
			for _, r := range all {
				l.add(at(r.At), orNone(r.Who), orNone(r.Role), orNone(r.From), r.Did, r.About, changeCell(r))
			}
			return a.show(cmd, l)
		}),
	}
	f := c.Flags()
	f.StringVar(&ask.Who, "who", "", "name of a token; service: what the service did by itself")
	f.StringVar(&ask.About, "about", "", "what it was done to, as a path, such as /hosts/eddy or /runs/ID")
	f.StringVar(&ask.Did, "did", "", "what was done, such as \"start run\"")
	f.StringVar(&ask.Text, "text", "", "anywhere in a record")
	f.StringVar(&since, "since", "", "from a time on, or so long ago, such as 24h")
	f.StringVar(&until, "until", "", "until a time, or so long ago")
	return c
}

// pastTime reads a time, or how long ago it was.
func pastTime(text string, now time.Time) (*time.Time, error) {
	if ago, err := time.ParseDuration(text); err == nil && ago >= 0 {
		return new(now.Add(-ago)), nil
	}
	at, err := parseTime(text, now)
	if err != nil {
		return nil, fmt.Errorf("time %q: want for example 24h (ago), 2031-03-07 18:00 or 2031-03-07T18:00:00Z", text)
	}
	return &at, nil
}

// changes says what a record's change was, field by field.
func changes(r api.AuditRecord) (out []string) {
	names := map[string]bool{}
	for _, view := range []map[string]any{r.Before, r.After} {
		for name := range view {
			names[name] = true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		was, before := r.Before[name]
		is, after := r.After[name]
		switch {
		case !before:
			out = append(out, name+": "+oneLine(is))
		case !after:
			out = append(out, name+": "+oneLine(was)+", no more")
		default:
			out = append(out, name+": "+oneLine(was)+" → "+oneLine(is))
		}
	}
	return out
}

// changeCell is a record's change: for a person its beginning, where it is long.
func changeCell(r api.AuditRecord) cell {
	whole := strings.Join(changes(r), "; ")
	return ifKnown(whole != "", beginning(whole, 90), whole)
}

// oneLine is a value in one line.
func oneLine(value any) string {
	if text, is := value.(string); is {
		return text
	}
	data, _ := json.Marshal(value)
	return string(data)
}

func beginning(text string, most int) string {
	if letters := []rune(text); len(letters) > most {
		return string(letters[:most-1]) + "…"
	}
	return text
}
