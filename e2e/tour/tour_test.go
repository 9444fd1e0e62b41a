// Package tour does on the demo what docs/tour.md shows.
package tour

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/lab/labtest"
)

func TestMain(m *testing.M) {
	e2e.Demo = true
	e2e.Main(m)
}

// line is a line of the client in the tour.
var line = regexp.MustCompile(`(?m)^    victualler (.+)$`)

var comment = regexp.MustCompile(` +#.*$`)

// asked are lines that somebody has to be there for, that go on until they are ended, or that are
// of another installation: the client's own tests are for these.
var asked = []string{"session start", "server join", "password change", "factor add", "site log", "operation watch",
	"folder ", "reseller add"}

// ends are lines that end otherwise than well, with what they say.
var ends = map[string]struct {
	code int
	says string
}{
	"certificate rehearse ternislandsurf.example": {1, "would fail"},
	"certificate order lighthousetrust.example": {1,
		"wait until resolvers have forgotten the old ones"},
	"certificate install slipway.example bought.p12": {2, "neither a certificate nor PKCS #7"},
	"domain prove lampfest.example": {1,
		"nothing shows yet that lampfest.example is yours"},
	"zone check ternislandsurf.example":                            {1, ""},
	"zone import slipway-boatyard.example --from ns1.oldhost.test": {2, "no address"},
	"brand change guillemot --name-servers ns1.guillemot-studio.example,ns2.guillemot-studio.example --preview": {3,
		"--accept-unresolved: the zones name these servers at once"},
}

// files are what the lines read.
var files = map[string]string{
	"notes.txt":     "pays late, but always\n",
	"new.csv":       "domain,customer,new_customer\nropewalk.example,Rope Walk,yes\nsmokehouse.example,Rope Walk,\n",
	"people.csv":    "id,name,joined\n5001,Ada Tern,2026-01-02\n",
	"old.zone":      "$ORIGIN slipway-boatyard.example.\nmail 3600 IN A 192.0.2.9\n",
	"bought.p12":    "this was not bought\n",
	"yard.pub":      "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ5gVgbGdnjE0UQ4LQ0x9w7Pp5Xc0mZb9hG8nq2b7R0d yard\n",
	"guillemot.svg": `<svg xmlns="http://www.w3.org/2000/svg" width="10" height="10"><path d="M0 0h10v10z"/></svg>`,
}

// What the tour shows is what happens, on a fresh demo, line by line.
func TestTour(t *testing.T) {
	i := e2e.Shared(t)
	text, err := os.ReadFile("../../docs/tour.md")
	require.NoError(t, err)
	dir := t.TempDir()
	for name, content := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content), 0o600))
	}
	e2e.Write(t, api.Account{Server: "skua", SignInName: "coop"}, "tmp/people.sql", "INSERT INTO members VALUES (1);")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "root.pem"), []byte(i.Authority.Root()), 0o600))
	client := labtest.Program(t, "victualler")
	session := e2e.SessionOf(t, i.Operator, i.Password)
	lines := line.FindAllStringSubmatch(string(text), -1)
	require.Greater(t, len(lines), 90)
	for _, m := range lines {
		command := strings.TrimSpace(comment.ReplaceAllString(m[1], ""))
		if slices.ContainsFunc(asked, func(begin string) bool { return strings.HasPrefix(command, begin) }) {
			continue
		}
		t.Run(command, func(t *testing.T) {
			here := strings.NewReplacer("~/.ssh/", "", "https://10.77.0.1:14443/directory", i.Authority.Directory())
			words := strings.SplitN(here.Replace(command), " ", 3)
			help, _ := exec.Command(client, "help", words[0], words[min(1, len(words)-1)]).Output()
			if strings.Contains(string(help), "--yes ") {
				words[1] += " --yes" // nobody is there to answer
			}
			cmd := exec.Command("bash", "-c", `"$CLIENT" `+strings.Join(words, " "))
			cmd.Dir = dir
			cmd.Env = append(os.Environ(), "VICTUALLER_SESSION="+session, "CLIENT="+client)
			out, _ := cmd.CombinedOutput()
			t.Logf("%s", out)
			expected := ends[command]
			assert.Equal(t, expected.code, cmd.ProcessState.ExitCode(), "%s", out)
			assert.Contains(t, string(out), expected.says)
		})
	}
}
