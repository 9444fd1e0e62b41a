package mail

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
)

// certified has the certificate of a site ordered, and waits for it.
func certified(t *testing.T, domain string) {
	t.Helper()
	labtest.Eventually(t, func() bool {
		_, _, exit := e2e.Command(t, "certificate", "order", domain, "--leave-out")
		return exit == 0
	})
}

// shownFor connects to a port of skua and returns for which names the certificate is that is shown
// to somebody who asks for one; it must be an authority's.
func shownFor(t *testing.T, port, name string) []string {
	t.Helper()
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM([]byte(e2e.Inst.Authority.Root()))
	conn, err := net.DialTimeout("tcp", net.JoinHostPort(e2e.Inst.Servers["skua"].Address.String(), port),
		5*time.Second)
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.SetDeadline(time.Now().Add(10*time.Second)))
	in := bufio.NewReader(conn)
	said := func(last string) {
		for line := ""; !strings.HasPrefix(line, last); {
			var err error
			line, err = in.ReadString('\n')
			require.NoError(t, err, line)
		}
	}
	switch port {
	case "25", "587":
		said("220 ")
		io.WriteString(conn, "EHLO x\r\n")
		said("250 ")
		io.WriteString(conn, "STARTTLS\r\n")
		said("220 ")
	case "143":
		said("* OK")
		io.WriteString(conn, "a STARTTLS\r\n")
		said("a OK")
	case "110":
		said("+OK")
		io.WriteString(conn, "STLS\r\n")
		said("+OK")
	case "4190":
		said("OK")
		io.WriteString(conn, "STARTTLS\r\n")
		said("OK")
	}
	secure := tls.Client(conn, &tls.Config{ServerName: name, RootCAs: roots})
	require.NoError(t, secure.Handshake(), "%s on port %s", name, port)
	return secure.ConnectionState().PeerCertificates[0].DNSNames
}

func TestMailNames(t *testing.T) {
	i := e2e.Shared(t)
	ctx := context.Background()
	require.NoError(t, i.Client.Post(ctx, "/authorities", api.NewAuthority{Name: "trial",
		Directory: i.Authority.Directory(), Root: i.Authority.Root(), Email: "operator@ternisland.example",
		AcceptTerms: true}, nil))
	require.NoError(t, i.Client.Post(ctx, "/plans", api.NewPlan{Name: "harbourers",
		Limits: plans.Limits{plans.Disk: plans.Of(200 * plans.MiB), plans.Domains: plans.Of(3),
			plans.Subdomains: plans.Of(3),
			plans.PHPWorkers: plans.Of(1), plans.Mailboxes: plans.Of(3), plans.MailboxSize: plans.Of(50 * plans.MiB)},
		Features: plans.Features{"mail": true, "certificates": true}}, nil))
	skua := i.Servers["skua"].Address
	e2e.Opened(t, api.OpenAccount{Domain: "harbourers.example", Plan: "harbourers", SignInName: "harbourers",
		Customer: "Harbourers", NewCustomer: true, CustomerEmail: "h@post.test", Server: "skua"})
	mailbox(t, "harbourers", "anna@harbourers.example")
	enterRecords(t, "harbourers.example")
	certified(t, "harbourers.example")
	for _, port := range []string{"25", "465", "587", "993", "995", "143", "110", "4190"} {
		assert.Contains(t, shownFor(t, port, "mail.harbourers.example"), "mail.harbourers.example", port)
	}
	zone, _, _ := e2e.Command(t, "zone", "show", "harbourers.example")
	assert.NotContains(t, zone, "STSv1", "the server's own certificate is one that nobody trusts")

	e2e.Opened(t, api.OpenAccount{Domain: "skua.ternisland.example", Plan: "harbourers", SignInName: "ourselves",
		Customer: "Ourselves", NewCustomer: true, CustomerEmail: "o@post.test", Server: "skua"})
	require.NoError(t, i.PublicDNS.Serve("ternisland.example", fmt.Sprintf("skua A %s\nwww.skua A %[1]s\n", skua)))
	certified(t, "skua.ternisland.example")
	_, stderr, exit := e2e.Command(t, "server", "sweep", "skua")
	require.Zero(t, exit, stderr)
	for _, port := range []string{"25", "465", "993"} {
		assert.Contains(t, shownFor(t, port, "skua.ternisland.example"), "skua.ternisland.example", port)
	}
	// What others are asked for follows with the account's next change.
	_, stderr, exit = e2e.Command(t, "mailbox", "add", "bo@harbourers.example", "--generate")
	require.Zero(t, exit, stderr)
	zone, _, _ = e2e.Command(t, "zone", "show", "harbourers.example")
	assert.Regexp(t, `_mta-sts\s+3600\s+TXT\s.*v=STSv1; id=[0-9a-f]{16}`, zone)

	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM([]byte(i.Authority.Root()))
	browser := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{
		TLSClientConfig: &tls.Config{RootCAs: roots}, DialContext: func(ctx context.Context, _, at string) (net.Conn,
			error) {
			_, port, _ := net.SplitHostPort(at)
			return (&net.Dialer{}).DialContext(ctx, "tcp", net.JoinHostPort(skua.String(), port))
		}}}
	read := func(method, at string) string {
		request, err := http.NewRequestWithContext(ctx, method, at, strings.NewReader(""))
		require.NoError(t, err)
		answer, err := browser.Do(request)
		require.NoError(t, err)
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return fmt.Sprint(answer.StatusCode, " ", string(text))
	}
	assert.Regexp(t, `(?s)^200 .*type="imap".*<hostname>skua.ternisland.example</hostname><port>993</port>`,
		read("GET", "https://autoconfig.harbourers.example/mail/config-v1.1.xml?emailaddress=anna@harbourers.example"))
	assert.Regexp(t, `(?s)^200 .*<Type>SMTP</Type><Server>skua.ternisland.example</Server><Port>465</Port>`,
		read("POST", "https://autodiscover.harbourers.example/Autodiscover/Autodiscover.xml"))
	assert.Equal(t, "200 version: STSv1\r\nmode: enforce\r\nmx: skua.ternisland.example\r\nmax_age: 604800\r\n",
		read("GET", "https://mta-sts.harbourers.example/.well-known/mta-sts.txt"))
	assert.Contains(t, read("GET", "https://autoconfig.harbourers.example/"), "404")
	t.Run("the name for mailboxes leads to the console", func(t *testing.T) {
		consoleAt := func(address string) { settingOnSkua(t, "--console", address) }
		consoleAt("-")
		assert.Contains(t, read("GET", "https://webmail.harbourers.example/"), "404")
		consoleAt("https://console.ternisland.example")
		defer consoleAt("-")
		for _, scheme := range []string{"http", "https"} {
			request, err := http.NewRequestWithContext(ctx, http.MethodGet, scheme+"://webmail.harbourers.example/x?y",
				http.NoBody)
			require.NoError(t, err)
			answer, err := browser.Transport.RoundTrip(request)
			require.NoError(t, err)
			require.NoError(t, answer.Body.Close())
			assert.Equal(t, []any{302, "https://console.ternisland.example/mailbox"},
				[]any{answer.StatusCode, answer.Header.Get("Location")}, scheme)
		}
		assert.Contains(t, read("GET", "https://autoconfig.harbourers.example/"), "404")
	})

	t.Run("would others take it", func(t *testing.T) {
		enterRecords(t, "harbourers.example")
		require.NoError(t, i.PublicDNS.Serve("ternisland.example", fmt.Sprintf("skua A %s\nskua AAAA %s\n", skua,
			lab.Address6(skua))))
		out, stderr, exit := e2e.Command(t, "message", "rehearse", "harbourers.example")
		require.Zero(t, exit, out+stderr)
		assert.Equal(t, 9, strings.Count(out, "  right  "), out)
		require.NoError(t, i.PublicDNS.Serve("harbourers.example",
			"@ MX 10 mx.elsewhere.test.\n@ TXT \"v=spf1 -all\"\n"))
		out, stderr, exit = e2e.Command(t, "message", "rehearse", "harbourers.example")
		assert.Equal(t, 1, exit)
		assert.Contains(t, stderr, "4 of 8 things are wrong")
		assert.Regexp(t, `(?s)mx +wrong +mail for harbourers.example goes to mx.elsewhere.test, and not here.*`+
			`spf +wrong +harbourers.example does not say that \S+ may send its mail \(fail\).*`+
			`dkim +wrong +the key .* is not published\n +→ enter for k1._domainkey.harbourers.example: TXT "v=DKIM1`, out)
	})
	t.Run("an account that is closed leaves no certificate", func(t *testing.T) {
		_, stderr, exit := e2e.Command(t, "account", "close", "harbourers", "--yes")
		require.Zero(t, exit, stderr)
		left, err := i.Servers["skua"].Exec(ctx, "sh", "-c",
			"ls /etc/victualler/postfix-names /etc/victualler/dovecot-names; "+
				"cat /var/lib/victualler/mail/names; strings /var/lib/victualler/mail/names.db 2>/dev/null | head -50")
		require.NoError(t, err)
		assert.NotContains(t, left, "harbourers")
	})
}
