package httpapi

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/routers"
)

// usualBody is how many bytes a body has at most whose operation says nothing of it in x-max-bytes.
const usualBody = 256 << 10

// Media types of bodies.
const (
	jsonBody   = "application/json"
	binaryBody = "application/octet-stream"
)

// body lets no more of a request's body be read than its operation takes, of no other kind and no more slowly than it
// has to arrive, and reports whether it is JSON. All but files are read here. What an operation has no body for has none.
func body(w http.ResponseWriter, r *http.Request, operation *openapi3.Operation) (isJSON bool, err error) {
	if operation.RequestBody == nil {
		r.Body = http.NoBody
		return false, nil
	}
	content := operation.RequestBody.Value.Content
	kinds := slices.Sorted(maps.Keys(content))
	kind := kinds[0]
	if sent := r.Header.Get("Content-Type"); sent != "" {
		kind, _, _ = mime.ParseMediaType(sent)
		if content[kind] == nil {
			return false, &Problem{http.StatusUnsupportedMediaType, "Unsupported media type", fmt.Sprintf("Content-Type %q: want %s", sent, strings.Join(kinds, " or ")), nil}
		}
	} else {
		r.Header.Set("Content-Type", kind)
	}
	most := atMost(content[kind])
	if r.ContentLength > most {
		return false, tooLarge(most)
	}
	r.Body = http.MaxBytesReader(w, r.Body, most)
	if kind == binaryBody {
		r.Body = &stream{ReadCloser: r.Body, control: http.NewResponseController(w), began: time.Now()}
		return false, nil
	}
	var data []byte
	err = within(w, func() (err error) {
		data, err = io.ReadAll(r.Body)
		return err
	})
	if err != nil {
		return false, unfinished(err)
	}
	r.Body = io.NopCloser(bytes.NewReader(data))
	if kind != jsonBody {
		return false, nil
	}
	if at, is := withNUL(data); is {
		return true, BadField(at, "", "has a NUL character, which no text here may have")
	}
	return true, nil
}

// atMost is how many bytes a body of a media type has at most: what it says itself, or its text's length.
func atMost(kind *openapi3.MediaType) int64 {
	if said, is := kind.Extensions["x-max-bytes"].(float64); is {
		return int64(said)
	}
	if s := kind.Schema; s != nil && s.Value.Type.Is("string") && s.Value.MaxLength != nil {
		return int64(*s.Value.MaxLength)
	}
	return usualBody
}

func tooLarge(most int64) *Problem {
	return &Problem{http.StatusRequestEntityTooLarge, "Too large", fmt.Sprintf("the body is larger than the %d bytes that this takes", most), nil}
}

// unfinished is why a body could not be read to its end.
func unfinished(err error) *Problem {
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		return tooLarge(large.Limit)
	}
	if errors.Is(err, os.ErrDeadlineExceeded) || errors.Is(err, errDribbles) {
		return &Problem{http.StatusRequestTimeout, "Too slow", "the body did not arrive in time", nil}
	}
	return BadRequest("the body could not be read: " + err.Error())
}

// withNUL finds a text with a NUL character in JSON, which PostgreSQL cannot keep, and where it is.
// What is no JSON has none.
func withNUL(data []byte) (pointer string, is bool) {
	if !bytes.Contains(data, []byte(`\u0000`)) {
		return "", false
	}
	var v any
	if json.Unmarshal(data, &v) != nil {
		return "", false
	}
	return nulIn(v, "")
}

func nulIn(v any, at string) (string, bool) {
	switch v := v.(type) {
	case string:
		return at, strings.ContainsRune(v, 0)
	case []any:
		for i, x := range v {
			if pointer, is := nulIn(x, at+"/"+strconv.Itoa(i)); is {
				return pointer, true
			}
		}
	case map[string]any:
		for name, x := range v {
			if strings.ContainsRune(name, 0) {
				return at, true
			}
			if pointer, is := nulIn(x, at+"/"+name); is {
				return pointer, true
			}
		}
	}
	return "", false
}

// readable refuses parameters of an operation that are no text, wherever they stand.
func readable(r *http.Request, route *routers.Route, path map[string]string) *Problem {
	refuse := func(name, value string) *Problem {
		if utf8.ValidString(value) && !strings.ContainsRune(value, 0) {
			return nil
		}
		return BadField(name, strings.ToValidUTF8(strings.ReplaceAll(value, "\x00", "�"), "�"), "is no text: want UTF-8 without NUL characters")
	}
	for name, value := range path {
		if p := refuse(name, value); p != nil {
			return p
		}
	}
	for name, all := range r.URL.Query() {
		for _, value := range all {
			if p := refuse(name, value); p != nil {
				return p
			}
		}
	}
	for _, x := range slices.Concat(route.PathItem.Parameters, route.Operation.Parameters) {
		if x.Value.In != openapi3.ParameterInHeader {
			continue
		}
		if p := refuse(x.Value.Name, r.Header.Get(x.Value.Name)); p != nil {
			return p
		}
	}
	return nil
}

// Text reads a body of text, that the contract has let through.
func Text(r *http.Request) (string, error) {
	data, err := io.ReadAll(r.Body)
	if err != nil {
		return "", unfinished(err)
	}
	if bytes.IndexByte(data, 0) >= 0 || !utf8.Valid(data) {
		return "", BadField("body", "", "is no text: want UTF-8 without NUL characters")
	}
	return string(data), nil
}
