package mailflow

import (
	"context"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-msgauth/dkim"
	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/mail"
	"victualler/internal/mailflow/definition"
)

// crewList makes deck@boats.example a list with members here and elsewhere, and returns where
// messages are handed over.
func crewList(t *testing.T, b *bench) string {
	b.Configure(definition.Config{Name: "skua.ternisland.example", ReturnKey: []byte("0123456789abcdef"),
		Leave: "https://console.example/leave/"})
	b.write(t, `insert into lists (address, name, posting, moderated, footer, account) values
		('deck@boats.example', 'Deck', 'members', 1, 'Leave: {leave}', 7);
	insert into list_members (list, address, member, owner, joined, account) values
		('deck@boats.example', 'anna@boats.example', 1, 1, 100, 7), ('deck@boats.example', 'bo@harbourmail.test', 1, 0, 100, 7),
		('deck@boats.example', 'cy@harbourmail.test', 1, 0, 100, 7), ('deck@boats.example', 'info@boats.example', 0, 1, 100, 7)`)
	return listen(t, b.ServeForwards)
}

var (
	deck        = definition.ForwardRecipient("deck@boats.example")
	deckRequest = definition.ForwardRecipient("deck-request@boats.example")
)

const letterToDeck = "From: Bo <bo@harbourmail.test>\r\nTo: deck@boats.example\r\nSubject: tide\r\nMessage-ID: " +
	"<1@x.test>" +
	"\r\n\r\nAt six.\r\n"

func recipientsOf(queue []injected) []string {
	var list []string
	for _, one := range queue {
		list = append(list, one.recipients...)
	}
	slices.Sort(list)
	return list
}

func verified(t *testing.T, key *rsa.PrivateKey, text string) bool {
	public, err := x509.MarshalPKIXPublicKey(&key.PublicKey)
	require.NoError(t, err)
	found, err := dkim.VerifyWithOptions(strings.NewReader(text), &dkim.VerifyOptions{
		LookupTXT: func(string) ([]string, error) {
			return []string{"v=DKIM1; k=rsa; p=" + base64.StdEncoding.EncodeToString(public)}, nil
		}})
	require.NoError(t, err)
	return len(found) == 1 && found[0].Err == nil && found[0].Domain == "boats.example" &&
		slices.Contains(found[0].HeaderKeys, "List-Unsubscribe-Post")
}

func TestLists(t *testing.T) {
	b := newBench(t)
	key := b.sign(t)
	path := crewList(t, b)
	require.NoError(t, deliverTo(t, path, "bo@harbourmail.test", letterToDeck, deck)[deck])
	queue := b.drain()
	assert.Equal(t, []string{"anna@boats.example", "bo@harbourmail.test", "cy@harbourmail.test"}, recipientsOf(queue))
	codes := map[string]string{}
	for _, one := range queue {
		assert.Equal(t, "deck-request@boats.example", one.sender)
		assert.Contains(t, one.text, `From: "Bo (Deck)" <deck@boats.example>`)
		assert.True(t, verified(t, key, one.text), "RFC 8058, section 4: signed, with how to leave")
		found := regexp.MustCompile(`https://console.example/leave/deck@boats.example/(\w+)>`).FindStringSubmatch(one.text)
		require.NotEmpty(t, found)
		codes[one.recipients[0]] = found[1]
	}
	assert.Len(t, codes, 3)
	assert.Equal(t, int64(2), b.Tally.Used()["passed/7"], "members here do not count")

	t.Run("lists that lead to each other", func(t *testing.T) {
		assert.ErrorContains(t, deliverTo(t, path, "bo@harbourmail.test", queue[0].text, deck)[deck], "loop")
		assert.Empty(t, b.drain())
	})
	t.Run("what programs write", func(t *testing.T) {
		for _, text := range []string{letterToDeck, "Auto-Submitted: auto-replied\r\n" + letterToDeck} {
			assert.NoError(t, deliverTo(t, path, "", text, deck)[deck])
			assert.NoError(t, deliverTo(t, path, "", text, deckRequest)[deckRequest])
		}
		assert.Empty(t, b.drain())
	})
	t.Run("a stranger's waits for an owner", func(t *testing.T) {
		stranger := strings.ReplaceAll(letterToDeck, "bo@harbourmail.test", "eve@quay.test")
		require.NoError(t, deliverTo(t, path, "eve@quay.test", stranger, deck)[deck])
		told := b.drain()
		require.Len(t, told, 1)
		assert.Equal(t, []string{"anna@boats.example", "info@boats.example"}, told[0].recipients)
		assert.Empty(t, told[0].sender)
		held, err := b.HeldPosts(t.Context(), "deck@boats.example")
		require.NoError(t, err)
		require.Len(t, held, 1)
		assert.Equal(t, "tide", held[0].Subject)
		assert.Contains(t, told[0].text, "approve%20"+held[0].Name)

		answer := func(subject string) error {
			return deliverTo(t, path, "anna@boats.example",
				"From: anna@boats.example\r\nSubject: "+subject+"\r\n\r\n\r\n", deckRequest)[deckRequest]
		}
		assert.Error(t, answer("approve aaaaaaaaaaaaaaaaaaaa"))
		assert.ErrorIs(t, b.Drop("other@boats.example", held[0].Name), os.ErrNotExist)
		require.NoError(t, answer("Re: approve "+held[0].Name))
		approved := b.drain()
		require.Len(t, approved, 1)
		assert.Equal(t, stranger, approved[0].text)
		assert.Equal(t, "eve@quay.test", approved[0].sender)
		to := approved[0].recipients[0]
		require.NoError(t, deliverTo(t, path, approved[0].sender, approved[0].text, to)[to])
		assert.Len(t, b.drain(), 3)
		assert.Error(t, answer("approve "+held[0].Name), "it has gone")

		forged := "deck=boats.example=" + held[0].Name + "=aaaaaaaaaaaaaaaaaaaaaaaa@" + definition.ForwardDomain
		assert.Error(t, deliverTo(t, path, "eve@quay.test", stranger, forged)[forged])

		require.NoError(t, deliverTo(t, path, "eve@quay.test", stranger, deck)[deck])
		held, err = b.HeldPosts(t.Context(), "")
		require.NoError(t, err)
		require.NoError(t, answer("drop "+held[0].Name))
		held, err = b.HeldPosts(t.Context(), "")
		require.NoError(t, err)
		assert.Empty(t, held)
		b.drain()

		// What is waited for too long, or is of a list that is gone, goes by itself.
		for _, gone := range []func(){func() { b.now = b.now.Add(15 * 24 * time.Hour) },
			func() { b.write(t, "delete from lists") }} {
			require.NoError(t, deliverTo(t, path, "eve@quay.test", stranger, deck)[deck])
			gone()
			held, err = b.HeldPosts(t.Context(), "")
			require.NoError(t, err)
			assert.Empty(t, held)
		}
		b.write(t, `insert into lists (address, name, posting, moderated, footer, account) values
			('deck@boats.example', 'Deck', 'members', 0, '', 7)`)
		b.drain()
		assert.ErrorContains(t, deliverTo(t, path, "eve@quay.test", stranger, deck)[deck], "members alone")
	})
	t.Run("whoever writes to the owners reaches them", func(t *testing.T) {
		require.NoError(t, deliverTo(t, path, "eve@quay.test", letterToDeck, deckRequest)[deckRequest])
		queue := b.drain()
		require.Len(t, queue, 1)
		assert.Equal(t, []string{"anna@boats.example", "info@boats.example"}, queue[0].recipients)
	})
	t.Run("a member leaves", func(t *testing.T) {
		leave := func(code string) error {
			return deliverTo(t, path, "whoever@quay.test", "Subject: leave "+code+"\r\n\r\n", deckRequest)[deckRequest]
		}
		assert.ErrorContains(t, leave("aaaaaaaaaaaaaaaaaaaaaaaa"), "no member's code")
		require.NoError(t, leave(codes["cy@harbourmail.test"]))
		require.NoError(t, leave(codes["cy@harbourmail.test"]), "twice")
		assert.Equal(t, []definition.Leave{{Account: 7, Code: codes["cy@harbourmail.test"]}}, b.Leaves())
		require.NoError(t, deliverTo(t, path, "bo@harbourmail.test", letterToDeck, deck)[deck])
		assert.Equal(t, []string{"anna@boats.example", "bo@harbourmail.test"}, recipientsOf(b.drain()))
		// Who joins again is a member again.
		b.write(t, "update list_members set joined = 200 where address = 'cy@harbourmail.test'")
		require.NoError(t, deliverTo(t, path, "bo@harbourmail.test", letterToDeck, deck)[deck])
		assert.Len(t, b.drain(), 3)
	})
}

// Whatever is interrupted, nobody gets a copy twice that was told to be in the queue, and nobody
// none.
func TestListInterrupted(t *testing.T) {
	b := newBench(t)
	b.sign(t)
	path := crewList(t, b)
	inject := b.Inject
	times := 0
	b.Inject = func(ctx context.Context, sender string, recipients []string, message io.Reader) error {
		b.mu.Lock()
		times++
		broken := times == 2
		b.mu.Unlock()
		if broken {
			return errors.New("the disk is full")
		}
		return inject(ctx, sender, recipients, message)
	}
	assert.ErrorContains(t, deliverTo(t, path, "bo@harbourmail.test", letterToDeck, deck)[deck], "try again later")
	require.NoError(t, deliverTo(t, path, "bo@harbourmail.test", letterToDeck, deck)[deck])
	assert.Equal(t, []string{"anna@boats.example", "bo@harbourmail.test", "cy@harbourmail.test"},
		recipientsOf(b.drain()))
	assert.Equal(t, int64(2), b.Tally.Used()["passed/7"], "counted once")
	left, err := filepath.Glob(filepath.Join(b.Scratch, "lists", "*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestListBounds(t *testing.T) {
	b := newBench(t)
	b.sign(t)
	path := crewList(t, b)
	for n := range 12 {
		b.write(t, "insert into list_members (list, address, member, owner, joined, account) values "+
			"('deck@boats.example', ?, 1, 0, 1, 7)", fmt.Sprintf("m%d@harbourmail.test", n))
	}
	answer := func(text string) (told *smtp.SMTPError) {
		require.ErrorAs(t, deliverTo(t, path, "bo@harbourmail.test", text, deck)[deck], &told)
		return told
	}
	told := answer(letterToDeck)
	assert.Equal(t, 554, told.Code)
	assert.Contains(t, told.Message, "14 members elsewhere, and its account may send to 10")
	b.write(t, "update accounts set hourly = 20")
	require.NoError(t, deliverTo(t, path, "bo@harbourmail.test", letterToDeck, deck)[deck])
	assert.Equal(t, 450, answer(letterToDeck+"again\r\n").Code)
	large := letterToDeck + strings.Repeat(strings.Repeat("x", 998)+"\r\n", mail.LargestListText/1000+1)
	assert.Contains(t, answer(large).Message, "too large")
	b.write(t, "update accounts set silent = 1")
	assert.Equal(t, 450, answer(letterToDeck).Code)
}
