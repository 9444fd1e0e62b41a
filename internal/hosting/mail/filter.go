package mail

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
)

// Filter sorts the messages to a mailbox.
type Filter struct {
	// All says that each of the tests must hold; otherwise one is enough.
	All   bool         `json:"all"`
	Tests []FilterTest `json:"tests"`
	// Folder is where the message goes, with slashes between a folder and those in it; empty stays
	// in the inbox.
	Folder string `json:"folder,omitempty"`
	// Read marks it as read, Flag as one to come back to, and Drop throws it away.
	Read bool `json:"read,omitempty"`
	Flag bool `json:"flag,omitempty"`
	Drop bool `json:"drop,omitempty"`
}

// FilterTest is something that is looked at.
type FilterTest struct {
	// Field is from, to (which is Cc, too), subject, list or size.
	Field string `json:"field"`
	// How is contains or is; of a size, it is above or below.
	How string `json:"how"`
	// Value is a text, or a size in bytes.
	Value string `json:"value,omitempty"`
	Bytes int64  `json:"bytes,omitempty"`
}

// Bounds of filters.
const (
	MostFilters     = 50
	mostFilterTests = 10
	longestFilter   = 200 // characters of a text in one
)

// fields that a filter looks at, and how Sieve does.
var filterFields = map[string]string{
	"from":    `address %s "from" %s`,
	"to":      `address %s ["to", "cc"] %s`,
	"subject": `header %s "subject" %s`,
	"list":    `header %s "list-id" %s`,
}

var filterWays = map[string]string{"contains": ":contains", "is": ":is"}

// CheckFilters refuses filters that cannot be.
//
// Refusals: InvalidInput.
func CheckFilters(list []Filter) error {
	if len(list) > MostFilters {
		return refusal.Input("filters", "a mailbox has %d filters at most", MostFilters)
	}
	for n, f := range list {
		if err := f.check(); !err.IsZero() {
			return refusal.Input("filters", "filter %d: %s", n+1, err)
		}
	}
	return nil
}

func (f Filter) check() language.Text {
	switch {
	case len(f.Tests) == 0:
		return language.New("say what it looks at")
	case len(f.Tests) > mostFilterTests:
		return language.New("it looks at %d things at most", mostFilterTests)
	case !f.Drop && f.Folder == "" && !f.Read && !f.Flag:
		return language.New("say what it does with the message")
	case f.Drop && (f.Folder != "" || f.Read || f.Flag):
		return language.New("what is thrown away goes into no folder")
	case f.Folder != "" && !isFolder(f.Folder):
		return language.New("%s cannot be the name of a folder", f.Folder)
	}
	for _, t := range f.Tests {
		switch {
		case t.Field == "size" && (t.How == "above" || t.How == "below") && t.Bytes > 0:
		case filterFields[t.Field] != "" && filterWays[t.How] != "" && isFilterText(t.Value):
		default:
			return language.New("it cannot look whether %s %s %s", t.Field, t.How, t.Value)
		}
	}
	return language.Text{}
}

// isFolder reports whether a folder can have a name: each part of it has letters, and none is one
// that file systems know.
func isFolder(name string) bool {
	return isFilterText(name) && !strings.HasPrefix(name, "~") && !slices.ContainsFunc(strings.Split(name, "/"),
		func(part string) bool {
			return strings.TrimSpace(part) != part || part == "" || strings.Trim(part, ".") == "" ||
				strings.ContainsAny(part, `*%\"`) || strings.HasPrefix(part, ".")
		})
}

func isFilterText(text string) bool {
	return text != "" && utf8.ValidString(text) && utf8.RuneCountInString(text) <= longestFilter &&
		!strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f || r == utf8.RuneError })
}

// Sieve is the script (RFC 5228) that does what filters say, in their order: a message that one has
// moved or thrown away is not looked at by the next. The filters have been checked.
func Sieve(list []Filter) string {
	if len(list) == 0 {
		return ""
	}
	var out strings.Builder
	out.WriteString("require [\"copy\", \"fileinto\", \"imap4flags\", \"mailbox\"];\n")
	for _, f := range list {
		how := "anyof"
		if f.All {
			how = "allof"
		}
		var tests []string
		for _, t := range f.Tests {
			tests = append(tests, t.sieve())
		}
		fmt.Fprintf(&out, "\nif %s (%s) {\n", how, strings.Join(tests, ",\n\t"))
		if f.Read {
			out.WriteString("\taddflag \"\\\\Seen\";\n")
		}
		if f.Flag {
			out.WriteString("\taddflag \"\\\\Flagged\";\n")
		}
		switch {
		case f.Drop:
			out.WriteString("\tdiscard;\n\tstop;\n")
		case f.Folder != "":
			out.WriteString("\tfileinto :create " + sieveText(f.Folder) + ";\n\tstop;\n")
		}
		out.WriteString("}\n")
	}
	return out.String()
}

func (t FilterTest) sieve() string {
	if t.Field == "size" {
		return fmt.Sprintf("size %s %d", map[string]string{"above": ":over", "below": ":under"}[t.How], t.Bytes)
	}
	return fmt.Sprintf(filterFields[t.Field], filterWays[t.How], sieveText(t.Value))
}

// sieveText is a text in quotes (RFC 5228, section 2.4.2).
func sieveText(text string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`
}
