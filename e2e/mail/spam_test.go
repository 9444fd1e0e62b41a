package mail

import (
	"context"
	"fmt"
	"net/netip"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/lab/labtest"
	"victualler/internal/lab/mailtest"
)

const (
	// gtube is what every spam filter takes for spam beyond doubt.
	gtube = "XJS*C4JDBQADN1.NSBN3*2IDNEN*GTUBE-STANDARD-ANTI-UBE-TEST-EMAIL*C.34X"
	// unwanted looks like spam, and like nothing worse.
	unwanted = "MIME-Version: 1.0\r\nContent-Type: text/html\r\nX-Mailer: The Bat!\r\nReply-To: " +
		"x@elsewhere.test\r\n\r\n" +
		"<html>CONGRATULATIONS you are a winner!!! 100% FREE, dear friend. http://192.0.2.4/casino Claim your prize, " +
		"transfer fee, lottery, inheritance, urgent business proposal, bank account, wonder pills, cheap watches.\r\n"
	// ordinary has words enough that something can be learnt of it.
	ordinary = "\r\nThe ferry leaves the harbour at nine with the tide; bring warm clothes, the dog, both anchors, " +
		"a rope, " +
		"the long sail, some bread and whatever else is needed for a week on the outer islands.\r\n"
)

// filtering waits until a server judges messages, which takes a while after its start.
func filtering(t *testing.T, label string) {
	t.Helper()
	labtest.Within(t, 2*time.Minute, func() bool {
		out, err := e2e.Inst.Servers[label].Exec(context.Background(), "sh", "-c",
			"curl -s --max-time 2 --unix-socket /var/lib/victualler/filter/judge http://judge/ping")
		return err == nil && strings.Contains(out, "pong")
	})
}

// unjudged has skua take messages as they are, until the test ends: what tests write looks like
// spam.
func unjudged(t *testing.T) {
	t.Helper()
	judge := func(on string) {
		_, stderr, exit := e2e.Command(t, "server", "change", "skua", "--spam-filter", on)
		require.Zero(t, exit, stderr)
		_, stderr, exit = e2e.Command(t, "server", "sweep", "skua")
		require.Zero(t, exit, stderr)
	}
	judge("off")
	t.Cleanup(func() { judge("on") })
}

// receive is a mail program that reads a folder.
func receive(t *testing.T, address, folder string) (*mailtest.IMAP, string) {
	t.Helper()
	c, err := mailtest.DialIMAP(e2e.Inst.Servers["skua"].Address)
	require.NoError(t, err)
	_, err = c.Ask(fmt.Sprintf("LOGIN %s %s", address, password))
	require.NoError(t, err)
	_, err = c.Ask("SELECT " + folder)
	require.NoError(t, err)
	text, _ := c.Ask("FETCH 1:* BODY[]")
	return c, text
}

// reversed is how blocklists name an address (RFC 5782, section 2.1).
func reversed(a netip.Addr) string {
	o := a.As4()
	return fmt.Sprintf("%d.%d.%d.%d", o[3], o[2], o[1], o[0])
}

func deliver(t *testing.T, from, to, subject, rest string) error {
	t.Helper()
	return mailtest.DeliverWhole(e2e.Inst.Servers["skua"].Address, from, []string{to},
		fmt.Sprintf("From: %s\r\nTo: %s\r\nSubject: %s\r\nMessage-ID: <%s@elsewhere.test>\r\n%s", from, to, subject,
			strings.ReplaceAll(subject, " ", "."), rest))
}

func TestSpam(t *testing.T) {
	i := e2e.Shared(t)
	senders(t, "anglers", "anglers.example", 1000)
	filtering(t, "skua")
	const anna = "anna@anglers.example"
	inFolder := func(folder, subject string) string {
		text := ""
		labtest.Eventually(t, func() bool {
			c, found := receive(t, anna, folder)
			defer c.Close()
			text = found
			return strings.Contains(found, "Subject: "+subject)
		})
		return text
	}
	t.Run("what was found out is written into a message, by nobody else", func(t *testing.T) {
		require.NoError(t, deliver(t, "eve@harbourmail.test", anna, "of a friend",
			"Spam-Score: -99\r\nSpam-Tenths: 0\r\n"+
				"Authentication-Results: skua.ternisland.example; dmarc=pass header.from=bank.test\r\n"+
				"Authentication-results:\r\n skua.ternisland.example ; dkim=pass\r\n"+ordinary))
		text := inFolder("INBOX", "of a friend")
		assert.Contains(t, text, "spf=pass smtp.mailfrom=eve@harbourmail.test")
		assert.Contains(t, text, "Spam-Score: ")
		assert.NotContains(t, text, "-99")
		assert.NotContains(t, text, "bank.test")
		assert.NotContains(t, text, "dkim=pass")
	})
	t.Run("spam is refused, or goes to Junk", func(t *testing.T) {
		assert.ErrorContains(t, deliver(t, "eve@harbourmail.test", anna, "test of filters", "\r\n"+gtube+"\r\n"), "550")
		require.NoError(t, deliver(t, "winner@elsewhere.test", anna, "Re: You have WON", unwanted))
		inFolder("Junk", "Re: You have WON")
		var page api.MessagePage
		labtest.Eventually(t, func() bool {
			require.NoError(t, i.Client.Get(context.Background(), "/messages?recipient="+anna+
				"&sender=winner@elsewhere.test", nil, &page))
			return len(page.Messages) == 1 && page.Messages[0].Folder == "Junk"
		})
		assert.Regexp(t, `^in the folder Junk of anna@anglers\.example, for a score of \d`, page.Messages[0].Says)
		assert.Regexp(t, `^\d+\.\d; [A-Z0-9_]+ \d`, page.Messages[0].Score)
	})
	t.Run("spam is not passed on", func(t *testing.T) {
		_, stderr, exit := e2e.Command(t, "mailbox", "change", anna, "--forward-to", "anna@elsewhere.test")
		require.Zero(t, exit, stderr)
		require.NoError(t, deliver(t, "winner@elsewhere.test", anna, "Re: You have WON more", unwanted))
		inFolder("Junk", "Re: You have WON more")
		labtest.Eventually(t, func() bool {
			out, _, _ := e2e.Command(t, "message", "list", "--to", anna, "--from", "winner@elsewhere.test")
			return strings.Contains(out, "kept\tspam is not passed on; it is in the mailbox")
		})
		_, stderr, exit = e2e.Command(t, "mailbox", "change", anna, "--forward-to", "none")
		require.Zero(t, exit, stderr)
	})
	t.Run("a mailbox has a bound of its own", func(t *testing.T) {
		_, stderr, exit := e2e.Command(t, "mailbox", "change", anna, "--junk-above", "90")
		require.Zero(t, exit, stderr)
		require.NoError(t, deliver(t, "winner@elsewhere.test", anna, "Re: You have WON again", unwanted))
		inFolder("INBOX", "Re: You have WON again")
		_, stderr, exit = e2e.Command(t, "mailbox", "change", anna, "--junk-above", "0")
		require.Zero(t, exit, stderr)
		_, stderr, exit = e2e.Command(t, "mailbox", "change", anna, "--junk-above", "0.5")
		assert.NotZero(t, exit)
		assert.Contains(t, stderr, "from 1 to 100 points")
	})
	t.Run("whoever moves a message teaches the filter", func(t *testing.T) {
		learnt := func(kind string) string {
			out, err := i.Servers["skua"].Exec(context.Background(), "sh", "-c",
				"redis-cli -s /run/redis/victualler.sock --raw hget RS learns_"+kind)
			require.NoError(t, err)
			return strings.TrimSpace(out)
		}
		c, _ := receive(t, anna, "INBOX")
		defer c.Close()
		_, err := c.Ask("COPY 1 Junk")
		require.NoError(t, err)
		labtest.Eventually(t, func() bool { return learnt("spam") == "1" })
		c, _ = receive(t, anna, "Junk")
		defer c.Close()
		_, err = c.Ask("COPY 1 INBOX")
		require.NoError(t, err)
		labtest.Eventually(t, func() bool { return learnt("ham") == "1" })
		// Others have nothing to teach.
		out, _ := i.Servers["skua"].Exec(context.Background(), "sh", "-c",
			"printf 'Subject: x\\n\\nx\\n' | setpriv --reuid 65534 --clear-groups victualler-mail teach spam 2>&1; "+
				"echo $?")
		assert.Contains(t, out, "nothing was learnt")
		out, _ = i.Servers["skua"].Exec(context.Background(), "victualler-sandbox", "enter", "anglers", "bash", "-c",
			"ls /run/victualler-mail/lessons /var/lib/victualler/filter /run/redis 2>&1 | grep -vc 'No such file'")
		assert.Contains(t, out, "0", "a site reaches no part of the filter")
	})
	t.Run("forbidden attachments", func(t *testing.T) {
		assert.ErrorContains(t, deliver(t, "eve@harbourmail.test", anna, "bill", "MIME-Version: 1.0\r\nContent-Type: "+
			"application/octet-stream; name=\"bill 100%.exe\"\r\n\r\nTVo=\r\n"), "attachments such as bill "+
			"100%.exe are not taken")
	})
	t.Run("nobody here sends spam, neither do sites", func(t *testing.T) {
		assert.ErrorContains(t, mailtest.Submit(i.Servers["skua"].Address, anna, password, anna,
			[]string{"bo@harbourmail.test"}, "From: "+anna+"\r\nSubject: from here\r\n\r\n"+gtube+"\r\n"), "550")
		out, _ := i.Servers["skua"].Exec(context.Background(), "victualler-sandbox", "enter", "anglers", "bash", "-c",
			"printf 'From: shop@anglers.example\\nTo: bo@harbourmail.test\\nSubject: from here\\n\\n"+gtube+
				"\\n' | /usr/sbin/sendmail -t -i 2>&1; echo exit $?")
		assert.Contains(t, out, "exit 77")
		for _, m := range i.Outside.To("bo@harbourmail.test") {
			assert.NotEqual(t, "from here", m.Subject)
		}
	})
	t.Run("what is passed on is sealed", func(t *testing.T) {
		addAddress(t, "anglers", "crew@anglers.example", "bo@harbourmail.test")
		require.NoError(t, deliver(t, "eve@harbourmail.test", "crew@anglers.example", "passed on with a seal",
			"\r\nahoy  there \r\n\r\n\r\n"))
		m := arrived(t, "bo@harbourmail.test", "passed on with a seal", 1)[0]
		assert.Contains(t, m.Raw, "ARC-Authentication-Results: i=1; skua.ternisland.example; spf=pass")
		key := publishedKey(t, "anglers.example")
		verify := exec.Command("/usr/bin/python3", "-c", `import dkim, sys
print(dkim.arc_verify(sys.stdin.buffer.read(), dnsfunc=lambda name, timeout=5: sys.argv[1].encode())[0].decode())`, key)
		verify.Stdin = strings.NewReader(strings.ReplaceAll(m.Raw, "\n", "\r\n"))
		out, err := verify.CombinedOutput()
		require.NoError(t, err, string(out))
		assert.Equal(t, "pass", strings.TrimSpace(string(out)), m.Raw)
	})
	t.Run("without the filter, mail still arrives", func(t *testing.T) {
		_, err := i.Servers["skua"].Exec(context.Background(), "pkill", "-STOP", "rspamd")
		require.NoError(t, err)
		_, err = i.Servers["skua"].Exec(context.Background(), "sh", "-c",
			"mv /var/lib/victualler/filter/judge /var/lib/victualler/filter/away")
		require.NoError(t, err)
		require.NoError(t, deliver(t, "eve@harbourmail.test", anna, "not judged", "\r\nx\r\n"))
		inFolder("INBOX", "not judged")
		_, err = i.Servers["skua"].Exec(context.Background(), "sh", "-c",
			"mv /var/lib/victualler/filter/away /var/lib/victualler/filter/judge; pkill -CONT rspamd")
		require.NoError(t, err)
	})
	t.Run("a virus scanner", func(t *testing.T) {
		scan := func(socket string) { settingOnSkua(t, "--virus-scanner", socket) }
		skua := i.Servers["skua"]
		_, err := skua.Exec(context.Background(), "sh", "-c", "setsid perl -e "+shellQuoted(scanner)+
			" /run/scanner </dev/null >/dev/null 2>&1 & echo $! > /run/scanner.pid")
		require.NoError(t, err)
		scan("/run/scanner")
		const evil = "\r\nEVIL-PAYLOAD\r\n"
		labtest.Eventually(t, func() bool {
			err := deliver(t, "eve@harbourmail.test", anna, "malware", evil)
			return err != nil && strings.Contains(err.Error(), "malware")
		}, "what the scanner finds is refused while its sender waits")
		require.NoError(t, deliver(t, "eve@harbourmail.test", anna, "harmless", "\r\nx\r\n"))
		inFolder("INBOX", "harmless")
		_, err = skua.Exec(context.Background(), "sh", "-c", "kill $(cat /run/scanner.pid)")
		require.NoError(t, err)
		require.NoError(t, deliver(t, "eve@harbourmail.test", anna, "not scanned", "\r\nx\r\n"),
			"without it, messages pass")
		inFolder("INBOX", "not scanned")
		scan("-")
	})
	t.Run("settings reach the server", func(t *testing.T) {
		_, stderr, exit := e2e.Command(t, "settings", "change", "--junk-above", "3", "--refuse-above", "2")
		assert.NotZero(t, exit)
		assert.Contains(t, stderr, "fewer than")
		out, stderr, exit := e2e.Command(t, "settings", "change", "--refuse-above", "20", "--greylisting", "on",
			"--blocklists", "blocked.test", "--virus-scanner", "/run/clamd.ctl")
		require.Zero(t, exit, stderr)
		assert.Contains(t, out+stderr, "within a minute")
		_, stderr, exit = e2e.Command(t, "server", "sweep", "skua")
		require.Zero(t, exit, stderr)
		out, err := i.Servers["skua"].Exec(context.Background(), "sh", "-c",
			"cat /etc/rspamd/victualler.conf; postconf smtpd_recipient_restrictions")
		require.NoError(t, err)
		for _, want := range []string{"reject = 20;", "greylist = 4;", `servers = "/run/clamd.ctl"`,
			"reject_rbl_client blocked.test"} {
			assert.Contains(t, out, want)
		}
		require.NoError(t, i.PublicDNS.Serve("blocked.test", reversed(i.Lab.Gateway())+" A 127.0.0.2\n"))
		assert.ErrorContains(t, deliver(t, "eve@harbourmail.test", anna, "from a listed address", "\r\nx\r\n"), "554")
		_, stderr, exit = e2e.Command(t, "settings", "change", "--refuse-above", "15", "--greylisting", "off",
			"--blocklists", "-", "--virus-scanner", "-")
		require.Zero(t, exit, stderr)
		_, stderr, exit = e2e.Command(t, "server", "sweep", "skua")
		require.Zero(t, exit, stderr)
		require.NoError(t, deliver(t, "eve@harbourmail.test", anna, "no longer listed", "\r\nx\r\n"))
	})
}

// scanner answers as clamd does (clamd(8), INSTREAM), and finds one thing.
const scanner = `use strict; use Socket; use IO::Socket::UNIX;
my $path = shift; unlink $path;
my $all = IO::Socket::UNIX->new(Type => SOCK_STREAM, Local => $path, Listen => 5) or die $!;
chmod 0666, $path;
sub got { my ($c, $n) = @_; my $text = ""; while (length $text < $n) { sysread($c, $text, $n - length $text, length $text)
	or last } $text }
while (my $c = $all->accept) {
	my $asked = ""; while ($asked !~ /[\0\n]/) { sysread($c, my $one, 1) or last; $asked .= $one }
	my $message = ""; while (my $n = unpack("N", got($c, 4))) { $message .= got($c, $n) }
	syswrite $c, $message =~ /EVIL-PAYLOAD/ ? "stream: Test.Signature FOUND\0" : "stream: OK\0";
	close $c }`

// shellQuoted is a text as one word of a shell.
func shellQuoted(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }
