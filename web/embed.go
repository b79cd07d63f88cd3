// Package web holds what is built for browsers: the console, the client library and the documentation.
// `make web` builds them into console/dist, client/dist and docs/dist; a binary built without that
// has nothing to serve, and says so.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:console/dist all:client/dist all:docs/dist
var files embed.FS

// Console returns the files of the built console, with index.html at the root
// when it has been built.
func Console() fs.FS {
	return sub("console/dist")
}

// Client returns the files of the built client library: tovik.js and the others.
func Client() fs.FS { return sub("client/dist") }

// Docs returns the files of the documentation, with index.html at the root when it has been built.
func Docs() fs.FS { return sub("docs/dist") }

func sub(dir string) fs.FS {
	found, err := fs.Sub(files, dir)
	if err != nil {
		panic("web: " + dir + " is embedded: " + err.Error())
	}
	return found
}
