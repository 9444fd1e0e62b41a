package names_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/names"
)

func TestProof(t *testing.T) {
	d, _, err := names.ParseDomain("ferries.example")
	require.NoError(t, err)
	assert.Equal(t, "_hosting-proof.ferries.example", d.ProofRecord())
	for name, c := range map[string]struct {
		e    names.ProofEvidence
		want names.Proof
	}{
		"nothing": {names.ProofEvidence{Wanted: "x"}, ""},
		"the record": {names.ProofEvidence{Wanted: "x", Texts: []string{"other", "x"}},
			names.ProofByRecord},
		"a part of it":                 {names.ProofEvidence{Wanted: "x", Texts: []string{"xx"}}, ""},
		"an empty record, none wanted": {names.ProofEvidence{Texts: []string{""}}, ""},
		"it leads here":                {names.ProofEvidence{Wanted: "x", LeadsHere: true}, names.ProofByAddress},
		"it leads here, others say it is theirs": {names.ProofEvidence{Wanted: "x", LeadsHere: true, Claimed: true},
			""},
		"the record, whoever else says so": {names.ProofEvidence{Wanted: "x", Texts: []string{"x"}, Claimed: true},
			names.ProofByRecord},
	} {
		assert.Equal(t, c.want, c.e.Judge(), name)
	}
}
