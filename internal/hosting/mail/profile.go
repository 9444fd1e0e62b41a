package mail

import (
	"bytes"
	"crypto/sha256"
	"encoding/xml"
	"fmt"
	"strings"
)

// ProfileType is the media type of a [Profile].
const ProfileType = "application/x-apple-aspen-config"

// Profile is a file by which telephones set up a mailbox once it is opened there: a property list
// (Apple, Configuration Profile Reference, “Email payload”). It has no password, which the
// telephone asks for.
func Profile(address, server, title string) []byte {
	var out bytes.Buffer
	text := func(key, value string) {
		out.WriteString("<key>" + key + "</key><string>")
		_ = xml.EscapeText(&out, []byte(value)) // a buffer takes everything
		out.WriteString("</string>\n")
	}
	number := func(key string, n int) { fmt.Fprintf(&out, "<key>%s</key><integer>%d</integer>\n", key, n) }
	yes := func(key string) { fmt.Fprintf(&out, "<key>%s</key><true/>\n", key) }
	identifier := func(kind string) {
		// Names what it is of, so that a newer one takes its place.
		_, domain, _ := strings.Cut(address, "@")
		labels := strings.Split(domain, ".")
		for a, b := 0, len(labels)-1; a < b; a, b = a+1, b-1 {
			labels[a], labels[b] = labels[b], labels[a]
		}
		text("PayloadIdentifier", strings.Join(labels, ".")+"."+kind+"."+uuidOf(address)[:8])
		text("PayloadUUID", uuidOf(kind+" "+address))
		number("PayloadVersion", 1)
	}
	out.WriteString(xml.Header + `<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" ` +
		`"http://www.apple.com/DTDs/PropertyList-1.0.dtd">` + "\n<plist version=\"1.0\"><dict>\n")
	text("PayloadType", "Configuration")
	identifier("profile")
	text("PayloadDisplayName", address)
	text("PayloadOrganization", title)
	out.WriteString("<key>PayloadContent</key><array><dict>\n")
	text("PayloadType", "com.apple.mail.managed")
	identifier("mail")
	text("PayloadDisplayName", address)
	text("EmailAccountType", "EmailTypeIMAP")
	text("EmailAccountDescription", address)
	text("EmailAddress", address)
	text("IncomingMailServerAuthentication", "EmailAuthPassword")
	text("IncomingMailServerHostName", server)
	number("IncomingMailServerPortNumber", 993)
	yes("IncomingMailServerUseSSL")
	text("IncomingMailServerUsername", address)
	text("OutgoingMailServerAuthentication", "EmailAuthPassword")
	text("OutgoingMailServerHostName", server)
	number("OutgoingMailServerPortNumber", 465)
	yes("OutgoingMailServerUseSSL")
	text("OutgoingMailServerUsername", address)
	yes("OutgoingPasswordSameAsIncomingPassword")
	out.WriteString("</dict></array>\n</dict></plist>\n")
	return out.Bytes()
}

// uuidOf is a UUID that always stands for the same text (RFC 9562, section 5.8).
func uuidOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	sum[6], sum[8] = sum[6]&0x0f|0x80, sum[8]&0x3f|0x80
	return fmt.Sprintf("%X-%X-%X-%X-%X", sum[:4], sum[4:6], sum[6:8], sum[8:10], sum[10:16])
}
