package agent

import (
	"slices"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/homes"
	"victualler/internal/manifest"
)

// rawProgram is the program that reads what customers write for it themselves.
const rawProgram = "nginx"

func hasRaw(m manifest.Manifest) bool {
	return slices.ContainsFunc(m.Sites, func(s manifest.Site) bool { return s.Switches.Raw != "" })
}

// withoutRaw is a manifest of which no site has raw directives, as the program refuses them.
func withoutRaw(m manifest.Manifest, cause error) manifest.Manifest {
	m.Sites = slices.Clone(m.Sites)
	for n := range m.Sites {
		if s := &m.Sites[n]; s.Switches.Raw != "" {
			s.Switches.Raw, s.RawRefused = "", cause.Error()
		}
	}
	return m
}

// rawRefused tells of the sites whose raw directives are not in force.
func rawRefused(m manifest.Manifest) []agentlink.Warning {
	var list []agentlink.Warning
	for _, s := range m.Sites {
		if s.RawRefused != "" {
			list = append(list, agentlink.Warning{Part: "site", Subject: s.Domain.String(), Code: homes.RawRefused,
				Message: s.RawRefused})
		}
	}
	return list
}
