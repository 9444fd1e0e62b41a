package plans

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"victualler/internal/hosting/refusal"
)

// Sizes are powers of 1024.
const (
	KiB int64 = 1 << (10 * (iota + 1))
	MiB
	GiB
	TiB
)

// ParseSize reads a size as people write it: a number and one of K, M, G or T,
// such as 500M, 20G or 1.5T, in bytes as powers of 1024. A bare number is
// refused, because nobody can tell whether 20480 was meant as megabytes.
func ParseSize(text string) (int64, error) {
	t := strings.ToUpper(strings.TrimSpace(text))
	t = strings.TrimSuffix(strings.TrimSuffix(t, "B"), "I")
	refuse := func() error {
		return refusal.Input("size", "%q is not a size; write a number and a unit, such as 500M, 20G or 1.5T", text)
	}
	if t == "" {
		return 0, refuse()
	}
	unit := strings.IndexByte("KMGT", t[len(t)-1])
	if unit < 0 {
		if n, err := strconv.ParseFloat(t, 64); err == nil && n == 0 {
			return 0, nil
		} else if err == nil && n > 0 && !math.IsInf(n, 0) {
			other := FormatSize(int64(n * float64(MiB)))
			if other == t+"M" {
				other = t + "G"
			}
			return 0, refusal.Input("size", "%s what? write %sM or %s", t, t, other)
		}
		return 0, refuse()
	}
	digits := strings.TrimSpace(t[:len(t)-1])
	if strings.Trim(digits, "0123456789.") != "" {
		return 0, refuse()
	}
	n, err := strconv.ParseFloat(digits, 64)
	if err != nil {
		return 0, refuse()
	}
	bytes := n * float64(int64(1)<<(10*(unit+1)))
	if bytes >= 1<<60 {
		return 0, refusal.Input("size", "%s is more than any server has; leave the limit open (unlimited) instead",
			text)
	}
	return int64(bytes), nil
}

// FormatSize writes a size the way [ParseSize] reads it, with at most three
// significant digits beyond whole numbers. Sizes below 1K are written in bytes.
func FormatSize(bytes int64) string {
	units := []struct {
		size   int64
		letter string
	}{{TiB, "T"}, {GiB, "G"}, {MiB, "M"}, {KiB, "K"}}
	for _, u := range units {
		if bytes >= u.size {
			if bytes%u.size == 0 {
				return fmt.Sprintf("%d%s", bytes/u.size, u.letter)
			}
			precision := 1
			if bytes >= 100*u.size {
				precision = 0
			}
			text := strconv.FormatFloat(float64(bytes)/float64(u.size), 'f', precision, 64)
			return strings.TrimSuffix(text, ".0") + u.letter
		}
	}
	return strconv.FormatInt(bytes, 10) + "B"
}
