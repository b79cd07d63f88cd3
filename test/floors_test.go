// Package test tests Tovik as a whole: its structure, its binary, and its pages in a browser.
package test

import (
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const module = "tovik.example/tovik/"

// floors are the packages of the house, from top to bottom. A package imports only lower floors.
var floors = []string{
	"cmd/tovik",
	"internal/cli",
	"internal/conform",
	"internal/demo",
	"internal/rehearsal",
	"internal/rehearsal/nodes",
	"internal/server",
	"internal/httpapi",
	"internal/gateway",
	"internal/transport",
	"internal/transport/transporttest",
	"internal/realm",
	"internal/cluster/peers",
	"internal/cluster/clustertest",
	"internal/cluster/local",
	"internal/cluster/broker",
	"internal/cluster/inmemory",
	"internal/cluster/stored",
	"internal/cluster/coding",
	"internal/cluster",
	"internal/pace",
	"internal/admission",
	"internal/hooks",
	"internal/delivery",
	"internal/access",
	"internal/problem",
	"internal/records",
	"internal/timing",
	"internal/headcount",
	"internal/journal",
	"internal/engine/enginetest",
	"internal/engine",
	"internal/config",
	"internal/strictjson",
	"internal/agenda",
	"internal/phrase",
	"internal/deflate",
	"internal/presence",
}

// beside are packages without a floor. They import only each other.
var beside = []string{"wire", "client", "web"}

// outside are packages for building and testing.
var outside = []string{"test", "test/chrome", "test/conform/follower", "test/shots", "test/mutants", "bench", "bench/cluster", "bench/console", "bench/core", "bench/load"}

func TestNoPackageImportsAHigherFloor(t *testing.T) {
	imports := packageImports(t, ".Imports", ".TestImports")
	for pkg, list := range imports {
		if slices.Contains(outside, pkg) {
			continue
		}
		level := slices.Index(floors, pkg)
		require.True(t, level >= 0 || slices.Contains(beside, pkg), "%s has no place in the house", pkg)
		for _, imported := range list {
			switch {
			case slices.Contains(beside, imported):
				require.NotEqual(t, "internal/presence", pkg, "the core imports %s", imported)
			case level < 0:
				t.Errorf("%s stands beside the house, but imports %s", pkg, imported)
			case slices.Index(floors, imported) <= level:
				t.Errorf("%s imports %s, which does not stand below it", pkg, imported)
			}
		}
	}
	for _, pkg := range floors {
		require.Contains(t, imports, pkg, "a floor without its package")
	}
}

// TestTheDoorsHoldNothingBehindTheUseCases checks that gateway and httpapi reach core, delivery
// and records through package realm only.
func TestTheDoorsHoldNothingBehindTheUseCases(t *testing.T) {
	imports := packageImports(t, ".Imports")
	for _, door := range []string{"internal/gateway", "internal/httpapi"} {
		for _, behind := range []string{"internal/engine", "internal/delivery", "internal/records"} {
			require.NotContains(t, imports[door], behind, door)
		}
		require.Contains(t, imports[door], "internal/realm")
	}
}

func TestCoreImportsTheStandardLibraryOnly(t *testing.T) {
	for _, pkg := range []string{"internal/presence", "wire"} {
		out, err := exec.Command("go", "list", "-deps", "-f", "{{if not .Standard}}{{.ImportPath}}{{end}}", module+pkg).Output()
		require.NoError(t, err)
		require.Equal(t, []string{module + pkg}, strings.Fields(string(out)))
	}
}

// packageImports returns the imports of each package within the module, from these fields of go
// list.
func packageImports(t *testing.T, fields ...string) map[string][]string {
	t.Helper()
	format := "{{.ImportPath}}"
	for _, field := range fields {
		format += " {{join " + field + ` " "}}`
	}
	out, err := exec.Command("go", "list", "-f", format, module+"...").Output()
	require.NoError(t, err)
	imports := map[string][]string{}
	for line := range strings.Lines(string(out)) {
		words := strings.Fields(line)
		pkg := strings.TrimPrefix(words[0], module)
		imports[pkg] = nil
		for _, imported := range words[1:] {
			if name, ours := strings.CutPrefix(imported, module); ours {
				imports[pkg] = append(imports[pkg], name)
			}
		}
	}
	return imports
}
