// Package visits finds out which sites of a server are visited much.
//
// nginx looks a certificate up by name and reads it anew for each TLS handshake, which costs it a
// millisecond of processor time; a certificate in a site's own block is read once, and costs 1.5 ms
// and 50 KB with each reload instead. So the second is for sites that are visited much, and the
// first for the many others.
package visits

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"victualler/internal/agent/wholefile"
)

// DefaultBusy is how many requests a day make a site busy. A handshake serves some ten of them, and
// a server that is worked on reloads nginx some hundred times a day: from there on a certificate of
// its own saves more than it costs.
const DefaultBusy = 2000

// MostBusy is how many sites of a server are busy at most: those with the most requests.
const MostBusy = 1000

// halfLife is how soon a request counts half.
const halfLife = 24 * time.Hour

// Counter counts requests by site. Make one with [Open]; its methods
// may be called at the same time.
type Counter struct {
	file string
	busy float64

	mu   sync.Mutex
	came map[Site]int
	kept kept
}

// Site names a site: the account's sign-in name, and the domain.
type Site struct{ Account, Domain string }

// MarshalText implements encoding.TextMarshaler.
func (s Site) MarshalText() ([]byte, error) { return []byte(s.Account + "/" + s.Domain), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (s *Site) UnmarshalText(text []byte) error {
	var whole bool
	if s.Account, s.Domain, whole = strings.Cut(string(text), "/"); !whole {
		return fmt.Errorf("%q names no site", text)
	}
	return nil
}

// kept is what is written to the file.
type kept struct {
	// At is when the scores were worked out.
	At time.Time `json:"at"`
	// Scores are requests, of which those of yesterday count half.
	Scores map[Site]float64 `json:"scores"`
	Busy   map[Site]bool    `json:"busy"`
}

// Open returns a counter that remembers in file, and takes sites with that many requests a day for
// busy. What cannot be read is counted anew.
func Open(file string, busy int) *Counter {
	c := &Counter{file: file, busy: float64(busy), came: map[Site]int{}}
	if text, err := os.ReadFile(file); err != nil || json.Unmarshal(text, &c.kept) != nil {
		c.kept = kept{}
	}
	if c.kept.Scores == nil {
		c.kept.Scores = map[Site]float64{}
	}
	if c.kept.Busy == nil {
		c.kept.Busy = map[Site]bool{}
	}
	return c
}

// Count adds requests to a site's.
func (c *Counter) Count(account, domain string, requests int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.came[Site{account, domain}] += requests
}

// Busy reports whether a site was found busy by the last [Counter.Round].
func (c *Counter) Busy(account, domain string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.kept.Busy[Site{account, domain}]
}

// Round works out which sites are busy at the time, writes it down, and returns the sign-in names
// of accounts for which that has changed. A site stays busy until it has a quarter of the requests
// that made it so: one at the border does not come and go.
func (c *Counter) Round(now time.Time) (changed []string, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	decay := 1.0
	if gone := now.Sub(c.kept.At); gone > 0 {
		decay = math.Exp2(-gone.Hours() / halfLife.Hours())
	}
	scores := map[Site]float64{}
	for site, score := range c.kept.Scores {
		scores[site] = score * decay
	}
	for site, n := range c.came {
		scores[site] += float64(n)
	}
	maps.DeleteFunc(scores, func(_ Site, score float64) bool { return score < 1 })
	busy := map[Site]bool{}
	for _, site := range slices.SortedFunc(maps.Keys(scores), func(a, b Site) int {
		return cmp.Or(cmp.Compare(scores[b], scores[a]), cmp.Compare(a.Domain, b.Domain))
	}) {
		if len(busy) < MostBusy && (scores[site] >= c.busy || c.kept.Busy[site] && scores[site] >= c.busy/4) {
			busy[site] = true
		}
	}
	accounts := map[string]bool{}
	for _, pair := range [][2]map[Site]bool{{busy, c.kept.Busy}, {c.kept.Busy, busy}} {
		for site := range pair[0] {
			if !pair[1][site] {
				accounts[site.Account] = true
			}
		}
	}
	c.came, c.kept = map[Site]int{}, kept{At: now, Scores: scores, Busy: busy}
	text, err := json.Marshal(c.kept)
	if err == nil {
		err = wholefile.Write(c.file, text, 0o600, "")
	}
	return slices.Sorted(maps.Keys(accounts)), err
}
