package mail

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/lab/labtest"
	"victualler/internal/lab/mailtest"
	"victualler/internal/standins/mailsink"
)

// addList adds a list by the client.
func addList(t *testing.T, address string, flags ...string) {
	t.Helper()
	_, stderr, exit := e2e.Command(t, append([]string{"list", "add", address, "--owners", "anna"}, flags...)...)
	require.Zero(t, exit, stderr)
}

// copyWith waits for what came to an address outside with a subject in it.
func copyWith(t *testing.T, to, subject string) mailsink.Message {
	t.Helper()
	var found mailsink.Message
	labtest.Eventually(t, func() bool {
		for _, m := range e2e.Inst.Outside.To(to) {
			if strings.Contains(m.Subject, subject) {
				found = m
				return true
			}
		}
		return false
	})
	return found
}

func TestDistributionLists(t *testing.T) {
	i := e2e.Shared(t)
	senders(t, "listers", "listers.example", 6000)
	unjudged(t)
	skua := i.Servers["skua"].Address
	_, stderr, exit := e2e.Command(t, "settings", "change", "--console", i.Address())
	require.Zero(t, exit, stderr)
	post := func(from, to, subject string) error {
		return mailtest.DeliverWhole(skua, from, []string{to}, fmt.Sprintf("From: %s\r\nTo: %s\r\nSubject: %s\r\n"+
			"Date: Sat, 28 Nov 2026 10:00:00 +0000\r\nMessage-ID: <%s@harbourmail.test>\r\n\r\nAt "+
			"six.\r\n", from, to, subject,
			strings.ReplaceAll(subject, " ", "-")))
	}
	inbox := func(text string) string {
		t.Helper()
		all := ""
		labtest.Eventually(t, func() bool {
			all, _ = mailtest.Inbox(skua, "anna@listers.example", password)
			return strings.Contains(all, text)
		})
		return all
	}
	addList(t, "crew@listers.example", "--name", "Crew", "--moderated", "on", "--members",
		"anna,bo@harbourmail.test,cy@harbourmail.test")
	require.NoError(t, post("bo@harbourmail.test", "crew@listers.example", "tide tonight"))
	inbox("Subject: tide tonight")
	got := copyWith(t, "bo@harbourmail.test", "tide tonight")
	assert.Equal(t, "listers.example", signedBy(t, got, "listers.example"))
	assert.Contains(t, got.Raw, `"bo (Crew)" <crew@listers.example>`)
	assert.Equal(t, "crew-request@listers.example", got.From)
	assert.EqualValues(t, "pass", mayBeFrom(t, got.From))

	t.Run("leaving by a click", func(t *testing.T) {
		got := copyWith(t, "cy@harbourmail.test", "tide tonight")
		found := regexp.MustCompile(`<(https?://[^>]+/leave/[^>]+)>`).FindStringSubmatch(got.Raw)
		require.NotEmpty(t, found, got.Raw)
		where, err := url.Parse(found[1])
		require.NoError(t, err)
		// Whoever only looks takes nobody out.
		answer, err := http.Get(i.Address() + where.Path)
		require.NoError(t, err)
		answer.Body.Close()
		assert.Equal(t, http.StatusOK, answer.StatusCode)
		answer, err = http.Post(i.Address()+where.Path, "application/x-www-form-urlencoded",
			strings.NewReader("List-Unsubscribe=One-Click"))
		require.NoError(t, err)
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		answer.Body.Close()
		assert.Equal(t, "You have left Crew.\n", string(text))
		out, _, _ := e2e.Command(t, "list", "members", "crew@listers.example")
		assert.NotContains(t, out, "cy@harbourmail.test")
	})
	t.Run("leaving by a message, while the service is down", func(t *testing.T) {
		found := regexp.MustCompile(`mailto:(crew-request@[^?>]+)\?subject=leave%20(\w+)`).FindStringSubmatch(got.Raw)
		require.NotEmpty(t, found)
		i.KillService()
		require.NoError(t, post("bo@harbourmail.test", found[1], "leave "+found[2]))
		require.NoError(t, post("bo@harbourmail.test", "crew@listers.example", "after leaving"))
		inbox("Subject: after leaving")
		require.NoError(t, i.StartService(context.Background()))
		labtest.Eventually(t, func() bool {
			_, _, _ = e2e.Command(t, "message", "list", "--account", "listers") // servers are asked
			out, _, exit := e2e.Command(t, "list", "members", "crew@listers.example")
			return exit == 0 && !strings.Contains(out, "bo@harbourmail.test")
		})
		for _, m := range i.Outside.To("bo@harbourmail.test") {
			assert.NotContains(t, m.Subject, "after leaving")
		}
	})
	t.Run("a stranger's waits for an owner", func(t *testing.T) {
		require.NoError(t, post("eve@quay.test", "crew@listers.example", "buy ropes"))
		told := inbox("waits: buy ropes")
		found := regexp.MustCompile(`subject=approve%20(\w+)`).FindStringSubmatch(strings.ReplaceAll(told, "=\r\n", ""))
		require.NotEmpty(t, found, told)
		out, stderr, exit := e2e.Command(t, "list", "held", "crew@listers.example")
		require.Zero(t, exit, stderr)
		assert.Contains(t, out, "buy ropes")
		assert.NotContains(t, told, `"eve (Crew)"`)
		require.NoError(t, mailtest.Submit(skua, "anna@listers.example", password, "anna@listers.example",
			[]string{"crew-request@listers.example"}, "From: anna@listers.example\r\nSubject: Re: approve "+found[1]+
				"\r\n\r\n\r\n"))
		inbox(`"eve (Crew)"`)
		require.NoError(t, post("eve@quay.test", "crew@listers.example", "buy more"))
		inbox("waits: buy more")
		var held api.HeldPosts
		require.NoError(t, i.Client.Get(context.Background(), "/accounts/listers/lists/crew/held", nil, &held))
		require.Len(t, held.Posts, 1)
		_, stderr, exit = e2e.Command(t, "list", "drop", "crew@listers.example", held.Posts[0].Post, "--yes")
		require.Zero(t, exit, stderr)
		out, _, _ = e2e.Command(t, "list", "held", "crew@listers.example")
		assert.NotContains(t, out, "buy more")
	})
	t.Run("others are refused while they still wait for the answer", func(t *testing.T) {
		addList(t, "board@listers.example", "--members", "anna", "--posting", "owners")
		assert.ErrorContains(t, post("eve@quay.test", "board@listers.example", "no"), "of its owners alone")
		assert.NoError(t, post("anna@listers.example", "board@listers.example", "minutes"))
		inbox("Subject: minutes")
	})
	t.Run("lists that lead to each other stop", func(t *testing.T) {
		addList(t, "circle@listers.example", "--members", "anna", "--posting", "anyone")
		_, stderr, exit := e2e.Command(t, "list", "add-members", "circle@listers.example", "board@listers.example")
		require.Zero(t, exit, stderr)
		change := func(args ...string) {
			_, stderr, exit := e2e.Command(t, args...)
			require.Zero(t, exit, stderr)
		}
		change("list", "change", "board@listers.example", "--posting", "anyone")
		change("list", "add-members", "board@listers.example", "circle@listers.example")
		require.NoError(t, post("eve@quay.test", "circle@listers.example", "round and round"))
		inbox("Subject: round and round")
		labtest.Eventually(t, func() bool {
			out, _, _ := e2e.Command(t, "message", "list", "--account", "listers")
			return strings.Contains(out, "the lists are a loop")
		})
		assert.LessOrEqual(t, strings.Count(inbox("Subject: round and round"), "Subject: round and round"), 2)
	})
}

// A list of thousands: each member gets one copy, whatever is killed meanwhile.
func TestLargeList(t *testing.T) {
	if testing.Short() {
		t.Skip("takes a minute")
	}
	i := e2e.Shared(t)
	const n = 1500 // 5,000 go as well, and keep other tests from the processors for a minute
	senders(t, "gazettes", "gazettes.example", 10_000)
	skua := i.Servers["skua"]
	members := make([]string, n)
	for at := range members {
		members[at] = fmt.Sprintf("reader%d@harbourmail.test", at)
	}
	var done api.DistributionListChanged
	require.NoError(t, i.Client.Post(context.Background(), "/accounts/gazettes/lists", api.NewDistributionList{
		Address: "news", Owners: []string{"anna"}, Members: members, Posting: "owners", Footer: "Leave: " +
			"{leave}"}, &done))
	e2e.Watched(t, done.Operation)
	assert.Equal(t, int64(n), done.List.Members)
	require.NoError(t, mailtest.Submit(skua.Address, "anna@gazettes.example", password, "anna@gazettes.example",
		[]string{"news@gazettes.example"}, "From: anna@gazettes.example\r\nTo: news@gazettes.example\r\nSubject: "+
			"the tides\r\n"+
			"\r\nAt six.\r\n"))
	count := map[string]int{}
	killed := 0
	labtest.Within(t, 5*time.Minute, func() bool {
		time.Sleep(500 * time.Millisecond)
		// What waits as the program was killed is tried again.
		_, _ = skua.Exec(context.Background(), "postqueue", "-f")
		clear(count)
		for _, m := range i.Outside.Messages() {
			if m.Subject == "the tides" {
				count[m.To[0]]++
			}
		}
		if killed < 3 && len(count) > (killed+1)*n/5 {
			_, _ = skua.Exec(context.Background(), "bash", "-c", "kill -KILL $(cat /run/victualler-mail/pid)")
			killed++
		}
		return len(count) == n
	})
	assert.Equal(t, 3, killed)
	twice := 0
	for _, times := range count {
		twice += times - 1
	}
	t.Logf("none of %d lost, %d twice", n, twice)
	// What Postfix had taken when the program was killed, and was not yet written down, goes once
	// more.
	assert.LessOrEqual(t, twice, 3*8)
}
