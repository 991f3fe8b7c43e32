// Package api is what is generated from openapi.yaml, the one description of the
// HTTP interface: the records and the server interface. Package client beside it
// is the generated client.
package api

//go:generate go tool oapi-codegen -config server.cfg.yaml openapi.yaml
//go:generate go tool oapi-codegen -config client.cfg.yaml openapi.yaml
