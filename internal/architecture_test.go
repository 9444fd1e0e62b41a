// Package internal holds nothing but this test of what may import what.
package internal

import (
	"bytes"
	"encoding/json"
	"io"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rooms lists, for each room, the rooms of ours it may import. A room stands
// for the packages below it too. docs/architecture.md explains them.
var rooms = map[string][]string{
	"internal/hosting":   {"internal/hosting"},
	"internal/manifest":  {"internal/hosting"},
	"internal/render":    {"internal/manifest", "internal/hosting"},
	"internal/version":   {},
	"internal/seal":      {},
	"internal/passwords": {},
	"internal/pkcs12":    {},
	"internal/post":      {},
	"internal/qr":        {},
	"internal/resolve":   {},
	"internal/acme":      {"internal/hosting", "internal/version"},
	"internal/standins":  {"internal/resolve"},
	"internal/api":       {"internal/hosting"},
	"internal/agentlink": {"internal/manifest", "internal/hosting"},
	"internal/agent": {"internal/agent", "internal/agentlink", "internal/render", "internal/manifest",
		"internal/hosting", "internal/version"},
	"internal/store": {"internal/store"},
	"internal/service": {"internal/store", "internal/agentlink", "internal/manifest", "internal/hosting",
		"internal/api", "internal/seal", "internal/passwords", "internal/pkcs12", "internal/post", "internal/qr",
		"internal/resolve", "internal/acme"},
	"internal/jobs":    {"internal/service", "internal/store"},
	"internal/httpapi": {"internal/service", "internal/api", "internal/hosting", "internal/version"},
	"internal/client":  {"internal/api", "internal/version"},
	"internal/lab":     {},
	"internal/lab/installation": {"internal/lab", "internal/client", "internal/api", "internal/standins",
		"internal/resolve"},
	"internal/lab/labtest": {"internal/lab"},
	"console":              {},
	"demo":                 {"internal/client", "internal/api", "internal/hosting"},
	"bench":                {"internal/lab", "internal/client", "internal/api", "internal/hosting"},
	"e2e":                  {},
	"cmd/victualler":       {"internal/client", "internal/api", "internal/hosting"},
	"cmd/victuallerd": {"console", "internal/httpapi", "internal/jobs", "internal/pkcs12", "internal/service",
		"internal/store", "internal/seal", "internal/version"},
	"cmd/victualler-agent": {"internal/agent", "internal/agentlink", "internal/render", "internal/version"},
	"cmd/victualler-lab":   {"internal/lab", "internal/standins", "demo"},
}

// The rooms that only decide may use the standard library's pure parts and golang.org/x.
var pure = map[string]bool{"internal/hosting": true, "internal/manifest": true}

var impure = []string{"net/http", "os", "os/exec", "database/sql", "log", "log/slog"}

func TestImports(t *testing.T) {
	cmd := exec.Command("go", "list", "-json=ImportPath,Imports", "./...")
	cmd.Dir = ".."
	out, err := cmd.Output()
	require.NoError(t, err)
	packages := 0
	for decoder := json.NewDecoder(bytes.NewReader(out)); ; packages++ {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := decoder.Decode(&p); err == io.EOF {
			break
		} else {
			require.NoError(t, err)
		}
		path := strings.TrimPrefix(p.ImportPath, "victualler/")
		if path == "internal" {
			continue
		}
		room := roomOf(path)
		if !assert.NotEmpty(t, room, "%s is in no room: add it to the table and to docs/architecture.md", path) {
			continue
		}
		for _, imported := range p.Imports {
			ours, is := strings.CutPrefix(imported, "victualler/")
			if is {
				assert.True(t, within(ours, append(rooms[room], room)), "%s must not import %s", path, ours)
			} else if pure[room] {
				assert.True(t, !strings.Contains(imported, ".") || strings.HasPrefix(imported, "golang.org/x/"),
					"%s must not import %s", path, imported)
				assert.NotContains(t, impure, imported, "%s does nothing but decide", path)
			}
		}
	}
	assert.Greater(t, packages, 20)
}

func roomOf(path string) string {
	found := ""
	for room := range rooms {
		if (path == room || strings.HasPrefix(path, room+"/")) && len(room) > len(found) {
			found = room
		}
	}
	return found
}

func within(path string, allowed []string) bool {
	for _, room := range allowed {
		if path == room || strings.HasPrefix(path, room+"/") {
			return true
		}
	}
	return false
}
