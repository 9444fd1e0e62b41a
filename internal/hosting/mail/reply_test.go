package mail_test

import (
	"net/textproto"
	"testing"

	"github.com/stretchr/testify/assert"

	"victualler/internal/hosting/mail"
)

func TestDeservesReply(t *testing.T) {
	own := func(address string) bool { return address == "anna@boats.example" || address == "sales@boats.example" }
	to := func(more ...string) textproto.MIMEHeader {
		h := textproto.MIMEHeader{"To": {"Bo <bo@x.test>, Anna <Anna+shop@boats.example>"}}
		for i := 0; i+1 < len(more); i += 2 {
			h.Set(more[i], more[i+1])
		}
		return h
	}
	for name, c := range map[string]struct {
		sender string
		header textproto.MIMEHeader
		want   bool
	}{
		"somebody":            {"eve@harbourmail.test", to(), true},
		"as a copy":           {"eve@harbourmail.test", textproto.MIMEHeader{"Cc": {"sales@boats.example"}}, true},
		"said to be by hand":  {"eve@harbourmail.test", to("Auto-Submitted", "no"), true},
		"not to her":          {"eve@harbourmail.test", textproto.MIMEHeader{"To": {"all@boats.example"}}, false},
		"a failure":           {"", to(), false},
		"a robot":             {"MAILER-DAEMON@harbourmail.test", to(), false},
		"a list's owner":      {"owner-crew@harbourmail.test", to(), false},
		"a list's address":    {"crew-request@harbourmail.test", to(), false},
		"a list":              {"eve@harbourmail.test", to("List-Id", "<crew.harbourmail.test>"), false},
		"a newsletter":        {"eve@harbourmail.test", to("List-Unsubscribe", "<mailto:x@y.test>"), false},
		"in bulk":             {"eve@harbourmail.test", to("Precedence", "Bulk"), false},
		"another reply":       {"eve@harbourmail.test", to("Auto-Submitted", "auto-replied"), false},
		"an unreadable field": {"eve@harbourmail.test", textproto.MIMEHeader{"To": {"<<<"}}, false},
	} {
		assert.Equal(t, c.want, mail.DeservesReply(c.sender, c.header, own), name)
	}
}
