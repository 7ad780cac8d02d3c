// Package contract is generated from openapi.yaml: its types, the interface
// that the service implements, and the client that plumb uses.
package contract

//go:generate go tool oapi-codegen -config config.yaml ../openapi.yaml
