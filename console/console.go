// Package console embeds the built console (make console).
package console

import (
	"embed"
	"io/fs"
)

// dist holds the build in its directory app; before a build it is all but empty.
//
//go:embed all:dist
var dist embed.FS

// Files returns the console's files, or nil where it has not been built.
func Files() fs.FS {
	if _, err := fs.Stat(dist, "dist/app/index.html"); err != nil {
		return nil
	}
	files, err := fs.Sub(dist, "dist/app")
	if err != nil {
		return nil
	}
	return files
}
