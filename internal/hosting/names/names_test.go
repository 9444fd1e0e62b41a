package names

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestParseDomain(t *testing.T) {
	for typed, want := range map[string]struct {
		ascii string
		notes int
	}{
		"ferries.example":                         {"ferries.example", 0},
		"  Ferries.Example ":                      {"ferries.example", 1},
		"https://www.Ferries.example/a/b?c#d":     {"ferries.example", 4},
		"http://ferries.example:8080/":            {"ferries.example", 2},
		"ferries.example.":                        {"ferries.example", 1},
		"www.shop.ferries.example":                {"shop.ferries.example", 1},
		"www.example":                             {"www.example", 0},
		"møwe.example":                            {"xn--mwe-0na.example", 1},
		"MØWE.example":                            {"xn--mwe-0na.example", 2},
		"xn--mwe-0na.example":                     {"xn--mwe-0na.example", 0},
		"ferries。example":                         {"ferries.example", 1},
		"a-b.c-d.example":                         {"a-b.c-d.example", 0},
		strings.Repeat("a", 63) + ".test":         {strings.Repeat("a", 63) + ".test", 0},
		strings.Repeat("abcdefghi.", 24) + "test": {strings.Repeat("abcdefghi.", 24) + "test", 0},
	} {
		d, notes, err := ParseDomain(typed)
		if assert.NoError(t, err, typed) {
			assert.Equal(t, want.ascii, d.String(), typed)
			assert.Len(t, notes, want.notes, "%s: %v", typed, notes)
		}
	}
	for _, typed := range []string{"", " ", ".", "..", "ferries", "a..example", ".example", "-a.example", "a-.example",
		"a_b.example", "a b.example",
		"*.example.test", "me@ferries.example", "192.0.2.1", "[2001:db8::1]", "2001:db8::1", "ferries.123", "co.uk",
		"example", "a.example:x", "ferries.example\x00",
		"a\nb.example", "{}.example", "$a.example", "../etc.example", "\"a\".example", ";a.example", "xn--a.example",
		"https://",
		strings.Repeat("a", 64) + ".example", strings.Repeat("abcdefghi.", 25) + "test", strings.Repeat("x", 5000)} {
		_, _, err := ParseDomain(typed)
		assert.Error(t, err, "%q", typed)
	}
}

func TestDomainParts(t *testing.T) {
	d, _, err := ParseDomain("a.b.møwe.example")
	require.NoError(t, err)
	assert.Equal(t, "a.b.møwe.example", d.Unicode())
	assert.Equal(t, "xn--mwe-0na.example", d.Registrable())
	assert.Equal(t, []string{"b.xn--mwe-0na.example", "xn--mwe-0na.example"}, d.Above())
	d, _, err = ParseDomain("shop.ferries.co.uk")
	require.NoError(t, err)
	assert.Equal(t, []string{"ferries.co.uk"}, d.Above())
}

// Whatever is accepted is in its final form, and plain enough for every
// configuration file.
func FuzzParseDomain(f *testing.F) {
	for _, seed := range []string{"ferries.example", "HTTPS://WWW.Møwe.example/x", "a.b.c.test.", "xn--mwe-0na.example",
		"。.example"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, typed string) {
		d, _, err := ParseDomain(typed)
		if err != nil {
			return
		}
		again, notes, err := ParseDomain(d.String())
		require.NoError(t, err)
		assert.Equal(t, d, again)
		assert.Empty(t, notes)
		assert.Empty(t, strings.Trim(d.String(), "abcdefghijklmnopqrstuvwxyz0123456789-."))
		assert.LessOrEqual(t, len("www."+d.String()), 253)
	})
}

func TestProposeSignIn(t *testing.T) {
	none := func(string) bool { return false }
	for typed, want := range map[string]string{
		"ternferries.example": "ternferries", "north-quay-bakery.example": "northquaybakery",
		"møwe-café.example": "mowecafe", "straße.example": "strasse",
		"24seven.example": "seven", "7.example": "site", "root.example": "root2", "東京.example": "site",
		"x.example": "sitex",
	} {
		d, _, err := ParseDomain(typed)
		require.NoError(t, err, typed)
		assert.Equal(t, want, ProposeSignIn(d, none), typed)
	}
	d, _, err := ParseDomain("ternislandferries.example")
	require.NoError(t, err)
	used := map[string]bool{}
	for range 1200 {
		name := ProposeSignIn(d, func(n string) bool { return used[n] })
		require.False(t, used[name])
		require.NoError(t, CheckSignIn(name))
		used[name] = true
	}
}

func TestProposedNamesAreValid(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		d, _, err := ParseDomain(rapid.StringMatching(`[a-z0-9äöüßé東-]{1,30}\.(example|test)`).Draw(t, "domain"))
		if err != nil {
			return
		}
		if err := CheckSignIn(ProposeSignIn(d, func(string) bool { return false })); err != nil {
			t.Fatal(err)
		}
	})
}

func TestCheckSignIn(t *testing.T) {
	for _, name := range []string{"ab", "tern1", "abcdefghijklmnop"} {
		assert.NoError(t, CheckSignIn(name))
	}
	for _, name := range []string{"", "a", "abcdefghijklmnopq", "1tern", "Tern", "te-rn", "te rn", "te.rn", "root",
		"www", "../x", "a\nb", "größe"} {
		assert.Error(t, CheckSignIn(name), "%q", name)
	}
}
