// Package placement decides on which server a new account goes, and says why.
package placement

import (
	"sort"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
)

// Server is what the decision needs to know about one server.
type Server struct {
	Label string
	// Open says that it takes new accounts; Joined that its agent is enrolled;
	// Reachable that the agent answered when last asked.
	Open, Joined, Reachable bool
	// Web says that it has the role web.
	Web bool
	// Accounts is how many it holds now.
	Accounts int64
	// DiskTotal and DiskFree are bytes on the file system of the homes.
	DiskTotal, DiskFree int64
}

// Reserve is disk space that stays free on a server: below it a new account is
// refused, because logs, mail queues and databases fail first and worst.
const Reserve = 64 * plans.MiB

// Choice is the outcome: a server, and the reason in words.
type Choice struct {
	Label  string
	Reason language.Text
}

// Check refuses a server named by a person if it cannot take a new account.
func Check(s Server) error {
	switch {
	case !s.Joined:
		return refusal.New(refusal.ServerUnreachable,
			"%s has not joined yet; finish with its join secret, or choose another server", s.Label).On("server")
	case !s.Web:
		return refusal.New(refusal.ServerClosed, "%s is not a web server; choose another server",
			s.Label).On("server")
	case !s.Open:
		return refusal.New(refusal.ServerClosed, "%s is closed to new accounts; choose another server", s.Label).
			Help(refusal.Remedy{By: refusal.Operator, Do: language.New("open it"),
				Command: "server change " + s.Label + " --open"}).On("server")
	case !s.Reachable:
		return refusal.New(refusal.ServerUnreachable,
			"the agent on %s does not answer; look at the server, or choose another", s.Label).On("server")
	case s.DiskFree < Reserve:
		return refusal.New(refusal.ServerFull,
			"%s has only %s of disk left and %s are kept free; choose another server or make room",
			s.Label, plans.FormatSize(max(s.DiskFree, 0)), plans.FormatSize(Reserve)).On("server")
	}
	return nil
}

// Choose takes the server with the largest share of free disk, and among
// equals the one with fewest accounts. Without any that fits it refuses, with each server's reason.
func Choose(servers []Server) (Choice, error) {
	var fit []Server
	var why []language.Text
	for _, s := range servers {
		if err := Check(s); err != nil {
			why = append(why, refusal.As(err).Text())
		} else {
			fit = append(fit, s)
		}
	}
	if len(fit) == 0 {
		if len(why) == 0 {
			why = []language.Text{language.New("no server has been joined; join one first")}
		}
		return Choice{}, refusal.New(refusal.NoServer, "no server can take the account: %s",
			language.Join(why, "; ")).On("server")
	}
	sort.SliceStable(fit, func(i, j int) bool {
		a, b := fit[i], fit[j]
		if fa, fb := freeShare(a), freeShare(b); fa != fb {
			return fa > fb
		}
		if a.Accounts != b.Accounts {
			return a.Accounts < b.Accounts
		}
		return a.Label < b.Label
	})
	best := fit[0]
	if len(fit) == 1 {
		return Choice{best.Label, language.New("%s is the only server that takes new accounts now", best.Label)}, nil
	}
	next := fit[1]
	switch {
	case freeShare(best) != freeShare(next):
	case best.Accounts == next.Accounts:
		return Choice{best.Label, language.New("%s and %s are equally full (%d%% of disk free, accounts held: %d); %s "+
			"comes first by name", best.Label, next.Label, freeShare(best), best.Accounts, best.Label)}, nil
	default:
		return Choice{best.Label, language.New("%s and %s have the same share of disk free (%d%%), and %s holds fewer "+
			"accounts: %d, not %d",
			best.Label, next.Label, freeShare(best), best.Label, best.Accounts, next.Accounts)}, nil
	}
	return Choice{best.Label, language.New("%s has most room: %d%% of its disk is free; next is %s with %d%%",
		best.Label, freeShare(best), next.Label, freeShare(next))}, nil
}

// freeShare is in whole percent, so that a few megabytes do not decide.
func freeShare(s Server) int64 {
	if s.DiskTotal <= 0 {
		return 0
	}
	return s.DiskFree * 100 / s.DiskTotal
}
