package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"rotanex.example/core/spelling"
)

// renamed are keys of files as they were once called.
var renamed = map[string]string{
	"least": "minimum_charge", "lead_s": "boot_s", "wrap_s": "shutdown_s", "write_off_hour": "depreciation_h", "mains": "on_ac_power", "held_gb": "in_use_gb",
	"price_hour": "price_h", "passes": "buffers", "single_user": "named_user",
}

// readYAML reads a file into what into points at. Keys that are not known, keys that stand
// twice, values of another kind and files that hold nothing are refused with their line,
// before anything of the file is used.
func readYAML(path string, into any) error {
	return readYAMLAs(path, reflect.TypeOf(into).Elem(), into)
}

// readYAMLAs is readYAML for a file whose keys and values are those of another type.
func readYAMLAs(path string, want reflect.Type, into any) error {
	data, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	file, err := parser.ParseBytes(data, 0)
	if err != nil {
		return fmt.Errorf("%s: %s", path, yaml.FormatError(err, false, false))
	}
	if len(file.Docs) == 0 || file.Docs[0].Body == nil || file.Docs[0].Body.Type() == ast.NullType {
		return fmt.Errorf("%s is empty: it should begin with one of %s", path, strings.Join(keysOf(want), ", "))
	}
	if len(file.Docs) > 1 {
		return fmt.Errorf("%s holds %d documents, parted by ---: want one", path, len(file.Docs))
	}
	if faults := check(file.Docs[0].Body, want, ""); len(faults) > 0 {
		for i, f := range faults {
			faults[i] = fmt.Errorf("%s:%w", path, f)
		}
		return errors.Join(faults...)
	}
	if err := yaml.Unmarshal(data, into); err != nil {
		return fmt.Errorf("%s: %s", path, yaml.FormatError(err, false, false))
	}
	return nil
}

// decodes reports whether a type reads itself, so that its form is its own affair.
func decodes(t reflect.Type) bool {
	for _, reads := range []reflect.Type{reflect.TypeFor[interface{ UnmarshalText([]byte) error }](), reflect.TypeFor[yaml.BytesUnmarshaler](), reflect.TypeFor[json.Unmarshaler]()} {
		if reflect.PointerTo(t).Implements(reads) {
			return true
		}
	}
	return false
}

// fieldsOf lists a struct's fields by the keys of its yaml or json tags.
func fieldsOf(t reflect.Type) map[string]reflect.Type {
	out := map[string]reflect.Type{}
	for _, f := range reflect.VisibleFields(t) {
		tag := f.Tag.Get("yaml")
		if tag == "" {
			tag = f.Tag.Get("json")
		}
		if key, _, _ := strings.Cut(tag, ","); key != "" && key != "-" {
			out[key] = f.Type
		}
	}
	return out
}

func keysOf(t reflect.Type) []string {
	var out []string
	if t.Kind() == reflect.Struct {
		for key := range fieldsOf(t) {
			out = append(out, key)
		}
	}
	slices.Sort(out)
	return out
}

// check lists what of a node is not as a type wants it. Each fault begins with its line.
func check(n ast.Node, want reflect.Type, at string) []error {
	for want.Kind() == reflect.Pointer {
		want = want.Elem()
	}
	if decodes(want) || want.Kind() == reflect.Interface || n.Type() == ast.NullType || n.Type() == ast.AliasType || n.Type() == ast.AnchorType {
		return nil
	}
	switch want.Kind() {
	case reflect.Struct:
		return checkStruct(n, want, at)
	case reflect.Map:
		return checkMap(n, want, at)
	case reflect.Slice:
		list, ok := n.(*ast.SequenceNode)
		if !ok {
			what := "want a list, such as [a, b] or lines that begin with -"
			if now := renamed[at]; now != "" && n.Type() == ast.IntegerType {
				what += fmt.Sprintf("; as a number, %s is called %s now", at, now)
			}
			return []error{fault(n, at, what)}
		}
		var out []error
		for _, v := range list.Values {
			out = append(out, check(v, want.Elem(), at)...)
		}
		return out
	}
	return checkScalar(n, want, at)
}

func checkStruct(n ast.Node, want reflect.Type, at string) (out []error) {
	entries, ok := entriesOf(n)
	if !ok {
		return []error{fault(n, at, "want keys and values: "+strings.Join(keysOf(want), ", "))}
	}
	fields := fieldsOf(want)
	for _, e := range entries {
		key := keyOf(e)
		field, known := fields[key]
		if !known {
			out = append(out, fault(e.Key, "", unknownKey(key, keysOf(want))))
			continue
		}
		out = append(out, check(e.Value, field, key)...)
	}
	return out
}

func checkMap(n ast.Node, want reflect.Type, at string) (out []error) {
	entries, ok := entriesOf(n)
	if !ok {
		return []error{fault(n, at, "want keys and values")}
	}
	for _, e := range entries {
		out = append(out, check(e.Value, want.Elem(), at+"."+keyOf(e))...)
	}
	return out
}

// keyOf is a key without the quotes that it may stand in.
func keyOf(e *ast.MappingValueNode) string {
	if text, ok := e.Key.(*ast.StringNode); ok {
		return text.Value
	}
	return e.Key.String()
}

func entriesOf(n ast.Node) ([]*ast.MappingValueNode, bool) {
	switch m := n.(type) {
	case *ast.MappingNode:
		return m.Values, true
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{m}, true
	}
	return nil, false
}

func checkScalar(n ast.Node, want reflect.Type, at string) []error {
	is := n.Type()
	if is == ast.MappingType || is == ast.MappingValueType || is == ast.SequenceType {
		return []error{fault(n, at, "want a single value, not a list or keys")}
	}
	switch want.Kind() {
	case reflect.Int, reflect.Int32, reflect.Int64:
		if is != ast.IntegerType {
			return []error{fault(n, at, "want a whole number")}
		}
	case reflect.Float32, reflect.Float64:
		if is != ast.IntegerType && is != ast.FloatType {
			return []error{fault(n, at, "want a number")}
		}
	case reflect.Bool:
		if is != ast.BoolType {
			return []error{fault(n, at, "want true or false")}
		}
	}
	return nil
}

// fault says what is wrong on a line, with the value if it is a single one.
func fault(n ast.Node, at, what string) error {
	if value, single := n.(ast.ScalarNode); single && at != "" {
		at += " " + value.String() + ":"
	}
	if at != "" {
		at += " "
	}
	return fmt.Errorf("%d: %s%s", n.GetToken().Position.Line, at, what)
}

// unknownKey says what to write instead of a key that is not known.
func unknownKey(key string, known []string) string {
	if now, old := renamed[key]; old && slices.Contains(known, now) {
		return fmt.Sprintf("%s is called %s now", key, now)
	}
	if _, day := weekday(key); day && slices.Contains(known, "days") {
		return fmt.Sprintf(`%s stands alone: several days want quotes within braces, such as days: "sat,sun"`, key)
	}
	if near := spelling.Nearest(key, known); near != "" {
		return fmt.Sprintf("%s is not known here; did you mean %s?", key, near)
	}
	return fmt.Sprintf("%s is not known here; known are %s", key, strings.Join(known, ", "))
}
