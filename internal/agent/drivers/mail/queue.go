package mail

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/render"
)

// mostQueued is how many messages that wait are told of at once.
const mostQueued = 5000

// Queue lists the messages that wait (postqueue(1)).
func (d *Postfix) Queue(ctx context.Context) (agentlink.Queue, error) {
	queue := agentlink.Queue{Messages: []agentlink.QueuedMessage{}}
	if d.server.Load() == nil {
		return queue, nil
	}
	out, err := exec.CommandContext(ctx, "postqueue", "-j").Output()
	if err != nil {
		return queue, fmt.Errorf("postqueue: %w", err)
	}
	for line := range bytes.Lines(out) {
		var m struct {
			Queue      string `json:"queue_name"`
			ID         string `json:"queue_id"`
			Came       int64  `json:"arrival_time"`
			Size       int64  `json:"message_size"`
			Sender     string `json:"sender"`
			Recipients []struct {
				Address string `json:"address"`
				Reason  string `json:"delay_reason"`
			} `json:"recipients"`
		}
		if err := json.Unmarshal(line, &m); err != nil {
			return queue, fmt.Errorf("postqueue: %w", err)
		}
		one := agentlink.QueuedMessage{Queue: m.ID, Held: m.Queue == "hold", Came: time.Unix(m.Came, 0).UTC(),
			Size: m.Size, Sender: m.Sender, Recipients: []agentlink.QueuedRecipient{}}
		for _, r := range m.Recipients {
			one.Recipients = append(one.Recipients, agentlink.QueuedRecipient{Address: r.Address, Reason: r.Reason})
		}
		queue.Messages = append(queue.Messages, one)
	}
	slices.SortStableFunc(queue.Messages, func(a, b agentlink.QueuedMessage) int { return a.Came.Compare(b.Came) })
	if len(queue.Messages) > mostQueued {
		queue.Messages, queue.More = queue.Messages[:mostQueued], true
	}
	return queue, nil
}

// queueName is how Postfix names messages; a word that means all of them is none.
var queueName = regexp.MustCompile(`^[0-9A-Za-z]{6,20}$`)

// ChangeQueue does something with messages that wait (postsuper(1), postqueue(1)). Those that have
// gone meanwhile do not matter.
func (d *Postfix) ChangeQueue(ctx context.Context, change agentlink.QueueChange) error {
	for _, name := range change.Messages {
		if !queueName.MatchString(name) || name == strings.ToUpper(name) && !strings.ContainsAny(name, "0123456789") {
			return fmt.Errorf("%q is no name of a message", name)
		}
	}
	option := map[string]string{agentlink.QueueHold: "-h", agentlink.QueueRelease: "-H",
		agentlink.QueueRemove: "-d"}[change.Do]
	switch {
	case change.Do == agentlink.QueueRetry:
		return retry(ctx, change.Messages)
	case option == "":
		return errors.New("nothing of that name can be done with messages that wait")
	}
	cmd := exec.CommandContext(ctx, "postsuper", option, "-")
	cmd.Stdin = strings.NewReader(strings.Join(change.Messages, "\n") + "\n")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("postsuper: %w: %s", err, bytes.TrimSpace(out))
	}
	if change.Do == agentlink.QueueRelease {
		return retry(ctx, change.Messages) // it would be minutes until their turn comes
	}
	return nil
}

// retry has messages tried now.
func retry(ctx context.Context, messages []string) error {
	for _, name := range messages {
		if out, err := exec.CommandContext(ctx, "postqueue", "-i", name).CombinedOutput(); err != nil {
			return fmt.Errorf("postqueue: %w: %s", err, bytes.TrimSpace(out))
		}
	}
	return nil
}

// removeFrom removes the messages that wait and were sent from domains. Those to them stay: whoever
// has sent one is told that nobody is there.
func (d *Postfix) removeFrom(ctx context.Context, domains []string) error {
	for {
		queue, err := d.Queue(ctx)
		if err != nil {
			return err
		}
		var theirs []string
		for _, m := range queue.Messages {
			if _, domain, _ := strings.Cut(strings.ToLower(m.Sender), "@"); slices.Contains(domains, domain) {
				theirs = append(theirs, m.Queue)
			}
		}
		if len(theirs) == 0 {
			return nil
		}
		err = d.ChangeQueue(ctx, agentlink.QueueChange{Do: agentlink.QueueRemove, Messages: theirs})
		if err != nil || !queue.More {
			return err
		}
	}
}

// Reopen has Postfix write into a new file, as the one it writes into has another name.
func (d *Postfix) Reopen(ctx context.Context) error {
	if out, err := exec.CommandContext(ctx, "postfix", "reload").CombinedOutput(); err != nil {
		return fmt.Errorf("postfix reload: %w: %s", err, bytes.TrimSpace(out))
	}
	return nil
}

// Mailer implements agent.Mailer.
type Mailer struct {
	*Postfix
	Tables *Tables

	mu sync.Mutex
	// failuresTold is when it was last told which sign-ins fail.
	failuresTold time.Time
}

// failuresPause is how often that is told, as it may be of many mailboxes.
const failuresPause = 15 * time.Second

// Run reads along what Postfix and Dovecot tell of messages, until the context ends.
func (m *Mailer) Run(ctx context.Context) {
	m.Tables.Log.Whose, m.Tables.Log.Failed = m.Tables.whose, m.Tables.judge
	go func() {
		if err := m.Tables.Log.RunFolders(ctx, render.MailboxLog, func(ctx context.Context) error {
			out, err := exec.CommandContext(ctx, "doveadm", "log", "reopen").CombinedOutput()
			if err != nil {
				return fmt.Errorf("doveadm log reopen: %w: %s", err, bytes.TrimSpace(out))
			}
			return nil
		}); err != nil {
			slog.Warn("log of mailboxes", "reason", err)
		}
	}()
	if err := m.Tables.Log.Run(ctx, render.MailLog, m.Reopen); err != nil {
		slog.Warn("mail log", "reason", err)
	}
}

// MailLog implements agent.Mailer.
func (m *Mailer) MailLog(ctx context.Context, asked agentlink.MailLogRequest) (agentlink.MailLogPage, error) {
	page, err := m.Tables.Log.Since(ctx, asked.After)
	if err != nil {
		return page, err
	}
	page.Left = left(ctx)
	m.mu.Lock()
	due := time.Since(m.failuresTold) > failuresPause
	if due {
		m.failuresTold = time.Now()
	}
	m.mu.Unlock()
	if due {
		if page.Failures, err = m.Tables.Log.Failures(ctx); err != nil {
			return page, err
		}
	}
	page.Stops, err = m.Tables.stops(ctx)
	return page, err
}
