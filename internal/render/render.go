// Package render turns manifests into the files that programs read. It is
// pure: the same manifest and server give the same bytes, and nothing is read or written.
package render

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"net/netip"
	"strings"

	"victualler/internal/manifest"
)

// File is one configuration file.
type File struct {
	// Path is absolute.
	Path string
	Mode fs.FileMode
	// Group may read the file as the mode says; empty is root's.
	Group   string
	Content string
	// Secret content is shown in no preview and in no report.
	Secret bool
}

// Server is what rendering needs to know about the server it renders for.
type Server struct {
	// Addresses are the server's own; checks from outside come from them.
	Addresses []netip.Addr
	// PHP lists the versions of PHP that it has, newest first.
	PHP []string
}

// heading says, in a comment of the given style, whose file it is.
func heading(comment string, m manifest.Manifest) string {
	return fmt.Sprintf("%s Account %s. Written by victualler-agent from the account's manifest:\n%s a change made "+
		"here is reported as drift and put right by a repair.\n",
		comment, m.SignInName, comment)
}

// fingerprint identifies a rendered text; a program that answers with it has
// loaded just that text.
func fingerprint(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:10])
}

// withFingerprint puts the fingerprint of the text, with the mark still in it,
// in the place of the mark.
func withFingerprint(text string) string {
	return strings.ReplaceAll(text, fingerprintMark, fingerprint(text))
}

const fingerprintMark = "@fingerprint@"
