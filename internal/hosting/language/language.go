// Package language has what people read said in their language.
//
// The English texts are in the code, where they are said, as formats of fmt.
// Every other language is a file, texts/TAG.json: an object with the English
// texts as keys. What a language lacks is said in English, so a text is never
// empty; a test tells what customers and resellers read in English.
package language

import (
	"cmp"
	"embed"
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/text/feature/plural"
	"golang.org/x/text/language"
	"golang.org/x/text/message"
	"golang.org/x/text/message/catalog"
)

// English is the tag of the language in which all texts are written.
const English = "en"

//go:embed texts
var files embed.FS

// spoken is a language other than English.
type spoken struct {
	// texts are the language's, by the English ones. What has plurals has none of its own here.
	texts   map[string]entry
	printer *message.Printer
}

// entry is a text of a catalogue: a string, or an object with the categories of plurals of Unicode
// CLDR ("one", "other" …), of which the number of an argument chooses one.
type entry struct {
	text    string
	plurals map[string]string
}

// UnmarshalJSON implements json.Unmarshaler.
func (e *entry) UnmarshalJSON(data []byte) error {
	if len(data) > 0 && data[0] == '"' {
		return json.Unmarshal(data, &e.text)
	}
	return json.Unmarshal(data, &e.plurals)
}

// others are read when they are needed first: most programs never are in need of them.
var others = sync.OnceValue(load)

func load() map[string]spoken {
	all := map[string]spoken{}
	names, err := fs.Glob(files, "texts/*.json")
	if err != nil {
		panic(err)
	}
	for _, name := range names {
		data, err := files.ReadFile(name)
		if err != nil {
			panic(err)
		}
		var texts map[string]entry
		tag := strings.TrimSuffix(path.Base(name), ".json")
		if err := json.Unmarshal(data, &texts); err != nil {
			panic(fmt.Errorf("%s: %w", name, err))
		}
		maps.DeleteFunc(texts, func(_ string, e entry) bool { return e.text == "" && e.plurals == nil })
		all[tag] = speak(language.MustParse(tag), texts)
	}
	return all
}

func speak(tag language.Tag, texts map[string]entry) spoken {
	builder := catalog.NewBuilder()
	for english, e := range texts {
		var err error
		if e.plurals == nil {
			err = builder.SetString(tag, english, e.text)
		} else {
			var cases []any
			for _, category := range slices.Sorted(maps.Keys(e.plurals)) {
				cases = append(cases, category, e.plurals[category])
			}
			err = builder.Set(tag, english, plural.Selectf(1, "%d", cases...))
		}
		if err != nil {
			panic(fmt.Errorf("%s: %q: %w", tag, english, err))
		}
	}
	return spoken{texts, message.NewPrinter(tag, message.Catalog(builder))}
}

// Tags lists the languages that there are (RFC 5646), English first.
func Tags() []string { return append([]string{English}, slices.Sorted(maps.Keys(others()))...) }

// Known reports whether there is a language of that tag.
func Known(tag string) bool { return tag == English || others()[tag].printer != nil }

// Check refuses a tag that there is no language of.
func Check(tag string) error {
	if !Known(tag) {
		return Errorf("there is no language %q; choose one of %s", tag, strings.Join(Tags(), ", "))
	}
	return nil
}

// Match returns the language that an Accept-Language header (RFC 9110, section 12.5.4) asks for
// most, of those that there are; empty where it asks for none of them.
func Match(header string) string {
	best, weight := "", 0.0
	for _, part := range strings.Split(header, ",") {
		tag, q, weighted := strings.Cut(strings.TrimSpace(part), ";")
		w := 1.0
		if weighted {
			if parsed, err := strconv.ParseFloat(strings.TrimPrefix(strings.TrimSpace(q), "q="), 64); err == nil {
				w = parsed
			}
		}
		tag, _, _ = strings.Cut(strings.ToLower(strings.TrimSpace(tag)), "-")
		if Known(tag) && w > weight {
			best, weight = tag, w
		}
	}
	return best
}

// Text is something for people to read that is written before it is known who reads it. The zero
// value is empty.
type Text struct {
	format string
	args   []any
}

// New makes a text of a format and its values, as fmt.Sprintf does. A
// value that is itself a [Text], a list of them, or a [Speaker], is said
// in the same language. Without values, the format is taken as it is.
func New(format string, args ...any) Text {
	if false {
		_ = fmt.Sprintf(format, args...) // so that go vet checks calls as those of Sprintf
	}
	return Text{format, args}
}

// Plain is a text that is there as a whole, such as one that was kept: it is said in another
// language if that has it word for word.
func Plain(text string) Text { return Text{format: text} }

// Plains are texts that are there as a whole.
func Plains(texts []string) []Text {
	list := make([]Text, len(texts))
	for i, text := range texts {
		list[i] = Plain(text)
	}
	return list
}

// String says the text in English.
func (t Text) String() string { return t.In(English) }

// IsZero reports whether there is nothing to say.
func (t Text) IsZero() bool { return t.format == "" }

// In says the text in a language.
func (t Text) In(tag string) string {
	if len(t.args) == 0 {
		return cmp.Or(others()[tag].texts[t.format].text, t.format)
	}
	args := make([]any, len(t.args))
	for i, arg := range t.args {
		args[i] = argument(tag, arg)
	}
	if _, known := others()[tag].texts[t.format]; !known {
		return fmt.Sprintf(t.format, args...)
	}
	return others()[tag].printer.Sprintf(t.format, args...)
}

// Speaker is an error, or whatever else, that has a text.
type Speaker interface{ Text() Text }

func argument(tag string, arg any) any {
	switch v := arg.(type) {
	case Text:
		return v.In(tag)
	case []Text:
		return Join(v, ", ").In(tag)
	case Speaker:
		return v.Text().In(tag)
	}
	return arg
}

// failure is an error with a text.
type failure struct{ text Text }

// Errorf makes an error that can be said in any language: it is a [Speaker].
func Errorf(format string, args ...any) error { return failure{New(format, args...)} }

// Error implements error, in English.
func (f failure) Error() string { return f.text.String() }

// Text implements [Speaker].
func (f failure) Text() Text { return f.text }

// Say says a format with its values in a language.
func Say(tag, format string, args ...any) string { return New(format, args...).In(tag) }

// Join puts texts one after the other.
func Join(texts []Text, separator string) Text {
	args := make([]any, len(texts))
	for i, text := range texts {
		args[i] = text
	}
	return Text{strings.TrimSuffix(strings.Repeat("%s"+strings.ReplaceAll(separator, "%", "%%"), len(texts)),
		strings.ReplaceAll(separator, "%", "%%")), args}
}

// MarshalText implements encoding.TextMarshaler: in English.
func (t Text) MarshalText() ([]byte, error) { return []byte(t.String()), nil }

// Texts returns the English texts that a language has.
func Texts(tag string) []string { return slices.Sorted(maps.Keys(others()[tag].texts)) }
