// Package web holds the built web console. `make web` builds it into
// console/dist; a binary built without that has no pages to serve, and says so.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:console/dist
var files embed.FS

// Console returns the files of the built console, with index.html at the root
// when it has been built.
func Console() fs.FS {
	console, err := fs.Sub(files, "console/dist")
	if err != nil {
		panic("web: console/dist is embedded: " + err.Error())
	}
	return console
}
