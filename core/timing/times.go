package timing

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// Time is a row of a file of times: one frame that was rendered on one crew.
// docs/formats.md describes the file.
type Time struct {
	Line       int // in the file; the header is 1
	Shot, Host string
	Devices    []string // of the crew, such as g0, g1, cpu
	Models     []string // in the same order; nil where they are not known
	Links      []string // in the same order; nil where they are not known
	Backend    string
	Seconds    float64
	Frame      *int
	WarmUp     bool
	Conditions map[string]string
	Settings   map[string]string

	// Not in a file: the renderer, see Place; the stretch of the shot that the frame is from, which then counts
	// instead of the frame; and what the renderer says of its stages, see Observation.
	Renderer    string
	Stretch     string
	Fixed, Load float64
}

// Crew is the crew's name: its devices joined with +.
func (t Time) Crew() string { return strings.Join(t.Devices, "+") }

// cpuDevice is the name that a processor has as a member of a crew.
const cpuDevice = "cpu"

// prefixes of columns that may have any ending.
const conditionColumn, settingColumn = "condition.", "setting."

var timeColumns = []string{"shot", "host", "crew", "models", "links", "backend", "frame", "warm_up", "seconds"}

// ReadTimes reads a file of times (CSV, RFC 4180, with a header; a spreadsheet's
// byte order mark and semicolons are understood). It refuses the whole file for any
// fault, naming line and column.
func ReadTimes(r io.Reader) ([]Time, error) {
	text := bufio.NewReader(r)
	if mark, _ := text.Peek(3); string(mark) == "\ufeff" {
		_, _ = text.Discard(3)
	}
	in := csv.NewReader(text)
	if first, _ := text.Peek(4096); separatedBySemicolons(string(first)) {
		in.Comma = ';'
	}
	in.TrimLeadingSpace = true
	header, err := in.Read()
	if err != nil {
		if errors.Is(err, io.EOF) {
			err = errors.New("the file is empty: want a header with at least shot, crew and seconds")
		}
		return nil, err
	}
	if header, err = columnsOf(header); err != nil {
		return nil, err
	}
	var out []Time
	for {
		cells, err := in.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		line, _ := in.FieldPos(0)
		t, err := readTime(header, cells)
		if err != nil {
			return nil, fmt.Errorf("line %d, %w", line, err)
		}
		t.Line = line
		out = append(out, t)
	}
	if len(out) == 0 {
		return nil, errors.New("the file has a header but no row")
	}
	return out, sameDevices(out)
}

func separatedBySemicolons(text string) bool {
	header, _, _ := strings.Cut(text, "\n")
	return strings.Contains(header, ";") && !strings.Contains(header, ",")
}

func columnsOf(header []string) ([]string, error) {
	seen := map[string]bool{}
	for i, name := range header {
		name = strings.ToLower(strings.TrimSpace(name))
		header[i] = name
		ending, open := strings.CutPrefix(name, conditionColumn)
		if !open {
			ending, open = strings.CutPrefix(name, settingColumn)
		}
		if open && ending == "" || !open && !slices.Contains(timeColumns, name) {
			return nil, fmt.Errorf("column %q: there is no such column; there are %s, condition.NAME and setting.NAME", name, strings.Join(timeColumns, ", "))
		}
		if seen[name] {
			return nil, fmt.Errorf("column %q is there twice", name)
		}
		seen[name] = true
	}
	for _, needed := range []string{"shot", "crew", "seconds"} {
		if !seen[needed] {
			return nil, fmt.Errorf("column %q is missing: shot, crew and seconds are needed", needed)
		}
	}
	return header, nil
}

func readTime(header, cells []string) (Time, error) {
	t := Time{Conditions: map[string]string{}, Settings: map[string]string{}}
	for i, column := range header {
		value := strings.TrimSpace(cells[i])
		if err := t.set(column, value); err != nil {
			return t, fmt.Errorf("column %s: %q: %w", column, value, err)
		}
	}
	for _, list := range []struct {
		column string
		values *[]string
	}{{"models", &t.Models}, {"links", &t.Links}} {
		if n := len(*list.values); n == 1 && list.column == "links" && len(t.Devices) > 1 {
			*list.values = slices.Repeat(*list.values, len(t.Devices)) // one link for all
		} else if n > 0 && n != len(t.Devices) {
			return t, fmt.Errorf("column %s: %q has %d entries, the crew %s has %d devices", list.column, strings.Join(*list.values, "+"), n, t.Crew(), len(t.Devices))
		}
	}
	return t, nil
}

func (t *Time) set(column, value string) error {
	name, isCondition := strings.CutPrefix(column, conditionColumn)
	setting, isSetting := strings.CutPrefix(column, settingColumn)
	switch {
	case isCondition:
		if value != "" {
			t.Conditions[name] = value
		}
	case isSetting:
		if value != "" {
			t.Settings[setting] = value
		}
	case column == "shot":
		if t.Shot = value; value == "" {
			return errors.New("want a shot's name")
		}
	case column == "host":
		t.Host = value
	case column == "backend":
		t.Backend = value
	case column == "crew":
		t.Devices = split(value)
		for i, d := range t.Devices {
			if d == "" || slices.Contains(t.Devices[:i], d) {
				return errors.New("want device names joined with +, each once, such as g0+g1+cpu")
			}
		}
		if len(t.Devices) == 0 {
			return errors.New("want device names joined with +, such as g0+g1+cpu")
		}
	case column == "models":
		t.Models = split(value)
		if slices.Contains(t.Models, "") {
			return errors.New("want the devices' models joined with +, in the crew's order")
		}
	case column == "links":
		t.Links = split(value)
	case column == "frame":
		if value == "" {
			return nil
		}
		n, err := strconv.Atoi(value)
		if err != nil {
			return errors.New("want a frame's number")
		}
		t.Frame = &n
	case column == "warm_up":
		switch strings.ToLower(value) {
		case "true", "yes", "1":
			t.WarmUp = true
		case "", "false", "no", "0":
		default:
			return errors.New("want true or false")
		}
	case column == "seconds":
		n, err := strconv.ParseFloat(value, 64)
		if err != nil || !IsTime(n) {
			return errors.New("want seconds from 0.001 to 2678400, with a point, such as 72.5")
		}
		t.Seconds = n
	}
	return nil
}

func split(value string) []string {
	if value == "" {
		return nil
	}
	parts := strings.Split(value, "+")
	for i := range parts {
		parts[i] = strings.TrimSpace(parts[i])
	}
	return parts
}

// sameDevices refuses rows that give one device of a named host two models. Without
// a host's name they are taken to be of two machines.
func sameDevices(all []Time) error {
	first := map[[2]string]Time{}
	for _, t := range all {
		for i, d := range t.Devices {
			if t.Models == nil || t.Host == "" {
				continue
			}
			before, known := first[[2]string{t.Host, d}]
			if !known {
				first[[2]string{t.Host, d}] = t
				continue
			}
			if was := before.Models[slices.Index(before.Devices, d)]; was != t.Models[i] {
				return fmt.Errorf("line %d, column models: device %s of host %q is %q here and %q in line %d: give the machines host names of their own", t.Line, d, t.Host, t.Models[i], was, before.Line)
			}
		}
	}
	return nil
}

// WriteTimes writes a file of times that ReadTimes reads.
func WriteTimes(w io.Writer, all []Time) error {
	conditions, settings := map[string]bool{}, map[string]bool{}
	for _, t := range all {
		for name := range t.Conditions {
			conditions[name] = true
		}
		for name := range t.Settings {
			settings[name] = true
		}
	}
	names := func(set map[string]bool) []string { return slices.Sorted(maps.Keys(set)) }
	header := slices.Clone(timeColumns)
	for _, name := range names(conditions) {
		header = append(header, conditionColumn+name)
	}
	for _, name := range names(settings) {
		header = append(header, settingColumn+name)
	}
	out := csv.NewWriter(w)
	_ = out.Write(header) // the writer keeps its first error
	for _, t := range all {
		frame := ""
		if t.Frame != nil {
			frame = strconv.Itoa(*t.Frame)
		}
		row := []string{
			t.Shot, t.Host, t.Crew(), strings.Join(t.Models, "+"), strings.Join(t.Links, "+"), t.Backend,
			frame, strconv.FormatBool(t.WarmUp), strconv.FormatFloat(t.Seconds, 'f', -1, 64),
		}
		for _, name := range names(conditions) {
			row = append(row, t.Conditions[name])
		}
		for _, name := range names(settings) {
			row = append(row, t.Settings[name])
		}
		_ = out.Write(row)
	}
	out.Flush()
	return out.Error()
}
