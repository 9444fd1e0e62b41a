package mail_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"victualler/internal/hosting/mail"
)

// At every moment of years, one key signs, and whatever signs or has signed within the last
// fortnight is published; none signs that was not published for three days, but the first.
func TestTurnKeys(t *testing.T) {
	start := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	var keys []mail.SigningState
	number := int64(0)
	used := map[string]bool{}
	for hour := 0; hour < 3*365*24; hour += 6 {
		now := start.Add(time.Duration(hour) * time.Hour)
		for {
			turn := mail.TurnKeys(keys, true, now)
			if turn == (mail.KeyTurn{}) {
				break
			}
			if turn.Make != "" {
				number++
				k := mail.SigningState{ID: number, Selector: turn.Make, MadeAt: now}
				if turn.AtOnce {
					k.ActiveAt = &now
				}
				keys = append(keys, k)
			}
			var left []mail.SigningState
			for _, k := range keys {
				switch k.ID {
				case turn.Activate:
					k.ActiveAt = &now
					assert.GreaterOrEqual(t, now.Sub(k.MadeAt), mail.KeyLead)
				case turn.Retire:
					k.RetiredAt = &now
				case turn.Remove:
					assert.GreaterOrEqual(t, now.Sub(*k.RetiredAt), mail.KeyLag)
					continue
				}
				left = append(left, k)
			}
			keys = left
		}
		signing, selectors := 0, map[string]bool{}
		for _, k := range keys {
			if k.Signs() {
				signing++
				used[fmt.Sprint(k.ID)] = true
			}
			assert.False(t, selectors[k.Selector], "two keys under one name")
			selectors[k.Selector] = true
		}
		assert.Equal(t, 1, signing, now)
	}
	assert.Len(t, used, 6, "one in half a year")

	t.Run("where somebody else publishes them, the first one stays", func(t *testing.T) {
		old := []mail.SigningState{{ID: 1, Selector: "k1", MadeAt: start, ActiveAt: &start}}
		assert.Equal(t, mail.KeyTurn{}, mail.TurnKeys(old, false, start.AddDate(3, 0, 0)))
		assert.Equal(t, mail.KeyTurn{Make: "k2"}, mail.TurnKeys(old, true, start.AddDate(3, 0, 0)))
	})
}
