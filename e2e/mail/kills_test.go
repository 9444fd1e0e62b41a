package mail

import (
	"context"
	"fmt"
	"math/rand/v2"
	"regexp"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/lab/labtest"
	"victualler/internal/lab/mailtest"
)

// kills is how many processes are killed while messages are sent.
const kills = 100

// Messages with numbers are sent all the time, into a mailbox, over a forward, and by a mailbox's
// holder, while the programs that they pass are killed at random. Each arrives; how many arrive
// twice is told, as a server that is cut off before it has heard that a message was taken must send
// it once more (RFC 1047).
func TestKilledAnywhere(t *testing.T) {
	if testing.Short() {
		t.Skip("takes minutes")
	}
	i := e2e.Shared(t)
	senders(t, "survivors", "survivors.example", 100_000)
	addAddress(t, "survivors", "on@survivors.example", "onward@harbourmail.test")
	server := i.Servers["skua"]
	skua := server.Address
	stop := make(chan struct{})
	var sending sync.WaitGroup
	end := sync.OnceFunc(func() { close(stop); sending.Wait() })
	defer end() // other tests count what is sent
	// stream sends numbered messages until the end, each again until it is taken, and returns how
	// many there were.
	stream := func(send func(text string) error) *atomic.Int64 {
		n := new(atomic.Int64)
		sending.Go(func() {
			for {
				select {
				case <-stop:
					return
				case <-time.After(20 * time.Millisecond):
				}
				for send(fmt.Sprintf("number %d.", n.Load())) != nil {
					time.Sleep(50 * time.Millisecond)
				}
				n.Add(1)
			}
		})
		return n
	}
	stored := stream(func(text string) error {
		return mailtest.Deliver(skua, "kit@harbourmail.test", "anna@survivors.example", "stored "+text)
	})
	forwarded := stream(func(text string) error {
		return mailtest.Deliver(skua, "kit@harbourmail.test", "on@survivors.example", "forwarded "+text)
	})
	sent := stream(func(text string) error {
		return mailtest.Submit(skua, "anna@survivors.example", password, "anna@survivors.example",
			[]string{"lee@harbourmail.test"}, "From: anna@survivors.example\r\nSubject: x\r\n\r\nsent "+text+"\r\n")
	})
	chance := rand.New(rand.NewPCG(14, 100))
	for killed := range int64(kills) {
		time.Sleep(time.Duration(chance.IntN(1200)) * time.Millisecond)
		// A slow machine is given the time to take a message for each kill.
		labtest.Within(t, 3*time.Minute, func() bool { return stored.Load() > killed },
			"message %d is not taken", killed)
		switch victim := chance.IntN(6); victim {
		case 5:
			i.KillService()
			require.NoError(t, i.StartService(context.Background()))
		default:
			// A process of Postfix or Dovecot besides the first ones is killed, too.
			_, _ = server.Exec(context.Background(), "bash", "-c", []string{
				"kill -KILL $(cat /var/spool/postfix/pid/master.pid)", "kill -KILL $(cat /run/dovecot/master.pid)",
				"kill -KILL $(cat /run/victualler-mail/pid)", "pkill -KILL -f 'victualler-agent.* run'",
				"pkill -KILL -n '^(smtpd|cleanup|qmgr|lmtp|smtp|pickup|proxymap|auth|lmtp|imap)$'"}[victim])
		}
	}
	end()
	t.Logf("%d stored, %d passed on, %d sent", stored.Load(), forwarded.Load(), sent.Load())
	flush := func() {
		_, _ = server.Exec(context.Background(), "postqueue", "-f") // it may be starting just now
	}
	check := func(what string, taken *atomic.Int64, texts func() string) {
		t.Helper()
		count := map[int]int{}
		pattern := regexp.MustCompile(what + ` number (\d+)\.`)
		labtest.Eventually(t, func() bool {
			flush()
			clear(count)
			for _, found := range pattern.FindAllStringSubmatch(texts(), -1) {
				number, _ := strconv.Atoi(found[1])
				count[number]++
			}
			return int64(len(count)) == taken.Load()
		})
		twice := 0
		for _, times := range count {
			twice += times - 1
		}
		require.Positive(t, taken.Load(), what)
		t.Logf("%s: none of %d lost, %d twice", what, taken.Load(), twice)
		assert.LessOrEqual(t, twice, kills, what)
	}
	check("stored", stored, func() string {
		text, _ := mailtest.Inbox(skua, "anna@survivors.example", password)
		return text
	})
	outside := func(to string) func() string {
		return func() string {
			all := ""
			for _, m := range i.Outside.To(to) {
				all += m.Text
			}
			return all
		}
	}
	check("forwarded", forwarded, outside("onward@harbourmail.test"))
	check("sent", sent, outside("lee@harbourmail.test"))
	// The agent may have been the last one that was killed.
	stderr := ""
	labtest.Eventually(t, func() bool {
		var exit int
		_, stderr, exit = e2e.Command(t, "server", "sweep", "skua")
		return exit == 0
	}, &stderr)
}
