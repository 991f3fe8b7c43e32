package httpapi

import (
	"errors"
	"fmt"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
)

// inWords says what would be right where a value is not what its schema asks for, as a
// sentence whose subject is the value: see withSubject.
func inWords(e *openapi3.SchemaError) string {
	s := e.Schema
	if unknown(e) != "" {
		return "is not known here"
	}
	switch e.SchemaField {
	case "required", "nullable":
		return "is missing"
	case "type":
		return "want " + kindOf(s)
	case "enum":
		return "want " + anyOf(s.Enum)
	case "pattern", "format":
		if s.Description != "" && e.SchemaField == "pattern" {
			return "want " + s.Description
		}
		return "want " + kindOf(s)
	case "minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum":
		return "want " + between(s, e.SchemaField)
	case "minLength":
		if s.MinLength == 1 {
			return "is empty"
		}
		return fmt.Sprintf("want %d characters or more", s.MinLength)
	case "maxLength":
		return fmt.Sprintf("want at most %d characters", *s.MaxLength)
	case "minItems":
		return fmt.Sprintf("want %d or more of them", s.MinItems)
	case "maxItems":
		return fmt.Sprintf("want at most %d of them", *s.MaxItems)
	case "uniqueItems":
		return "has the same twice"
	}
	return "is not what is asked for: " + e.Reason
}

// unknown is the name of a value that the schema does not have; "" where that is not what
// is wrong.
func unknown(e *openapi3.SchemaError) string {
	name, is := strings.CutSuffix(strings.TrimPrefix(e.Reason, `property "`), `" is unsupported`)
	if !is {
		return ""
	}
	return name
}

// kinds are what a value of a format is, with an example.
var kinds = map[string]string{
	"date-time": "a time of the years 1970 to 2199 such as 2031-03-07T20:00:00Z", "date": "a day such as 2031-03-07",
	"uuid": "an id such as 7f1f3f0e-5b1c-4c7e-9d2a-0c1d2e3f4a5b",
}

func kindOf(s *openapi3.Schema) string {
	if kind, known := kinds[s.Format]; known {
		return kind
	}
	switch {
	case s.Type == nil:
		return "another value"
	case s.Type.Is("integer"):
		return "a whole number"
	case s.Type.Is("number"):
		return "a number"
	case s.Type.Is("boolean"):
		return "true or false"
	case s.Type.Is("array"):
		return "a list"
	case s.Type.Is("object"):
		return "an object with named values"
	}
	return "a text"
}

// between is the range of a number, or its end that was passed where that is all it has.
func between(s *openapi3.Schema, field string) string {
	switch {
	case strings.HasPrefix(field, "exclusive"):
		return strings.NewReplacer("exclusiveMinimum", "more than ", "exclusiveMaximum", "less than ").Replace(field) + fmt.Sprintf("%g", exclusive(s, field))
	case s.Min != nil && s.Max != nil:
		return fmt.Sprintf("%s to %s", plain(*s.Min), plain(*s.Max))
	case s.Min != nil:
		return plain(*s.Min) + " or more"
	}
	return plain(*s.Max) + " or less"
}

func exclusive(s *openapi3.Schema, field string) float64 {
	bound := s.ExclusiveMin.Value
	if field == "exclusiveMaximum" {
		bound = s.ExclusiveMax.Value
	}
	switch {
	case bound != nil:
		return *bound
	case field == "exclusiveMaximum" && s.Max != nil:
		return *s.Max
	case s.Min != nil:
		return *s.Min
	}
	return 0
}

// asWritten is a value as somebody wrote it; "" where that is no single one, or too long to
// be shown.
func asWritten(value any) string {
	const most = 200
	switch v := value.(type) {
	case string:
		if len(v) <= most {
			return v
		}
	case float64:
		return plain(v)
	case bool:
		return fmt.Sprint(v)
	}
	return ""
}

// plain writes a number without an exponent.
func plain(v float64) string {
	return strings.TrimSuffix(strings.TrimRight(fmt.Sprintf("%.6f", v), "0"), ".")
}

func anyOf(words []any) string {
	list := make([]string, len(words))
	for i, w := range words {
		list[i] = fmt.Sprint(w)
	}
	if last := len(list) - 1; last > 0 {
		return strings.Join(list[:last], ", ") + " or " + list[last]
	}
	return strings.Join(list, "")
}

// unread says why a value or a body cannot be read at all.
func unread(err error, s *openapi3.Schema) (value, detail string) {
	var parse *openapi3filter.ParseError
	switch {
	case errors.As(err, &parse) && s != nil:
		return fmt.Sprint(parse.Value), "want " + kindOf(s)
	case errors.Is(err, openapi3filter.ErrInvalidRequired):
		return "", "is missing"
	}
	return "", "is not JSON: " + strings.TrimPrefix(err.Error(), "failed to decode request body: ")
}
