// Package console holds the built console, to be served by the service.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files returns the built console; without `make build` it holds no page.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the embedded directory is named above
	}
	return files
}
