package sites

import (
	"regexp"
	"strings"

	"victualler/internal/hosting/refusal"
)

// Folder is a protected folder of a site: visitors sign in with a name and a password (RFC 7617).
type Folder struct {
	// Path is below the document root, without slashes around it; empty is the whole site.
	Path string `json:"path"`
	// Title is what browsers show when they ask.
	Title string `json:"title"`
	// Users are who may come in.
	Users []FolderUser `json:"users"`
}

// FolderUser is somebody who may see a protected folder.
type FolderUser struct {
	Name string `json:"name"`
	// Hash is the password's bcrypt hash in the form of crypt(5).
	Hash string `json:"hash"`
}

// Bounds of a site: nginx keeps some 40 KB for each protected folder in each of its processes, for
// all sites of a server.
const (
	MostFolders     = 20
	MostFolderUsers = 200
)

var (
	folderUser  = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._@-]{0,63}$`)
	folderTitle = regexp.MustCompile(`^[A-Za-z0-9 .,!?()'&/+-]{1,80}$`)
	bcryptHash  = regexp.MustCompile(`^\$2[aby]\$\d\d\$[./A-Za-z0-9]{53}$`)
)

// CheckFolderUser refuses names that a password file could not hold
// (RFC 7617, section 2: no colon).
func CheckFolderUser(name string) error {
	if !folderUser.MatchString(name) {
		return refusal.Input("name", "%q cannot be a visitor's name: up to 64 letters, digits, dots, hyphens, "+
			"underscores and @", name)
	}
	return nil
}

// Check refuses a folder that must not reach a server's files.
func (f Folder) Check() error {
	if f.Path != "" {
		if err := CheckPath(f.Path); err != nil {
			return refusal.Input("path", "%s", err)
		}
		if strings.HasSuffix(f.Path, ".php") {
			return refusal.Input("path", "%s is a script's name; a folder is protected, not a file", f.Path)
		}
	}
	if !folderTitle.MatchString(f.Title) || strings.TrimSpace(f.Title) != f.Title {
		return refusal.Input("title", "a title has up to 80 letters of ASCII, digits, blanks and plain signs; "+
			"browsers show it when they ask")
	}
	for _, u := range f.Users {
		if err := CheckFolderUser(u.Name); err != nil {
			return err
		}
		if !bcryptHash.MatchString(u.Hash) {
			return refusal.Input("hash", "the hash of %s is no bcrypt hash", u.Name)
		}
	}
	return nil
}
