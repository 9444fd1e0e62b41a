// Package internal holds nothing but this test of what may import what.
package internal

import (
	"bytes"
	"encoding/json"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rooms lists, for each room, the rooms of ours it may import. A room stands
// for the packages below it too. docs/architecture.md explains them.
var rooms = map[string][]string{
	"internal/hosting":  {"internal/hosting"},
	"internal/manifest": {"internal/hosting"},
	"internal/render": {"internal/manifest", "internal/hosting", "internal/sandbox/definition",
		"internal/mailflow/definition"},
	"internal/mailflow":            {"internal/mailflow", "internal/manifest", "internal/hosting"},
	"internal/mailflow/definition": {"internal/hosting"},
	"internal/mailflow/submit":     {},
	"internal/procfs":              {},
	"internal/sandbox": {"internal/sandbox", "internal/procfs", "internal/mailflow/submit",
		"internal/version"},
	// What a definition says is pure; how groups, namespaces and the supervisor do it are rooms of
	// their own.
	"internal/sandbox/definition": {},
	"internal/sandbox/cgroup":     {},
	"internal/sandbox/confine":    {"internal/mailflow/submit"},
	"internal/version":            {},
	"internal/seal":               {},
	"internal/passwords":          {},
	"internal/pkcs12":             {},
	"internal/post":               {},
	"internal/qr":                 {},
	"internal/resolve":            {},
	"internal/acme":               {"internal/hosting", "internal/version"},
	"internal/standins":           {"internal/resolve"},
	"internal/api":                {"internal/hosting"},
	"internal/agentlink":          {"internal/manifest", "internal/hosting"},
	"internal/agent": {"internal/agent", "internal/agentlink", "internal/render", "internal/manifest",
		"internal/hosting", "internal/procfs", "internal/sandbox", "internal/mailflow/definition",
		"internal/version"},
	"internal/store":   {"internal/store"},
	"internal/service": {"internal/service", "internal/store", "internal/resolve", "internal/seal"},
	"internal/service/usecase": {"internal/store", "internal/hosting", "internal/api", "internal/agentlink",
		"internal/manifest", "internal/resolve", "internal/seal"},
	"internal/service/entitlement": {"internal/store", "internal/hosting", "internal/api",
		"internal/service/usecase"},
	"internal/service/notify": {"internal/store", "internal/hosting", "internal/api", "internal/post",
		"internal/service/usecase"},
	"internal/service/rollout": {"internal/store", "internal/hosting", "internal/api", "internal/agentlink",
		"internal/manifest", "internal/service/usecase", "internal/service/entitlement"},
	"internal/service/dns": {"internal/store", "internal/hosting", "internal/api", "internal/manifest",
		"internal/resolve", "internal/service/usecase", "internal/service/entitlement", "internal/service/rollout"},
	"internal/service/domains": {"internal/store", "internal/hosting", "internal/api", "internal/agentlink",
		"internal/manifest",
		"internal/service/usecase", "internal/service/entitlement", "internal/service/rollout", "internal/service/dns"},
	"internal/service/people": {"internal/store", "internal/hosting", "internal/api", "internal/passwords",
		"internal/qr", "internal/service/usecase", "internal/service/entitlement", "internal/service/notify"},
	"internal/service/certs": {"internal/store", "internal/hosting", "internal/api", "internal/acme",
		"internal/agentlink", "internal/manifest", "internal/passwords", "internal/pkcs12",
		"internal/resolve",
		"internal/service/usecase", "internal/service/entitlement", "internal/service/notify",
		"internal/service/rollout", "internal/service/dns", "internal/service/domains", "internal/service/people"},
	"internal/service/selling": {"internal/store", "internal/hosting", "internal/api", "internal/manifest",
		"internal/service/usecase",
		"internal/service/entitlement", "internal/service/rollout",
		"internal/service/domains"},
	"internal/service/fleet": {"internal/store", "internal/hosting", "internal/api", "internal/agentlink",
		"internal/service/usecase", "internal/service/rollout", "internal/service/dns"},
	"internal/service/logins": {"internal/store", "internal/hosting", "internal/api", "internal/manifest",
		"internal/service/usecase",
		"internal/service/entitlement", "internal/service/rollout",
		"internal/service/people"},
	"internal/service/databases": {"internal/store", "internal/hosting", "internal/api", "internal/agentlink",
		"internal/manifest", "internal/service/usecase", "internal/service/entitlement",
		"internal/service/notify", "internal/service/rollout", "internal/service/people"},
	"internal/service/kits": {"internal/store", "internal/hosting", "internal/api", "internal/agentlink",
		"internal/passwords", "internal/service/usecase", "internal/service/entitlement", "internal/service/rollout",
		"internal/service/domains", "internal/service/databases"},
	"internal/service/mail": {"internal/store", "internal/hosting", "internal/api", "internal/agentlink",
		"internal/manifest", "internal/passwords", "internal/service/notify", "internal/service/usecase",
		"internal/service/entitlement", "internal/service/rollout",
		"internal/service/certs", "internal/service/dns", "internal/service/people"},
	"internal/service/settings": {"internal/store", "internal/hosting", "internal/api",
		"internal/service/usecase", "internal/service/notify", "internal/service/rollout", "internal/service/dns"},
	"internal/service/overview": {"internal/store", "internal/hosting", "internal/api",
		"internal/service/usecase", "internal/service/fleet"},
	"internal/service/accounts": {"internal/store", "internal/hosting", "internal/api", "internal/manifest",
		"internal/service/usecase", "internal/service/entitlement", "internal/service/notify",
		"internal/service/rollout", "internal/service/dns", "internal/service/domains", "internal/service/people",
		"internal/service/selling", "internal/service/fleet", "internal/service/kits"},
	"internal/service/servicetest": {"internal/service", "internal/store", "internal/agentlink", "internal/manifest",
		"internal/hosting", "internal/api", "internal/seal"},
	"internal/jobs":    {"internal/service", "internal/store"},
	"internal/httpapi": {"internal/service", "internal/api", "internal/hosting", "internal/version"},
	"internal/client":  {"internal/api", "internal/version"},
	"internal/lab":     {"internal/procfs", "internal/sandbox/cgroup"},
	"internal/lab/installation": {"internal/lab", "internal/client", "internal/api", "internal/standins",
		"internal/resolve"},
	"internal/lab/labtest": {"internal/lab"},
	"console":              {},
	"demo":                 {"internal/client", "internal/api", "internal/hosting", "kits"},
	"bench": {"kits", "internal/lab", "internal/client", "internal/api", "internal/hosting",
		"internal/mailflow"},
	"e2e": {"demo", "internal/lab", "internal/standins", "internal/client", "internal/api",
		"internal/hosting"},
	"kits":           {"internal/hosting"},
	"cmd/victualler": {"internal/client", "internal/api", "internal/hosting", "internal/version"},
	"cmd/victuallerd": {"console", "internal/httpapi", "internal/jobs", "internal/pkcs12", "internal/service",
		"internal/store", "internal/seal", "internal/version"},
	"cmd/victualler-agent":   {"internal/agent", "internal/agentlink", "internal/render", "internal/version"},
	"cmd/victualler-mail":    {"internal/mailflow", "internal/version"},
	"cmd/victualler-sandbox": {"internal/sandbox", "internal/mailflow/submit", "internal/version"},
	"cmd/victualler-lab":     {"internal/lab", "internal/standins", "demo"},
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

// TestLocks holds row locks to one file, where their order stands.
func TestLocks(t *testing.T) {
	lock := regexp.MustCompile(`\btx\.(Lock\w+|\w+For(Key)?Share)\(`)
	found := 0
	require.NoError(t, filepath.WalkDir("service", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") {
			return err
		}
		text, err := os.ReadFile(path)
		if path == filepath.Join("service", "usecase", "locks.go") {
			found = len(lock.FindAll(text, -1))
			return err
		}
		assert.Empty(t, lock.FindAllString(string(text), -1), "%s: row locks stand in usecase/locks.go", path)
		return err
	}))
	assert.Greater(t, found, 10)
}

// TestNothingRegistersItself holds tables to one visible list each:
// parts, routes, commands, drivers.
func TestNothingRegistersItself(t *testing.T) {
	registers := regexp.MustCompile(`(?s)func init\(\) \{.{0,200}append\(`)
	for _, dir := range []string{".", "../cmd"} {
		require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			text, err := os.ReadFile(path)
			assert.False(t, registers.Match(text), "%s registers something in init(); add it to its list", path)
			return err
		}))
	}
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
