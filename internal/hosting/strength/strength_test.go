package strength

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"victualler/internal/hosting/language"
	"victualler/internal/passwords"
)

func TestLevels(t *testing.T) {
	about := []string{"mara", "office@ternferries.example", "Tern Ferries"}
	for password, want := range map[string]Level{
		"":                                Weak,
		"password":                        Weak,
		"Passw0rd!":                       Weak,
		"P@ssw0rd2026":                    Weak,
		"qwertyuiop":                      Weak,
		"1234567890":                      Weak,
		"aaaaaaaaaaaaaaaa":                Weak,
		"abcabcabcabc":                    Weak,
		"TernFerries1":                    Weak,
		"mara1999":                        Weak,
		"19.05.1987":                      Weak,
		"summer2026":                      Weak,
		"correct horse":                   Weak,
		"correct horse battery":           Fair,
		"guillemotnest7":                  Fair, // words that are on no list of ours
		"oystercatcher":                   Weak,
		"hqmvtkxwzpl4":                    Strong,
		"xK9#bQ2v":                        Good,
		"correct horse battery staple":    Strong,
		"kittiwake-over-quiet-slipway-41": Strong,
		"Hq7mVt2kXw9pRz4c":                Strong,
		"неожиданный-пароль-у-моря":         Strong,
		"ternferriesternferriesternferries": Weak,
	} {
		s := Estimate(password, about)
		assert.Equal(t, want, s.Level, "%s: %d bits %v", password, s.Bits, s.Reasons)
	}
}

func TestReasons(t *testing.T) {
	for password, says := range map[string]string{
		"Passw0rd":     "“password” is among the first",
		"ternferries9": "which others know about you",
		"asdfghjk":     "keys of the keyboard",
		"kzabcdefkz":   "sequence",
		"zzzzzzzz":     "repeats a character",
		"x7Kx7Kx7K":    "repeats a part",
		"kz2024-05-01": "date",
		"k7":           "short",
	} {
		assert.Contains(t, language.Join(Estimate(password, []string{"ternferries.example"}).Reasons, "; ").String(),
			says, password)
	}
	assert.Empty(t, Estimate("Hq7mVt2kXw9pRz4c", nil).Reasons)
	assert.NotEmpty(t, Estimate("kz7", nil).Advice.String())
}

// What is drawn at random is taken for what it is, even where it looks like a word here and there.
func TestGeneratedOnesAreStrong(t *testing.T) {
	const drawn = 3000
	levels := map[Level]int{}
	for range drawn {
		levels[Estimate(passwords.Generate(16), []string{"tern ferries"}).Level]++
	}
	assert.Zero(t, levels[Weak])
	assert.Greater(t, levels[Strong], drawn*98/100, levels)
}

// Nothing that is known about a password makes it harder than guessing each of its characters.
func TestNeverMoreThanItsCharacters(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringN(0, 40, 80).Draw(t, "password")
		about := rapid.SliceOfN(rapid.StringN(0, 8, 16), 0, 3).Draw(t, "about")
		s := Estimate(text, about)
		assert.LessOrEqual(t, 0, s.Bits)
		assert.LessOrEqual(t, float64(s.Bits), 7.7*float64(len([]rune(text))))
		assert.LessOrEqual(t, Estimate(text+" "+text, about).Bits, 2*s.Bits+15, "saying it twice adds little")
	})
}

func TestLongOnesAreLookedAtQuickly(t *testing.T) {
	long := strings.Repeat("abcdefghijklmnopqrstuvwxyz", 40)
	begun := time.Now()
	Estimate(long, []string{long, long})
	assert.Less(t, time.Since(begun), time.Second)
}
