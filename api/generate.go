// Package contract holds the OpenAPI contract and generates the Go types,
// server interface and client from it.
package contract

import _ "embed"

//go:generate go tool oapi-codegen -config models.yaml openapi.yaml

// OpenAPI is the contract as served at /api/openapi.yaml.
//
//go:embed openapi.yaml
var OpenAPI []byte
