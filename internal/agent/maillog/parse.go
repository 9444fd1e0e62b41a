// Package maillog knows what has become of messages: it reads along the log that Postfix writes,
// and keeps a row for each recipient of each message, for some days, in which the service asks for
// them.
package maillog

import (
	"regexp"
	"strconv"
	"strings"
	"time"

	"victualler/internal/hosting/mail"
)

// entry is what a line of the log tells of a message, by what it is told of.
type entry struct {
	at    time.Time
	queue string // the message's name in the queue; empty where it never came so far

	// Of the message, each empty where the line does not tell.
	client, signIn, messageID, sender string
	size                              int64
	// user is the number of the local user that has handed it over; -1 where the line does not
	// tell.
	user int64
	// score is what the spam filter found, with its rules.
	score string

	// Of a recipient.
	recipient, original, relay, code, reply string
	outcome                                 Outcome

	removed bool
}

// Probe is the name by which the agent greets mail servers when it only asks whether they would
// take a message. What they answer is told to nobody.
const Probe = "victualler-agent.invalid"

// Outcome is what has become of a message for a recipient.
type Outcome string

// Outcomes.
const (
	// Delivered: it is in the mailbox, or was taken by somebody else's server.
	Delivered Outcome = "delivered"
	// Forwarded: an address passes it on, as another message.
	Forwarded Outcome = "forwarded"
	// Kept: an address has taken it and does not pass it on, for now or at all; the reply tells
	// why.
	Kept Outcome = "kept"
	// Waiting: it is tried again.
	Waiting Outcome = "waiting"
	// Failed: its sender was told that it does not arrive.
	Failed Outcome = "failed"
	// Refused: whoever sent it was told at once.
	Refused Outcome = "refused"
)

var (
	line = regexp.MustCompile(`^(\w{3} [ \d]\d \d\d:\d\d:\d\d) \S+ postfix/(?:[\w-]+/)?([\w-]+)\[\d+\]: (.*)$`)
	// queueName is a name in the queue: the long form, and the short one of before.
	queueName = regexp.MustCompile(`^([0-9A-Za-z]{6,20}): (.*)$`)
	refusal   = regexp.MustCompile(`^(?:milter-)?reject: (\S+) from \S+\[([^\]]*)\](?::\d+)?: (.*)$`)
	code      = regexp.MustCompile(`\b([245]\.\d{1,3}\.\d{1,3})\b`)
)

// parse reads a line; false is for one that tells nothing of a message. The log's times have no
// year and no zone: now says which year it is, and where.
func parse(text string, now time.Time) (entry, bool) {
	found := line.FindStringSubmatch(text)
	if found == nil {
		return entry{}, false
	}
	e := entry{at: timeOf(found[1], now), user: -1}
	program, rest := found[2], found[3]
	if after, is := strings.CutPrefix(rest, "NOQUEUE: "); is {
		return e, e.readRefusal(after)
	}
	if found = queueName.FindStringSubmatch(rest); found == nil {
		return entry{}, false
	}
	e.queue, rest = found[1], found[2]
	switch {
	case strings.Contains(rest[:min(len(rest), 16)], "reject: "):
		return e, e.readRefusal(rest)
	case strings.HasPrefix(rest, "to=<"):
		return e, e.readDelivery(rest)
	case rest == "removed" && program == "qmgr":
		e.removed = true
		return e, true
	case strings.HasPrefix(rest, "client="):
		host, more, _ := strings.Cut(strings.TrimPrefix(rest, "client="), ", ")
		if at := strings.IndexByte(host, '['); at >= 0 {
			e.client = strings.TrimSuffix(host[at+1:], "]")
		}
		_, e.signIn, _ = strings.Cut(more, "sasl_username=")
		e.signIn, _, _ = strings.Cut(e.signIn, ", ")
		return e, true
	case strings.HasPrefix(rest, "uid=") && program == "pickup":
		number, from, _ := strings.Cut(strings.TrimPrefix(rest, "uid="), " ")
		e.user, _ = strconv.ParseInt(number, 10, 64)
		e.sender, _ = between(from, "from=<")
		return e, true
	case strings.HasPrefix(rest, scoreLine) && program == "cleanup":
		// The line has but the beginning of the field; all of it stands at the end.
		at := strings.LastIndex(rest, ">: ")
		if at < 0 {
			return entry{}, false
		}
		e.score = rest[at+len(">: "):]
		return e, true
	case strings.HasPrefix(rest, "message-id=") && program == "cleanup":
		e.messageID = strings.Trim(strings.TrimPrefix(rest, "message-id="), "<>")
		return e, true
	case strings.HasPrefix(rest, "from=<") && program == "qmgr":
		sender, more := between(rest, "from=<")
		e.sender = sender
		if strings.HasPrefix(more, ", status=expired") {
			return e, false // each recipient is told of on a line of its own
		}
		number, _, _ := strings.Cut(strings.TrimPrefix(more, ", size="), ",")
		e.size, _ = strconv.ParseInt(number, 10, 64)
		return e, true
	}
	return entry{}, false
}

var (
	// filed is a line of Dovecot's: where a delivery was put that was asked for over LMTP, by the
	// name of its session.
	filed = regexp.MustCompile(`^\w{3} [ \d]\d \d\d:\d\d:\d\d lmtp\([^)]*\)<\d+><([A-Za-z0-9+/:]+)>: Info: (.*)$`)
	// session is the same name in what Dovecot answers to Postfix.
	session = regexp.MustCompile(`^250 2\.0\.0 <.*> ([A-Za-z0-9+/:]+) Saved$`)
)

// parseFiled reads a line of Dovecot's log; false is for one that tells of no folder.
func parseFiled(text string) (name, folder string, is bool) {
	found := filed.FindStringSubmatch(text)
	if found == nil {
		return "", "", false
	}
	// What the message says of itself stands before.
	at := strings.LastIndex(found[2], "stored mail into mailbox '")
	if at < 0 {
		return "", "", false
	}
	folder = strings.TrimSuffix(found[2][at+len("stored mail into mailbox '"):], "'")
	return found[1], folder, folder != "INBOX"
}

// scoreLine begins what is told of a field that the spam filter's findings are in.
const scoreLine = "milter-header-info: header " + mail.ScoreField + ": "

// timeOf reads a time of the log; it is in the past.
func timeOf(text string, now time.Time) time.Time {
	at, err := time.ParseInLocation("Jan _2 15:04:05", text, now.Location())
	if err != nil {
		return now
	}
	at = at.AddDate(now.Year(), 0, 0)
	if at.After(now.Add(24 * time.Hour)) {
		at = at.AddDate(-1, 0, 0)
	}
	return at
}

// between returns what stands between an opening that ends with < and the > which closes it, and
// what follows.
func between(text, opening string) (inside, rest string) {
	_, after, has := strings.Cut(text, opening)
	if !has {
		return "", text
	}
	// An address may have a > in quotation marks.
	if at := strings.Index(after, ">,"); at >= 0 {
		return after[:at], after[at+1:]
	}
	if at := strings.Index(after, "> "); at >= 0 {
		return after[:at], after[at+1:]
	}
	return strings.TrimSuffix(after, ">"), ""
}

// readDelivery reads what became of a message for a recipient (bounce(8)).
func (e *entry) readDelivery(text string) bool {
	e.recipient, text = between(text, "to=<")
	if strings.HasPrefix(text, ", orig_to=<") {
		e.original, text = between(text, ", orig_to=<")
	}
	for field := range strings.SplitSeq(text, ", ") {
		name, value, _ := strings.Cut(field, "=")
		switch name {
		case "relay":
			e.relay = value
		case "dsn":
			e.code = value
		case "status":
			status, _, _ := strings.Cut(value, " ")
			e.outcome = map[string]Outcome{"sent": Delivered, "deferred": Waiting, "bounced": Failed,
				"expired": Failed, "undeliverable": Failed}[status]
			_, reply, _ := strings.Cut(text, "status="+status+" ")
			e.reply = strings.TrimSuffix(strings.TrimPrefix(reply, "("), ")")
			if e.relay == "none" {
				e.relay = ""
			}
			return e.outcome != ""
		}
	}
	return false
}

// readRefusal reads that a message was not taken (smtpd(8), cleanup(8)).
func (e *entry) readRefusal(text string) bool {
	found := refusal.FindStringSubmatch(text)
	if found == nil {
		return false
	}
	e.client = found[2]
	// What was said ends where the envelope begins, and may contain anything before.
	said := found[3]
	if strings.HasSuffix(said, " helo=<"+Probe+">") {
		return false
	}
	at := strings.LastIndex(said, "; from=<")
	if at < 0 {
		return false
	}
	envelope := said[at+2:]
	e.reply = said[:at]
	e.sender, envelope = between(envelope, "from=<")
	e.recipient, _ = between(strings.TrimSpace(envelope), "to=<")
	if c := code.FindString(e.reply); c != "" {
		e.code = c
	}
	_, signIn, has := strings.Cut(envelope, "sasl_username=<")
	if has {
		e.signIn, _, _ = strings.Cut(signIn, ">")
	}
	e.outcome = Refused
	return e.recipient != ""
}
