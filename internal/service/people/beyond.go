package people

import (
	"net/netip"
	"slices"
	"strings"

	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/usecase"
	"victualler/internal/store/db"
)

// checkBeyond refuses that a program, or somebody who acts for another,
// makes or changes a person who could do more than they can themselves:
// whoever has a token's secret would have that person's rights as well.
func checkBeyond(a usecase.Actor, name string, person rights.Subject, networks []netip.Prefix) error {
	if !a.Token && !a.Acting {
		return nil
	}
	who := "whoever acts for somebody"
	if a.Token {
		who = "this token"
	}
	if more := a.Beyond(person); len(more) > 0 {
		list := make([]string, min(len(more), 3))
		for n := range list {
			list[n] = string(more[n])
		}
		return refusal.New(refusal.NotAllowed, "%s could do more than %s may: %s …; sign in as a person, or add these "+
			"scopes", name, who, strings.Join(list, ", "))
	}
	if a.TokenEnds != nil {
		return refusal.New(refusal.NotAllowed,
			"%s could sign in after this token has ended; sign in as a person, or use "+
				"one without an end", name)
	}
	for _, bound := range networks {
		if len(a.TokenNetworks) > 0 && !within(bound, a.TokenNetworks) {
			return refusal.New(refusal.NotAllowed, "%s could sign in from %s, and this token cannot be used from there",
				name, bound)
		}
	}
	if len(a.TokenNetworks) > 0 && len(networks) == 0 {
		return refusal.New(refusal.NotAllowed,
			"%s could sign in from anywhere, and this token may be used from %s only; "+
				"give networks within these", name, strings.Join(networkTexts(a.TokenNetworks), ", "))
	}
	return nil
}

func checkBeyondPerson(a usecase.Actor, row db.Person) error {
	return checkBeyond(a, row.Name, rights.Subject{Role: rights.Role(row.Role), Duty: rights.Duty(row.Duty),
		ReadOnly: row.ReadOnly}, row.Networks)
}

// within reports whether a network lies in one of others.
func within(n netip.Prefix, others []netip.Prefix) bool {
	return slices.ContainsFunc(others, func(o netip.Prefix) bool {
		return o.Bits() <= n.Bits() && o.Contains(n.Addr())
	})
}
