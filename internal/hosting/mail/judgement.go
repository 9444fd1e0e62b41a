package mail

import (
	"cmp"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"
)

// Spam is how much of it an installation bears. Scores are in tenths of a point, of which a usual
// message has none and an unwanted one many.
type Spam struct {
	// JunkAbove is the score from which on a message goes to Junk; mailboxes may have their own.
	JunkAbove int `json:"junk_above"`
	// RefuseAbove is the score from which on a message is not taken at all.
	RefuseAbove int `json:"refuse_above"`
}

// ScannerForm is where a virus scanner may listen: a socket's path, or a host with a port.
var ScannerForm = regexp.MustCompile(`^(/[A-Za-z0-9._/-]{1,100}|[A-Za-z0-9.-]{1,255}:[0-9]{1,5})$`)

// Bounds of scores, in tenths.
const (
	LeastScore = 10
	MostScore  = 1000
)

// Fields in which it is written what was found out about a message. Whoever sends a message has no
// say in them: those that it comes with are taken away.
const (
	// ScoreField is the score with the rules that made it, for people.
	ScoreField = "Spam-Score"
	// TenthsField is the score in tenths, at least 0, for filters.
	TenthsField = "Spam-Tenths"
	// ResultsField says who has proved to have sent the message (RFC 8601).
	ResultsField = "Authentication-Results"
)

// Action is what is to become of a message.
type Action string

// Actions.
const (
	Take Action = "take"
	// Later asks the sender to try again, which many of those who send spam never do.
	Later  Action = "later"
	Refuse Action = "refuse"
)

// Judgement is what the spam filter says of a message.
type Judgement struct {
	// Score is in points.
	Score  float64
	Action Action
	// Reason says why a message is refused, where it is not for its score.
	Reason string
	// Rules are those that apply, by name.
	Rules map[string]Rule
}

// Rule is one of the reasons for a score.
type Rule struct {
	Score float64
	// Details are what it was found by, such as the domain of a signature.
	Details []string
}

// Tenths is the score in tenths of a point, at least 0.
func (j Judgement) Tenths() int { return max(0, int(math.Round(j.Score*10))) }

// mostRules is how many rules are named.
const mostRules = 12

// ScoreText says the score and what makes it, the weightiest rules first.
func (j Judgement) ScoreText() string {
	type one struct {
		name  string
		score float64
	}
	var list []one
	for name, r := range j.Rules {
		if math.Abs(r.Score) >= 0.05 {
			list = append(list, one{name, r.Score})
		}
	}
	slices.SortFunc(list, func(a, b one) int {
		return cmp.Or(cmp.Compare(math.Abs(b.score), math.Abs(a.score)), strings.Compare(a.name, b.name))
	})
	var named []string
	for _, o := range list[:min(len(list), mostRules)] {
		named = append(named, fmt.Sprintf("%s %.1f", o.name, o.score))
	}
	if len(list) > mostRules {
		named = append(named, "…")
	}
	if len(named) == 0 {
		return fmt.Sprintf("%.1f", j.Score)
	}
	return fmt.Sprintf("%.1f; %s", j.Score, strings.Join(named, ", "))
}

// results are the rules that say how a message proved its sender, by method (RFC 8601, section
// 2.7). The first one that applies counts.
var results = []struct {
	method string
	rules  [][2]string
}{
	{"spf", [][2]string{{"R_SPF_ALLOW", "pass"}, {"R_SPF_FAIL", "fail"}, {"R_SPF_SOFTFAIL", "softfail"},
		{"R_SPF_NEUTRAL", "neutral"}, {"R_SPF_DNSFAIL", "temperror"}, {"R_SPF_PERMFAIL", "permerror"},
		{"R_SPF_NA", "none"}}},
	{"dkim", [][2]string{{"R_DKIM_ALLOW", "pass"}, {"R_DKIM_REJECT", "fail"}, {"R_DKIM_TEMPFAIL", "temperror"},
		{"R_DKIM_PERMFAIL", "permerror"}, {"R_DKIM_NA", "none"}}},
	{"dmarc", [][2]string{{"DMARC_POLICY_ALLOW", "pass"}, {"DMARC_POLICY_ALLOW_WITH_FAILURES", "pass"},
		{"DMARC_POLICY_REJECT", "fail"}, {"DMARC_POLICY_QUARANTINE", "fail"}, {"DMARC_POLICY_SOFTFAIL", "fail"},
		{"DMARC_DNSFAIL", "temperror"}, {"DMARC_BAD_POLICY", "permerror"}, {"DMARC_NA", "none"}}},
	{"arc", [][2]string{{"ARC_ALLOW", "pass"}, {"ARC_REJECT", "fail"}, {"ARC_INVALID", "fail"},
		{"ARC_DNSFAIL", "fail"}, {"ARC_NA", "none"}}},
}

// ResultsText is the value of [ResultsField]: what a server of a name found out of a message that
// came with an envelope's sender, and whose author is of a domain. Both may be empty.
func (j Judgement) ResultsText(server, sender, author string) string {
	parts := []string{server}
	for _, r := range results {
		for _, rule := range r.rules {
			found, applies := j.Rules[rule[0]]
			if !applies {
				continue
			}
			text := r.method + "=" + rule[1]
			switch {
			case r.method == "spf" && sender != "":
				text += " smtp.mailfrom=" + propertyValue(sender)
			case r.method == "dkim" && len(found.Details) > 0:
				// The domain, and the selector with a sign.
				domain, selector, _ := strings.Cut(found.Details[0], ":")
				if text += " header.d=" + propertyValue(domain); strings.HasPrefix(selector, "s=") {
					text += " header.s=" + propertyValue(selector[2:])
				}
			case r.method == "dmarc" && author != "":
				text += " header.from=" + propertyValue(author)
			}
			parts = append(parts, text)
			break
		}
	}
	if len(parts) == 1 {
		parts = append(parts, "none")
	}
	return strings.Join(parts, ";\r\n\t")
}

// propertyValue is what others have written, as far as it can stand without quotation marks.
func propertyValue(text string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune(".-_@+=", r) {
			return r
		}
		return -1
	}, text[:min(len(text), 320)])
}
