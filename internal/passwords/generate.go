package passwords

import (
	"crypto/rand"
	"math/big"
)

// Characters of generated passwords. What is mistaken for something else when read aloud or
// copied by hand (0 and O, 1, l and I) is left out.
const (
	Small  = "abcdefghijkmnpqrstuvwxyz"
	Large  = "ABCDEFGHJKLMNPQRSTUVWXYZ"
	Digits = "23456789"
	Signs  = "!#%+-./:=?@_~"
)

// Generate makes a password of n characters, at least 12, of letters and digits.
func Generate(n int) string { return GenerateOf(max(n, 12), Small, Large, Digits) }

// GenerateOf makes a password of n characters with at least one of each
// set; n is not less than their number.
func GenerateOf(n int, sets ...string) string {
	all := ""
	for _, set := range sets {
		all += set
	}
	b := make([]byte, n)
	for i := range b {
		set := all
		if i < len(sets) {
			set = sets[i]
		}
		b[i] = set[pick(len(set))]
	}
	for i := len(b) - 1; i > 0; i-- { // the first ones are not to be known by their set
		j := pick(i + 1)
		b[i], b[j] = b[j], b[i]
	}
	return string(b)
}

func pick(n int) int {
	k, err := rand.Int(rand.Reader, big.NewInt(int64(n)))
	if err != nil {
		panic(err) // crypto/rand does not fail on Linux
	}
	return int(k.Int64())
}
