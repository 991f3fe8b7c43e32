package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
)

// listing is rows that can be shown as a table, as CSV, or as the records that
// they were made from.
type listing struct {
	columns []string // as column reads them
	rows    [][]cell
	records any
	empty   string // what to say, and to do, where there is no row
}

// add adds a row of texts, numbers and cells.
func (l *listing) add(values ...any) {
	row := make([]cell, len(values))
	for i, v := range values {
		row[i] = cellOf(v)
	}
	l.rows = append(l.rows, row)
}

// plainly is the listing for a program: a heading and a row of plain values for each.
func (l listing) plainly() [][]string {
	out := [][]string{nil}
	width := make([]int, len(l.columns))
	for i, written := range l.columns {
		_, names := column(written)
		width[i] = len(names)
		out[0] = append(out[0], names...)
	}
	for _, r := range l.rows {
		var row []string
		for i, c := range r {
			for k := range width[i] {
				value := ""
				if k < len(c.plain) {
					value = asCell(c.plain[k])
				}
				row = append(row, value)
			}
		}
		out = append(out, row)
	}
	return out
}

// show prints a listing in the form that was asked for.
func (a *app) show(cmd *cobra.Command, l listing) error {
	out := cmd.OutOrStdout()
	switch a.config.GetString("output") {
	case "json":
		return printJSON(out, l.records)
	case "csv":
		return csv.NewWriter(out).WriteAll(l.plainly())
	}
	if len(l.rows) == 0 {
		_, err := fmt.Fprintln(out, l.empty)
		return err
	}
	printTable(out, l)
	return nil
}

// pageOf is how many records are asked for at once.
const pageOf = 5000

// tableOf is how many rows a table has unless more are asked for.
const tableOf = 500

// stream prints records as they come, page by page, without holding them all, at most so many; 0: all. Of a table, whose columns
// are as wide as what is in them, all rows are held.
func stream[T any](a *app, cmd *cobra.Command, l listing, limit int, row func(*listing, T), next func(cursor string, most int) ([]T, string, error)) error {
	if limit < 0 {
		return fmt.Errorf("--limit %d: want how many to list, or 0 for all", limit)
	}
	how, out := a.config.GetString("output"), cmd.OutOrStdout()
	sheet, records := csv.NewWriter(out), newRecords(out)
	if how == "csv" {
		_ = sheet.WriteAll(l.plainly()) // the header; what is wrong with the output, the last flush says
	}
	cursor, got := "", 0
	for more := true; more; {
		most := pageOf
		if limit > 0 {
			most = min(pageOf, limit-got)
		}
		page, after, err := next(cursor, most)
		if err != nil {
			return err
		}
		got += len(page)
		cursor, more = after, after != "" && (limit == 0 || got < limit)
		rows := listing{columns: l.columns}
		for _, one := range page {
			switch how {
			case "json":
				if err := records.add(one); err != nil {
					return err
				}
			case "csv":
				row(&rows, one)
			default:
				row(&l, one)
			}
		}
		if how == "csv" {
			if err := sheet.WriteAll(rows.plainly()[1:]); err != nil {
				return err
			}
		}
	}
	var err error
	switch how {
	case "json":
		err = records.end()
	case "table":
		err = a.show(cmd, l)
	}
	if cursor != "" && err == nil {
		fmt.Fprintf(cmd.ErrOrStderr(), "There are more than these %d; --limit 0 lists all.\n", got)
	}
	return err
}

// records writes a list in JSON, one after another.
type records struct {
	out   io.Writer
	began bool
}

func newRecords(out io.Writer) *records { return &records{out: out} }

func (r *records) add(v any) error {
	data, err := json.MarshalIndent(v, "  ", "  ")
	if err != nil {
		return err
	}
	before := ",\n  "
	if !r.began {
		before = "[\n  "
	}
	r.began = true
	_, err = fmt.Fprintf(r.out, "%s%s", before, data)
	return err
}

func (r *records) end() error {
	text := "\n]\n"
	if !r.began {
		text = "[]\n"
	}
	_, err := io.WriteString(r.out, text)
	return err
}

// did says what an action did: in a sentence, or as the record that it left where JSON is
// asked for.
func (a *app) did(cmd *cobra.Command, record any, sentence string, args ...any) error {
	if a.config.GetString("output") == "json" {
		return printJSON(cmd.OutOrStdout(), record)
	}
	_, err := fmt.Fprintf(cmd.OutOrStdout(), sentence+"\n", args...)
	return err
}

func printJSON(out io.Writer, v any) error {
	e := json.NewEncoder(out)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

func printTable(out io.Writer, l listing) {
	t := table.NewWriter()
	t.SetOutputMirror(out)
	style := table.StyleLight
	style.Options.DrawBorder, style.Options.SeparateColumns = false, false
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	header := make(table.Row, len(l.columns))
	var configs []table.ColumnConfig
	for i, name := range l.columns {
		header[i], _ = column(name)
		if numeric(l.rows, i) {
			configs = append(configs, table.ColumnConfig{Number: i + 1, Align: text.AlignRight, AlignHeader: text.AlignRight})
		}
	}
	t.AppendHeader(header)
	t.SetColumnConfigs(configs)
	for _, r := range l.rows {
		row := make(table.Row, len(r))
		for i, cell := range r {
			row[i] = cell.text
		}
		t.AppendRow(row)
	}
	t.Render()
}

// numeric reports whether every cell of a column that says something begins with a digit.
func numeric(rows [][]cell, i int) bool {
	seen := false
	for _, r := range rows {
		cell := r[i].text
		if cell == "" || cell == "—" {
			continue
		}
		if c := cell[0]; (c < '0' || c > '9') && c != '-' && c != '<' {
			return false
		}
		seen = true
	}
	return seen
}

const none = "—"

// seconds prints a length of time for a person: 0.84 s, 72.5 s, 4 min 10 s, 3 h 05 min.
func seconds(s float64) string {
	switch {
	case s <= 0:
		return none
	case s < 10:
		return fmt.Sprintf("%.2f s", s)
	case s < 120:
		return fmt.Sprintf("%.1f s", s)
	case s < 3600:
		whole := int(math.Round(s))
		return fmt.Sprintf("%d min %02d s", whole/60, whole%60)
	default:
		minutes := int(math.Round(s / 60))
		return fmt.Sprintf("%d h %02d min", minutes/60, minutes%60)
	}
}

// several is a count of things in words: 1 host, 3 hosts.
func several(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return fmt.Sprintf("%d %ss", n, thing)
}

// minute is a time to the minute, in the viewer's zone.
func minute(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return t.Local().Format("Mon 02 Jan 15:04")
}

// dayTime is a time whose week is clear from what stands around it.
func dayTime(t time.Time) string { return t.Local().Format("Mon 15:04") }

// moment prints a time in the viewer's zone.
func moment(t time.Time) string {
	if t.IsZero() {
		return none
	}
	return t.Local().Format("Mon 02 Jan 15:04:05")
}

func bytesText(n int64) string {
	if n <= 0 {
		return none
	}
	if n >= 1e9 {
		return fmt.Sprintf("%.1f GB", float64(n)/1e9)
	}
	if n < 1e6 {
		return fmt.Sprintf("%.1f kB", float64(n)/1e3)
	}
	return fmt.Sprintf("%.0f MB", float64(n)/1e6)
}

func percent(x float64) string { return fmt.Sprintf("%.1f %%", 100*x) }

func orNone(s string) string {
	if s == "" {
		return none
	}
	return s
}
