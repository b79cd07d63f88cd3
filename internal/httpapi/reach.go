package httpapi

import (
	"fmt"
	"strings"

	"tovik.example/tovik/internal/access"
)

// AccessTable returns a Markdown table of all routes, with the credential that each needs.
func AccessTable() string {
	var table strings.Builder
	table.WriteString("| route | needs | the key must cover |\n|---|---|---|\n")
	for _, op := range Operations() {
		shows := op.Shows
		switch _, role := access.ParseRole(op.Shows); {
		case role:
			shows = "a key, `" + op.Shows + "`"
		case op.Shows == showsToken:
			shows = "a person's token"
		case op.Shows == showsSession:
			shows = "the session's resume key"
		}
		reach := string(op.Reach)
		if reach == "" {
			reach = "–"
		}
		fmt.Fprintf(&table, "| `%s %s` | %s | %s |\n", op.Method, op.Path, shows, reach)
	}
	return table.String()
}
