// Package kits has the kits that ship with the program, each a directory in the layout of
// docs/kits.md.
package kits

import (
	"embed"
	"io/fs"
)

//go:embed placeholder static guestbook notes
var shipped embed.FS

// Names are the shipped kits.
var Names = []string{"placeholder", "static", "guestbook", "notes"}

// Directory is that of a shipped kit.
func Directory(name string) (fs.FS, error) { return fs.Sub(shipped, name) }
