package wire

import _ "embed"

// OpenAPI describes the HTTP API for machines (OpenAPI 3.1, JSON). It is made from the
// routes by: go test ./internal/server -run TestOpenAPI -write
//
//go:embed openapi.json
var OpenAPI []byte
