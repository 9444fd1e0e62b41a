package plans

import "math/bits"

// Room is how many bytes of a limit are left to what an account holds on one of two servers, while
// it holds so many on the other. It is 1 MiB at least, as nothing can be put right where nothing
// can be written.
func Room(limit, elsewhere int64) int64 { return max(limit-Coarsely(elsewhere), MiB) }

// Coarsely rounds up what an account holds, by a sixteenth or 1 MiB at most, so that [Room] changes
// now and then alone.
func Coarsely(bytes int64) int64 {
	if bytes <= 0 {
		return 0
	}
	unit := max(int64(1)<<max(bits.Len64(uint64(bytes))-5, 0), MiB)
	return (bytes + unit - 1) / unit * unit
}
