// Package api is what is generated from openapi.yaml, the one description of the
// HTTP interface: the records and the server interface. Package client beside it
// is the generated client.
package api

import (
	_ "embed"
	"sync"

	"github.com/goccy/go-yaml"
)

//go:generate go tool oapi-codegen -config server.cfg.yaml openapi.yaml
//go:generate go tool oapi-codegen -config client.cfg.yaml openapi.yaml

//go:embed openapi.yaml
var written []byte

// Written is the contract as JSON, in the order in which it is written: what is asked first in a form, and read
// first in the reference, is what stands first.
var Written = sync.OnceValues(func() ([]byte, error) { return yaml.YAMLToJSON(written) })
