package usecase

import (
	"sync"
)

// Concurrently works on a list, on some of it at the same time.
func Concurrently[T any](most int, list []T, do func(T)) {
	var group sync.WaitGroup
	places := make(chan struct{}, most)
	for _, one := range list {
		places <- struct{}{}
		group.Go(func() {
			defer func() { <-places }()
			do(one)
		})
	}
	group.Wait()
}
