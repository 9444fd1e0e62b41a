package certificates

import (
	"slices"
	"strings"
	"time"
)

// Mode is how a site comes by its certificate.
type Mode string

// The modes. A self-signed certificate is made by the site's server.
const (
	Automatic  Mode = "automatic"
	Uploaded   Mode = "uploaded"
	SelfSigned Mode = "self-signed"
)

// Site is what decides when a certificate is ordered for a site.
type Site struct {
	Mode Mode
	// Names are those that its certificate should be for.
	Names []string
	// Newest is the certificate that the site shows, or is about to; nil where its server made one.
	Newest *Newest
}

// Newest is a certificate of a site.
type Newest struct {
	Names []string
	// Uploaded says that somebody has brought it: no authority of ours has issued it.
	Uploaded bool
	NotAfter time.Time
	// RenewAt is when the next one is ordered; zero for one that is not renewed.
	RenewAt time.Time
}

// Cause is why a certificate is ordered.
type Cause string

// The causes of orders.
const (
	NotDue      Cause = ""            // nothing is to be ordered
	First       Cause = "first"       // the site has none of an authority
	Renewal     Cause = "renewal"     // its time has come, as the authority wants it or by its age
	MoreNames   Cause = "more-names"  // the site should be shown under names that it is not for
	Replacement Cause = "replacement" // one that somebody brought is about to end
	Requested   Cause = "requested"   // a person asks for it
)

// replacedBefore is how long before its end a certificate that somebody brought is replaced by an
// authority's, as one that has ended is worse.
const replacedBefore = 24 * time.Hour

// Missing lists the names that the site's certificate should be for and is not.
func (s Site) Missing() []string {
	return slices.DeleteFunc(slices.Clone(s.Names), func(n string) bool {
		return s.Newest != nil && slices.Contains(s.Newest.Names, n)
	})
}

// Covers reports whether a certificate for names is good for a name: one of them, or one directly
// below one that stands for all (RFC 6125, section 6.4.3).
func Covers(names []string, name string) bool {
	_, above, _ := strings.Cut(name, ".")
	return slices.Contains(names, name) || slices.Contains(names, "*."+above)
}

// Due says why a certificate is to be ordered for the site now; [NotDue] where it is not.
func (s Site) Due(now time.Time) Cause {
	at := s.dueAt()
	reached := !at.IsZero() && !now.Before(at)
	switch {
	case s.Mode == SelfSigned, s.Mode == Uploaded && !reached:
		return NotDue
	case s.Mode == Uploaded:
		return Replacement
	case s.Newest == nil || s.Newest.Uploaded:
		return First
	case reached:
		return Renewal
	case len(s.Missing()) > 0:
		return MoreNames
	}
	return NotDue
}

// dueAt is when the newest certificate is to be followed by another; zero for never.
func (s Site) dueAt() time.Time {
	switch n := s.Newest; {
	case n == nil || s.Mode == SelfSigned || n.Uploaded != (s.Mode == Uploaded):
		return time.Time{}
	case n.Uploaded:
		return n.NotAfter.Add(-replacedBefore)
	default:
		return n.RenewAt
	}
}

// Recheck is how long it takes until names are looked at again that could not be had.
const Recheck = time.Hour

// Next is when the site is to be looked at again, of which everything was done that can be now;
// zero for never, and a moment that is past for at once.
func (s Site) Next(now time.Time) time.Time {
	at := s.dueAt()
	if due := s.Due(now); due == First || due == MoreNames {
		if again := now.Add(Recheck); at.IsZero() || at.After(again) {
			return again
		}
	}
	return at
}
