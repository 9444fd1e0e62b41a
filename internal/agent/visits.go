package agent

import (
	"context"
	"slices"
	"time"

	"victualler/internal/manifest"
)

// withVisits is the manifest with what the server knows of visits to its sites.
func (a *Agent) withVisits(m manifest.Manifest) manifest.Manifest {
	if a.Visits == nil {
		return m
	}
	m.Sites = slices.Clone(m.Sites)
	for n := range m.Sites {
		m.Sites[n].Busy = a.Visits.Busy(m.SignInName, m.Sites[n].Domain.String())
	}
	return m
}

// followVisits applies accounts anew that have a site which has become busy, or is no longer.
func (a *Agent) followVisits(ctx context.Context) {
	ticker := time.NewTicker(a.VisitsRound)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-ticker.C:
			changed, err := a.Visits.Round(now)
			if err != nil {
				a.Log.Warn("which sites are busy is not remembered", "reason", err)
			}
			a.reapply(ctx, func(yield func(manifest.Manifest) bool) {
				for _, name := range changed {
					if m := a.state.last(name); m != nil && m.HasHome() && !yield(*m) {
						return
					}
				}
			})
		}
	}
}
