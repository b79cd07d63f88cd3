package presence_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestCoreIsAPureMachine reads the core's source: no import that could do I/O, no clock, no
// goroutine, no package-level state.
func TestCoreIsAPureMachine(t *testing.T) {
	harmless := map[string]bool{"cmp": true, "crypto/sha256": true, "crypto/subtle": true, "encoding/hex": true, "errors": true, "fmt": true, "hash/maphash": true, "iter": true, "maps": true, "math/bits": true,
		"slices": true, "strings": true, "time": true, "unicode": true, "unicode/utf8": true}
	asksAClock := map[string]bool{"Now": true, "Since": true, "Until": true, "After": true, "AfterFunc": true, "Sleep": true,
		"Tick": true, "NewTimer": true, "NewTicker": true}
	prints := map[string]bool{"Print": true, "Printf": true, "Println": true}
	names, err := filepath.Glob("*.go")
	require.NoError(t, err)
	files := token.NewFileSet()
	for _, name := range names {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		file, err := parser.ParseFile(files, name, nil, 0)
		require.NoError(t, err)
		for _, imported := range file.Imports {
			require.True(t, harmless[strings.Trim(imported.Path.Value, `"`)], "%s imports %s", name, imported.Path.Value)
		}
		for _, declared := range file.Decls {
			if d, ok := declared.(*ast.GenDecl); ok && d.Tok == token.VAR {
				require.Equal(t, "Codes", d.Specs[0].(*ast.ValueSpec).Names[0].Name, "%s: state outside a Core", name)
			}
		}
		ast.Inspect(file, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.GoStmt, *ast.SendStmt, *ast.ChanType, *ast.SelectStmt:
				t.Errorf("%s: a goroutine or a channel", files.Position(n.Pos()))
			case *ast.SelectorExpr:
				if from, ok := n.X.(*ast.Ident); ok {
					require.False(t, from.Name == "time" && asksAClock[n.Sel.Name], "%s: time.%s", files.Position(n.Pos()), n.Sel.Name)
					require.False(t, from.Name == "fmt" && prints[n.Sel.Name], "%s: fmt.%s", files.Position(n.Pos()), n.Sel.Name)
				}
			}
			return true
		})
	}
}
