// Package api is the HTTP interface as its specification tells it: the types,
// the client and the server's routes are generated from openapi.yaml.
package api

import _ "embed"

//go:generate go run github.com/oapi-codegen/oapi-codegen/v2/cmd/oapi-codegen@v2.8.2 --config codegen.yaml openapi.yaml
//go:generate go run ./rights

// Spec is the specification, an OpenAPI 3.0 document in YAML.
//
//go:embed openapi.yaml
var Spec []byte
