package httpapi

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"strings"
	"sync"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"

	"rotanex.example/api"
)

// Bodies are no larger than this, but for pictures, which are not read here.
const maxBody = 16 << 20

// contract finds the operation of a request. It is read once, as that takes a tenth of a second.
var contract = sync.OnceValues(func() (routers.Router, error) {
	doc, err := api.GetSpec()
	if err != nil {
		return nil, err
	}
	doc.Servers = openapi3.Servers{{URL: "/api/v1"}}
	return gorillamux.NewRouter(doc)
})

// Contract holds every request against openapi.yaml before it is handled.
func Contract() (func(http.Handler) http.Handler, error) {
	router, err := contract()
	if err != nil {
		return nil, err
	}
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if err := hold(router, w, r); err != nil {
				Fail(w, r, err)
				return
			}
			next.ServeHTTP(w, r)
		})
	}, nil
}

func hold(router routers.Router, w http.ResponseWriter, r *http.Request) error {
	route, params, err := router.FindRoute(r)
	switch {
	case errors.Is(err, routers.ErrMethodNotAllowed):
		return &Problem{http.StatusMethodNotAllowed, "Method not allowed", r.Method + " is not for " + r.URL.Path, nil}
	case err != nil:
		return NotFound("there is no " + r.URL.Path + "; the interface is described in api/openapi.yaml")
	}
	kind, _, _ := strings.Cut(r.Header.Get("Content-Type"), ";")
	binary, text := kind == "application/octet-stream", kind == "text/csv"
	if !binary {
		r.Body = http.MaxBytesReader(w, r.Body, maxBody)
	}
	err = openapi3filter.ValidateRequest(r.Context(), &openapi3filter.RequestValidationInput{
		Request: r, PathParams: params, Route: route,
		Options: &openapi3filter.Options{
			MultiError: true, ExcludeRequestBody: binary || text,
			AuthenticationFunc: func(context.Context, *openapi3filter.AuthenticationInput) error { return nil }, // service/access does it
		},
	})
	if err == nil {
		return nil
	}
	p := &Problem{Status: http.StatusBadRequest, Title: "Bad request"}
	describe(p, err)
	details := make([]string, len(p.Fields))
	for i, f := range p.Fields {
		details[i] = withSubject(f.Name, f.Value, f.Detail)
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
