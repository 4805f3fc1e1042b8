// Package console holds the built console, which the service serves.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files gives the built console; it has no index.html if it was not built.
func Files() (fs.FS, error) { return fs.Sub(dist, "dist") }
