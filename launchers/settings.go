package launchers

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"rotanex.example/core/paths"
)

// Setting is one value that a shot may set. Whatever it is set to stands in the argument that names it, and in no other: it
// can neither become an option of its own nor a path out of the scenes.
type Setting struct {
	Type    string   `yaml:"type"` // integer, number, word, text, choice, flag or path
	Min     *float64 `yaml:"min"`
	Max     *float64 `yaml:"max"`
	Default string   `yaml:"default"`
	About   string   `yaml:"about"`
	// Choices are what a choice may be, each with what stands in the argument.
	Choices map[string]string `yaml:"choices"`
	// On and Off are what stands in the argument for a flag.
	On  string `yaml:"on"`
	Off string `yaml:"off"`
}

// word is what a word may be: nothing that a renderer could take for another option or path.
var word = regexp.MustCompile(`^[A-Za-z0-9@#,._-]{0,200}$`)

// mostText is how many letters a text has at most.
const mostText = 1000

var kinds = []string{"integer", "number", "word", "text", "choice", "flag", "path"}

// declared says what is wrong with how a setting is declared.
func (s Setting) declared(name string) error {
	switch {
	case !slices.Contains(kinds, s.Type):
		return fmt.Errorf("setting %s: type %q: want %s", name, s.Type, strings.Join(kinds, ", "))
	case (s.Type == "choice") != (len(s.Choices) > 0):
		return fmt.Errorf("setting %s: a choice has choices, and nothing else has; such as choices: { png: N8, exr: E }", name)
	case s.Type == "flag" && s.On == s.Off:
		return fmt.Errorf("setting %s: a flag has on or off: what stands in the argument", name)
	}
	if err := s.check(name, s.Default); err != nil {
		return fmt.Errorf("default: %w", err)
	}
	return nil
}

// check says what is wrong with a value.
func (s Setting) check(name, value string) error {
	bad := func(want string) error { return fmt.Errorf("setting %s: %q: want %s", name, value, want) }
	switch s.Type {
	case "word":
		if !word.MatchString(value) || strings.HasPrefix(value, "-") || strings.Contains(value, "..") {
			return bad("letters, digits and @#,._-")
		}
	case "text":
		if len(value) > mostText || strings.ContainsFunc(value, func(r rune) bool { return !unicode.IsPrint(r) }) || strings.ContainsAny(value[:min(1, len(value))], "-+/@") {
			return bad(fmt.Sprintf("at most %d printable letters, the first of which is none of - + / @", mostText))
		}
	case "choice":
		if _, is := s.Choices[value]; !is {
			return bad(strings.Join(slices.Sorted(maps.Keys(s.Choices)), " or "))
		}
	case "flag":
		if value != "on" && value != "off" {
			return bad("on or off")
		}
	case "path":
		_, rest, err := paths.Rooted(value)
		if value != "" && (err != nil || strings.HasPrefix(rest, "-") || len(value) > mostText || strings.ContainsFunc(rest, func(r rune) bool { return !unicode.IsPrint(r) || r == ':' })) {
			return bad("a path below the scenes, such as luts/show.cube, or below a root, such as project:luts/show.cube")
		}
	case "integer":
		if _, err := strconv.Atoi(value); err != nil {
			return fmt.Errorf("setting %s: %q is not a whole number", name, value)
		}
		return s.between(name, value)
	case "number":
		return s.between(name, value)
	}
	return nil
}

func (s Setting) between(name, value string) error {
	n, err := strconv.ParseFloat(value, 64)
	if err != nil || n != n {
		return fmt.Errorf("setting %s: %q is not a number", name, value)
	}
	if s.Min != nil && n < *s.Min || s.Max != nil && n > *s.Max {
		return fmt.Errorf("setting %s: %s is outside %g to %g", name, value, *s.Min, *s.Max)
	}
	return nil
}

// argument is what stands in the argument for a value. Paths are those of files that are there.
func (s Setting) argument(value string, paths map[string]string) string {
	switch s.Type {
	case "choice":
		return s.Choices[value]
	case "flag":
		return map[string]string{"on": s.On, "off": s.Off}[value]
	case "path":
		return paths[value]
	}
	return value
}

// Settle fills in the defaults and refuses settings that the launcher does not have.
func (l Launcher) Settle(settings map[string]string) (map[string]string, error) {
	out := map[string]string{}
	for name, s := range l.Settings {
		out[name] = s.Default
	}
	for name, value := range settings {
		s, known := l.Settings[name]
		if !known {
			return nil, fmt.Errorf("launcher %s has no setting %q; it has %s", l.Name, name, strings.Join(slices.Sorted(maps.Keys(l.Settings)), ", "))
		}
		if err := s.check(name, value); err != nil {
			return nil, err
		}
		out[name] = value
	}
	return out, nil
}

// Paths lists the files that settled settings name, below the scenes.
func (l Launcher) Paths(settled map[string]string) (out []string) {
	for _, name := range slices.Sorted(maps.Keys(l.Settings)) {
		if l.Settings[name].Type == "path" && settled[name] != "" {
			out = append(out, settled[name])
		}
	}
	return out
}

// Ending is that of the file that it writes with settled settings.
func (l Launcher) Ending(settled map[string]string) string {
	return placeholder.ReplaceAllStringFunc(l.Output, func(hole string) string { return settled[strings.TrimPrefix(hole[1:len(hole)-1], "setting.")] })
}

var ending = regexp.MustCompile(`^[A-Za-z0-9]{1,10}$`)

// checkOutput says what is wrong with the ending: each that its choices make must be one.
func (l Launcher) checkOutput() error {
	hole := placeholder.FindStringSubmatch(l.Output)
	if hole == nil {
		if l.Output != "" && !ending.MatchString(l.Output) {
			return fmt.Errorf("output %q: want the ending of a file, such as png", l.Output)
		}
		return nil
	}
	name, _ := strings.CutPrefix(hole[1], "setting.")
	s := l.Settings[name]
	if hole[0] != l.Output || s.Type != "choice" {
		return fmt.Errorf("output %q: want an ending such as png, or {setting.NAME} of a choice among endings", l.Output)
	}
	for choice := range s.Choices {
		if !ending.MatchString(choice) {
			return fmt.Errorf("output %q: its choice %q is no ending of a file", l.Output, choice)
		}
	}
	return nil
}
