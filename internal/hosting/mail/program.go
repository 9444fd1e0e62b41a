package mail

// Passwords for programs are made here, of small letters and digits, and begin with a key by which
// mail servers find the hash of the rest: there may be many of one mailbox.
const (
	// ProgramLength is how long such a password is, and keyLength its key.
	ProgramLength = 24
	keyLength     = 8
	// MostPrograms is how many a mailbox may have.
	MostPrograms = 30
	// LongestProgram bounds what a password is said to be for, in characters.
	LongestProgram = 60
)

// ProgramKey is the key of a password for a program; empty for what can be none.
func ProgramKey(password string) string {
	if len(password) < keyLength {
		return ""
	}
	for _, c := range []byte(password[:keyLength]) {
		if (c < 'a' || c > 'z') && (c < '0' || c > '9') {
			return ""
		}
	}
	return password[:keyLength]
}
