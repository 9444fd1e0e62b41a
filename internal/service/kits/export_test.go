package kits

import "time"

func init() {
	watchTime = 25 * time.Millisecond // nobody else works on what a test's queue holds
	checkTime, checkPause = 10*time.Millisecond, time.Millisecond
}

// WatchLonger has work wait for servers as long as it does in earnest, until it is taken back.
func WatchLonger() (back func()) {
	before := watchTime
	watchTime = 10 * time.Second
	return func() { watchTime = before }
}
