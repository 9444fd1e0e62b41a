package notices

import "victualler/internal/hosting/language"

// DatabasesFull tells how full the databases of an account are, in percent of what they may hold.
// Sizes are as people read them.
func DatabasesFull(tag string, s Sender, account string, percent int, used, limit string) Notice {
	subject := language.Say(tag, "The databases of %s are %d%% full", account, percent)
	what := language.Say(tag, "The databases of %s hold %s of the %s that they may hold.", account, used, limit)
	then := language.Say(tag, "When they are full, rows can be read and deleted, and nothing can be added.")
	if percent >= 100 {
		then = language.Say(tag, "Rows can be read and deleted now, and nothing can be added. When enough has been "+
			"deleted, all is as before within a minute.")
	}
	return s.notice(tag, subject, what, then)
}
