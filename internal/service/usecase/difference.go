package usecase

import (
	"encoding/json"
	"fmt"
	"sort"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
)

// ChangedFields lists the fields in which two JSON documents differ, with dots for nesting.
func ChangedFields(before, after []byte) []api.Difference {
	b, a := flat(before), flat(after)
	names := map[string]bool{}
	for name := range b {
		names[name] = true
	}
	for name := range a {
		names[name] = true
	}
	fields := []api.Difference{}
	for name := range names {
		if b[name] != a[name] {
			fields = append(fields, api.Difference{Name: name, Before: b[name], After: a[name]})
		}
	}
	sort.Slice(fields, func(i, j int) bool { return fields[i].Name < fields[j].Name })
	return fields
}

func flat(text []byte) map[string]string {
	fields := map[string]string{}
	var v any
	if len(text) > 0 && json.Unmarshal(text, &v) == nil {
		flatten(fields, "", v)
	}
	return fields
}

func flatten(fields map[string]string, name string, v any) {
	switch v := v.(type) {
	case map[string]any:
		for key, part := range v {
			at := key
			if name != "" {
				at = name + "." + key
			}
			flatten(fields, at, part)
		}
	case nil:
		if _, is := limitNamed(name); is {
			fields[name] = "unlimited"
		}
	case string:
		fields[name] = v
	case float64:
		if info, is := limitNamed(name); is {
			fields[name] = plans.Of(int64(v)).Format(info.Unit).String()
		} else {
			fields[name] = fmt.Sprintf("%.0f", v)
		}
	default:
		text, err := json.Marshal(v)
		if err == nil {
			fields[name] = string(text)
		}
	}
}

// limitNamed returns the limit that a field such as "limits.disk" is of.
func limitNamed(name string) (plans.LimitInfo, bool) {
	key, found := strings.CutPrefix(name, "limits.")
	if !found {
		return plans.LimitInfo{}, false
	}
	return plans.Info(plans.Key(key))
}
