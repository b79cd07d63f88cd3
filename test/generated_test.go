package test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAGeneratorMakesAClientThatCompiles gives the description of the HTTP API to a usual generator for Go, with its
// defaults, and compiles what it makes. That for TypeScript makes the types of web/client.
func TestAGeneratorMakesAClientThatCompiles(t *testing.T) {
	t.Parallel()
	root, err := filepath.Abs("..")
	require.NoError(t, err)
	goTool := func(args ...string) {
		cmd := exec.CommandContext(t.Context(), "go", args...)
		cmd.Dir = root
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	dir := t.TempDir()
	made, overlay := filepath.Join(dir, "client.go"), filepath.Join(dir, "overlay.json")
	goTool("tool", "-modfile=tools/go.mod", "oapi-codegen", "-generate", "types,client", "-package", "generated", "-o", made, "wire/openapi.json")
	text, err := json.Marshal(map[string]map[string]string{"Replace": {filepath.Join(root, "test/generated/client.go"): made}})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(overlay, text, 0o600))
	goTool("build", "-modfile=tools/go.mod", "-overlay", overlay, "./test/generated")
}
