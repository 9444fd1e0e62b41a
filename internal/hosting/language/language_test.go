package language

import (
	"errors"
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/language"
)

// islandic stands for a further language: one with an order of words and plurals of its own.
func islandic(t *testing.T) {
	t.Helper()
	others()["ru"] = speak(language.Russian, map[string]entry{
		"%s leads to %s": {text: "к %[2]s ведёт %[1]s"},
		"%d accounts": {plurals: map[string]string{"one": "%d запись", "few": "%d записи", "many": "%d записей",
			"other": "%d записи"}},
		"the disk is full": {text: "диск полон"},
	})
	t.Cleanup(func() { delete(others(), "ru") })
}

func TestTextsAreSaid(t *testing.T) {
	islandic(t)
	leads := New("%s leads to %s", "a.example", "b.example")
	assert.Equal(t, "a.example leads to b.example", leads.String())
	assert.Equal(t, "к b.example ведёт a.example", leads.In("ru"), "another order of words")
	for n, said := range map[int]string{1: "1 запись", 3: "3 записи", 5: "5 записей", 21: "21 запись"} {
		assert.Equal(t, said, Say("ru", "%d accounts", n))
	}
	assert.Equal(t, "no account fits", Say("ru", "no account fits"), "what is missing is said in English")
	assert.Equal(t, "7 sites of диск полон", Say("ru", "%d sites of %s", 7, New("the disk is full")),
		"also around what is not missing")
	assert.Equal(t, "full: диск полон; 100%", Say("ru", "full: %s; %s", Errorf("the disk is full"), Plain("100%")))
	assert.Equal(t, "диск полон, 100%", Join([]Text{New("the disk is full"), Plain("100%")}, ", ").In("ru"))
	assert.Equal(t, "the disk is full", Say("xx", "the disk is full"), "nobody speaks that")
	assert.True(t, Text{}.IsZero())
	assert.Empty(t, Text{}.In("ru"))
}

func TestMatch(t *testing.T) {
	for header, tag := range map[string]string{
		"":                                  "",
		"de":                                "de",
		"de-CH, en;q=0.5":                   "de",
		"en;q=0.5, de-DE;q=0.9, *;q=0.1":    "de",
		"fr, es":                            "",
		"fr, en;q=0.1":                      "en",
		"EN-gb":                             "en",
		"de;q=0, en;q=0.3":                  "en",
		"de;q=lots, en;q=0.3":               "de",
		",,;;q=,":                           "",
		"de\x00, \xff;q=1":                  "",
		"x-klingon, i-navajo, sgn-CH-DE, -": "",
	} {
		assert.Equal(t, tag, Match(header), "%q", header)
	}
	assert.NoError(t, Check("de"))
	assert.ErrorContains(t, Check("xx"), `there is no language "xx"; choose one of en, de`)
	assert.Equal(t, []string{"en", "de"}, Tags())
}

// What is kept says the same afterwards, in every language.
func TestKeptTexts(t *testing.T) {
	islandic(t)
	for _, text := range []Text{{}, New("the disk is full"), Plain(`a "quoted" {text}`), Plain("100%"),
		New("%s leads to %s", "a.example", netip.MustParseAddr("192.0.2.7")), New("%d accounts", 5),
		New("%s (%s)", New("%s leads to %s", "x", New("%d accounts", int64(21))), errors.New("broken")),
		New("%s: %s", Errorf("the disk is full"), []Text{New("the disk is full"), Plain("b")}),
		New("%q and %.1f and %t", `"`, 1.5, true), Plain(`{"text":`), Plain(`{"text":"x"`)} {
		kept := Decode(text.Encode())
		for _, tag := range []string{English, "ru", "de"} {
			assert.Equal(t, text.In(tag), kept.In(tag), "%s: %s", tag, text.Encode())
		}
	}
	assert.Equal(t, "the disk is full", New("the disk is full").Encode(), "as people read it in the database")
}

func TestTextsOfErrors(t *testing.T) {
	islandic(t)
	full := Errorf("the disk is full")
	assert.EqualError(t, full, "the disk is full")
	assert.Equal(t, "диск полон", Of(fmt.Errorf("skua: %w", full)).In("ru"))
	assert.Equal(t, "connection lost", Of(errors.New("connection lost")).In("ru"))
}

// Whatever is in a column, it is read without harm.
func FuzzDecode(f *testing.F) {
	for _, seed := range []string{"", "full", `{"text":"%s","values":["a"]}`, `{"text":"%d","values":[{"text":"x"}]}`,
		`{"text":1}`, `{"text":"%s %s","values":[]}`} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, column string) {
		text := Decode(column)
		_ = text.In("de")
		require.NotPanics(t, func() { _ = text.String() })
	})
}
