// Package kits decides what a kit is: starter content with which a site begins as a working
// application.
//
// A kit is a directory, or an archive of one, with a document (kit.json, type [Kit]) and the files
// of the site (below files/). docs/kits.md describes the layout. Whatever comes from outside is
// read by [ReadDirectory] or [ReadArchive], which take nothing but plain files within bounds, and
// is kept as a [Package] made anew, so that what servers are sent holds nothing that was not looked
// at. Files that the document names as templates are filled in ([Fill]) with what the person was
// asked, generated secrets, and the site's address and database. What an update does to files that
// the customer may have changed, [Compare] decides.
//
// Nothing here runs anything, opens a path of a server, or knows who asks.
package kits

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"victualler/internal/hosting/databases"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/sites"
)

const (
	// Document is the file that describes a kit.
	Document = "kit.json"
	// FilesDir is the directory with the files of the site.
	FilesDir = "files"
	// Layout is the version of the layout that is understood.
	Layout = 1
)

// Kit is the document of a kit.
type Kit struct {
	// Layout is the version of the layout of kits, which is [Layout].
	Layout int `json:"layout"`
	// Name identifies the kit among all of the installation; Version counts up.
	Name    string `json:"name"`
	Version string `json:"version"`
	// Title and About say to people what it is.
	Title string `json:"title"`
	About string `json:"about"`
	Needs Needs  `json:"needs,omitzero"`
	// Asks is what the person is asked who installs it.
	Asks []Ask `json:"asks,omitempty"`
	// Secrets are made for each site.
	Secrets []Secret `json:"secrets,omitempty"`
	// Templates are files that are filled in, by their paths below files/.
	Templates []string `json:"templates,omitempty"`
	// Steps are run when all files are there, before the site shows them.
	Steps []Step `json:"steps,omitempty"`
	// Site is settings that the site gets.
	Site sites.Settings `json:"site,omitempty"`
	// Check is how to see that it works.
	Check Check `json:"check"`
	// Keeps are paths of files and directories, below files/, that belong to whoever uses the
	// site once it is there: updates leave them as they are.
	Keeps  []string `json:"keeps,omitempty"`
	Update Update   `json:"update,omitzero"`
	// Remove is run before a kit is taken from a site, such as to tell another service.
	Remove []Step `json:"remove,omitempty"`
}

// Needs is what a kit cannot do without.
type Needs struct {
	// PHP is the least version; empty if it needs none. Extensions are as PHP names them.
	PHP        string   `json:"php,omitempty"`
	Extensions []string `json:"extensions,omitempty"`
	// Database is the engine of the database that it gets with a user of its own; empty for none.
	Database databases.Engine `json:"database,omitempty"`
	// Space is about how many bytes it takes, with what it makes.
	Space int64 `json:"space,omitempty"`
}

// Ask is a question to the person who installs a kit.
type Ask struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	About string `json:"about,omitempty"`
	Kind  string `json:"kind"`
	// Default is what is taken where nothing is said.
	Default string   `json:"default,omitempty"`
	Choices []string `json:"choices,omitempty"`
	// Optional says that it may be left empty.
	Optional bool `json:"optional,omitempty"`
}

// The kinds of questions.
const (
	AskLine   = "line"   // one line of text
	AskEmail  = "email"  // a mail address
	AskChoice = "choice" // one of Choices
	AskSecret = "secret" // one line that is kept sealed, and shown to nobody
)

// Secret is generated for each site.
type Secret struct {
	Name string `json:"name"`
	// Length is how many letters and digits it has.
	Length int `json:"length"`
}

// Step is a command that is run in the sandbox of the account, in the directory with the files.
type Step struct {
	// Title says what it does.
	Title string `json:"title"`
	// Run is the program and its arguments. No shell reads them; “php” is the site's version.
	Run []string `json:"run"`
	// Seconds is how long it may take.
	Seconds int `json:"seconds,omitempty"`
}

// Longest is how long the step may take.
func (s Step) Longest() time.Duration { return time.Duration(cmp.Or(s.Seconds, 60)) * time.Second }

// Check is a request to the site and what must come back.
type Check struct {
	Path     string `json:"path"`
	Status   int    `json:"status,omitempty"` // 200 where nothing is said
	Contains string `json:"contains,omitempty"`
}

// Wanted is the status that must come back.
func (c Check) Wanted() int { return cmp.Or(c.Status, 200) }

// Update is how a site comes to this version from an earlier one.
type Update struct {
	// From is the earliest version that it can follow; empty for all.
	From string `json:"from,omitempty"`
	// Steps are run instead of those of a new site.
	Steps []Step `json:"steps,omitempty"`
}

const (
	mostAsks    = 20
	mostSteps   = 20
	mostSecrets = 20
	longestStep = 600 // seconds
	maxDocument = 256 << 10
)

var (
	kitName      = regexp.MustCompile(`^[a-z][a-z0-9-]{1,38}[a-z0-9]$`)
	fieldName    = regexp.MustCompile(`^[a-z][a-z0-9_]{0,38}$`)
	phpVersion   = regexp.MustCompile(`^[0-9]{1,2}\.[0-9]{1,2}$`)
	phpExtension = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_ ]{0,38}$`)
	emailAddress = regexp.MustCompile(`^[^\s@<>"(),:;\[\]\\]{1,64}@[^\s@<>"(),:;\[\]\\]{1,250}$`)
)

// ReadDocument reads and checks a document. All that is wrong is told at once.
//
// Refusals: InvalidInput.
func ReadDocument(text []byte) (Kit, error) {
	var k Kit
	if len(text) > maxDocument {
		return k, refusal.Input(Document, "%s may have up to %d KiB", Document, maxDocument>>10)
	}
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&k); err != nil {
		if r := refusal.As(err); r != nil {
			return k, r
		}
		return k, refusal.Input(Document, "%s cannot be read: %s", Document, spoken(text, err))
	}
	if _, err := decoder.Token(); !errors.Is(err, io.EOF) {
		return k, refusal.Input(Document, "%s goes on behind its end", Document)
	}
	if wrong := k.wrong(); len(wrong) > 0 {
		return k, refusal.New(refusal.InvalidInput, "%s is not in order", Document).At(wrong)
	}
	return k, nil
}

// spoken is an error of decoding with the line that it is in.
func spoken(text []byte, err error) string {
	at := int64(-1)
	if syntax := (*json.SyntaxError)(nil); errors.As(err, &syntax) {
		at = syntax.Offset
	} else if kind := (*json.UnmarshalTypeError)(nil); errors.As(err, &kind) {
		at = kind.Offset
	}
	said := strings.TrimPrefix(err.Error(), "json: ")
	if at < 0 || at > int64(len(text)) {
		return said
	}
	return fmt.Sprintf("line %d: %s", 1+bytes.Count(text[:at], []byte("\n")), said)
}

// wrong lists what is wrong with a document by itself.
func (k Kit) wrong() []refusal.Field {
	var out []refusal.Field
	say := func(name, format string, args ...any) { out = append(out, refusal.Wrong(name, format, args...)) }
	if k.Layout != Layout {
		say("layout", "is %d; this version understands %d", k.Layout, Layout)
	}
	if !kitName.MatchString(k.Name) {
		say("name", "must have 3 to 40 lower-case letters, digits and hyphens, such as guestbook")
	}
	if err := CheckVersion(k.Version); err != nil {
		say("version", "%s", err)
	}
	text := func(name, value string, most int, empty bool) {
		if problem := checkLine(value, most, empty); problem != nil {
			say(name, "%s", problem)
		}
	}
	text("title", k.Title, 60, false)
	text("about", k.About, 400, false)
	k.Needs.wrong(say)
	k.wrongAsks(say, text)
	for _, list := range []struct {
		name  string
		steps []Step
	}{{"steps", k.Steps}, {"update.steps", k.Update.Steps}, {"remove", k.Remove}} {
		wrongSteps(list.name, list.steps, say, text)
	}
	for i, p := range k.Templates {
		if err := CheckPath(p); err != nil {
			say(fmt.Sprintf("templates.%d", i), "%s", err)
		} else if slices.Contains(k.Templates[:i], p) {
			say(fmt.Sprintf("templates.%d", i), "%s is listed twice", p)
		}
	}
	for i, p := range k.Keeps {
		if err := CheckPath(strings.TrimSuffix(p, "/")); err != nil {
			say(fmt.Sprintf("keeps.%d", i), "%s", err)
		}
	}
	for _, key := range []sites.Key{"raw", "preferred", "redirects", "php_version", "visitors_from"} {
		if _, set := k.Site[key]; set {
			say("site."+string(key), "is for whoever has the site to decide, not for a kit")
		}
	}
	if !strings.HasPrefix(k.Check.Path, "/") || checkLine(k.Check.Path, 200, false) != nil {
		say("check.path", "must be the path of a page, such as /")
	}
	if s := k.Check.Wanted(); s < 200 || s > 599 {
		say("check.status", "must be a status from 200 to 599")
	}
	text("check.contains", k.Check.Contains, 200, true)
	if k.Update.From != "" {
		if err := CheckVersion(k.Update.From); err != nil {
			say("update.from", "%s", err)
		}
	}
	return out
}

func (n Needs) wrong(say func(string, string, ...any)) {
	if n.PHP != "" && !phpVersion.MatchString(n.PHP) {
		say("needs.php", "must be the least version, such as 8.1")
	}
	if n.PHP == "" && len(n.Extensions) > 0 {
		say("needs.extensions", "are of PHP, which the kit does not need")
	}
	for i, e := range n.Extensions {
		if !phpExtension.MatchString(e) {
			say(fmt.Sprintf("needs.extensions.%d", i), "%q is no name of an extension", e)
		}
	}
	if n.Database != "" {
		if _, err := databases.ParseEngine(string(n.Database)); err != nil {
			say("needs.database", "%s", err)
		}
	}
	if n.Space < 0 || n.Space > 100*plans.GiB {
		say("needs.space", "must be a number of bytes")
	}
}

func (k Kit) wrongAsks(say func(string, string, ...any), text func(string, string, int, bool)) {
	taken := map[string]bool{}
	name := func(where, name string) {
		if !fieldName.MatchString(name) {
			say(where, "must have up to 39 lower-case letters, digits and underscores, and begin with a letter")
		} else if taken[name] {
			say(where, "%s is there twice", name)
		}
		taken[name] = true
	}
	if len(k.Asks) > mostAsks {
		say("asks", "a kit can ask up to %d questions", mostAsks)
	}
	for i, a := range k.Asks {
		at := fmt.Sprintf("asks.%d.", i)
		name(at+"name", a.Name)
		text(at+"title", a.Title, 80, false)
		text(at+"about", a.About, 200, true)
		switch a.Kind {
		case AskLine, AskEmail, AskSecret:
			if a.Kind == AskSecret && a.Default != "" {
				say(at+"default", "a secret that is in the kit is none")
			}
			if len(a.Choices) > 0 {
				say(at+"choices", "only a choice has them")
			}
		case AskChoice:
			if len(a.Choices) < 2 || len(a.Choices) > 50 {
				say(at+"choices", "a choice has 2 to 50")
			}
			for j, c := range a.Choices {
				text(fmt.Sprintf("%schoices.%d", at, j), c, 80, false)
			}
		default:
			say(at+"kind", "must be one of %s, %s, %s, %s", AskLine, AskEmail, AskChoice, AskSecret)
			continue
		}
		if a.Default != "" {
			if _, err := a.answer(a.Default); err != nil {
				say(at+"default", "%s", err)
			}
		}
	}
	if len(k.Secrets) > mostSecrets {
		say("secrets", "a kit can have up to %d secrets", mostSecrets)
	}
	for i, s := range k.Secrets {
		name(fmt.Sprintf("secrets.%d.name", i), s.Name)
		if s.Length < 16 || s.Length > 128 {
			say(fmt.Sprintf("secrets.%d.length", i), "must be from 16 to 128")
		}
	}
}

func wrongSteps(list string, steps []Step, say func(string, string, ...any), text func(string, string, int, bool)) {
	if len(steps) > mostSteps {
		say(list, "up to %d are possible", mostSteps)
	}
	for i, s := range steps {
		at := fmt.Sprintf("%s.%d.", list, i)
		text(at+"title", s.Title, 80, false)
		if len(s.Run) == 0 || len(s.Run) > 50 || s.Run[0] == "" {
			say(at+"run", "names a program and its arguments, such as [\"php\", \"setup/tables.php\"]")
		}
		for j, arg := range s.Run {
			if len(arg) > 1000 || strings.ContainsRune(arg, 0) {
				say(fmt.Sprintf("%srun.%d", at, j), "has up to 1000 characters")
			}
		}
		if s.Seconds < 0 || s.Seconds > longestStep {
			say(at+"seconds", "must be up to %d", longestStep)
		}
	}
}

// checkLine refuses what is no line of text for people.
func checkLine(s string, most int, empty bool) error {
	switch {
	case strings.TrimSpace(s) == "" && !empty:
		return language.Errorf("is needed")
	case !utf8.ValidString(s) || strings.ContainsFunc(s, func(r rune) bool {
		return unicode.IsControl(r) ||
			hidden(r)
	}):
		return language.Errorf("must be one line of text")
	case utf8.RuneCountInString(s) > most:
		return language.Errorf("can have up to %d characters", most)
	}
	return nil
}

// hidden tells the characters that make a text look like another one.
func hidden(r rune) bool {
	return r == '\u2028' || r == '\u2029' || r >= '\u202A' && r <= '\u202E' || r >= '\u2066' && r <= '\u2069'
}

var versionPart = regexp.MustCompile(`^(0|[1-9][0-9]{0,8})$`)

// CheckVersion refuses what is no version: one to four numbers with dots between them.
func CheckVersion(v string) error {
	parts := strings.Split(v, ".")
	if len(parts) > 4 || !slices.ContainsFunc(parts, func(string) bool { return true }) {
		return language.Errorf("must be numbers with dots between them, such as 1.4.2")
	}
	for _, p := range parts {
		if !versionPart.MatchString(p) {
			return language.Errorf("must be numbers with dots between them, such as 1.4.2")
		}
	}
	return nil
}

// CompareVersions orders versions: negative if a is the earlier one. Missing numbers count as 0.
func CompareVersions(a, b string) int {
	x, y := strings.Split(a, "."), strings.Split(b, ".")
	for i := range max(len(x), len(y)) {
		number := func(parts []string) int {
			if i >= len(parts) {
				return 0
			}
			n, _ := strconv.Atoi(parts[i])
			return n
		}
		if c := cmp.Compare(number(x), number(y)); c != 0 {
			return c
		}
	}
	return 0
}

// CheckPath refuses a path that is not plainly below a directory: relative, with slashes, clean, no
// longer than servers take.
func CheckPath(p string) error {
	switch {
	case p == "" || p == ".":
		return language.Errorf("a path is needed")
	case len(p) > 200:
		return language.Errorf("%s is longer than 200 bytes", p[:40]+"…")
	case !utf8.ValidString(p) || strings.ContainsFunc(p, unicode.IsControl) || strings.ContainsRune(p, '\\'):
		return language.Errorf("%q has characters that names of files in kits do not have", p)
	case path.IsAbs(p) || path.Clean(p) != p || p == ".." || strings.HasPrefix(p, "../"):
		return language.Errorf("%q does not stay below the kit", p)
	case strings.Count(p, "/") > 20:
		return language.Errorf("%q is too deep", p)
	}
	return nil
}

// Kept tells whether a file is one that belongs to whoever uses the site.
func (k Kit) Kept(file string) bool {
	return slices.ContainsFunc(k.Keeps, func(p string) bool {
		p = strings.TrimSuffix(p, "/")
		return file == p || strings.HasPrefix(file, p+"/")
	})
}
