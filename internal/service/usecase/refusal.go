package usecase

import (
	"victualler/internal/hosting/refusal"
	"victualler/internal/store"
)

// RefusalIn is the refusal that an error of a use case comes to: one that it holds, or
// [refusal.DatabaseUnreachable]. It is nil for what is a fault of ours.
func RefusalIn(err error) *refusal.Refusal {
	if r := refusal.As(err); r != nil {
		return r
	}
	if store.Unreachable(err) {
		return refusal.New(refusal.DatabaseUnreachable,
			"the service's database does not answer just now: try again in "+
				"a moment. A change that was asked for may have been made; repeating it with the same "+
				"Idempotency-Key is safe")
	}
	return nil
}
