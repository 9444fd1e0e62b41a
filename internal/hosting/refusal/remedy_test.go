package refusal_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
)

// Nobody is sent to somebody else for what they can do themselves.
func TestRemedies(t *testing.T) {
	command := refusal.Remedy{By: refusal.Reseller, Do: language.New("switch it on"),
		Command: "exception add ferries --feature mail=on"}
	for role, says := range map[string]string{
		"operator": "switch it on (victualler exception add ferries --feature mail=on)",
		"reseller": "switch it on (victualler exception add ferries --feature mail=on)",
		"customer": "the reseller can switch it on",
		"":         "the reseller can switch it on",
	} {
		assert.Equal(t, says, command.For(role).String(), role)
	}
	share := refusal.Remedy{By: refusal.Operator, Do: language.New("raise the share")}
	assert.Equal(t, "an operator can raise the share", share.For("reseller").String())
	assert.Equal(t, "raise the share", share.For("operator").String())

	r := refusal.New(refusal.LimitReached, "the disk is full").Help(share).On("limits.disk")
	r.Limits = []refusal.Limit{{Key: "disk"}}
	told := r.For("customer")
	assert.Equal(t, "the disk is full; an operator can raise the share", told.Detail)
	assert.Equal(t, told.Detail, told.Fields[0].Message)
	assert.Equal(t, "an operator can raise the share", told.Limits[0].RaisedBy)
	assert.Equal(t, "the disk is full", r.Detail, "what was refused is as it was")
	assert.Empty(t, r.Limits[0].RaisedBy)
	assert.Equal(t, told.Detail, told.For("operator").Detail, "it is said once")
	assert.Equal(t, "the disk is full; an operator can raise the share", r.Error())
}
