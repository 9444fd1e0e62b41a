package kits

import (
	"maps"
	"slices"
)

// Change is what an update would do to one file.
type Change struct {
	Path string `json:"path"`
	// Action is one of those below.
	Action string `json:"action"`
}

// What an update does with a file.
const (
	// Add writes a file that is new in the kit.
	Add = "add"
	// Replace writes the kit's new contents over its old ones.
	Replace = "replace"
	// Remove takes away what the kit no longer has.
	Remove = "remove"
	// Keep leaves what the customer has changed, where the kit has changed nothing.
	Keep = "keep"
	// Conflict is where both have changed it: which one stays has to be decided.
	Conflict = "conflict"
)

// Compare decides what an update does, file by file: was is what the installed version has written,
// now is what is there, and next what the new version would write. All are digests by path; a
// path that is missing is a file that is not there. Files of which the kit knows nothing are not
// mentioned: they stay.
func Compare(was, now, next map[string]string) []Change {
	paths := slices.Sorted(maps.Keys(was))
	for p := range next {
		if _, known := was[p]; !known {
			paths = append(paths, p)
		}
	}
	slices.Sort(paths)
	var out []Change
	for _, p := range paths {
		if action := compareOne(was[p], now[p], next[p]); action != "" {
			out = append(out, Change{p, action})
		}
	}
	return out
}

// compareOne decides about one file; empty is a file that is not there.
func compareOne(was, now, next string) string {
	switch {
	case now == next:
		return "" // already so, whoever has done it
	case now == was && next == "":
		return Remove
	case now == was && was == "":
		return Add
	case now == was:
		return Replace
	case was == next:
		return Keep // the customer's change, or removal, stands against nothing
	}
	return Conflict
}
