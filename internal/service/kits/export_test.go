package kits

import "time"

func init() {
	watchTime = 25 * time.Millisecond // nobody else works on what a test's queue holds
	checkTime, checkPause = 10*time.Millisecond, time.Millisecond
}
