package kits

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"victualler/internal/hosting/refusal"
)

const smallDocument = `{"layout": 1, "name": "pinboard", "version": "1.2.0", "title": "Pinboard",
	"about": "Notes that everybody sees.", "check": {"path": "/"}}`

// fields are the fields that a refusal is about.
func fields(t *testing.T, err error) []string {
	t.Helper()
	r := refusal.As(err)
	require.NotNil(t, r, "%v", err)
	var out []string
	for _, f := range r.Fields {
		out = append(out, f.Name)
	}
	return out
}

func TestReadDocument(t *testing.T) {
	k, err := ReadDocument([]byte(smallDocument))
	require.NoError(t, err)
	assert.Equal(t, "pinboard", k.Name)
	assert.Equal(t, 200, k.Check.Wanted())

	for name, c := range map[string]struct {
		document string
		want     []string
		says     string
	}{
		"no JSON":        {`{"layout": 1,` + "\n" + `"name" "x"}`, []string{"kit.json"}, "line 2"},
		"unknown member": {`{"layout": 1, "nmae": "x"}`, []string{"kit.json"}, "nmae"},
		"goes on":        {smallDocument + "{}", []string{"kit.json"}, "behind its end"},
		"wrong type":     {`{"layout": "1"}`, []string{"kit.json"}, "line 1"},
		"nothing in it": {`{}`, []string{"layout", "name", "version", "title", "about", "check.path"},
			"not in order"},
		"everything wrong": {`{"layout": 1, "name": "Pin", "version": "1.x", "title": "a\u202eb", "about": "x",
			"needs": {"php": "8", "extensions": ["a/b"], "database": "sqlite", "space": -1},
			"asks": [{"name": "title", "title": "T", "kind": "line"}, {"name": "title", "title": "T", "kind": "colour"},
				{"name": "mail", "title": "M", "kind": "email", "default": "nobody"}],
			"secrets": [{"name": "key", "length": 4}], "templates": ["../up", "a", "a"], "keeps": ["/etc"],
			"steps": [{"title": "", "run": [], "seconds": 9000}],
			"site": {"raw": "return 200;"}, "check": {"path": "x", "status": 42}}`,
			[]string{"name", "version", "title", "needs.php", "needs.extensions.0", "needs.database", "needs.space",
				"asks.1.name", "asks.1.kind", "asks.2.default", "secrets.0.length", "steps.0.title", "steps.0.run",
				"steps.0.seconds", "templates.0", "templates.2", "keeps.0", "site.raw", "check.path", "check.status"},
			"not in order"},
		"a setting that is none": {`{"layout": 1, "site": {"colour": "red"}}`, []string{"settings.colour"}, "settings"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := ReadDocument([]byte(c.document))
			assert.Equal(t, c.want, fields(t, err))
			r := refusal.As(err)
			assert.Contains(t, fmt.Sprint(r.Detail, r.Fields), c.says)
		})
	}
}

func TestVersions(t *testing.T) {
	inOrder := []string{"0.9", "1", "1.0.1", "1.2", "1.10", "2.0.0.1"}
	for i := range len(inOrder) - 1 {
		assert.Negative(t, CompareVersions(inOrder[i], inOrder[i+1]), inOrder[i])
		assert.Positive(t, CompareVersions(inOrder[i+1], inOrder[i]), inOrder[i])
	}
	assert.Zero(t, CompareVersions("1.0", "1"))
	for _, v := range []string{"", "1.", "01", "1.2.3.4.5", "v1", "1-rc", "99999999999"} {
		assert.Error(t, CheckVersion(v), v)
	}
}

func TestAnswers(t *testing.T) {
	k := Kit{Name: "pinboard", Asks: []Ask{{Name: "title", Kind: AskLine, Default: "Pinboard"},
		{Name: "mail", Kind: AskEmail, Optional: true}, {Name: "colour", Kind: AskChoice, Choices: []string{"sea",
			"sand"}}}}
	out, err := k.Answers(map[string]string{"colour": "sand", "title": "  "})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"title": "Pinboard", "mail": "", "colour": "sand"}, out)
	_, err = k.Answers(map[string]string{"title": "two\nlines", "mail": "x", "colour": "red", "more": "y"})
	assert.Equal(t, []string{"answers.colour", "answers.mail", "answers.more", "answers.title"}, fields(t, err))
}

func TestFill(t *testing.T) {
	values := Values{"title": `Ann's <b>"quay"</b> \ </script>`, "key": "k"}
	out, err := Fill("a.php", []byte(`{{php title}}|{{html title}}|{{json title}}|{{ line key }}|{ {x} }`), values)
	require.NoError(t, err)
	assert.Equal(t, `'Ann\'s <b>"quay"</b> \\ </script>'|Ann&#39;s &lt;b&gt;&#34;quay&#34;&lt;/b&gt; \ &lt;/script&gt;|`+
		`"Ann's \u003cb\u003e\"quay\"\u003c/b\u003e \\ \u003c/script\u003e"|k|{ {x} }`, string(out))
	for _, bad := range []string{"{{title}}", "{{shell title}}", "{{php other}}", "{{}}"} {
		_, err := Fill("a.php", []byte("x "+bad), values)
		assert.Equal(t, []string{"files/a.php"}, fields(t, err), bad)
	}
	// Whatever somebody answers is one literal of PHP: it ends where it was written to end.
	rapid.Check(t, func(t *rapid.T) {
		given := rapid.StringOf(rapid.SampledFrom([]rune(`a'"\$?>{}`))).Draw(t, "given")
		text := phpText(given)
		var read strings.Builder
		rest := text[1:]
		for rest != "'" {
			require.NotEqual(t, byte('\''), rest[0], text)
			if strings.HasPrefix(rest, `\\`) || strings.HasPrefix(rest, `\'`) { // the two that PHP knows there
				rest = rest[1:]
			}
			read.WriteByte(rest[0])
			rest = rest[1:]
		}
		require.Equal(t, given, read.String())
	})
}

func TestCompare(t *testing.T) {
	was := map[string]string{"same": "1", "new": "1", "gone": "1", "mine": "1", "both": "1", "agreed": "1",
		"deleted": "1", "deleted-new": "1", "gone-mine": "1"}
	now := map[string]string{"same": "1", "new": "1", "gone": "1", "mine": "m", "both": "m", "agreed": "2",
		"gone-mine": "m", "there": "m", "own": "m"}
	next := map[string]string{"same": "1", "new": "2", "mine": "1", "both": "2", "agreed": "2", "deleted": "1",
		"deleted-new": "2", "added": "1", "there": "1"}
	assert.Equal(t, []Change{{"added", Add}, {"both", Conflict}, {"deleted", Keep}, {"deleted-new", Conflict},
		{"gone", Remove}, {"gone-mine", Conflict}, {"mine", Keep}, {"new", Replace}, {"there", Conflict}},
		Compare(was, now, next))

	// What the customer has made of a file is never changed without being called a conflict.
	rapid.Check(t, func(t *rapid.T) {
		one := rapid.SampledFrom([]string{"", "1", "2", "3"})
		was, now, next := one.Draw(t, "was"), one.Draw(t, "now"), one.Draw(t, "next")
		switch action := compareOne(was, now, next); action {
		case Add, Replace, Remove:
			assert.Equal(t, was, now)
			assert.NotEqual(t, now, next)
		case Keep:
			assert.Equal(t, was, next)
		case "":
			assert.Equal(t, now, next)
		case Conflict:
			assert.True(t, was != now && now != next && was != next)
		}
	})
}

func TestCheckPath(t *testing.T) {
	for _, p := range []string{"index.php", "a/b.c", ".well-known/x", "süd/ä.txt", "a..b"} {
		assert.NoError(t, CheckPath(p), p)
	}
	for _, p := range []string{"", ".", "..", "/a", "a/../b", "../a", "a//b", "a/", "./a", "a\nb", "a\x00b", `a\b`,
		"\xff", strings.Repeat("a/", 30) + "b", strings.Repeat("a", 201)} {
		assert.Error(t, CheckPath(p), p)
	}
	k := Kit{Keeps: []string{"uploads/", "note.txt"}}
	assert.True(t, k.Kept("uploads/a/b") && k.Kept("uploads") && k.Kept("note.txt"))
	assert.False(t, k.Kept("uploads2") || k.Kept("note.txt.php"))
}
