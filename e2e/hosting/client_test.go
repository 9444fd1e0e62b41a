package hosting

import (
	"bytes"
	"context"
	"encoding/base32"
	"image"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/totp"
	"victualler/internal/lab/labtest"
)

func TestClientForPeople(t *testing.T) {
	e2e.Shared(t)
	sink := e2e.Mailing(t)
	e2e.Does(t, "reseller", "add", "dunlin", "--title", "Dunlin Web", "--limits", "disk=1G,domains=5,php_workers=3",
		"--features", "mail")
	e2e.Does(t, "customer", "add", "Dunlin's first", "--reseller", "dunlin", "--email", "first@dunlin.example")

	t.Run("added, listed, shown", func(t *testing.T) {
		out := e2e.Does(t, "person", "add", "dunlin-boss", "--reseller", "dunlin", "--email", "boss@dunlin.example",
			"--activation", "link", "--preview")
		assert.Contains(t, out, "let dunlin-boss sign in as reseller")
		assert.Contains(t, e2e.Refuses(t, 1, "person", "show", "dunlin-boss"), "there is no person",
			"a preview adds nobody")
		assert.Empty(t, sink.To("boss@dunlin.example"), "and mails nothing")
		out = e2e.Does(t, "person", "add", "dunlin-boss", "--reseller", "dunlin", "--email", "boss@dunlin.example",
			"--language", "de", "--activation", "link")
		assert.Regexp(t, `(?s)person\sdunlin-boss\s+role\sreseller\s+of\sdunlin\s+email\sboss@dunlin.example.*last seen\snever`, out)
		assert.Contains(t, e2e.Mailed(t, sink, "boss@dunlin.example").Text, "/link#")
		stdout, stderr, exit := e2e.CommandWith(t, e2e.OperatorSession(t), e2e.Password+"\n", "person", "add",
			"dunlin-first",
			"--customer", "Dunlin's first", "--activation", "password", "--password-stdin", "--read-only", "--networks",
			"127.0.0.0/8")
		require.Equal(t, 0, exit, stderr)
		assert.Regexp(t, `(?s)dunlin-first\s+role\scustomer\s+of\sDunlin's first \(of dunlin\)\s.*look only\syes`, stdout)
		out = e2e.Does(t, "person", "list", "--reseller", "dunlin")
		assert.Regexp(t, `(?s)dunlin-boss\t.*dunlin-first\t`, out)
		assert.NotContains(t, out, e2e.Inst.Operator+"\t")
		assert.NotContains(t, e2e.Does(t, "person", "list", "--reseller", "dunlin", "--role", "customer"),
			"dunlin-boss")
		out = e2e.Does(t, "person", "show", "dunlin-first")
		for _, want := range []string{`role\s+customer`, `of\s+Dunlin's first \(of dunlin\)`, `look only\s+yes`,
			`password set\s+yes`, `second factor\s+no`, `networks\s+127\.0\.0\.0/8`, `language\s+en`} {
			assert.Regexp(t, want, out)
		}
		assert.NotContains(t, out, "has to change the password")
	})
	t.Run("what cannot be is said", func(t *testing.T) {
		for says, args := range map[string][]string{ // of these, some fail, some are wrong use
			`the sign-in name "dunlin-boss" is in use`: {"person", "add", "dunlin-boss"},
			"lower-case letters, digits":               {"person", "add", "Dun Lin"},
			"only operators have duties": {"person", "add", "dunlin-two", "--reseller", "dunlin",
				"--duty", "billing"},
			"where should the link be mailed to": {"person", "add", "dunlin-two", "--reseller", "dunlin",
				"--activation", "link"},
			"neither an address nor a network": {"person", "change", "dunlin-boss", "--networks", "everywhere"},
			"you would lock yourself out": {"person", "change", e2e.Inst.Operator, "--networks",
				"192.0.2.0/24"},
			"you cannot take the right to change": {"person", "change", e2e.Inst.Operator, "--read-only", "yes"},
			"the last operator with all duties":   {"person", "change", e2e.Inst.Operator, "--duty", "support"},
			"you cannot remove yourself":          {"person", "remove", e2e.Inst.Operator, "--yes"},
			"of no use to you":                    {"person", "link", e2e.Inst.Operator, "--purpose", "sign-in"},
		} {
			_, stderr, exit := e2e.Command(t, args...)
			assert.NotZero(t, exit, args)
			assert.Contains(t, stderr, says)
		}
		assert.Contains(t, e2e.Refuses(t, 2, "person", "change", "dunlin-boss", "--read-only", "perhaps"),
			"takes yes or no")
		assert.Contains(t, e2e.Refuses(t, 2, "person", "link", "dunlin-boss"), "--purpose is needed")
		assert.Contains(t, e2e.Refuses(t, 2, "person", "password", "dunlin-boss"), "use --password-stdin")
	})
	t.Run("changed, and emptied", func(t *testing.T) {
		e2e.Does(t, "person", "change", "dunlin-first", "--read-only", "no", "--networks", "-", "--email",
			"first@dunlin.example", "--language", "de")
		out := e2e.Does(t, "person", "show", "dunlin-first")
		assert.Regexp(t, `email\s+first@dunlin.example`, out)
		assert.NotContains(t, out, "look only")
		assert.NotContains(t, out, "networks")
	})
	t.Run("a link to sign in, once", func(t *testing.T) {
		link := regexp.MustCompile(`http\S+/link#\S+`).FindString(e2e.Does(t, "person", "link", "dunlin-first",
			"--purpose", "sign-in"))
		require.NotEmpty(t, link)
		session := filepath.Join(t.TempDir(), "session.json")
		_, stderr, exit := e2e.CommandWith(t, session, "", "session", "start", e2e.Inst.Address(), "--link", link)
		require.Equal(t, 0, exit, stderr)
		stdout, _, _ := e2e.CommandWith(t, session, "", "session", "show")
		assert.Contains(t, stdout, "dunlin-first")
		_, stderr, exit = e2e.CommandWith(t, session, "", "session", "start", e2e.Inst.Address(), "--link", link)
		assert.Equal(t, 1, exit)
		assert.Contains(t, stderr, "used already")
		assert.Contains(t, e2e.Does(t, "person", "link", "dunlin-first", "--purpose", "password", "--mail"),
			"on its way to first@dunlin.example")
		e2e.Does(t, "person", "sign-out", "dunlin-first")
		_, stderr, exit = e2e.CommandWith(t, session, "", "session", "list")
		assert.Equal(t, 3, exit)
		assert.Contains(t, stderr, "the session has ended")
	})
	t.Run("one's own password", func(t *testing.T) {
		session := e2e.SessionOf(t, "dunlin-first", e2e.Password)
		_, stderr, exit := e2e.CommandWith(t, session, e2e.Password+"\ntern-ferry-lantern-gale-9\n", "password",
			"change", "--password-stdin")
		require.Equal(t, 0, exit, stderr)
		_, stderr, exit = e2e.CommandWith(t, session, e2e.Password+"\nanother-tern-lantern-gale-9\n", "password",
			"change", "--password-stdin")
		assert.Equal(t, 1, exit)
		assert.Contains(t, stderr, "nicht Ihr jetziges Passwort", "the person reads German")
		_, stderr, exit = e2e.CommandWith(t, session, e2e.Password+"\n", "password", "change", "--password-stdin")
		assert.Equal(t, 2, exit)
		assert.Contains(t, stderr, "two lines")
		stdout, stderr, exit := e2e.CommandWith(t, session, "tern-ferry-lantern-gale-9\n", "password", "change",
			"--password-stdin", "--generate", "--length", "24", "--characters", "large,digits,signs")
		require.Equal(t, 0, exit, stderr)
		made := regexp.MustCompile(`your new password: (\S{24})\n`).FindStringSubmatch(stdout)
		require.NotNil(t, made, stdout)
		assert.NotRegexp(t, `[a-z]`, made[1])
		_, stderr, exit = e2e.CommandWith(t, session, made[1]+"\n", "password", "change", "--password-stdin",
			"--generate", "--characters", "runes")
		assert.Equal(t, 2, exit)
		assert.Contains(t, stderr, "not runes")
		stdout, _, exit = e2e.CommandWith(t, session, "oystercatcher\n", "password", "check", "--password-stdin")
		require.Equal(t, 0, exit)
		assert.Regexp(t, `level\s+weak`, stdout)
		e2e.SessionOf(t, "dunlin-first", made[1])
		_, stderr, exit = e2e.CommandWith(t, e2e.OperatorSession(t), "gale-ferry-lantern-tern-7\n", "person",
			"password", "dunlin-first", "--password-stdin", "--must-change")
		require.Equal(t, 0, exit, stderr)
		assert.Regexp(t, `has to change the password\s+yes`, e2e.Does(t, "person", "show", "dunlin-first"))
	})
	t.Run("one's own second factor", func(t *testing.T) {
		session := e2e.SessionOf(t, "dunlin-first", "gale-ferry-lantern-tern-7")
		_, stderr, exit := e2e.CommandWith(t, session, "gale-ferry-lantern-tern-7\ntern-ferry-lantern-gale-9\n",
			"password", "change", "--password-stdin")
		require.Equal(t, 0, exit, stderr)
		// The client asks for the code after it has shown the secret, as a person needs it.
		cmd := exec.Command(labtest.Program(t, "victualler"), "factor", "add")
		cmd.Env = append(os.Environ(), "VICTUALLER_SESSION="+session)
		in, err := cmd.StdinPipe()
		require.NoError(t, err)
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		text := make([]byte, 4096)
		n, err := out.Read(text)
		require.NoError(t, err)
		shown := regexp.MustCompile(`type ([A-Z2-7]+) into it`).FindStringSubmatch(string(text[:n]))
		require.NotNil(t, shown, string(text[:n]))
		secret, err := base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(shown[1])
		require.NoError(t, err)
		_, err = in.Write([]byte(totp.Code(secret, totp.Step(time.Now())-1) + "\n"))
		require.NoError(t, err)
		var rest bytes.Buffer
		_, err = rest.ReadFrom(out)
		require.NoError(t, err)
		require.NoError(t, cmd.Wait())
		codes := regexp.MustCompile(`(?m)^  (\S{5}-\S{5})$`).FindAllStringSubmatch(rest.String(), -1)
		require.Len(t, codes, 10, rest.String())

		stdout, _, _ := e2e.CommandWith(t, session, "", "factor", "show")
		assert.Regexp(t, `second factor\tyes\nrequired\tno\nsince\t20\S+ \S+\nrecovery codes left\t10`, stdout)
		_, stderr, exit = e2e.CommandWith(t, filepath.Join(t.TempDir(), "s"), "tern-ferry-lantern-gale-9\n", "session",
			"start", e2e.Inst.Address(), "--name", "dunlin-first", "--password-stdin")
		assert.Equal(t, 2, exit)
		assert.Contains(t, stderr, "--code")
		e2e.SessionOf(t, "dunlin-first", "tern-ferry-lantern-gale-9", "--code", codes[0][1])
		stdout, stderr, exit = e2e.CommandWith(t, session, "tern-ferry-lantern-gale-9\n", "factor", "change",
			"--password-stdin")
		require.Equal(t, 0, exit, stderr)
		assert.NotContains(t, stdout, codes[1][1], "new recovery codes")
		_, _, exit = e2e.CommandWith(t, filepath.Join(t.TempDir(), "s"), "tern-ferry-lantern-gale-9\n", "session",
			"start", e2e.Inst.Address(), "--name", "dunlin-first", "--password-stdin", "--code", codes[1][1])
		assert.Equal(t, 1, exit, "the old ones work no longer")
		e2e.Does(t, "person", "unlock", "dunlin-first", "--yes")
		e2e.SessionOf(t, "dunlin-first", "tern-ferry-lantern-gale-9")
		assert.Contains(t, e2e.Refuses(t, 1, "person", "unlock", "dunlin-first", "--yes"), "has no second factor")
	})
	t.Run("removed", func(t *testing.T) {
		session := e2e.SessionOf(t, "dunlin-first", "tern-ferry-lantern-gale-9")
		assert.Contains(t, e2e.Does(t, "person", "remove", "dunlin-first", "--preview"), "sessions and tokens end")
		e2e.Does(t, "person", "remove", "dunlin-first", "--yes")
		_, _, exit := e2e.CommandWith(t, session, "", "session", "show")
		assert.Equal(t, 3, exit)
	})
}

func TestClientForBrandsAndSettings(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	require.NoError(t,
		i.Client.Post(ctx, "/resellers", api.NewReseller{Name: "avocet", Title: "Avocet", Limits: plans.Limits{}}, nil))
	t.Run("a brand", func(t *testing.T) {
		out := e2e.Does(t, "brand", "change", "avocet", "--title", "Avocet Web Works", "--footer", "made by the sea",
			"--bar", "#123456", "--sender-name", "Avocet", "--sender", "desk@avocet.example")
		assert.Regexp(t, `title\s+Avocet Web Works`, out)
		assert.Regexp(t, `text on bar\s+#f\w{5}`, out, "light on dark")
		logo := filepath.Join(t.TempDir(), "logo.png")
		var picture bytes.Buffer
		require.NoError(t, png.Encode(&picture, image.NewGray(image.Rect(0, 0, 40, 10))))
		require.NoError(t, os.WriteFile(logo, picture.Bytes(), 0o600))
		assert.Regexp(t, `logo\s+/api/v1/`, e2e.Does(t, "brand", "change", "avocet", "--logo", logo))
		assert.Regexp(t, `footer\s+made by the sea`, e2e.Does(t, "brand", "show", "avocet"), "what is not named stays")
		require.NoError(t, os.WriteFile(logo, []byte("GIF89a"), 0o600))
		assert.Contains(t, e2e.Refuses(t, 2, "brand", "change", "avocet", "--logo", logo),
			"a logo is a PNG, WebP or SVG image")
		assert.NotContains(t, e2e.Does(t, "brand", "change", "avocet", "--logo", "-"), "/api/v1/")
		assert.NotContains(t, e2e.Does(t, "brand", "change", "avocet", "--footer", "-"), "made by the sea")
		assert.Contains(t, e2e.Refuses(t, 2, "brand", "change", "avocet", "--bar", "sea green"), "#")
		assert.Contains(t, e2e.Refuses(t, 2, "brand", "change", "avocet"), "say what is to change")
		assert.Contains(t, e2e.Refuses(t, 2, "brand", "change", "avocet", "--logo", "/nowhere/logo.png"),
			"no such file")
	})
	t.Run("settings", func(t *testing.T) {
		var before api.Settings
		require.NoError(t, i.Client.Get(ctx, "/settings", nil, &before))
		none := ""
		defer e2e.Patch(t, "/settings", api.SettingsChange{Title: &before.Title, Console: &before.Console,
			NameServers: &before.NameServers, SessionMinutes: &before.SessionMinutes,
			MailServer: &before.MailServer, MailSecurity: &before.MailSecurity, MailName: &none, MailPassword: &none,
			Sender: &before.Sender}, nil)
		out := e2e.Does(t, "settings", "change", "--title", "Avocet Hosting", "--console",
			"https://console.avocet.example",
			"--name-servers", "ns1.avocet.example,ns2.avocet.example", "--session-minutes", "90", "--preview")
		assert.Contains(t, out, "Avocet Hosting")
		assert.NotContains(t, e2e.Does(t, "settings", "show"), "Avocet", "a preview changes nothing")
		out = e2e.Does(t, "settings", "change", "--title", "Avocet Hosting", "--console",
			"https://console.avocet.example",
			"--name-servers", "ns1.avocet.example,ns2.avocet.example", "--session-minutes", "90")
		for _, want := range []string{`title\s+Avocet Hosting`,
			`name servers\s+ns1.avocet.example, ns2.avocet.example`,
			`session without use\s+90 min`, `mail password\s+none`} {
			assert.Regexp(t, want, out)
		}
		stdout, stderr, exit := e2e.CommandWith(t, e2e.OperatorSession(t), "brine-and-lantern\n", "settings", "change",
			"--mail-server", "mail.avocet.example:587", "--mail-security", "starttls", "--mail-name", "hosting",
			"--sender", "hosting@avocet.example", "--mail-password-stdin")
		require.Equal(t, 0, exit, stderr)
		assert.Regexp(t, `mail password\s+set`, stdout)
		assert.NotContains(t, e2e.Does(t, "settings", "show", "-o", "json")+e2e.Does(t, "event", "list", "--action",
			"settings.change", "-o", "json"), "brine-and-lantern", "no answer and no event holds it")
		for says, args := range map[string][]string{
			"mail server":   {"--mail-server", "mail.avocet.example"},
			"name server":   {"--name-servers", "not a name"},
			"console":       {"--console", "console.avocet.example"},
			"second factor": {"--second-factor", "captain"},
			"between":       {"--session-minutes", "100000"},
		} {
			_, stderr, exit := e2e.Command(t, append([]string{"settings", "change"}, args...)...)
			assert.NotEqual(t, 0, exit, says)
			assert.NotEmpty(t, stderr)
		}
		assert.Contains(t, e2e.Refuses(t, 2, "settings", "change", "--session-minutes", "long"), "takes a duration")
		out = e2e.Does(t, "settings", "change", "--mail-server", "-", "--name-servers", "-")
		assert.NotContains(t, out, "ns1.avocet.example")
	})
}

// Help is there for every command, and completion knows them all.
func TestClientHelp(t *testing.T) {
	out := e2e.Does(t, "help")
	for _, noun := range []string{"account", "plan", "reseller", "customer", "person", "exception", "settings",
		"event"} {
		assert.Contains(t, out, noun)
	}
	out = e2e.Does(t, "person", "add", "--help")
	for _, want := range []string{"victualler person add NAME [flags]", "--activation", "--preview", "-o"} {
		assert.Contains(t, out, want)
	}
	script := e2e.Does(t, "completion", "bash")
	path := filepath.Join(t.TempDir(), "completion.bash")
	require.NoError(t, os.WriteFile(path, []byte(script), 0o600))
	reply, err := exec.Command("bash", "-c",
		`source "$0"; COMP_WORDS=("$1" person re); COMP_CWORD=2; $(complete -p victualler | sed 's/.*-F \([^ ]*\).*/\1/'); echo "${COMPREPLY[@]}"`,
		path, labtest.Program(t, "victualler")).CombinedOutput()
	require.NoError(t, err, string(reply))
	assert.Equal(t, "remove", strings.TrimSpace(string(reply)))
}
