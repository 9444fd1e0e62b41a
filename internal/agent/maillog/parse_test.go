package maillog

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestParse(t *testing.T) {
	now := time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)
	at := time.Date(2026, 11, 28, 7, 42, 22, 0, time.UTC)
	const head = "Nov 28 07:42:22 skua postfix/"
	for text, want := range map[string]entry{
		head + "submissions/smtpd[651]: 4dGk1x2zQ9z6Y: client=unknown[10.77.0.1], sasl_method=PLAIN, " +
			"sasl_username=office@ternisland.example": {queue: "4dGk1x2zQ9z6Y", client: "10.77.0.1",
			signIn: "office@ternisland.example", user: -1},
		head + "smtpd[537]: DE67C52009B: client=mx.harbourmail.test[fd10:77::1]": {queue: "DE67C52009B",
			client: "fd10:77::1", user: -1},
		head + "pickup[534]: E6B095200A2: uid=999 from=<SRS0=TZR72ROJ=JR=harbourmail.test=eve@ternisland.example>": {
			queue: "E6B095200A2", user: 999, sender: "SRS0=TZR72ROJ=JR=harbourmail.test=eve@ternisland.example"},
		head + "cleanup[550]: E6B095200A2: message-id=<20261128074222.E6B095200A2@skua.ternisland.example>": {
			queue: "E6B095200A2", messageID: "20261128074222.E6B095200A2@skua.ternisland.example", user: -1},
		head + "qmgr[535]: DE67C52009B: from=<eve@harbourmail.test>, size=267, nrcpt=2 (queue active)": {
			queue: "DE67C52009B", sender: "eve@harbourmail.test", size: 267, user: -1},
		head + "qmgr[535]: DE67C52009B: removed": {queue: "DE67C52009B", removed: true, user: -1},
		head + "lmtp[653]: DE67C52009B: to=<office@ternisland.example>, orig_to=<sales@ternisland.example>, " +
			"relay=skua.ternisland.example[private/victualler-lmtp], delay=0.03, delays=0/0.01/0/0.02, dsn=2.0.0, " +
			"status=sent (250 2.0.0 <office@ternisland.example> GEfiNt6FCmskAgAAcifhzA Saved)": {queue: "DE67C52009B",
			recipient: "office@ternisland.example", original: "sales@ternisland.example",
			relay: "skua.ternisland.example[private/victualler-lmtp]", code: "2.0.0", outcome: Delivered,
			reply: "250 2.0.0 <office@ternisland.example> GEfiNt6FCmskAgAAcifhzA Saved", user: -1},
		head + "smtp[463]: E25BD520015: to=<refused@harbourmail.test>, relay=mx.harbourmail.test[10.77.0.1]:25, " +
			"delay=0.02, delays=0/0.01/0/0.01, dsn=5.0.0, status=bounced (host mx.harbourmail.test[10.77.0.1] " +
			"said: 550 " +
			"there is no such mailbox here, status=sent (x) (in reply to RCPT TO command))": {queue: "E25BD520015",
			recipient: "refused@harbourmail.test", relay: "mx.harbourmail.test[10.77.0.1]:25", code: "5.0.0",
			outcome: Failed, reply: "host mx.harbourmail.test[10.77.0.1] said: 550 there is no such mailbox here, " +
				"status=sent (x) (in reply to RCPT TO command)", user: -1},
		head + "error[463]: E25BD520015: to=<a@far.test>, relay=none, delay=3, delays=1/1/0/0, dsn=4.4.1, " +
			"status=deferred (connect to mx.far.test[192.0.2.1]:25: Connection timed out)": {queue: "E25BD520015",
			recipient: "a@far.test", code: "4.4.1", outcome: Waiting,
			reply: "connect to mx.far.test[192.0.2.1]:25: Connection timed out", user: -1},
		head + "smtpd[537]: NOQUEUE: reject: RCPT from unknown[10.77.0.1]: 554 5.7.1 <bo@harbourmail.test>: Relay " +
			"access denied; from=<eve@harbourmail.test> to=<bo@harbourmail.test> proto=ESMTP helo=<[127.0.0.1]>": {
			client: "10.77.0.1", sender: "eve@harbourmail.test", recipient: "bo@harbourmail.test", code: "5.7.1",
			outcome: Refused, reply: "554 5.7.1 <bo@harbourmail.test>: Relay access denied", user: -1},
		head + "cleanup[550]: BA96B52009B: milter-reject: END-OF-MESSAGE from unknown[10.77.0.1]: 5.7.1 From: " +
			"boss@ternisland.example; from=<x> is not an address of yours; from=<office@ternisland.example> " +
			"to=<crew@harbourmail.test> proto=ESMTP helo=<[127.0.0.1]>": {queue: "BA96B52009B", client: "10.77.0.1",
			sender: "office@ternisland.example", recipient: "crew@harbourmail.test", code: "5.7.1", outcome: Refused,
			reply: "5.7.1 From: boss@ternisland.example; from=<x> is not an address of yours", user: -1},
		head + "cleanup[488]: 4jc6zr41HmzmYN8: milter-header-info: header Spam-Score: 7.7; FORGED_MUA_THEBAT_MSGID " +
			"3.0, " +
			"HFI from unknown[10.77.0.1]; from=<winner@elsewhere.test> to=<office@ternisland.example> proto=ESMTP " +
			"helo=<x>: y>: 7.7; FORGED_MUA_THEBAT_MSGID 3.0, HFILTER_HELO 1.0": {queue: "4jc6zr41HmzmYN8", user: -1,
			score: "7.7; FORGED_MUA_THEBAT_MSGID 3.0, HFILTER_HELO 1.0"},
	} {
		got, is := parse(text, now)
		want.at = at
		if assert.True(t, is, text) {
			assert.Equal(t, want, got, text)
		}
	}
	for _, text := range []string{"", "rubbish", head + "smtpd[537]: NOQUEUE: reject: RCPT from skua[10.77.0.21]: " +
		"550 5.1.1 " +
		"<x@boats.example>: Recipient address rejected; from=<> to=<x@boats.example> proto=ESMTP helo=<" + Probe +
		">", head + "smtpd[537]: connect from unknown[10.77.0.1]",
		head + "bounce[464]: E25BD520015: sender non-delivery notification: E6EE6520008",
		head + "qmgr[1]: E25BD520015: from=<a@b.test>, status=expired, returned to sender",
		"Nov 28 07:42:22 skua dovecot: E25BD520015: to=<a@b.test>"} {
		_, is := parse(text, now)
		assert.False(t, is, text)
	}
	assert.Equal(t, time.Date(2025, 12, 31, 23, 59, 59, 0, time.UTC),
		timeOf("Dec 31 23:59:59", time.Date(2026, 1, 1, 0, 0, 5, 0, time.UTC)), "of last year")
}

// What strangers have written into the log breaks nothing.
func FuzzParse(f *testing.F) {
	now := time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)
	f.Add("Nov 28 07:42:22 skua postfix/smtp[1]: ABCDEF12: to=<, orig_to=<, relay=, status=sent")
	f.Add("Nov 28 07:42:22 skua postfix/smtpd[1]: NOQUEUE: reject: RCPT from x[y]: 5; from=<> to=<")
	f.Fuzz(func(t *testing.T, text string) {
		if e, is := parse(text, now); is {
			assert.False(t, e.at.After(now.Add(24*time.Hour)))
			assert.True(t, e.queue != "" || e.outcome == Refused)
		}
	})
}

func TestParseFiled(t *testing.T) {
	const head = "Nov 28 11:11:36 lmtp(anna@boats.example)<341><0DlzI+i2CmtVAQAAcifhzA>: Info: "
	name, folder, is := parseFiled(head + "sieve: msgid=<1@x.test>: fileinto action: stored mail into mailbox 'Junk'")
	assert.True(t, is)
	assert.Equal(t, "0DlzI+i2CmtVAQAAcifhzA Junk", name+" "+folder)
	_, folder, is = parseFiled(head + "sieve: msgid=<stored mail into mailbox 'Junk'>: fileinto action: stored mail " +
		"into mailbox 'Clients/O'Hara'")
	assert.True(t, is)
	assert.Equal(t, "Clients/O'Hara", folder, "a message says nothing of where it is put")
	for _, text := range []string{"", head + "msgid=<1@x.test>: saved mail to INBOX",
		head + "sieve: msgid=<1@x.test>: stored mail into mailbox 'INBOX'",
		"Nov 28 11:11:36 imap(anna@boats.example)<341><x>: Info: stored mail into mailbox 'Junk'"} {
		_, _, is := parseFiled(text)
		assert.False(t, is, text)
	}
}
