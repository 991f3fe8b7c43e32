package paths

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Template names files by what they are of: text with placeholders such as {shot} and
// {frame:4}, a number with so many digits at least.
type Template struct{ text string }

var hole = regexp.MustCompile(`\{([^{}]*)\}`)

// ParseTemplate reads a template that may have the placeholders named. The error says which it has and may not have.
func ParseTemplate(text string, holes ...string) (Template, error) {
	for _, m := range hole.FindAllStringSubmatch(text, -1) {
		name, digits, wide := strings.Cut(m[1], ":")
		if !slices.Contains(holes, name) {
			return Template{}, fmt.Errorf("%q: no placeholder {%s}; there are {%s}", text, m[1], strings.Join(holes, "}, {"))
		}
		if n, err := strconv.Atoi(digits); wide && (err != nil || n < 1 || n > 12) {
			return Template{}, fmt.Errorf("%q: {%s}: want 1 to 12 digits, such as {%s:4}", text, m[1], name)
		}
	}
	if left := hole.ReplaceAllString(text, ""); strings.ContainsAny(left, "{}") {
		return Template{}, fmt.Errorf("%q: a brace is not closed, or not opened", text)
	}
	return Template{text}, nil
}

// Fill returns the path for some values, with slashes, below the folder that it is meant for. A placeholder without a
// value is nothing, and a folder that is no more than that is left out. A value that is no part of a path, and what is no such path, is an error.
func (t Template) Fill(values map[string]string) (string, error) {
	for name, value := range values {
		if Below(value) != nil || strings.Contains(value, "/") {
			return "", fmt.Errorf("the %s is %q: that is no name of a file", name, value)
		}
	}
	out := hole.ReplaceAllStringFunc(t.text, func(m string) string {
		name, digits, _ := strings.Cut(m[1:len(m)-1], ":")
		value := values[name]
		n, _ := strconv.Atoi(digits)
		sign := ""
		if strings.HasPrefix(value, "-") {
			sign, value = "-", value[1:]
		}
		return sign + strings.Repeat("0", max(0, n-len(value))) + value
	})
	if !strings.HasPrefix(t.text, "/") {
		out = strings.TrimLeft(out, "/")
	}
	if out = path.Clean(out); out == "." {
		return "", fmt.Errorf("%q names nothing", t.text)
	}
	return out, Below(out)
}
