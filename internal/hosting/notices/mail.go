package notices

import "victualler/internal/hosting/language"

// SendingStopped tells that an account is stopped from sending, as too much of it came back. The
// failures are some of those messages, each with what was answered.
func SendingStopped(tag string, s Sender, account string, sent, failed int64, failures []string) Notice {
	paragraphs := []string{
		language.Say(tag, "%d of %d messages that %s has sent within a day came back. Others would soon take no mail "+
			"from this server at all, so sending is stopped: what is sent now waits, and goes out when it is released.",
			failed, sent, account),
		language.Say(tag, "These are some of them:")}
	paragraphs = append(paragraphs, failures...)
	return s.notice(tag, language.Say(tag, "Sending is stopped for %s", account), paragraphs...)
}
