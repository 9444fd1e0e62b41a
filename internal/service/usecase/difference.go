package usecase

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/sites"
)

// ChangedFields lists the fields in which two JSON documents differ, with dots in their names for
// nesting, as people read them.
func (a Actor) ChangedFields(before, after []byte) []api.Difference {
	was, is := a.fields(before), a.fields(after)
	names := slices.Collect(maps.Keys(was))
	for name := range is {
		if _, both := was[name]; !both {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	changed := []api.Difference{}
	for _, name := range names {
		if was[name] != is[name] {
			changed = append(changed, api.Difference{Name: name, Title: fieldTitle(name).In(a.Language),
				Before: was[name], After: is[name]})
		}
	}
	return changed
}

// fields has the values of a document, said, by their names.
func (a Actor) fields(text []byte) map[string]string {
	said := map[string]string{}
	var v any
	if len(text) > 0 && json.Unmarshal(text, &v) == nil {
		a.flatten(said, "", v)
	}
	return said
}

func (a Actor) flatten(said map[string]string, name string, v any) {
	switch v := v.(type) {
	case map[string]any:
		for key, part := range v {
			at := key
			if name != "" {
				at = name + "." + key
			}
			a.flatten(said, at, part)
		}
	case nil:
		if _, is := limitNamed(name); is {
			said[name] = a.Say("unlimited")
		}
	default:
		said[name] = a.fieldValue(name, v)
	}
}

// fieldValue says a value that is no object: a limit in its unit, codes by their names, and lists
// one after the other.
func (a Actor) fieldValue(name string, v any) string {
	switch v := v.(type) {
	case string:
		if slices.Contains(codedFields, name) {
			return Word(v).In(a.Language)
		}
		return v
	case bool:
		of, _, _ := strings.Cut(name, ".")
		switch on := of == "features" || of == "settings"; {
		case on && v:
			return a.Say("on")
		case on:
			return a.Say("off")
		case v:
			return a.Say("yes")
		}
		return a.Say("no")
	case float64:
		if info, is := limitNamed(name); is {
			return plans.Of(int64(v)).Format(info.Unit).String()
		}
		return strconv.FormatFloat(v, 'f', -1, 64)
	case []any:
		items := make([]string, len(v))
		for i, item := range v {
			items[i] = a.fieldValue(name, item)
		}
		return strings.Join(items, ", ")
	case map[string]any: // in a list
		var parts []string
		for _, key := range slices.Sorted(maps.Keys(v)) {
			parts = append(parts, key+" "+a.fieldValue(name, v[key]))
		}
		return strings.Join(parts, " ")
	}
	return fmt.Sprint(v)
}

// codedFields are fields whose values are codes that have names for people ([Word]).
var codedFields = []string{"state", "served_as", "counts_as", "role", "measure", "hosted", "mode"}

// fieldTitles are what people call the fields whose names do not say it.
var fieldTitles = map[string]string{
	"about":               "what it is good for",
	"accent":              "colour of links",
	"account":             "account",
	"accounts":            "accounts",
	"added":               "added",
	"address":             "address",
	"addresses":           "addresses",
	"author":              "author",
	"authority":           "authority",
	"bar":                 "colour of the bar",
	"bounds":              "rate bounds",
	"by_hand":             "by hand",
	"bytes":               "bytes",
	"cause":               "cause",
	"challenge_zone":      "zone for proofs",
	"console":             "console",
	"contact":             "contact",
	"counts_as":           "counts as",
	"customer":            "customer",
	"data":                "data",
	"days":                "days left",
	"directory":           "directory",
	"dnssec":              "signed",
	"domain":              "domain",
	"domain_proof":        "proof of domains",
	"drifts":              "differences",
	"duty":                "duty",
	"email":               "mail address",
	"ends":                "ends",
	"ends_at":             "ends",
	"folder":              "folder",
	"footer":              "footer",
	"host_name":           "name of the server",
	"hosted":              "DNS hosted",
	"issuer":              "issuer",
	"key_type":            "key",
	"keys":                "keys",
	"label":               "name",
	"language":            "language",
	"let_in":              "let in",
	"login":               "login",
	"logo":                "logo",
	"made_by":             "made by",
	"mail_security":       "mail security",
	"mail_server":         "mail server",
	"mailed":              "mailed to",
	"measure":             "compared with the share",
	"mirror_of":           "shows",
	"mode":                "source",
	"name":                "name",
	"name_servers":        "name servers",
	"names":               "names",
	"networks":            "networks",
	"notes":               "notes",
	"open":                "open for new accounts",
	"password":            "password",
	"phone":               "telephone",
	"pin_key":             "same key at each renewal",
	"plan":                "plan",
	"postal":              "postal address",
	"problem":             "problem",
	"profile":             "profile",
	"proved_by":           "proved by",
	"purpose":             "purpose",
	"reachable":           "reachable",
	"read_only":           "read-only",
	"reason":              "reason",
	"records":             "records",
	"redirect.code":       "status of the redirect",
	"redirect.keep_path":  "redirect keeps the path",
	"redirect.keep_query": "redirect keeps the query",
	"redirect.target":     "target of the redirect",
	"replaced":            "replaced",
	"request":             "request",
	"role":                "role",
	"roles":               "roles",
	"root":                "document root",
	"scopes":              "scopes",
	"sender":              "sender address",
	"sender_name":         "name of the sender",
	"serial":              "serial number",
	"served_as":           "served as",
	"server":              "server",
	"session":             "session",
	"shut_out":            "shut out",
	"sign_in_name":        "sign-in name",
	"state":               "state",
	"template":            "template",
	"title":               "title",
	"to":                  "to",
	"ttl":                 "TTL",
	"type":                "type",
	"usual":               "the usual authority",
	"version":             "version",
	"why":                 "reason",
	"with_accounts":       "with its accounts",
	"zone":                "zone",
}

// fieldTitle is what people call a field of what an event or a preview is about.
func fieldTitle(name string) language.Text {
	if title := fieldTitles[name]; title != "" {
		return language.Plain(title)
	}
	if info, is := limitNamed(name); is {
		return language.Plain(info.Title)
	}
	of, key, _ := strings.Cut(name, ".")
	switch of {
	case "features":
		return language.Plain(plans.Feature(key).Title())
	case "settings":
		key, part, _ := strings.Cut(key, ".")
		if info, is := sites.Of(sites.Key(key)); is {
			if part == "" {
				return language.Plain(info.Title)
			}
			return language.New("%s %s", language.Plain(info.Title), part)
		}
	}
	return language.Plain(strings.ReplaceAll(name, "_", " "))
}

// limitNamed returns the limit that a field such as "limits.disk" is of.
func limitNamed(name string) (plans.LimitInfo, bool) {
	key, found := strings.CutPrefix(name, "limits.")
	if !found {
		return plans.LimitInfo{}, false
	}
	return plans.Info(plans.Key(key))
}
