package httpapi

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
)

// Some requests must not fail by what is beside the point: a heartbeat renews leases whatever its samples are. What their
// operation marks with x-lenient is taken without the values that the contract refuses, as far as what it requires is there;
// LeftOut says which those were.

// onlyUnknown is what an operation is marked with that is lenient to fields alone that the contract does not know: a newer agent
// may say more.
const onlyUnknown = "unknown"

type leftOutKey struct{}

// LeftOut says what of a request was left out as the contract refuses it, with the reasons.
func LeftOut(ctx context.Context) []string {
	said, _ := ctx.Value(leftOutKey{}).([]string)
	return said
}

// rounds is how often what is left is looked at again: a value that is gone may be missed by what it was part of.
const rounds = 6

// leniently takes out of a body what the validator refuses, fields that are not known alone if so asked, and reports whether what
// is left is as the contract wants it.
func leniently(input *openapi3filter.RequestValidationInput, err error, extra bool) (*http.Request, bool) {
	r := input.Request
	data, readErr := io.ReadAll(r.Body)
	decoder := json.NewDecoder(bytes.NewReader(data))
	decoder.UseNumber()
	var body any
	if readErr != nil || decoder.Decode(&body) != nil {
		return r, false
	}
	var said []string
	for range rounds {
		faults := schemaErrors(err)
		if len(faults) == 0 || extra && slices.ContainsFunc(faults, func(f *openapi3.SchemaError) bool { return unknown(f) == "" }) {
			return r, false
		}
		for _, fault := range faults {
			body = without(body, pointerOf(fault), fault)
			if len(said) < 10 {
				said = append(said, strings.Join(pointerOf(fault), "/")+" "+inWords(fault))
			}
		}
		body = compact(body)
		rest, marshalErr := json.Marshal(body)
		if marshalErr != nil {
			return r, false
		}
		r.Body = io.NopCloser(bytes.NewReader(rest))
		if err = openapi3filter.ValidateRequest(r.Context(), input); err == nil {
			r.Body = io.NopCloser(bytes.NewReader(rest))
			return r.WithContext(context.WithValue(r.Context(), leftOutKey{}, said)), true
		}
	}
	return r, false
}

// schemaErrors are those of a validator's error that are about the body; none where others are there too.
func schemaErrors(err error) (out []*openapi3.SchemaError) {
	var request *openapi3filter.RequestError
	var one *openapi3.SchemaError
	many, isMany := err.(openapi3.MultiError)
	switch {
	case isMany:
		for _, e := range many {
			found := schemaErrors(e)
			if len(found) == 0 {
				return nil
			}
			out = append(out, found...)
		}
	case errors.As(err, &request):
		if request.Parameter == nil && request.Err != nil {
			return schemaErrors(request.Err)
		}
	case errors.As(err, &one):
		out = append(out, one)
	}
	return out
}

func pointerOf(fault *openapi3.SchemaError) []string {
	at := slices.Clone(fault.JSONPointer())
	if extra := unknown(fault); extra != "" {
		at = append(at, extra)
	}
	return at
}

// gone stands where an item of a list was taken out, until all are: the others keep their places.
type gone struct{}

// without takes a value out: what is there of it, or else what it is missing from. A list that is too long is cut.
func without(v any, at []string, fault *openapi3.SchemaError) any {
	if len(at) == 0 {
		if list, is := v.([]any); is && fault.SchemaField == "maxItems" {
			return list[:min(len(list), int(*fault.Schema.MaxItems))]
		}
		return gone{}
	}
	switch v := v.(type) {
	case map[string]any:
		part, there := v[at[0]]
		if !there {
			return gone{}
		}
		if part = without(part, at[1:], fault); part == any(gone{}) {
			delete(v, at[0])
		} else {
			v[at[0]] = part
		}
	case []any:
		if i, err := strconv.Atoi(at[0]); err == nil && i < len(v) {
			v[i] = without(v[i], at[1:], fault)
		}
	}
	return v
}

// compact closes the gaps in lists.
func compact(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for name, part := range v {
			v[name] = compact(part)
		}
	case []any:
		kept := slices.DeleteFunc(v, func(x any) bool { _, is := x.(gone); return is })
		for i, part := range kept {
			kept[i] = compact(part)
		}
		return kept
	}
	return v
}
