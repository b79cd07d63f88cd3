package httpapi

import (
	"fmt"
	"strings"

	"tovik.example/tovik/internal/access"
)

// AccessTable is every route with what has to be shown for it, as a table in Markdown.
func AccessTable() string {
	var table strings.Builder
	table.WriteString("| route | who asks shows | the key is about |\n|---|---|---|\n")
	for _, op := range Operations() {
		shows := op.Shows
		switch _, role := access.ParseRole(op.Shows); {
		case role:
			shows = "a key, `" + op.Shows + "`"
		case op.Shows == showsToken:
			shows = "a person's token"
		case op.Shows == showsSession:
			shows = "the key of the session"
		}
		reach := string(op.Reach)
		if reach == "" {
			reach = "–"
		}
		fmt.Fprintf(&table, "| `%s %s` | %s | %s |\n", op.Method, op.Path, shows, reach)
	}
	return table.String()
}
