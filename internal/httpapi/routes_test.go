package httpapi

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestEveryRouteIsDescribed compares the router with the table of routes. Only the console's
// pages and files may be missing from the table.
func TestEveryRouteIsDescribed(t *testing.T) {
	described := map[string]bool{}
	for _, op := range Operations() {
		route := op.Method + " " + strings.NewReplacer("{", ":", "}", "").Replace(op.Path)
		require.False(t, described[route], route)
		described[route] = true
	}
	for _, route := range new(API).App().GetRoutes(true) {
		isPage := slices.Contains(append(consolePages, "/assets*"), route.Path) || strings.HasPrefix(route.Path, "/client/")
		if route.Method == "GET" && isPage || route.Method == "HEAD" || strings.HasPrefix(route.Path, "/assets") || strings.HasPrefix(route.Path, "/docs") {
			continue
		}
		name := route.Method + " " + route.Path
		require.Contains(t, described, name, "a route that nothing describes")
		delete(described, name)
	}
	require.Empty(t, described, "described, but not there")
}
