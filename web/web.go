// Package web holds the built web console. It is empty, but for a mark that
// keeps its directory, until the web part is built.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var files embed.FS

// Console returns the files of the console.
func Console() fs.FS {
	dist, err := fs.Sub(files, "dist")
	if err != nil {
		panic(err) // the directory is part of the program
	}
	return dist
}
