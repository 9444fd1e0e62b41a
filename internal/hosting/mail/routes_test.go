package mail_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"victualler/internal/hosting/mail"
)

// drawn is a path in one line, such as "sales: address(info: mailbox)".
func drawn(p mail.Path) string {
	text := strings.TrimSuffix(p.Address, "@boats.example") + ": " + string(p.Hop)
	if len(p.Next) > 0 {
		var next []string
		for _, n := range p.Next {
			next = append(next, drawn(n))
		}
		text += "(" + strings.Join(next, ", ") + ")"
	}
	return text
}

func TestPath(t *testing.T) {
	book := mail.Book{
		Domains: []string{"boats.example", "quay.example"},
		Mailboxes: map[string][]string{"info@boats.example": nil,
			"anna@boats.example": {"anna@harbourmail.test",
				"info@boats.example"}, "selfish@boats.example": {"selfish@boats.example"}},
		Addresses: map[string][]string{
			"sales@boats.example": {"info@boats.example"}, "away@boats.example": {"crew@harbourmail.test"},
			"all@boats.example":  {"sales@boats.example", "away@boats.example"},
			"gone@boats.example": {"nobody@boats.example"}, "here@boats.example": {"there@boats.example"},
			"there@boats.example": {"here@boats.example"}, "*@quay.example": {"info@boats.example"},
			"webmaster@boats.example": {"away@boats.example"}},
	}
	for address, want := range map[string]string{
		"info@boats.example":      "info: mailbox",
		"INFO@Boats.example":      "info: mailbox",
		"info+shop@boats.example": "info+shop: sub_address(info: mailbox)",
		"anna@boats.example":      "anna: mailbox(anna@harbourmail.test: outside, info: mailbox)",
		"sales@boats.example":     "sales: address(info: mailbox)",
		"all@boats.example": "all: address(sales: address(info: mailbox), away: " +
			"address(crew@harbourmail.test: outside))",
		"gone@boats.example":      "gone: address(nobody: nowhere)",
		"here@boats.example":      "here: address(there: address(here: loop))",
		"selfish@boats.example":   "selfish: mailbox(selfish: loop)",
		"abuse@boats.example":     "abuse: role(anna: mailbox(anna@harbourmail.test: outside, info: mailbox))",
		"webmaster@boats.example": "webmaster: address(away: address(crew@harbourmail.test: outside))",
		"who@quay.example":        "who@quay.example: catch_all(info: mailbox)",
		"who@boats.example":       "who: nowhere",
		"a@elsewhere.test":        "a@elsewhere.test: outside",
	} {
		assert.Equal(t, want, drawn(book.Path(address)), address)
	}
	boxes, outside := book.Path("all@boats.example").Ends()
	assert.Equal(t, []string{"info@boats.example"}, boxes)
	assert.Equal(t, []string{"crew@harbourmail.test"}, outside)
	boxes, outside = book.Path("abuse@boats.example").Stops()
	assert.Equal(t, []string{"anna@boats.example"}, boxes, "which passes on in turn")
	assert.Empty(t, outside)
	boxes, outside = book.Path("anna@boats.example").Stops()
	assert.Equal(t, []string{"info@boats.example"}, boxes)
	assert.Equal(t, []string{"anna@harbourmail.test"}, outside)
	assert.Empty(t, book.Path("all@boats.example").Faults())
	assert.Len(t, book.Path("here@boats.example").Faults(), 1)

	t.Run("an account that only passes on has role addresses, too", func(t *testing.T) {
		only := mail.Book{Domains: []string{"boats.example"},
			Addresses: map[string][]string{"info@boats.example": {"crew@harbourmail.test"}}}
		assert.Equal(t, "postmaster: role(crew@harbourmail.test: outside)",
			drawn(only.Path("postmaster@boats.example")))
	})
}

func TestCheckSender(t *testing.T) {
	own := func(address string) (bool, error) {
		return address == "anna@boats.example" || address == "info@boats.example", nil
	}
	for name, c := range map[string]struct {
		fields map[string][]string
		says   string // empty: it may be sent
	}{
		"her own":         {map[string][]string{"From": {"Anna <anna@boats.example>"}}, ""},
		"another of hers": {map[string][]string{"From": {"INFO@boats.example"}}, ""},
		"with a detail":   {map[string][]string{"From": {"anna+shop@boats.example"}}, ""},
		"two, both hers":  {map[string][]string{"From": {"anna@boats.example, info@boats.example"}}, ""},
		"somebody else's": {map[string][]string{"From": {"Anna <boss@boats.example>"}}, "boss@boats.example is not"},
		"hers and another": {map[string][]string{"From": {"anna@boats.example, boss@boats.example"}},
			"boss@boats.example is not"},
		"hers twice":     {map[string][]string{"From": {"anna@boats.example", "anna@boats.example"}}, "has 2"},
		"no From":        {nil, "has 0"},
		"hers as a name": {map[string][]string{"From": {`"anna@boats.example" <boss@boats.example>`}}, "boss@boats.example is not"},
		"a group":        {map[string][]string{"From": {"crew: ;"}}, "names nobody"},
		"rubbish":        {map[string][]string{"From": {"anna@boats.example <"}}, "cannot be read"},
		"another's Sender": {map[string][]string{"From": {"anna@boats.example"}, "Sender": {"boss@boats.example"}},
			"Sender: boss"},
		"resent as another": {map[string][]string{"From": {"anna@boats.example"},
			"Resent-From": {"boss@boats.example"}}, "Resent-From: boss"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := mail.CheckSender(c.fields, own)
			if c.says == "" {
				assert.NoError(t, err)
				return
			}
			assert.ErrorContains(t, err, c.says)
		})
	}
	failed := fmt.Errorf("the tables cannot be read")
	_, err := mail.CheckSender(map[string][]string{"From": {"anna@boats.example"}},
		func(string) (bool, error) { return false, failed })
	assert.ErrorIs(t, err, failed, "what is not known is not allowed")
}
