// Package strength estimates how many guesses a password would withstand, and
// says in words what makes it weak. The estimate follows how guessers go
// about it: well-known passwords first, then words with the usual changes,
// then sequences, repeats, dates and keyboard runs, then everything else.
package strength

import (
	"math"
	"regexp"
	"strings"
	"unicode"

	"victualler/internal/hosting/language"
)

// Level is how well a password would hold.
type Level string

// The levels. A weak password is refused.
const (
	Weak   Level = "weak"
	Fair   Level = "fair"
	Good   Level = "good"
	Strong Level = "strong"
)

// Bits from which a password is fair, good and strong. Sign-ins are throttled, and hashes are slow
// to try (argon2id): 30 bits are a billion guesses.
const (
	fair   = 30
	good   = 45
	strong = 60
)

// Strength is an estimate.
type Strength struct {
	// Bits is log2 of the guesses it takes.
	Bits    int
	Level   Level
	Reasons []language.Text
	Advice  language.Text
}

// Bounds of what is looked at: more characters make no password better
// than strong, and anybody may ask.
const (
	mostCharacters = 100
	mostAbout      = 60
)

var between = regexp.MustCompile(`[^\pL\pN]+`)

// Estimate looks at a password, of a long one at its first hundred characters. About is what others
// know about its owner: names, domains, addresses.
func Estimate(password string, about []string) Strength {
	password = first(password, mostCharacters)
	e := estimator{text: []rune(password), lower: []rune(fold(password)), reasons: map[string]bool{}}
	for _, text := range about {
		for _, word := range between.Split(strings.ToLower(first(text, mostCharacters)), -1) {
			if len([]rune(word)) >= 3 && len(e.about) < mostAbout {
				e.about = append(e.about, word)
			}
		}
	}
	bits := e.bits()
	s := Strength{Bits: int(math.Floor(bits)), Level: Weak}
	switch {
	case bits >= strong:
		s.Level = Strong
	case bits >= good:
		s.Level = Good
	case bits >= fair:
		s.Level = Fair
	}
	s.Reasons = append(s.Reasons, e.order...)
	if n := len(e.text); n < 10 && s.Level != Strong && n > 0 {
		s.Reasons = append(s.Reasons, language.New("it is short"))
	}
	if s.Level == Weak || s.Level == Fair {
		s.Advice = language.New("take four words that have nothing to do with each other, or have one generated")
	}
	return s
}

func first(text string, n int) string {
	if runes := []rune(text); len(runes) > n {
		return string(runes[:n])
	}
	return text
}

// estimator goes through a password from left to right and takes, at
// each place, the way that costs a guesser least.
type estimator struct {
	text, lower []rune
	about       []string
	reasons     map[string]bool
	order       []language.Text
}

func (e *estimator) because(reason language.Text) {
	if !reason.IsZero() && !e.reasons[reason.String()] {
		e.reasons[reason.String()] = true
		e.order = append(e.order, reason)
	}
}

// piece is a part of the password that a guesser would try as one.
type piece struct {
	length int
	bits   float64
	reason language.Text
}

// bits finds the cheapest way to cut the password into pieces.
func (e *estimator) bits() float64 {
	n := len(e.text)
	if n == 0 {
		return 0
	}
	single := e.perCharacter()
	cost := make([]float64, n+1)
	from := make([]int, n+1)
	why := make([]language.Text, n+1)
	for i := 1; i <= n; i++ {
		cost[i] = math.Inf(1)
	}
	for i := range n {
		try := func(p piece) {
			if c := cost[i] + p.bits; c < cost[i+p.length] {
				cost[i+p.length], from[i+p.length], why[i+p.length] = c, i, p.reason
			}
		}
		try(piece{length: 1, bits: single})
		for _, p := range e.piecesAt(i) {
			try(p)
		}
	}
	var reasons []language.Text
	for i := n; i > 0; i = from[i] {
		reasons = append(reasons, why[i])
	}
	for i := len(reasons) - 1; i >= 0; i-- {
		e.because(reasons[i])
	}
	return cost[n]
}

// perCharacter is the cost of a character about which nothing better is known: it is
// one of those that the password's kinds of characters offer.
func (e *estimator) perCharacter() float64 {
	size := 0.0
	kinds := map[string]float64{}
	for _, r := range e.text {
		switch {
		case r >= 'a' && r <= 'z':
			kinds["small"] = 26
		case r >= 'A' && r <= 'Z':
			kinds["large"] = 26
		case r >= '0' && r <= '9':
			kinds["digit"] = 10
		case r < 128:
			kinds["sign"] = 33
		default:
			kinds["other"] = 100
		}
	}
	for _, n := range kinds {
		size += n
	}
	return math.Log2(size)
}

func (e *estimator) piecesAt(i int) []piece {
	var list []piece
	add := func(length int, bits float64, reason language.Text) {
		if length > 0 {
			list = append(list, piece{length, bits, reason})
		}
	}
	var none language.Text
	rest := string(e.lower[i:])
	changed := func(length int) float64 { return e.changes(i, length) }
	for rank, word := range common {
		if strings.HasPrefix(rest, word) {
			n := len([]rune(word))
			add(n, math.Log2(float64(rank+2))+changed(n),
				language.New("“%s” is among the first that are guessed", word))
		}
	}
	for _, word := range words {
		if strings.HasPrefix(rest, word) {
			n := len([]rune(word))
			add(n, wordBits+changed(n), none)
		}
	}
	for n := 4; n <= min(speakable(e.text[i:]), longestWord); n++ {
		add(n, spokenBits+0.8*float64(n)+changed(n), none)
	}
	for _, word := range e.about {
		if f := fold(word); strings.HasPrefix(rest, f) {
			n := len([]rune(f))
			add(n, 2+changed(n), language.New("it has “%s” in it, which others know about you", word))
		}
	}
	if n := run(e.lower[i:]); n >= 3 {
		add(n, 4+math.Log2(float64(n)), language.New("it has a sequence like abc or 123 in it"))
	}
	for _, row := range keyboard {
		if n := along(row, e.lower[i:]); n >= 4 {
			add(n, 5+math.Log2(float64(n)), language.New("it follows the keys of the keyboard"))
		}
	}
	if n := same(e.lower[i:]); n >= 3 {
		add(n, e.perCharacter()+math.Log2(float64(n)), language.New("it repeats a character"))
	}
	// What has come before costs nothing but saying where.
	for n := min(i, len(e.lower)-i); n >= 3; n-- {
		if at := strings.Index(string(e.lower[:i]), string(e.lower[i:i+n])); at >= 0 {
			add(n, 3+math.Log2(float64(i)), language.New("it repeats a part of itself"))
			break
		}
	}
	if m := date.FindString(string(e.text[i:])); m != "" {
		bits := 7.0 // a year
		if len(m) > 4 {
			bits = 16
		}
		add(len([]rune(m)), bits, language.New("it has a date in it"))
	}
	return list
}

// changes is what the usual changes to a word add: capitals, and digits that stand for letters.
func (e *estimator) changes(i, length int) float64 {
	bits := 0.0
	capitals := 0
	for k := i; k < i+length; k++ {
		if unicode.IsUpper(e.text[k]) {
			capitals++
		}
		if !unicode.IsLetter(e.text[k]) && unicode.IsLetter(e.lower[k]) {
			bits += 1
		}
	}
	switch {
	case capitals == 0:
	case capitals == length || capitals == 1 && unicode.IsUpper(e.text[i]):
		bits += 1
	default:
		bits += float64(min(capitals, length-capitals)) + 1
	}
	return bits
}

var date = regexp.MustCompile(
	`^(?:(?:19|20)\d\d[-./]?(?:0[1-9]|1[0-2])[-./]?(?:0[1-9]|[12]\d|3[01])|(?:0[1-9]|[12]\d|3[01])[-./]?(?:0[1-9]|1[0-2])[-./]?(?:19|20)\d\d|(?:19|20)\d\d)`)

// fold puts letters in the place of what usually stands for them.
func fold(text string) string {
	return strings.NewReplacer("0", "o", "1", "l", "3", "e", "4", "a", "5", "s", "7", "t", "@", "a", "$", "s", "!",
		"i").Replace(strings.ToLower(text))
}

// What can be spoken is taken for a word of a guesser's much longer list: so many bits, and
// somewhat more for a longer one.
const (
	spokenBits  = 9
	longestWord = 9
)

// speakable is the length of the letters at the beginning that could be part of a word: a vowel
// here and there, never more than three of a kind in a row, and capitals as words have them.
func speakable(text []rune) int {
	n, row, vowels := 0, 0, 0
	var before bool
	for ; n < len(text); n++ {
		r := unicode.ToLower(text[n])
		if r < 'a' || r > 'z' || run(text[n:]) >= 4 || n > 1 && unicode.IsUpper(text[n]) != unicode.IsUpper(text[1]) ||
			n > 0 && unicode.IsUpper(text[n]) && unicode.IsLower(text[0]) {
			break
		}
		vowel := strings.ContainsRune("aeiouy", r)
		if n > 0 && vowel == before {
			row++
		} else {
			row = 1
		}
		if row > 3 {
			break
		}
		before = vowel
		if vowel {
			vowels++
		}
	}
	if vowels == 0 {
		return 0
	}
	return n
}

// run is the length of a sequence such as abcd, 4321 at the beginning.
func run(text []rune) int {
	if len(text) < 2 {
		return 0
	}
	step := text[1] - text[0]
	if step != 1 && step != -1 {
		return 0
	}
	n := 2
	for n < len(text) && text[n]-text[n-1] == step {
		n++
	}
	return n
}

func same(text []rune) int {
	n := 1
	for n < len(text) && text[n] == text[0] {
		n++
	}
	return n
}

// keyboard are the rows of the usual keyboards, forwards and backwards.
// The digits are folded as text is.
var keyboard = func() []string {
	rows := []string{"1234567890", "qwertyuiop", "qwertzuiop", "azertyuiop", "asdfghjkl", "zxcvbnm", "yxcvbnm",
		"1qaz2wsx3edc4rfv5tgb", "qazwsxedcrfv"}
	for _, row := range rows[:len(rows):len(rows)] {
		b := []rune(row)
		for i, j := 0, len(b)-1; i < j; i, j = i+1, j-1 {
			b[i], b[j] = b[j], b[i]
		}
		rows = append(rows, string(b))
	}
	for i := range rows {
		rows[i] = fold(rows[i])
	}
	return rows
}()

// along is the length of the longest part of a row at the beginning of text.
func along(row string, text []rune) int {
	for n := min(len(text), len(row)); n >= 4; n-- {
		if strings.Contains(row, string(text[:n])) {
			return n
		}
	}
	return 0
}

// Random returns the bits of a password of n characters drawn from a set of that size.
func Random(n, set int) int {
	if set < 2 {
		return 0
	}
	return int(float64(n) * math.Log2(float64(set)))
}
