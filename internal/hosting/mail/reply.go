package mail

import (
	"net/mail"
	"net/textproto"
	"slices"
	"strings"
)

// Bounds of an absence reply, in characters.
const (
	LongestReplySubject = 200
	LongestReply        = 10_000
)

// robots are local parts of senders that nobody reads (RFC 3834, section 2; RFC 5230, section 4.6).
var robots = []string{"mailer-daemon", "postmaster", "listserv", "majordomo", "no-reply", "noreply", "donotreply",
	"do-not-reply", "bounce", "bounces"}

// DeservesReply reports whether whoever has sent a message is to be told that its reader is away:
// somebody has written it, to the reader in person (RFC 3834, section 2). The sender is that of the
// envelope; own reports whether an address, in lower case, leads to the reader.
func DeservesReply(sender string, header textproto.MIMEHeader, own func(address string) bool) bool {
	local, _, _ := strings.Cut(strings.ToLower(sender), "@")
	if !IsAddress(sender) || slices.Contains(robots, local) || strings.HasPrefix(local, "owner-") ||
		strings.HasSuffix(local, "-request") || strings.HasSuffix(local, "-bounces") {
		return false
	}
	if auto := strings.ToLower(header.Get("Auto-Submitted")); auto != "" && auto != "no" {
		return false
	}
	if slices.Contains([]string{"bulk", "list", "junk"}, strings.ToLower(strings.TrimSpace(header.Get("Precedence")))) {
		return false
	}
	for name := range header {
		if strings.HasPrefix(strings.ToLower(name), "list-") {
			return false
		}
	}
	for _, name := range []string{"To", "Cc"} {
		for _, value := range header.Values(name) {
			list, err := mail.ParseAddressList(value)
			if err != nil {
				continue // whoever cannot be read is nobody
			}
			if slices.ContainsFunc(list, func(a *mail.Address) bool { return own(WithoutDetail(a.Address)) }) {
				return true
			}
		}
	}
	return false
}
