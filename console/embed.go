// Package console holds the web console, built by Vite into dist and part of
// the binary.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files is the built console; it lacks index.html where it was not built.
func Files() fs.FS {
	sub, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder is part of the binary
	}
	return sub
}
