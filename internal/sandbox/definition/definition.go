// Package definition is what the sandbox of an account is: what the agent writes and the supervisor
// of sandboxes follows. Pure.
package definition

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
)

const (
	// DefinitionDir holds a definition for each account, ACCOUNT.json.
	DefinitionDir = "/etc/victualler/sandboxes"
	// PHPDir holds a directory for each PHP, with its pool and settings.
	PHPDir = "/etc/victualler/php"
	// SocketDir holds the sockets on which PHP is asked.
	SocketDir = "/run/victualler/php"
	// Program is the supervisor, and Shell the name under which it is the login shell of accounts.
	Program = "/usr/local/sbin/victualler-sandbox"
	Shell   = "/usr/local/sbin/victualler-shell"
)

// FirstUID is the lowest number of an account's user: others have no sandbox.
const FirstUID = 1_000_000

// Sandbox is the sandbox of one account.
type Sandbox struct {
	// Account is the sign-in name, the group's name and that of the home below /home.
	Account string `json:"account"`
	UID     int    `json:"uid"`
	// Suspended keeps everything from running.
	Suspended bool `json:"suspended,omitempty"`
	// Shell lets people have a shell and run commands.
	Shell bool `json:"shell,omitempty"`
	// Processes, Memory (bytes) and CPU (percent of one processor) are limits; nil is unlimited.
	Processes *int64 `json:"processes,omitempty"`
	Memory    *int64 `json:"memory,omitempty"`
	CPU       *int64 `json:"cpu,omitempty"`
	// PHP lists what answers on a socket of its own.
	PHP []PHP `json:"php,omitempty"`
}

// PHP is one process manager of PHP.
type PHP struct {
	// Name is that of its directory below [PHPDir].
	Name string `json:"name"`
	// Socket is where it is asked ([SocketPath]).
	Socket string `json:"socket"`
	// Version is such as "8.2".
	Version string `json:"version"`
	// Digest identifies what is in its directory: with another one, it starts anew.
	Digest string `json:"digest"`
}

// Path is where the definition of an account lies.
func Path(account string) string { return filepath.Join(DefinitionDir, account+".json") }

// Home is the account's home.
func (d Sandbox) Home() string { return "/home/" + d.Account }

// SocketPath is where the PHP of a version is asked; empty is the one that follows the newest. It
// tells nobody's name, as the kernel shows the paths of sockets to everybody (proc(5), net/unix).
func SocketPath(uid int, version string) string {
	name := strconv.Itoa(uid)
	if version != "" {
		name += "-" + version
	}
	return filepath.Join(SocketDir, name+".sock")
}

// Dir is where its files are.
func (p PHP) Dir() string { return filepath.Join(PHPDir, p.Name) }

var (
	name    = regexp.MustCompile(`^[a-z][a-z0-9]*(-[0-9.]+)?$`)
	version = regexp.MustCompile(`^[0-9]+(\.[0-9]+)+$`)
)

// Check refuses a definition that must not be followed, as it names paths and users.
func (d Sandbox) Check() error {
	if !name.MatchString(d.Account) || strings.Contains(d.Account, "-") {
		return fmt.Errorf("%q is no name of an account", d.Account)
	}
	if d.UID < FirstUID {
		return fmt.Errorf("%s: %d is no user number of an account", d.Account, d.UID)
	}
	for _, limit := range []*int64{d.Processes, d.Memory, d.CPU} {
		if limit != nil && *limit <= 0 {
			return fmt.Errorf("%s: limits are above 0", d.Account)
		}
	}
	for _, p := range d.PHP {
		if base, _, _ := strings.Cut(p.Name, "-"); base != d.Account || !name.MatchString(p.Name) {
			return fmt.Errorf("%s: %q is no name for its PHP", d.Account, p.Name)
		}
		_, named, _ := strings.Cut(p.Name, "-")
		if p.Socket != SocketPath(d.UID, named) {
			return fmt.Errorf("%s: %q is no socket for its PHP", d.Account, p.Socket)
		}
		if !version.MatchString(p.Version) {
			return fmt.Errorf("%s: %q is no version of PHP", d.Account, p.Version)
		}
	}
	return nil
}

// Digest identifies the text of a definition.
func Digest(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:10])
}
