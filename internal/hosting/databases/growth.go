package databases

// mayGrowStopped is how much databases may grow after they were stopped, in bytes: engines write
// something even where only rows are deleted.
const mayGrowStopped = 32 << 20

// NextGrowth decides whether an account's databases may grow. Stopped is how much those of the
// engine held when they were stopped, here how much they hold now, and all is with those of other
// engines; a limit of nil is none.
func NextGrowth(now Growth, stopped, here, all int64, limit *int64) Growth {
	switch {
	case limit == nil || all < *limit || here == 0:
		return Free
	case now == Free:
		return Stopped
	case now == Closed || here > stopped+mayGrowStopped:
		// What was laid down before lets them grow all the same, such as a function that runs with
		// its owner's rights.
		return Closed
	}
	return Stopped
}

// notices are how full databases are, in percent, when customers are told.
var notices = []int{100, 95, 80}

// NextNotice decides whether a customer is to be told how full the account's databases are: told is
// what was told last, in percent, or 0. Now is what counts as told from then on. What has been told
// is not told again before they were clearly under it.
func NextNotice(told int, used int64, limit *int64) (now int, tell bool) {
	if limit == nil || *limit <= 0 {
		return 0, false
	}
	percent := float64(used) / float64(*limit) * 100
	for _, level := range notices {
		switch {
		case percent >= float64(level):
			return max(level, min(told, level)), level > told
		case told >= level && percent > float64(level)-5:
			return told, false
		}
	}
	return 0, false
}
