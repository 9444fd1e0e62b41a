package mail_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/mail"
)

func TestReturns(t *testing.T) {
	ferries := domain(t, "ternferries.example")
	now := time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)
	r := mail.Returns{Key: []byte("a secret")}
	for _, sender := range []string{"anna@harbourmail.test", "a=b@harbourmail.test", "Anna.B+x@Harbourmail.test",
		"bounce-7=x=y@lists.harbourmail.test"} {
		address := r.Address(sender, ferries, now)
		local, at, _ := strings.Cut(address, "@")
		assert.Equal(t, "ternferries.example", at)
		assert.True(t, mail.IsReturn(local))
		assert.Equal(t, sender, mail.FirstSender(address))
		for _, back := range []string{local, strings.ToLower(local)} {
			got, err := r.Sender(back, now.AddDate(0, 0, 20))
			require.NoError(t, err, back)
			assert.True(t, strings.EqualFold(sender, got), got)
		}
		_, err := r.Sender(local, now.AddDate(0, 0, 23))
		assert.ErrorContains(t, err, "too long ago")
		_, err = mail.Returns{Key: []byte("another")}.Sender(local, now)
		assert.ErrorContains(t, err, "no address that a message was passed on")
		for i := range len(local) {
			changed := local[:i] + string(rune(local[i]^0x03)) + local[i+1:]
			if got, err := r.Sender(changed, now); err == nil {
				assert.True(t, strings.EqualFold(got, sender), "changed into %s", got)
			}
		}
	}
	assert.Empty(t, r.Address("", ferries, now), "a failure has no sender")

	t.Run("what others have passed on before goes back to them", func(t *testing.T) {
		others := mail.Returns{Key: []byte("theirs")}
		first := others.Address("anna@harbourmail.test", domain(t, "bakery.example"), now)
		second := r.Address(first, ferries, now)
		local, _, _ := strings.Cut(second, "@")
		assert.True(t, strings.HasPrefix(local, "SRS1="))
		assert.Equal(t, "anna@harbourmail.test", mail.FirstSender(second))
		assert.Empty(t, mail.FirstSender("anna@harbourmail.test"))
		back, err := r.Sender(local, now)
		require.NoError(t, err)
		assert.Equal(t, first, back)
		// A third one leaves out the second.
		thirdKey := mail.Returns{Key: []byte("third")}
		third := thirdKey.Address(second, domain(t, "third.example"), now)
		local, _, _ = strings.Cut(third, "@")
		back, err = thirdKey.Sender(local, now)
		require.NoError(t, err)
		assert.Equal(t, first, back)
	})
}

// Nobody makes an address that we would send mail by.
func FuzzReturns(f *testing.F) {
	r := mail.Returns{Key: []byte("a secret")}
	now := time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)
	f.Add("SRS0=AAAAAAAA=AA=victim.example=anna")
	f.Add("SRS1=AAAAAAAA=victim.example==AAAA=AA=x.example=anna")
	f.Add("srs0==")
	f.Fuzz(func(t *testing.T, local string) {
		_, err := r.Sender(local, now)
		assert.Error(t, err)
	})
}
