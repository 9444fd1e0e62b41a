// Package homes knows what can be wrong with what customers keep in their homes, and says it in
// words: what it is, what visitors see because of it, and what the customer can do.
//
// Nothing of it ever stops an operator: what is asked for is in force, and a warning tells what
// does not work. See [Explain].
package homes

import "victualler/internal/hosting/language"

// Code is a kind of trouble.
type Code string

// The kinds.
const (
	Missing      Code = "missing"        // there is nothing at the path
	NotDirectory Code = "not-directory"  // it, or something on the way to it, is no directory
	LinkLoop     Code = "link-loop"      // links lead in a circle
	Link         Code = "link"           // it, or something on the way to it, is a link
	NotTheirs    Code = "not-theirs"     // a link leads to what is not the account's
	Closed       Code = "closed"         // its permissions keep the web server out
	NotMoved     Code = "not-moved"      // files of the former directory are still there
	ReadOnly     Code = "read-only"      // the file system takes no changes
	Full         Code = "full"           // the account's limit or the disk leaves no room
	RawRefused   Code = "raw-refused"    // nginx refuses the site's raw directives
	TooManyFiles Code = "too-many-files" // more files than the account may have
	// SendingStopped: too much of what was sent came back. [StoppedSending] explains it.
	SendingStopped Code = "sending-stopped"
	// SignInsFail: somebody tries passwords of a mailbox. [FailedSignIns] explains it.
	SignInsFail Code = "sign-ins-fail"
	// DatabasesFull: they are over their limit. [FullDatabases] explains it.
	DatabasesFull Code = "databases-full"
)

// ManyFailures is how many sign-ins to a mailbox must fail within a day before it is worth a
// warning: a program with an old password tries some times, too.
const ManyFailures = 100

// Explanation is a warning in words, each a sentence or two.
type Explanation struct {
	What language.Text
	// Seen is what visitors, or whoever signs in, see of it; empty for nothing.
	Seen language.Text
	// Mend is what the customer can do.
	Mend language.Text
}

// StoppedSending explains why an account sends no mail.
func StoppedSending(sent, failed int64) Explanation {
	say := language.New
	return Explanation{
		What: say("Sending is stopped: %d of %d messages of a day came back.", failed, sent),
		Seen: say("Messages that are sent now wait; what comes in is delivered as ever."),
		Mend: say("Look which ones failed, and correct or remove those addresses. Then whoever runs the hosting can " +
			"release sending.")}
}

// FailedSignIns explains that many sign-ins to a mailbox have failed within a day.
func FailedSignIns(mailbox string, failures, clients int64) Explanation {
	say := language.New
	what := say("%d sign-ins to %s have failed within a day, from %d addresses.", failures, mailbox, clients)
	if clients == 1 {
		what = say("%d sign-ins to %s have failed within a day, all from one address.", failures, mailbox)
	}
	return Explanation{
		What: what,
		Seen: say("Each wrong password has to wait longer; whoever is signed in goes on."),
		Mend: say("Perhaps a program still has an old password. Otherwise somebody guesses: see that the password is " +
			"long and used nowhere else, and give programs passwords of their own.")}
}

// FullDatabases explains that databases are over their limit; closed says that they grew all the
// same.
func FullDatabases(closed bool) Explanation {
	say := language.New
	if closed {
		return Explanation{
			What: say("The databases are over their limit, and grew all the same: nobody can connect."),
			Seen: say("Sites that use them show errors."),
			Mend: say("Remove a database, or have the limit raised; a minute later all is as before.")}
	}
	return Explanation{
		What: say("The databases are over their limit: rows can be read and deleted, and nothing can be added."),
		Seen: say("Sites that write into them show errors."),
		Mend: say("Delete what is not needed, or have the limit raised; a minute later all is as before.")}
}

// Explain puts a warning into words. Part is "site", "login" or "home"; path is relative to the
// home; message is what a program said of it, or empty.
func Explain(part string, code Code, path, message string) Explanation {
	say := language.New
	seen := map[string]language.Text{
		"site":  say("Visitors see “not found” (404)."),
		"login": say("Whoever signs in with it finds an empty directory."),
	}[part]
	switch code {
	case Missing:
		return Explanation{say("There is no directory %s.", path), seen,
			say("Make the directory %s, and put files there.", path)}
	case NotDirectory:
		return Explanation{say("%s, or something on the way to it, is a file and not a directory.", path), seen,
			say("Remove or rename the file, and make the directory %s.", path)}
	case LinkLoop:
		return Explanation{say("Links on the way to %s lead in a circle.", path), seen,
			say("Remove the links, or point them to a directory of the home.")}
	case Link:
		return Explanation{say("%s, or something on the way to it, is a link.", path), seen,
			say("Put a directory in the place of the link: sign-ins are shown directories only.")}
	case NotTheirs:
		e := Explanation{say("%s leads to something that does not belong to the account.", path), seen,
			say("Point the link to a directory of the home.")}
		if part == "site" {
			e.Seen = say("Visitors see “forbidden” (403).")
		}
		return e
	case Closed:
		return Explanation{say("The permissions of %s keep the web server out.", path),
			say("Visitors see “forbidden” (403)."), say("Let others enter and read it: chmod 755 %s.", path)}
	case NotMoved:
		return Explanation{say("Files are still in %s: the site's new directory holds files already.", path),
			say("Visitors see what is in the new directory."),
			say("Move the files yourself, or remove those that are not needed.")}
	case RawRefused:
		return Explanation{say("Its raw directives are not in force: %s", message),
			say("Visitors see the site without them."), say("Correct the raw directives, or remove them.")}
	case ReadOnly:
		return Explanation{What: say("The home cannot be changed: its file system is read-only."),
			Mend: say("Nothing; the hosting company has to look at the server.")}
	case Full:
		return Explanation{say("The home is full."),
			say("What has to write a file fails: uploads, sign-ins, caches."),
			say("Delete files, or ask for more space.")}
	case TooManyFiles:
		return Explanation{say("There are more files than the account may have, so nothing new can be written."),
			say("What has to write a file fails: uploads, sign-ins, caches."),
			say("Delete files, such as old caches; it is counted anew every few minutes.")}
	}
	return Explanation{What: say("Something is wrong with %s (%s).", path, string(code)), Seen: seen}
}
