package mail_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"victualler/internal/hosting/mail"
)

func TestOutside(t *testing.T) {
	four, six := netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("2001:db8::1")
	sound := func() mail.Outside {
		return mail.Outside{Domain: "boats.example", Server: "mx1.tern.test", Addresses: []netip.Addr{four, six},
			MX: mail.Asked{Data: []string{"mx1.tern.test"}}, SPF: map[netip.Addr]string{four: "pass", six: "pass"},
			Selector: "k1", Key: "v=DKIM1; p=MIIB", Published: mail.Asked{Data: []string{"v=DKIM1; p=MIIB"}},
			DMARC: mail.Asked{Data: []string{"v=DMARC1; p=none"}}, Leads: []netip.Addr{six, four},
			Names: map[netip.Addr]mail.Asked{four: {Data: []string{"mx1.tern.test"}},
				six: {Data: []string{"mx1.tern.test"}}},
			Announced: mail.Asked{Data: []string{"v=STSv1; id=1"}},
			Policy:    mail.Asked{Data: []string{"version: STSv1", "mx: mx1.tern.test"}}}
	}
	for _, f := range sound().Findings() {
		assert.True(t, f.Right, f.Says.String())
	}
	assert.Len(t, sound().Findings(), 9)
	for says, spoil := range map[string]func(*mail.Outside){
		"nothing says who takes mail":              func(o *mail.Outside) { o.MX.Data = nil },
		"goes to mx.other.test, and not here":      func(o *mail.Outside) { o.MX.Data = []string{"mx.other.test"} },
		"does not say anything about boats":        func(o *mail.Outside) { o.MX = mail.Asked{Failed: "SERVFAIL"} },
		"does not say who may send its mail":       func(o *mail.Outside) { o.SPF[four] = "none" },
		"that 2001:db8::1 may send its mail (soft": func(o *mail.Outside) { o.SPF[six] = "softfail" },
		"cannot be understood":                     func(o *mail.Outside) { o.SPF[four] = "permerror" },
		"are not signed yet":                       func(o *mail.Outside) { o.Selector = "" },
		"with is not published":                    func(o *mail.Outside) { o.Published.Data = nil },
		"another key is published": func(o *mail.Outside) {
			o.Published.Data = []string{"v=DKIM1; " +
				"p=X"}
		},
		"to be done with messages": func(o *mail.Outside) { o.DMARC.Data = []string{"something"} },
		"several texts": func(o *mail.Outside) {
			o.DMARC.Data = []string{"v=DMARC1; p=none",
				"v=DMARC1; p=reject"}
		},
		"does not lead to 192.0.2.1": func(o *mail.Outside) { o.Leads = []netip.Addr{six} },
		"2001:db8::1 has no name":    func(o *mail.Outside) { delete(o.Names, six) },
		"is called host7.test, and not " +
			"mx1": func(o *mail.Outside) { o.Names[four] = mail.Asked{Data: []string{"host7.test"}} },
		"the right server: it has ended": func(o *mail.Outside) { o.TLS = "it has ended" },
		"cannot be read: 404":            func(o *mail.Outside) { o.Policy = mail.Asked{Failed: "404"} },
		"does not name mx1.tern.test":    func(o *mail.Outside) { o.Policy.Data = nil },
	} {
		o := sound()
		spoil(&o)
		var wrong []mail.Finding
		for _, f := range o.Findings() {
			if !f.Right {
				wrong = append(wrong, f)
			}
		}
		if assert.Len(t, wrong, 1, says) {
			assert.Contains(t, wrong[0].Says.String(), says)
			assert.NotEmpty(t, wrong[0].Do.String(), "what helps is said")
		}
	}
	quiet := sound()
	quiet.Announced = mail.Asked{}
	assert.Len(t, quiet.Findings(), 8, "who announces no policy needs none")
}
