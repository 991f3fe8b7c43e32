package httpapi

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"
	"unicode"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/google/uuid"

	"rotanex.example/api"
)

// contract finds the operation of a request. It is read once, as that takes a tenth of a second.
var contract = sync.OnceValues(func() (routers.Router, error) {
	doc, err := api.GetSpec()
	if err != nil {
		return nil, err
	}
	openapi3.DefineStringFormatValidator("date-time", openapi3.NewCallbackValidator(aTime))
	openapi3.DefineStringFormatValidator("uuid", openapi3.NewCallbackValidator(anID))
	// Who may do what is service/access's; the validator would read bodies into memory for it.
	doc.Security = nil
	for _, item := range doc.Paths.Map() {
		for _, operation := range item.Operations() {
			operation.Security = nil
		}
	}
	doc.Servers = openapi3.Servers{{URL: "/api/v1"}}
	return gorillamux.NewRouter(doc)
})

// aTime takes RFC 3339 of years that times can be reckoned with: 292 years from another they no longer are.
func aTime(text string) error {
	t, err := time.Parse(time.RFC3339, text)
	if err == nil && (t.UTC().Year() < 1970 || t.UTC().Year() > 2199) {
		err = errors.New("the year is not of 1970 to 2199")
	}
	return err
}

func anID(text string) error {
	if len(text) != 36 {
		return errors.New("an id has 36 characters")
	}
	_, err := uuid.Parse(text)
	return err
}

// Contract holds every request against openapi.yaml before it is handled.
func Contract() (func(http.Handler) http.Handler, error) {
	router, err := contract()
	if err != nil {
		return nil, err
	}
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			held, err := hold(router, w, r)
			if err != nil {
				Fail(w, r, err)
				return
			}
			next.ServeHTTP(w, held)
		})
	}, nil
}

// hold holds a request against its operation. What is returned is the request as it is to be handled.
func hold(router routers.Router, w http.ResponseWriter, r *http.Request) (*http.Request, error) {
	route, params, err := router.FindRoute(r)
	switch {
	case errors.Is(err, routers.ErrMethodNotAllowed):
		return r, &Problem{http.StatusMethodNotAllowed, "Method not allowed", r.Method + " is not for " + r.URL.Path, nil}
	case err != nil:
		return r, NotFound("there is no " + r.URL.Path + "; the interface is described at /api")
	}
	if p := readable(r, route, params); p != nil {
		return r, p
	}
	json, err := body(w, r, route.Operation)
	if err != nil {
		return r, err
	}
	r = r.WithContext(context.WithValue(r.Context(), matchedKey{}, Operation{spaced(route.Operation.OperationID), route.Path}))
	input := &openapi3filter.RequestValidationInput{
		Request: r, PathParams: params, Route: route,
		Options: &openapi3filter.Options{
			MultiError: true, ExcludeRequestBody: !json,
		},
	}
	if err = openapi3filter.ValidateRequest(r.Context(), input); err == nil {
		return r, nil
	}
	if to := route.Operation.Extensions["x-lenient"]; to != nil {
		if rest, fine := leniently(input, err, to == onlyUnknown); fine {
			return rest, nil
		}
	}
	return r, refusal(err)
}

type matchedKey struct{}

// Operation is one of the contract: its id in words, such as "start run", and its path with the names of its parameters.
type Operation struct{ ID, Path string }

// spaced writes startRun as "start run".
func spaced(id string) string {
	var out strings.Builder
	for i, letter := range id {
		if unicode.IsUpper(letter) && i > 0 {
			out.WriteByte(' ')
		}
		out.WriteRune(unicode.ToLower(letter))
	}
	return out.String()
}

// Matched is the operation that a request was held against; none outside of one.
func Matched(ctx context.Context) Operation {
	o, _ := ctx.Value(matchedKey{}).(Operation)
	return o
}

// Reads reports whether a path of the interface can be read as JSON, and whether it is that of one thing: /runs/ID, and not /runs.
func Reads(path string) (can, one bool) {
	router, err := contract()
	if err != nil {
		return false, false
	}
	route, _, err := router.FindRoute(&http.Request{Method: http.MethodGet, URL: &url.URL{Path: "/api/v1" + path}})
	if err != nil {
		return false, false
	}
	answer := route.Operation.Responses.Value("200")
	return answer != nil && answer.Value.Content[jsonBody] != nil, strings.HasSuffix(route.Path, "}")
}

// refusal is what a validator's error says, in words.
func refusal(err error) *Problem {
	p := &Problem{Status: http.StatusUnprocessableEntity, Title: "Unusable value"}
	describe(p, err)
	details := make([]string, len(p.Fields))
	for i, f := range p.Fields {
		details[i] = withSubject(f.Name, f.Value, f.Detail)
		if f.Name == "body" && f.Value == "" && !errors.As(err, new(*openapi3.SchemaError)) { // it could not be read at all
			p.Status, p.Title = http.StatusBadRequest, "Bad request"
		}
	}
	p.Detail = strings.Join(details, "; ")
	return p
}

// describe adds a field for every fault that the validator found.
func describe(p *Problem, err error) {
	var many openapi3.MultiError
	var request *openapi3filter.RequestError
	var schema *openapi3.SchemaError
	// A MultiError answers errors.As for its members too, so it is asked for first.
	all, isMany := err.(openapi3.MultiError)
	switch {
	case isMany:
		for _, one := range all {
			describe(p, one)
		}
	case errors.As(err, &request):
		if request.Parameter != nil {
			at := len(p.Fields)
			if errors.As(request.Err, &schema) {
				describe(p, request.Err)
			} else {
				value, detail := unread(request.Err, request.Parameter.Schema.Value)
				p.Fields = append(p.Fields, Field{Value: value, Detail: detail})
			}
			for i := at; i < len(p.Fields); i++ {
				p.Fields[i].Name = request.Parameter.Name
				if plain, err := url.PathUnescape(p.Fields[i].Value); err == nil && request.Parameter.In == "path" {
					p.Fields[i].Value = plain
				}
			}
			return
		}
		if request.Err == nil {
			p.Fields = append(p.Fields, Field{Detail: request.Reason})
			return
		}
		if errors.As(request.Err, &many) || errors.As(request.Err, &schema) {
			describe(p, request.Err)
			return
		}
		_, detail := unread(request.Err, nil)
		p.Fields = append(p.Fields, Field{Name: "body", Detail: detail})
	case errors.As(err, &schema):
		name, value, at := "body", asWritten(schema.Value), schema.JSONPointer()
		if extra := unknown(schema); extra != "" {
			at, value = append(at, extra), ""
		}
		if len(at) > 0 {
			name = "/" + strings.Join(at, "/")
		}
		p.Fields = append(p.Fields, Field{name, value, inWords(schema)})
	default:
		p.Fields = append(p.Fields, Field{Detail: err.Error()})
	}
}
