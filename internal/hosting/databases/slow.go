package databases

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

const (
	// Slow is how long a statement is executed at least that counts as slow.
	Slow = time.Second
	// SlowFor is how long slow statements are known.
	SlowFor = 24 * time.Hour
	// mostSlow is how many different ones are known of a database, mostSlowOfAccount of all of an
	// account.
	mostSlow          = 50
	mostSlowOfAccount = 200
)

// SlowStatement is a kind of statement that was slow: those that are the same but for their values.
type SlowStatement struct {
	Database  string `json:"database"`
	User      string `json:"user"`
	Statement string `json:"statement"`
	// Hours are when it was, by the hour's beginning.
	Hours []SlowHour `json:"hours"`
}

// SlowHour is how often a statement was slow within one hour.
type SlowHour struct {
	At      time.Time     `json:"at"`
	Count   int           `json:"count"`
	Longest time.Duration `json:"longest"`
	Total   time.Duration `json:"total"`
	Last    time.Time     `json:"last"`
}

// Tally is all hours together.
func (s SlowStatement) Tally() SlowHour {
	var all SlowHour
	for _, h := range s.Hours {
		all = all.plus(h)
	}
	return all
}

func (h SlowHour) plus(more SlowHour) SlowHour {
	if more.Last.After(h.Last) {
		h.Last = more.Last
	}
	h.Count, h.Longest, h.Total = h.Count+more.Count, max(h.Longest, more.Longest), h.Total+more.Total
	return h
}

// SlowLog is what is known of slow statements. It is not safe for concurrent use.
type SlowLog struct {
	// All are in no order.
	All []SlowStatement `json:"all"`
}

// Add adds that a statement has ended that was slow. Its text has no values any more.
func (l *SlowLog) Add(database, user, statement string, ended time.Time, took time.Duration) {
	hour := SlowHour{At: ended.Truncate(time.Hour), Count: 1, Longest: took, Total: took, Last: ended}
	at := slices.IndexFunc(l.All, func(s SlowStatement) bool {
		return s.Database == database && s.User == user && s.Statement == statement
	})
	if at < 0 {
		l.All = append(l.All, SlowStatement{Database: database, User: user, Statement: statement,
			Hours: []SlowHour{hour}})
		l.bound(database)
		return
	}
	hours := l.All[at].Hours
	if n := len(hours) - 1; hours[n].At.Equal(hour.At) {
		hours[n] = hours[n].plus(hour)
	} else {
		l.All[at].Hours = append(hours, hour)
	}
}

// bound leaves out those of a database and of its account that matter least, so that nobody fills a
// server with what is known.
func (l *SlowLog) bound(database string) {
	signIn, _, _ := strings.Cut(database, "_")
	for _, group := range []struct {
		is   func(SlowStatement) bool
		most int
	}{
		{func(s SlowStatement) bool { return s.Database == database }, mostSlow},
		{func(s SlowStatement) bool { return strings.HasPrefix(s.Database, signIn+"_") }, mostSlowOfAccount},
	} {
		least, n := -1, 0
		for at, s := range l.All {
			if !group.is(s) {
				continue
			}
			if n++; least < 0 || s.Tally().Total < l.All[least].Tally().Total {
				least = at
			}
		}
		if n > group.most {
			l.All = slices.Delete(l.All, least, least+1)
		}
	}
}

// Forget forgets what is too old, and all of databases that are no longer there.
func (l *SlowLog) Forget(now time.Time, isThere func(database string) bool) {
	l.All = slices.DeleteFunc(l.All, func(s SlowStatement) bool { return !isThere(s.Database) })
	for n := range l.All {
		l.All[n].Hours = slices.DeleteFunc(l.All[n].Hours, func(h SlowHour) bool { return now.Sub(h.Last) > SlowFor })
	}
	l.All = slices.DeleteFunc(l.All, func(s SlowStatement) bool { return len(s.Hours) == 0 })
}

// Of lists the slow statements of a database, those first that took most of its time.
func (l *SlowLog) Of(database string) []SlowStatement {
	var list []SlowStatement
	for _, s := range l.All {
		if s.Database == database {
			s.Hours = slices.Clone(s.Hours)
			list = append(list, s)
		}
	}
	slices.SortFunc(list, func(a, b SlowStatement) int {
		return cmp.Or(cmp.Compare(b.Tally().Total, a.Tally().Total), strings.Compare(a.Statement, b.Statement))
	})
	return list
}
