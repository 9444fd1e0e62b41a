package mail

import (
	"context"
	"fmt"
	"regexp"
	"strings"
	"sync"
	"testing"

	"blitiri.com.ar/go/spf"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/lab/labtest"
	"victualler/internal/lab/mailtest"
)

// What sites send whose mail is on another server goes through that one, which counts and signs it
// like everything else of the account.
func TestSitesWithMailElsewhere(t *testing.T) {
	i := e2e.Shared(t)
	const bound = 12
	require.NoError(t, i.Client.Post(context.Background(), "/plans", api.NewPlan{Name: "post-of-ferrymen",
		Limits: plans.Limits{plans.Disk: plans.Of(200 * plans.MiB), plans.Domains: plans.Of(3),
			plans.PHPWorkers: plans.Of(2), plans.Mailboxes: plans.Of(10), plans.MailboxSize: plans.Of(50 * plans.MiB),
			plans.SendsPerHour: plans.Of(bound), plans.BounceShare: plans.Of(50)},
		Features: plans.Features{"mail": true}}, nil))
	for name, domain := range map[string]string{"ferrymen": "ferrymen.example", "rowers": "rowers.example"} {
		e2e.Opened(t, api.OpenAccount{Domain: domain, Plan: "post-of-ferrymen", SignInName: name, Customer: name,
			NewCustomer: true, CustomerEmail: name + "@post.test", Server: "skua"})
	}
	send := func(server, account, from string) string {
		out, _ := i.Servers[server].Exec(context.Background(), "victualler-sandbox", "enter", account, "bash", "-c",
			fmt.Sprintf("printf 'From: %s\\nTo: quay@harbourmail.test\\nSubject: of a site\\n\\nx\\n' | "+
				"/usr/sbin/sendmail -t -i 2>&1; echo exit $?", from))
		return out
	}
	assert.Contains(t, send("skua", "ferrymen", "shop@ferrymen.example"), "has no mail, so its sites send none")

	out, stderr, exit := e2e.Command(t, "mailbox", "add", "anna@ferrymen.example", "--server", "fulmar", "--generate")
	require.Zero(t, exit, stderr)
	assert.Contains(t, out+stderr, "the mail of ferrymen is on fulmar: named by the person who added the first mailbox")
	secret := passwordIn(t, out+stderr)
	e2e.Settled(t)
	mailbox(t, "rowers", "anna@rowers.example") // on skua, with its sites
	enterRecords(t, "ferrymen.example")

	assert.Equal(t, "exit 0\n", send("skua", "ferrymen", "shop@ferrymen.example"))
	m := arrived(t, "quay@harbourmail.test", "of a site", 1)[0]
	assert.Equal(t, "ferrymen.example", signedBy(t, m, "ferrymen.example"))
	assert.Equal(t, spf.Pass, mayCome(t, "fulmar", m.From))
	assert.Equal(t, "pass", dmarcOf(t, m, "ferrymen.example", mayCome(t, "fulmar", m.From)))
	assert.Contains(t, m.Raw, "by fulmar.ternisland.example")
	out, stderr, exit = e2e.Command(t, "message", "list", "--account", "ferrymen")
	require.Zero(t, exit, stderr)
	assert.Contains(t, out, "shop@ferrymen.example")

	t.Run("nobody sends as a neighbour", func(t *testing.T) {
		for _, from := range []string{"anna@rowers.example", "a@harbourmail.test", "root@fulmar.ternisland.example"} {
			assert.Contains(t, send("skua", "ferrymen", from), "exit 77", from)
		}
		// What breaks into a site finds no way round: it has no key, and the other server's port
		// asks for one.
		out, _ := i.Servers["skua"].Exec(context.Background(), "victualler-sandbox", "enter", "ferrymen", "bash", "-c",
			"cat /etc/victualler-mail/config.json /etc/victualler-mail/sites/* /run/victualler-mail/*; "+
				"exec 3<>/dev/tcp/"+i.Servers["fulmar"].Address.String()+"/7678 && printf "+
				"'{\"account\":1}\\n{}\\nx' >&3 && timeout 5 cat <&3")
		assert.NotContains(t, out, "key")
		assert.NotContains(t, out, "exit")
	})
	t.Run("one tally for mailboxes and sites, however many send at once", func(t *testing.T) {
		fulmar := i.Servers["fulmar"].Address
		var mu sync.Mutex
		sent, last := 1, ""
		var group sync.WaitGroup
		for range 3 {
			group.Go(func() {
				for range bound {
					out := send("skua", "ferrymen", "shop@ferrymen.example")
					mu.Lock()
					if out == "exit 0\n" {
						sent++
					} else if !strings.Contains(out, "at the same time") {
						last = out
					}
					mu.Unlock()
				}
			})
			group.Go(func() {
				for range bound {
					err := mailtest.Submit(fulmar, "anna@ferrymen.example", secret, "anna@ferrymen.example",
						[]string{"quay@harbourmail.test"}, "From: anna@ferrymen.example\r\nSubject: of a "+
							"mailbox\r\n\r\nx\r\n")
					mu.Lock()
					if err == nil {
						sent++
					}
					mu.Unlock()
				}
			})
		}
		group.Wait()
		assert.Equal(t, bound, sent)
		assert.Contains(t, last, "may send to 12 recipients within an hour, and has sent to 12")
		assert.Contains(t, last, "exit 75")
	})
	t.Run("a server that is away", func(t *testing.T) {
		require.NoError(t, i.Servers["fulmar"].Cut(false))
		out := send("skua", "ferrymen", "shop@ferrymen.example")
		require.NoError(t, i.Servers["fulmar"].Cut(true))
		assert.Contains(t, out, "cannot be reached just now")
		assert.Contains(t, out, "exit 75")
		assert.Equal(t, "exit 0\n", send("skua", "rowers", "shop@rowers.example"), "the server's own sites go on")
	})
	t.Run("one disk limit for both", func(t *testing.T) {
		fulmar := i.Servers["fulmar"].Address
		require.NoError(t, mailtest.Deliver(fulmar, "a@elsewhere.test", "anna@ferrymen.example",
			strings.Repeat("much to tell\r\n", 30<<20/14)))
		fill := func() string {
			out, _ := i.Servers["skua"].Exec(context.Background(), "victualler-sandbox", "enter", "ferrymen", "bash",
				"-c", "dd if=/dev/urandom of=sites/data bs=1M count=180 2>&1; sync; rm sites/data")
			return out
		}
		assert.NotContains(t, fill(), "quota")
		labtest.Eventually(t, func() bool {
			_, stderr, exit := e2e.Command(t, "server", "sweep", "fulmar")
			require.Zero(t, exit, stderr)
			e2e.Settled(t)
			return strings.Contains(fill(), "Disk quota exceeded")
		})
		// What is told is what the latest sweep found, which may have met a file that was being
		// written.
		told := regexp.MustCompile(`disk\s+[23]\d(\.\d)?M of 200M`)
		labtest.Eventually(t, func() bool {
			_, stderr, exit := e2e.Command(t, "server", "sweep", "skua")
			require.Zero(t, exit, stderr)
			out, stderr, exit := e2e.Command(t, "account", "show", "ferrymen")
			require.Zero(t, exit, stderr)
			return told.MatchString(out)
		})
	})
	for _, label := range []string{"skua", "fulmar"} {
		out, stderr, exit := e2e.Command(t, "server", "sweep", label)
		require.Zero(t, exit, stderr)
		assert.Contains(t, out, "no difference", label)
	}
	_, stderr, exit = e2e.Command(t, "account", "close", "ferrymen", "--yes")
	require.Zero(t, exit, stderr)
	labtest.Eventually(t, func() bool {
		_, err := i.Servers["skua"].Exec(context.Background(), "test", "-e", "/etc/victualler-mail/sites/ferrymen.conf")
		return err != nil
	})
}
