package rights

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"victualler/internal/hosting/refusal"
)

func TestDutiesNarrow(t *testing.T) {
	all := Subject{Role: Operator, Duty: All}
	support, billing, readOnly := all, all, all
	support.Duty, billing.Duty, readOnly.Duty = Support, Billing, ReadOnly
	permissions, _ := Scopes()
	for _, p := range permissions {
		assert.True(t, all.Allows(p), p)
		assert.False(t, Subject{}.Allows(p), p)
		for _, s := range []Subject{{Role: "other"}, {Role: Operator, Duty: "other"}} {
			assert.False(t, s.Allows(p), p)
		}
	}
	for p, want := range map[Permission][3]bool{ // support, billing, read-only
		AccountsRead:   {true, true, true},
		AccountsOpen:   {true, true, false},
		AccountsRepair: {true, false, false},
		PlansChange:    {false, false, false},
		ServersRead:    {false, false, true},
		ServersChange:  {false, false, false},
		CustomersNotes: {true, false, true},
		SettingsChange: {false, false, false},
	} {
		assert.Equal(t, want, [3]bool{support.Allows(p), billing.Allows(p), readOnly.Allows(p)}, p)
	}
}

func TestEveryPermissionIsInTheTable(t *testing.T) {
	// Of the sell-side roles, only operators reach servers and settings.
	permissions, about := Scopes()
	for _, p := range permissions {
		assert.NotEmpty(t, about[p], p)
	}
	for _, role := range []Role{Reseller, Customer} {
		for _, p := range []Permission{ServersRead, ServersChange, SettingsRead, SettingsChange, ResellersChange} {
			assert.False(t, Subject{Role: role, Duty: All}.Allows(p), "%s %s", role, p)
		}
	}
	assert.False(t, Subject{Role: Customer, Duty: All}.Allows(CustomersNotes),
		"customers never read what is noted about them")
}

func TestRequireSaysWhatIsInTheWay(t *testing.T) {
	customer := Subject{Role: Customer, Duty: All}
	with := func(change func(*Subject)) Subject {
		s := customer
		change(&s)
		return s
	}
	for says, c := range map[string]struct {
		subject    Subject
		permission Permission
		kind       refusal.Kind
	}{
		"sign in first":   {Subject{}, AccountsRead, refusal.NotSignedIn},
		"ask an operator": {customer, PlansChange, refusal.NotAllowed},
		"may look":        {with(func(s *Subject) { s.ReadOnly = true }), DomainsChange, refusal.NotAllowed},
		"scopes": {with(func(s *Subject) {
			s.Token, s.Scopes = true, []Permission{PlansChange}
		}), AccountsRead, refusal.NotAllowed},
		"sign in as a person": {with(func(s *Subject) { s.Token = true }), Personal, refusal.NotAllowed},
		"stop acting":         {with(func(s *Subject) { s.Acting = true }), Personal, refusal.NotAllowed},
		"has to be set first": {with(func(s *Subject) { s.MustFirst = true }), AccountsRead, refusal.MustDoFirst},
		"include this (accounts.": {with(func(s *Subject) {
			s.Token, s.Scopes = true, []Permission{AccountsOpen}
		}), AccountsOpen, refusal.NotAllowed},
	} {
		err := c.subject.Require(c.permission)
		assert.ErrorContains(t, err, says)
		assert.True(t, refusal.Is(err, c.kind), says)
	}
	for _, s := range []Subject{customer, with(func(s *Subject) {
		s.ReadOnly = true
	}), with(func(s *Subject) { s.Acting = true }),
		with(func(s *Subject) { s.Token, s.Scopes = true, []Permission{AccountsRead} })} {
		assert.NoError(t, s.Require(AccountsRead))
		assert.NoError(t, s.Require(Own))
		assert.NoError(t, s.Require(Public))
	}
	assert.NoError(t, with(func(s *Subject) { s.MustFirst = true }).Require(Personal))
}

func TestWhatAnOperatorDidAResellerCannotLift(t *testing.T) {
	operator, reseller := Subject{Role: Operator, Duty: All}, Subject{Role: Reseller, Duty: All}
	assert.True(t, operator.MayLift(Operator))
	assert.True(t, operator.MayLift(Reseller))
	assert.True(t, reseller.MayLift(Reseller))
	assert.False(t, reseller.MayLift(Operator))
	assert.False(t, Subject{}.MayLift(Operator))
}
