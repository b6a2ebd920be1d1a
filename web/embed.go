// Package web has the console, as it was built into web/dist, for the service
// to serve. A build without the console has no index.html in it.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files returns the built console.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // only for a malformed path
	}
	return files
}
