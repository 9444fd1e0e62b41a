package mail_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"victualler/internal/hosting/mail"
)

func TestJudgement(t *testing.T) {
	j := mail.Judgement{Score: 9.06, Rules: map[string]mail.Rule{"BAYES_SPAM": {Score: 5.1},
		"URL_IN_SUBJECT": {Score: 4},
		"MIME_GOOD":      {Score: -0.1}, "ARC_NA": {}, "R_SPF_SOFTFAIL": {Score: 0.06},
		"R_DKIM_ALLOW": {Details: []string{
			"tern.test:s=k1"}}, "DMARC_POLICY_QUARANTINE": {}}}
	assert.Equal(t, 91, j.Tenths())
	assert.Equal(t, "9.1; BAYES_SPAM 5.1, URL_IN_SUBJECT 4.0, MIME_GOOD -0.1, R_SPF_SOFTFAIL 0.1", j.ScoreText())
	assert.Equal(t, "mx1.tern.test; spf=softfail smtp.mailfrom=eve@x.test; dkim=pass header.d=tern.test header.s=k1; "+
		"dmarc=fail header.from=x.test; arc=none", oneLine(j.ResultsText("mx1.tern.test", "eve@x.test", "x.test")))
	assert.Equal(t, "mx1.tern.test; spf=softfail smtp.mailfrom=evespfpass@x.test; dkim=pass header.d=tern.test "+
		"header.s=k1; dmarc=fail; arc=none", oneLine(j.ResultsText("mx1.tern.test", "eve; spf=pass@x.test"[0:3]+
		";spf \r\npass@x.test", "")), "what others write adds no result")
	none := mail.Judgement{Score: -3}
	assert.Equal(t, 0, none.Tenths())
	assert.Equal(t, "-3.0", none.ScoreText())
	assert.Equal(t, "mx1.tern.test; none", oneLine(none.ResultsText("mx1.tern.test", "", "")))
	many := mail.Judgement{Rules: map[string]mail.Rule{}}
	for _, letter := range "ABCDEFGHIJKLMNOP" {
		many.Rules[string(letter)] = mail.Rule{Score: 1}
	}
	assert.Equal(t, 12, strings.Count(many.ScoreText(), "1.0"))
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

func TestForbiddenAttachment(t *testing.T) {
	exe := []string{"exe", "js"}
	part := func(fields string) string {
		return "MIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: " +
			"text/plain\r\n" +
			"\r\nhello\r\n--b\r\n" + fields + "\r\n\r\nTVo=\r\n--b--\r\n"
	}
	for fields, want := range map[string]string{
		`Content-Type: application/octet-stream; name="pay.exe"`:                                    "pay.exe",
		`Content-Disposition: attachment; filename="bill.pdf.EXE"`:                                  "bill.pdf.EXE",
		`Content-Disposition: attachment; filename="bill.exe. "`:                                    "bill.exe. ",
		`Content-Disposition: attachment; filename*=utf-8''r%C3%A9port.js`:                          "réport.js",
		`Content-Disposition: attachment; filename*0="a.e"; filename*1="xe"`:                        "a.exe",
		`Content-Disposition: attachment; filename="=?utf-8?B?YmlsbC5leGU=?="`:                      "bill.exe",
		`Content-Disposition: attachment; filename=bill of today.exe`:                               "bill of today.exe",
		`Content-Disposition: attachment; filename="exe"`:                                           "",
		`Content-Disposition: attachment; filename="bill.pdf"`:                                      "",
		"Content-Type: message/rfc822\r\n\r\n" + part(`Content-Disposition: inline; filename=x.js`): "x.js",
	} {
		assert.Equal(t, want, mail.ForbiddenAttachment(strings.NewReader(part(fields)), exe), fields)
	}
	assert.Empty(t, mail.ForbiddenAttachment(strings.NewReader(part(`Content-Type: x/y; name=a.exe`)), nil))
	deep := "Content-Type: message/rfc822\r\n\r\n"
	assert.Empty(t, mail.ForbiddenAttachment(strings.NewReader(strings.Repeat(deep, 10_000)+part(
		"Content-Type: x/y; name=a.exe")), exe), "there is an end to what is looked into")
	assert.Empty(t, mail.ForbiddenAttachment(strings.NewReader("no message"), exe))
}

func FuzzForbiddenAttachment(f *testing.F) {
	f.Add("Content-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: x/y; name*0*=utf-8''%ff\r\n\r\n--b--")
	f.Fuzz(func(t *testing.T, message string) {
		mail.ForbiddenAttachment(strings.NewReader(message), []string{"exe"})
	})
}
