package certificates

import (
	"hash/fnv"
	"time"
)

// Window is when an authority wants a certificate renewed (RFC 9773, section 4.2).
type Window struct{ Start, End time.Time }

// RenewAt is when a certificate is renewed: at a moment in the authority's window, where it offers
// one, else when about a third of its life is left. Seed, which stays the same for one certificate,
// spreads many over the time, so that those that were made together are not renewed together.
func RenewAt(notBefore, notAfter time.Time, offered *Window, seed string) time.Time {
	life := notAfter.Sub(notBefore)
	start, length := notBefore.Add(life*60/100), life*6/100
	if offered != nil && !offered.End.Before(offered.Start) {
		start, length = offered.Start, offered.End.Sub(offered.Start)
	}
	at := start.Add(time.Duration(share(seed) * float64(length)))
	if latest := notAfter.Add(-life / 20); at.After(latest) { // a window that leaves no time is not taken at its word
		at = latest
	}
	return at
}

// share makes a number from 0 to 1 of a text, always the same one.
func share(seed string) float64 {
	h := fnv.New64a()
	h.Write([]byte(seed))
	// The last steps of FNV do not reach the highest bits well.
	n := h.Sum64()
	n ^= n >> 33
	n *= 0xff51afd7ed558ccd
	n ^= n >> 33
	return float64(n>>11) / (1 << 53)
}

// RetryAfter is how long is waited after so many failures in a row, at least 1: ten
// minutes first, and longer each time up to a day. Of a certificate that lasts days
// or minutes, the pauses are shorter, so that dozens of tries fit between the first
// one and its end; left is what remains of its life, and nothing where there is
// none. An authority that says when to come back is taken at its word.
func RetryAfter(failures int, left time.Duration, told time.Duration, seed string) time.Duration {
	pause := 10 * time.Minute
	for n := 1; n < failures && pause < 24*time.Hour; n++ {
		pause *= 2
	}
	pause = min(pause, 24*time.Hour)
	if left > 0 {
		pause = min(pause, max(left/24, 10*time.Second))
	}
	pause += time.Duration(share(seed) * float64(pause) / 5)
	return max(pause, told)
}

// noticeDays are those left at which people are told that a certificate could not be renewed.
var noticeDays = []int{21, 14, 7, 3, 1}

// FirstNotice is how long before their end certificates are looked at for notices.
var FirstNotice = time.Duration(noticeDays[0]) * 24 * time.Hour

// Notice is the number of days at which people are told next, after having been told at some (0:
// not yet), given what is left; 0 is not now. Of certificates that last less than six weeks, people
// are told when the same parts of ninety days are left: a sixth, a tenth and so on.
func Notice(life, left time.Duration, told int) int {
	scale := 1.0
	if life < 42*24*time.Hour {
		scale = life.Hours() / (90 * 24)
	}
	due := 0
	for _, days := range noticeDays {
		if left.Hours() <= float64(days)*24*scale {
			due = days
		}
	}
	if due == 0 || told != 0 && told <= due {
		return 0
	}
	return due
}
