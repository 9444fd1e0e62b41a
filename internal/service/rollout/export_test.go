package rollout

// Watchers is how many watch an operation.
func (s *Service) Watchers(operation int64) int {
	s.hub.mu.Lock()
	defer s.hub.mu.Unlock()
	return len(s.hub.watchers[operation])
}
