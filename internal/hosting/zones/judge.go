package zones

import (
	"slices"
	"strings"
)

// State is how a set of records is found in public DNS.
type State string

// The states.
const (
	Right     State = "right"     // everybody answers as wanted
	Missing   State = "missing"   // an authoritative server has none
	Different State = "different" // an authoritative server has others
	Waiting   State = "waiting"   // the authoritative servers are right; an older answer is still remembered elsewhere
	Unknown   State = "unknown"   // nobody could be asked
)

// Set is the records of one name and type: what a name server answers with at once.
type Set struct {
	Name string
	Type Type
	Data []string
}

// Sets groups records. The order is that of the records.
func Sets(list []Record) []Set {
	var sets []Set
	for _, r := range list {
		at := slices.IndexFunc(sets, func(s Set) bool { return s.Name == r.Name && s.Type == r.Type })
		if at < 0 {
			at = len(sets)
			sets = append(sets, Set{Name: r.Name, Type: r.Type})
		}
		sets[at].Data = append(sets[at].Data, r.Data)
	}
	return sets
}

// Judge compares a wanted set with what each authoritative server that was reached answers, and
// with what a resolver remembers; remembered is nil where none was asked. Data is compared in
// presentation form, without regard to order and case.
func Judge(wanted []string, authoritative [][]string, remembered []string) State {
	if len(authoritative) == 0 {
		return Unknown
	}
	for _, answer := range authoritative {
		if len(answer) == 0 {
			return Missing
		}
	}
	for _, answer := range authoritative {
		if !same(answer, wanted) {
			return Different
		}
	}
	if remembered != nil && !same(remembered, wanted) {
		return Waiting
	}
	return Right
}

func same(a, b []string) bool {
	return slices.Equal(folded(a), folded(b))
}

func folded(list []string) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = s
		if !strings.Contains(s, `"`) { // texts keep their case
			out[i] = strings.ToLower(s)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
