package mail

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"blitiri.com.ar/go/spf"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
	"victualler/internal/lab/mailtest"
	"victualler/internal/standins/mailsink"
)

const password = "tidal-barnacle-2741"

// senders opens an account with a mailbox of anna's, whose DNS is elsewhere, where its records for
// mail have been entered.
func senders(t *testing.T, name, domain string, perHour int64) {
	t.Helper()
	sendersOn(t, "skua", name, domain, perHour)
}

// sendersOn has the mail of such an account on a server.
func sendersOn(t *testing.T, server, name, domain string, perHour int64) {
	t.Helper()
	i := e2e.Shared(t)
	require.NoError(t, i.Client.Post(context.Background(), "/plans", api.NewPlan{Name: "post-of-" + name,
		Limits: plans.Limits{plans.Disk: plans.Of(200 * plans.MiB), plans.Domains: plans.Of(3),
			plans.PHPWorkers: plans.Of(2), plans.Mailboxes: plans.Of(10), plans.MailboxSize: plans.Of(50 * plans.MiB),
			plans.Addresses: plans.Of(10), plans.Lists: plans.Of(3), plans.SendsPerHour: plans.Of(perHour),
			plans.BounceShare: plans.Of(50)},
		Features: plans.Features{"mail": true}}, nil))
	e2e.Opened(t, api.OpenAccount{Domain: domain, Plan: "post-of-" + name, SignInName: name, Customer: name,
		NewCustomer: true, CustomerEmail: name + "@post.test", Server: "skua"})
	mailboxOf(t, name, api.NewMailbox{Address: "anna@" + domain, Server: server})
	enterRecords(t, domain)
}

func mailbox(t *testing.T, account, address string, forwards ...string) {
	t.Helper()
	mailboxOf(t, account, api.NewMailbox{Address: address, ForwardTo: forwards})
}

// mailboxOf adds a mailbox with the usual password.
func mailboxOf(t *testing.T, account string, box api.NewMailbox) {
	t.Helper()
	box.Password = password
	var done api.MailboxChanged
	require.NoError(t, e2e.Inst.Client.Post(context.Background(), "/accounts/"+account+"/mailboxes", box, &done))
	e2e.Watched(t, done.Operation)
}

func addAddress(t *testing.T, account, address string, targets ...string) {
	t.Helper()
	var done api.MailAddressChanged
	require.NoError(t, e2e.Inst.Client.Post(context.Background(), "/accounts/"+account+"/addresses",
		api.NewMailAddress{Address: address, Targets: targets}, &done))
	e2e.Watched(t, done.Operation)
}

// enterRecords has public DNS answer what the service lists for a zone that is hosted elsewhere.
func enterRecords(t *testing.T, domain string) {
	t.Helper()
	var zone api.ZoneDetail
	require.NoError(t, e2e.Inst.Client.Get(context.Background(), "/zones/"+domain, nil, &zone))
	text := ""
	for _, r := range zone.Records {
		text += fmt.Sprintf("%s %d IN %s %s\n", r.Name, r.TTL, r.Type, r.Data)
	}
	require.NoError(t, e2e.Inst.PublicDNS.Serve(domain, text))
	hosts := ""
	for _, label := range []string{"skua", "fulmar"} {
		hosts += fmt.Sprintf("%s A %s\n", label, e2e.Inst.Servers[label].Address)
	}
	require.NoError(t, e2e.Inst.PublicDNS.Serve("ternisland.example", hosts))
}

// arrived waits for messages to an address outside with a subject.
func arrived(t *testing.T, to, subject string, n int) []mailsink.Message {
	t.Helper()
	var found []mailsink.Message
	labtest.Eventually(t, func() bool {
		found = nil
		for _, m := range e2e.Inst.Outside.To(to) {
			if m.Subject == subject {
				found = append(found, m)
			}
		}
		return len(found) >= n
	})
	require.Len(t, found, n)
	return found
}

// publishedKey is the record that the messages of a domain are verified with.
func publishedKey(t *testing.T, domain string) string {
	t.Helper()
	var zone api.ZoneDetail
	require.NoError(t, e2e.Inst.Client.Get(context.Background(), "/zones/"+domain, nil, &zone))
	for _, r := range zone.Records {
		if strings.HasSuffix(r.Name, "._domainkey") {
			return strings.ReplaceAll(strings.Trim(r.Data, `"`), `" "`, "")
		}
	}
	require.Fail(t, "no key is published for "+domain)
	return ""
}

// signedBy verifies the signature of a message with another implementation than the one that signs,
// and returns the domain that it is of.
func signedBy(t *testing.T, m mailsink.Message, domain string) string {
	t.Helper()
	key := publishedKey(t, domain)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "message"), []byte(strings.ReplaceAll(m.Raw, "\n", "\r\n")),
		0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "key"), []byte(key), 0o600))
	out, err := exec.Command("/usr/bin/python3", "-c", `
import dkim, sys
key = open(sys.argv[1] + "/key", "rb").read()
d = dkim.DKIM(open(sys.argv[1] + "/message", "rb").read())
assert d.verify(dnsfunc=lambda name, timeout=5: key), "the signature does not verify"
print(d.domain.decode())`, dir).CombinedOutput()
	require.NoError(t, err, "%s\n%s", out, m.Raw)
	return strings.TrimSpace(string(out))
}

// dmarcOf is what DMARC (RFC 7489) says of a message from a server, by another implementation than
// any that is ours; spfResult is what SPF says of its sender.
func dmarcOf(t *testing.T, m mailsink.Message, domain string, spfResult spf.Result) string {
	t.Helper()
	var zone api.ZoneDetail
	require.NoError(t, e2e.Inst.Client.Get(context.Background(), "/zones/"+domain, nil, &zone))
	texts := map[string]string{}
	for _, r := range zone.Records {
		if r.Type == "TXT" {
			name := strings.TrimSuffix(strings.TrimPrefix(r.Name+"."+domain, "@."), ".")
			texts[name] = strings.ReplaceAll(strings.Trim(r.Data, `"`), `" "`, "")
		}
	}
	given, err := json.Marshal(map[string]any{"texts": texts, "spf": spfResult, "sender": m.From,
		"message": strings.ReplaceAll(m.Raw, "\n", "\r\n")})
	require.NoError(t, err)
	cmd := exec.Command("/usr/bin/python3", "-W", "ignore", "-c", `
import authres, dkim, email, email.utils, json, sys
from authheaders import dmarc_per_from
given = json.load(sys.stdin)
raw = given["message"].encode()
def ask(name, timeout=5):
    name = (name.decode() if isinstance(name, bytes) else name).rstrip(".")
    return given["texts"].get(name)
d = dkim.DKIM(raw)
try:
    good = d.verify(dnsfunc=lambda name, timeout=5: (ask(name) or "").encode() or None)
except dkim.DKIMException:
    good = False
signed = authres.DKIMAuthenticationResult(result="pass" if good else "fail",
    header_d=(d.domain or b"none.invalid").decode())
came = authres.SPFAuthenticationResult(result=given["spf"], smtp_mailfrom=given["sender"])
author = email.utils.parseaddr(email.message_from_bytes(raw)["From"])[1].split("@")[1]
print(dmarc_per_from(author, came, signed, ask)[0])`)
	cmd.Stdin = bytes.NewReader(given)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return strings.TrimSpace(string(out))
}

// mayBeFrom asks what SPF says of a message that came from skua.
func mayBeFrom(t *testing.T, sender string) spf.Result {
	t.Helper()
	return mayCome(t, "skua", sender)
}

// mayCome asks what SPF says of a message that came from a server.
func mayCome(t *testing.T, server, sender string) spf.Result {
	t.Helper()
	gateway := e2e.Inst.Lab.Gateway().String()
	resolver := &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "udp", net.JoinHostPort(gateway, "53"))
	}}
	result, _ := spf.CheckHostWithSender(net.IP(e2e.Inst.Servers[server].Address.AsSlice()),
		server+".ternisland.example", sender, spf.WithResolver(resolver))
	return result
}

func TestSending(t *testing.T) {
	i := e2e.Shared(t)
	senders(t, "sailors", "sailors.example", 1000)
	mailbox(t, "sailors", "boss@sailors.example")
	addAddress(t, "sailors", "sales@sailors.example", "anna")
	senders(t, "rivals", "rivals.example", 1000)
	skua := i.Servers["skua"].Address
	send := func(sender, from, to, subject string) error {
		return mailtest.Submit(skua, "anna@sailors.example", password, sender, []string{to},
			fmt.Sprintf("From: %s\r\nTo: %s\r\nSubject: %s\r\n\r\nahoy\r\n.dots\r\n", from, to, subject))
	}
	require.NoError(t, send("anna@sailors.example", "Anna <anna@sailors.example>", "bo@harbourmail.test", "signed"))
	m := arrived(t, "bo@harbourmail.test", "signed", 1)[0]
	assert.Equal(t, "anna@sailors.example", m.From)
	assert.Equal(t, "sailors.example", signedBy(t, m, "sailors.example"), "aligned with From")
	assert.Equal(t, spf.Pass, mayBeFrom(t, m.From))
	assert.Equal(t, "pass", dmarcOf(t, m, "sailors.example", mayBeFrom(t, m.From)))
	assert.Equal(t, "pass", dmarcOf(t, m, "sailors.example", spf.Fail), "its signature is aligned")
	assert.Equal(t, "fail", dmarcOf(t, mailsink.Message{From: m.From,
		Raw: strings.Replace(m.Raw, "ahoy", "avast", 1)}, "sailors.example", spf.Fail), "of one that was changed")
	assert.Contains(t, m.Raw, "Message-Id: <")
	assert.Contains(t, m.Raw, "Date: ")
	require.NoError(t, send("anna@sailors.example", "sales@sailors.example", "bo@harbourmail.test", "as sales"))
	require.NoError(t, send("sales@sailors.example", "anna+x@sailors.example", "bo@harbourmail.test", "from sales"))

	t.Run("nobody sends as somebody else", func(t *testing.T) {
		for _, c := range [][2]string{{"anna@sailors.example", "boss@sailors.example"},
			{"boss@sailors.example", "anna@sailors.example"}, {"anna@sailors.example", "anna@rivals.example"},
			{"anna@rivals.example", "anna@sailors.example"}, {"anna@sailors.example", "nobody@sailors.example"},
			{"anna@sailors.example", "a@harbourmail.test"}, {"", "anna@rivals.example"},
			{"anna@sailors.example", "anna@sailors.example\r\nFrom: boss@sailors.example"},
			{"anna@sailors.example", "anna@sailors.example, boss@sailors.example"},
			{"anna@sailors.example", "anna@sailors.example\r\nFrom : boss@sailors.example"},
			{"anna@sailors.example", "anna@sailors.example\r\nSender: boss@sailors.example"}} {
			assert.ErrorContains(t, send(c[0], c[1], "bo@harbourmail.test", "forged"), "5", "%v", c)
		}
		time.Sleep(time.Second)
		for _, m := range i.Outside.To("bo@harbourmail.test") {
			assert.NotEqual(t, "forged", m.Subject, m.Raw)
		}
	})
	t.Run("no line is hidden within another", func(t *testing.T) {
		for n, octet := range []string{"\r", "\x00", "\x0b", "\x0c"} {
			subject := fmt.Sprintf("hidden %d", n)
			if send("anna@sailors.example", "anna@sailors.example\r\nX: y"+octet+"From: boss@sailors.example",
				"bo@harbourmail.test", subject) != nil {
				continue // refused is well, too
			}
			m := arrived(t, "bo@harbourmail.test", subject, 1)[0]
			assert.Len(t, regexp.MustCompile(`(?im)(^|[\r\n\x00\v\f])from\s*:`).FindAllString(m.Raw, -1), 1, "%q", m.Raw)
		}
	})
	t.Run("a site", func(t *testing.T) {
		run := func(account, script string) string {
			out, _ := i.Servers["skua"].Exec(context.Background(), "victualler-sandbox", "enter", account, "bash", "-c",
				script)
			return out
		}
		out := run("sailors", `php -r 'var_dump(mail("bo@harbourmail.test", "of a site", "hello",
			"From: shop@sailors.example"));'`)
		assert.Contains(t, out, "bool(true)")
		m := arrived(t, "bo@harbourmail.test", "of a site", 1)[0]
		assert.Equal(t, "sailors.example", signedBy(t, m, "sailors.example"))
		assert.Equal(t, spf.Pass, mayBeFrom(t, m.From))
		for _, from := range []string{"anna@rivals.example", "a@harbourmail.test", "root@skua.ternisland.example"} {
			out := run("sailors", fmt.Sprintf("printf 'From: %s\\nTo: bo@harbourmail.test\\nSubject: "+
				"forged\\n\\nx\\n' | "+
				"/usr/sbin/sendmail -t -i 2>&1; echo exit $?", from))
			assert.Contains(t, out, "exit 77", from)
		}
		// Nothing leads round the counting: neither the server's own programs nor its ports.
		out = run("sailors", "ls /var/spool/postfix /run/dovecot /etc/postfix /var/lib/victualler 2>&1 | "+
			"grep -vc 'No such file'")
		assert.Equal(t, "0\n", out)
		// Others would believe what comes from the server's address to be of whomever it says.
		for _, to := range []string{"mx.harbourmail.test", "127.0.0.1", "::1", i.Servers["skua"].Address.String(),
			i.Servers["fulmar"].Address.String(), "::ffff:127.0.0.1",
			lab.Address6(i.Servers["fulmar"].Address).String()} {
			out := run("sailors", fmt.Sprintf("getent ahosts %s >/dev/null && echo > /dev/tcp/%[1]s/25", to))
			assert.Contains(t, out, "Operation not permitted", to)
		}
		out = run("sailors", `php -r 'foreach (["mx.harbourmail.test", "127.0.0.1"] as $to) {
			var_dump(@fsockopen($to, 25)); }' && echo > /dev/tcp/127.0.0.1/587 && echo submission`)
		assert.Equal(t, "bool(false)\nbool(false)\nsubmission\n", out)
	})
	t.Run("no open relay", func(t *testing.T) {
		before := len(i.Outside.Messages())
		for _, to := range []string{"<bo@harbourmail.test>", "<bo%harbourmail.test@sailors.example>",
			"<bo%harbourmail.test@[10.0.0.1]>", "<@sailors.example:bo@harbourmail.test>",
			`<"bo@harbourmail.test">`, `<"bo@harbourmail.test"@sailors.example>`, "<harbourmail.test!bo>",
			"<harbourmail.test!bo@sailors.example>", "<bo@harbourmail.test@sailors.example>", "<bo>",
			"<anna=sailors.example@forward.invalid>", "<SRS0=AAAAAAAA=AA=harbourmail.test=bo@sailors.example>",
			"<SRS1=AAAAAAAA=harbourmail.test==AAAA=AA=x.test=bo@sailors.example>",
			"<SRS0=AAAAAAAA=AA=harbourmail.test=bo@return.invalid>", "<bo@harbourmail.test@forward.invalid>"} {
			for _, from := range []string{"<>", "<a@sailors.example>", "<a@elsewhere.test>",
				"<anna@skua.ternisland.example>"} {
				answer, err := mailtest.Talk(skua, "25", "EHLO x", "MAIL FROM:"+from, "RCPT TO:"+to, "DATA",
					"Subject: relayed", "", "x", ".", "QUIT")
				require.NoError(t, err)
				assert.NotContains(t, answer, "queued as", "%s to %s", from, to)
			}
		}
		for _, port := range []string{"587", "465"} {
			answer, err := mailtest.Talk(skua, port, "EHLO x", "AUTH PLAIN AGEAYg==",
				"MAIL FROM:<anna@sailors.example>",
				"RCPT TO:<bo@harbourmail.test>")
			require.NoError(t, err)
			assert.NotContains(t, answer, "235")
			assert.NotContains(t, answer, "354")
		}
		assert.Len(t, i.Outside.Messages(), before)
	})
	t.Run("no message is smuggled within another", func(t *testing.T) {
		for n, end := range []string{"\n.\n", "\n.\r\n", "\r\n.\n", "\r.\r", "\r\n\x00.\r\n", "\n.\r"} {
			// The NUL at the end of a line of Talk is what has it not end the line.
			text := fmt.Sprintf("Subject: outer %d\r\n\r\nx%sMAIL FROM:<boss@sailors.example>\r\nRCPT "+
				"TO:<anna@sailors.example>\r\n"+
				"DATA\r\nSubject: smuggled\r\n\r\nx\r\n.\r\n\x00", n, end)
			_, err := mailtest.Talk(skua, "25", "EHLO x", "MAIL FROM:<a@elsewhere.test>",
				"RCPT TO:<anna@sailors.example>",
				"DATA", text, "QUIT")
			require.NoError(t, err)
		}
		require.NoError(t, mailtest.Deliver(skua, "a@elsewhere.test", "anna@sailors.example", "the last one"))
		labtest.Eventually(t, func() bool {
			text, _ := mailtest.Inbox(skua, "anna@sailors.example", password)
			return strings.Contains(text, "the last one")
		})
		text, err := mailtest.Inbox(skua, "anna@sailors.example", password)
		require.NoError(t, err)
		assert.NotContains(t, text, "\r\nSubject: smuggled\r\nTo:")
		assert.NotContains(t, text, "Return-Path: <boss@sailors.example>")
	})
}

func TestForwarding(t *testing.T) {
	i := e2e.Shared(t)
	senders(t, "posters", "posters.example", 1000)
	mailbox(t, "posters", "both@posters.example", "phone@harbourmail.test")
	addAddress(t, "posters", "away@posters.example", "cleo@harbourmail.test")
	addAddress(t, "posters", "team@posters.example", "anna", "away", "dan@harbourmail.test")
	addAddress(t, "posters", "dead@posters.example", "refused@harbourmail.test")
	addAddress(t, "posters", "*@posters.example", "anna")
	skua := i.Servers["skua"].Address
	inbox := func(address, text string) {
		t.Helper()
		labtest.Eventually(t, func() bool {
			all, _ := mailtest.Inbox(skua, address, password)
			return strings.Contains(all, text)
		})
	}
	for address, c := range map[string]struct {
		outside []string
		stored  string
	}{
		"both@posters.example": {[]string{"phone@harbourmail.test"}, "both@posters.example"},
		"away@posters.example": {[]string{"cleo@harbourmail.test"}, ""},
		"team@posters.example": {[]string{"cleo@harbourmail.test", "dan@harbourmail.test"},
			"anna@posters.example"},
		"whatever@posters.example":   {nil, "anna@posters.example"},
		"postmaster@posters.example": {nil, "anna@posters.example"},
		"anna+tag@posters.example":   {nil, "anna@posters.example"},
		"away+tag@posters.example":   {[]string{"cleo@harbourmail.test"}, ""},
	} {
		t.Run(address, func(t *testing.T) {
			require.NoError(t, mailtest.Deliver(skua, "eve@harbourmail.test", address, "for "+address))
			if c.stored != "" {
				inbox(c.stored, "for "+address)
			}
			for _, to := range c.outside {
				labtest.Eventually(t, func() bool {
					for _, m := range i.Outside.To(to) {
						if strings.Contains(m.Raw, "for "+address) {
							assert.Equal(t, spf.Pass, mayBeFrom(t, m.From), m.From)
							assert.True(t, strings.HasPrefix(m.From, "SRS0="), m.From)
							return true
						}
					}
					return false
				})
			}
		})
	}
	t.Run("a failure comes back to the sender", func(t *testing.T) {
		require.NoError(t, mailtest.Deliver(skua, "eve@harbourmail.test", "dead@posters.example", "to the dead"))
		labtest.Eventually(t, func() bool {
			for _, m := range i.Outside.To("eve@harbourmail.test") {
				if m.From == "" && strings.Contains(m.Raw, "to the dead") {
					return true
				}
			}
			return false
		})
	})
	for server, sender := range map[string]string{"skua": "fay@harbourmail.test", "fulmar": "gus@harbourmail.test"} {
		t.Run("a circle of two accounts ends, one on "+server, func(t *testing.T) {
			name := "mirrors" + server
			sendersOn(t, server, name, name+".example", 1000)
			addAddress(t, name, "ping@"+name+".example", "pong@posters.example")
			addAddress(t, "posters", "pong@posters.example", "ping@"+name+".example")
			defer e2e.Command(t, "address", "remove", "pong@posters.example", "--yes")
			require.NoError(t, mailtest.Deliver(skua, sender, "pong@posters.example", "round and round"))
			labtest.Eventually(t, func() bool {
				return slices.ContainsFunc(i.Outside.To(sender), func(m mailsink.Message) bool {
					return m.From == "" && strings.Contains(m.Raw, "loop")
				})
			})
		})
	}
	t.Run("while victualler-mail is down, mail waits and mailboxes are reached", func(t *testing.T) {
		down := func(script string) {
			_, err := i.Servers["skua"].Exec(context.Background(), "bash", "-c", script)
			require.NoError(t, err)
		}
		down("kill -STOP $(cat /run/victualler-mail/pid)")
		resume := sync.OnceFunc(func() { down("kill -CONT $(cat /run/victualler-mail/pid)") })
		defer resume()
		require.NoError(t, mailtest.Deliver(skua, "eve@harbourmail.test", "anna@posters.example", "direct"))
		inbox("anna@posters.example", "direct")
		require.NoError(t, mailtest.Deliver(skua, "eve@harbourmail.test", "away@posters.example", "late"))
		resume()
		labtest.Eventually(t, func() bool {
			for _, m := range i.Outside.To("cleo@harbourmail.test") {
				if strings.Contains(m.Raw, "late") {
					return true
				}
			}
			_, err := i.Servers["skua"].Exec(context.Background(), "postqueue", "-f")
			return err != nil
		})
	})
}

// Exactly as many go out as may, whoever sends at the same time, and whatever is killed meanwhile.
func TestExactlyAsMany(t *testing.T) {
	i := e2e.Shared(t)
	const bound = 30
	const parallel = 4
	senders(t, "counters", "counters.example", bound)
	skua := i.Servers["skua"].Address
	var taken, killed atomic.Int64
	var group sync.WaitGroup
	stop := make(chan struct{})
	group.Go(func() {
		for killed.Load() < 5 {
			select {
			case <-stop:
				return
			case <-time.After(700 * time.Millisecond):
				// On a slow machine it may not have started again yet.
				_, err := i.Servers["skua"].Exec(context.Background(), "bash", "-c",
					"kill -KILL $(cat /run/victualler-mail/pid)")
				if err == nil {
					killed.Add(1)
				}
			}
		}
	})
	var senders sync.WaitGroup
	end := time.Now().Add(2 * time.Minute)
	for n := range parallel {
		senders.Go(func() {
			full := false
			for attempt := 0; !full && time.Now().Before(end); attempt++ {
				err := mailtest.Submit(skua, "anna@counters.example", password, "anna@counters.example",
					[]string{"tally@harbourmail.test"}, fmt.Sprintf("From: anna@counters.example\r\nSubject: "+
						"%d/%d\r\n\r\nx\r\n", n, attempt))
				if err == nil {
					taken.Add(1)
					continue
				}
				full = strings.Contains(err.Error(), "has sent to 30")
				time.Sleep(50 * time.Millisecond)
			}
		})
	}
	senders.Wait()
	close(stop)
	group.Wait()
	assert.Positive(t, killed.Load())
	assert.LessOrEqual(t, taken.Load(), int64(bound))
	assert.GreaterOrEqual(t, taken.Load(), bound-parallel*killed.Load(),
		"only what was under way when something was killed is counted and not sent")
	labtest.Eventually(t, func() bool { return len(i.Outside.To("tally@harbourmail.test")) >= int(taken.Load()) })
	time.Sleep(2 * time.Second)
	assert.LessOrEqual(t, len(i.Outside.To("tally@harbourmail.test")), bound)
	err := mailtest.Submit(skua, "anna@counters.example", password, "anna@counters.example",
		[]string{"tally@harbourmail.test"}, "From: anna@counters.example\r\nSubject: more\r\n\r\nx\r\n")
	assert.ErrorContains(t, err, "this account may send to 30 recipients within an hour, and has sent to 30")
}

// An account of which too much comes back is stopped; what it sends then waits, and goes out when
// it is released.
func TestStoppedSending(t *testing.T) {
	i := e2e.Shared(t)
	senders(t, "bouncers", "bouncers.example", 1000)
	skua := i.Servers["skua"].Address
	send := func(to, subject string) error {
		return mailtest.Submit(skua, "anna@bouncers.example", password, "anna@bouncers.example", []string{to},
			"From: anna@bouncers.example\r\nSubject: "+subject+"\r\n\r\nx\r\n")
	}
	for n := range 11 {
		require.NoError(t, send("refused@harbourmail.test", fmt.Sprintf("bad %d", n)))
	}
	var detail api.AccountDetail
	labtest.Eventually(t, func() bool {
		require.NoError(t, i.Client.Get(context.Background(), "/accounts/bouncers", nil, &detail))
		return len(detail.Warnings) > 0
	})
	assert.Equal(t, "sending-stopped", detail.Warnings[0].Code)
	require.NoError(t, send("gil@harbourmail.test", "patience"))
	var queue api.Queue
	labtest.Eventually(t, func() bool {
		require.NoError(t, i.Client.Get(context.Background(), "/queue?account=bouncers", nil, &queue))
		return len(queue.Messages) > 0
	})
	assert.True(t, queue.Messages[0].Held)
	assert.Empty(t, i.Outside.To("gil@harbourmail.test"))
	out, stderr, exit := e2e.Command(t, "message", "list", "--account", "bouncers", "--outcome", "failed")
	require.Zero(t, exit, stderr)
	assert.Contains(t, out, "there is no such mailbox here")
	out, stderr, exit = e2e.Command(t, "overview")
	require.Zero(t, exit, stderr)
	assert.Contains(t, out, "1 account is stopped from sending")

	out, stderr, exit = e2e.Command(t, "queue", "resume", "bouncers")
	require.Zero(t, exit, stderr)
	assert.Contains(t, out, "bouncers sends again")
	arrived(t, "gil@harbourmail.test", "patience", 1)
	require.NoError(t, send("gil@harbourmail.test", "at once"))
	arrived(t, "gil@harbourmail.test", "at once", 1)
}

// What has become of messages is found by whoever may know, and what waits can be dealt with.
func TestMessages(t *testing.T) {
	i := e2e.Shared(t)
	senders(t, "askers", "askers.example", 1000)
	skua := i.Servers["skua"].Address
	list := func(args ...string) string {
		out, stderr, exit := e2e.Command(t, append([]string{"message", "list"}, args...)...)
		require.Zero(t, exit, stderr)
		return out + stderr
	}
	require.NoError(t, mailtest.Deliver(skua, "hal@harbourmail.test", "anna@askers.example", "hello"))
	assert.ErrorContains(t, mailtest.Deliver(skua, "hal@harbourmail.test", "anan@askers.example", "hello"), "550")
	require.NoError(t, mailtest.Submit(skua, "anna@askers.example", password, "anna@askers.example",
		[]string{"later@harbourmail.test"}, "From: anna@askers.example\r\nSubject: wait\r\n\r\nx\r\n"))
	for _, want := range []string{`hal@harbourmail\.test\s+anna@askers\.example\s+delivered\s+in the mailbox`,
		`hal@harbourmail\.test\s+anan@askers\.example\s+refused\s+refused: 550 5\.1\.1`,
		`anna@askers\.example\s+later@harbourmail\.test\s+waiting\s+waits: .*451 try again later`} {
		labtest.Eventually(t, func() bool { return regexp.MustCompile(want).MatchString(list("--account", "askers")) })
	}
	assert.Contains(t, list("--to", "anan@askers.example"), "refused")
	assert.Contains(t, list("--from", "nobody@askers.example"), "nothing matches")
	var queue api.Queue
	require.NoError(t, i.Client.Get(context.Background(), "/queue?account=askers", nil, &queue))
	require.Len(t, queue.Messages, 1)
	for _, verb := range []string{"hold", "release", "retry"} {
		out, stderr, exit := e2e.Command(t, "queue", verb, "skua", queue.Messages[0].Queue)
		require.Zero(t, exit, stderr)
		assert.Contains(t, out, ": 1", verb)
	}
	_, stderr, exit := e2e.Command(t, "queue", "remove", "skua", queue.Messages[0].Queue, "--yes")
	require.Zero(t, exit, stderr)
	_, stderr, exit = e2e.Command(t, "queue", "remove", "skua", queue.Messages[0].Queue, "--yes")
	assert.NotZero(t, exit)
	assert.Contains(t, stderr, "none of these messages waits on skua any more")
	for _, name := range []string{"ALL", "-", "../x"} {
		_, _, exit := e2e.Command(t, "queue", "remove", "skua", name, "--yes")
		assert.NotZero(t, exit, name)
	}
	t.Run("closed, nothing is known any more", func(t *testing.T) {
		_, stderr, exit := e2e.Command(t, "account", "close", "askers", "--yes")
		require.Zero(t, exit, stderr)
		assert.Contains(t, list("--to", "anna@askers.example"), "nothing matches")
		left, err := i.Servers["skua"].Exec(context.Background(), "bash", "-c",
			"cat /var/lib/victualler/mail/*.db /var/lib/victualler-agent/messages.db* | grep -ac askers.example || "+
				"true")
		require.NoError(t, err)
		assert.Equal(t, "0", strings.TrimSpace(left))
	})
}
