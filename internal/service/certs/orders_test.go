package certs

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestByHandPause(t *testing.T) {
	for since, want := range map[time.Duration]time.Duration{0: 5 * time.Second, 4 * time.Minute: 5 * time.Second,
		time.Hour: time.Minute, 6 * 24 * time.Hour: 5 * time.Minute} {
		assert.Equal(t, want, byHandPause(since), since)
	}
}
