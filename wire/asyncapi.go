package wire

import _ "embed"

// AsyncAPI describes the frames of links for machines (AsyncAPI 3.0, YAML).
//
//go:embed asyncapi.yaml
var AsyncAPI []byte
