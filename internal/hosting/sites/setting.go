// Package sites decides how a domain is served: as what, with which settings,
// and which site answers for a name.
//
// A setting has one value for each site. It comes from the site itself, else from the
// template it follows, else from the table in this file; what is set nowhere
// else needs no row.
package sites

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"net/textproto"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // time zones are checked the same on every machine

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
)

// Key names a setting. Keys are JSON keys of the API.
type Key string

// Kind tells what values a setting takes, in JSON.
type Kind string

// The kinds.
const (
	Switch  Kind = "switch"  // true or false
	Choice  Kind = "choice"  // one of Choices
	Choices Kind = "choices" // a list of some of Choices, without a repetition
	Size    Kind = "size"    // bytes
	Seconds Kind = "seconds"
	Number  Kind = "number"
	Path    Kind = "path"  // a file below the document root, without a slash at the start; empty is none
	Paths   Kind = "paths" // a list of file names
	// Networks is a list of addresses and networks such as 192.0.2.0/24; empty is everywhere.
	Networks Kind = "networks"
	Zone     Kind = "zone"    // a time zone such as Europe/Oslo
	Map      Kind = "map"     // an object with texts
	Text     Kind = "text"    // lines
	Version  Kind = "version" // of a program, such as 8.2; empty is the newest there is
)

// Info describes one setting for people and for checks.
type Info struct {
	Key  Key  `json:"key"`
	Kind Kind `json:"kind"`
	// What names it for people; About says what it is good for.
	Title string `json:"title"`
	About string `json:"about,omitempty"`
	// Group is what it is listed below.
	Group   string   `json:"group"`
	Default any      `json:"default"`
	Choices []string `json:"choices,omitempty"`
	// Least and Most bound numbers, sizes and seconds; Most also how many entries an object has,
	// which are mostEntries where it says nothing.
	Least int64 `json:"least,omitempty"`
	Most  int64 `json:"most,omitempty"`
	// check looks at what the kind alone does not tell.
	check func(any) error
}

const (
	minute = 60
	day    = 24 * 60 * minute
)

// LongHSTS is the length in seconds from which strict transport security is
// a decision that cannot be taken back in time: browsers that have seen it
// refuse the site without TLS for as long (RFC 6797, section 14.2).
const LongHSTS = day

// All lists every setting in the order in which people read them.
var All = []Info{
	{Key: "preferred", Kind: Choice, Group: "Names", Title: "preferred form",
		About: "visitors of the other form are sent to this one", Default: "both", Choices: []string{"both", "bare",
			"www"}},
	{Key: "https_redirect", Kind: Switch, Group: "Names", Title: "redirect to HTTPS", Default: false},
	{Key: "hsts", Kind: Seconds, Group: "Names", Title: "strict transport security",
		About: "seconds for which browsers insist on HTTPS; 0 is off", Default: int64(0), Most: 2 * 365 * day},
	{Key: "hsts_subdomains", Kind: Switch, Group: "Names", Title: "strict transport security for all names below",
		Default: false},

	{Key: "index_files", Kind: Paths, Group: "Pages", Title: "index files",
		About: "tried in this order when a directory is asked for", Default: []string{"index.php", "index.html"}},
	{Key: "front_script", Kind: Path, Group: "Pages", Title: "front script",
		About: "gets every request for what is not there, such as index.php for pretty addresses", Default: ""},
	{Key: "error_pages", Kind: Map, Group: "Pages", Title: "error pages",
		About: "a page of the site for a status, such as 404: errors/missing.html", Default: map[string]string{},
		check: checkErrorPages},
	{Key: "largest_upload", Kind: Size, Group: "Pages", Title: "largest upload",
		About: "for the web server and PHP alike", Default: int64(64 * plans.MiB), Least: 64 * plans.KiB,
		Most: 16 * plans.GiB},
	{Key: "static_caching", Kind: Seconds, Group: "Pages", Title: "caching of static files",
		About: "seconds for which browsers may keep images, styles and scripts; 0 leaves it to them", Default: int64(0),
		Most: 365 * day},
	{Key: "compression", Kind: Switch, Group: "Pages", Title: "compression", Default: true},
	{Key: "redirects", Kind: Map, Group: "Pages", Title: "redirects",
		About:   "from an address of the site to another one, such as /old: /new or https://…; for good (301)",
		Default: map[string]string{}, Most: 500, check: checkRedirects},
	{Key: "directory_listing", Kind: Switch, Group: "Pages", Title: "list directories",
		About: "shows what is in a directory without an index file", Default: false},

	{Key: "methods", Kind: Choices, Group: "Guards", Title: "allowed methods",
		About:   "others are answered with 405; with all of them, only TRACE, TRACK and CONNECT are",
		Default: allMethods, Choices: allMethods, check: checkMethods},
	{Key: "visitors_from", Kind: Networks, Group: "Guards", Title: "visitors only from",
		About: "addresses and networks such as 192.0.2.0/24; everybody else is refused", Default: []string{}},
	{Key: "site_connections", Kind: Number, Group: "Guards", Title: "most requests at once",
		About: "of all visitors together; more are answered with 429", Default: int64(500), Least: 10, Most: 5000},
	{Key: "visitor_connections", Kind: Number, Group: "Guards", Title: "most requests of a visitor at once",
		About: "of one address; more are answered with 429", Default: int64(100), Least: 5, Most: 1000},
	{Key: "dot_files", Kind: Switch, Group: "Guards", Title: "serve dot-files",
		About: "off hides everything whose name begins with a dot, except .well-known", Default: false},
	{Key: "headers", Kind: Map, Group: "Guards", Title: "response headers", About: "sent with every answer of the site",
		Default: map[string]string{}, check: checkHeaders},

	{Key: "php", Kind: Switch, Group: "PHP", Title: "PHP", About: "off answers 404 for scripts, never their source",
		Default: true},
	{Key: "php_version", Kind: Version, Group: "PHP", Title: "version of PHP",
		About: "one that is installed on the server; empty follows the newest", Default: ""},
	{Key: "php_memory", Kind: Size, Group: "PHP", Title: "memory of a request", Default: int64(plans.PHPMemoryFloor),
		Least: 32 * plans.MiB, Most: 8 * plans.GiB},
	{Key: "php_time", Kind: Seconds, Group: "PHP", Title: "longest run of a request",
		Default: int64(plans.PHPTimeFloor), Least: 1, Most: 60 * minute},
	{Key: "php_inputs", Kind: Number, Group: "PHP", Title: "most fields of a form", Default: int64(1000), Least: 100,
		Most: 100_000},
	{Key: "php_errors", Kind: Switch, Group: "PHP", Title: "show errors to visitors",
		About: "helps while building, and tells strangers too much afterwards", Default: false},
	{Key: "php_timezone", Kind: Zone, Group: "PHP", Title: "time zone", Default: "UTC"},

	{Key: "access_log", Kind: Switch, Group: "Log and raw directives", Title: "access log",
		About: "a line for each request, in logs/ of the home; counts against the disk space", Default: true},
	{Key: "raw", Kind: Text, Group: "Log and raw directives", Title: "raw directives",
		About: "nginx directives inside this site's own server block; nginx tests them before use", Default: "",
		check: checkRaw},
}

// Of returns the description of a setting.
func Of(key Key) (Info, bool) {
	at := slices.IndexFunc(All, func(i Info) bool { return i.Key == key })
	if at < 0 {
		return Info{}, false
	}
	return All[at], true
}

// Settings are values by key: what is set in one place. Values are bool,
// string, int64, []string or map[string]string, as the setting's kind wants
// it. Decoding them refuses what is no setting and what is out of bounds.
type Settings map[Key]any

// UnmarshalJSON reads and checks settings.
func (s *Settings) UnmarshalJSON(text []byte) error {
	var raw map[string]json.RawMessage
	if err := json.Unmarshal(text, &raw); err != nil {
		return refusal.Input("settings", "settings are an object with one member for each setting")
	}
	read, unset, err := readAll(raw, true)
	if err == nil && len(unset) > 0 {
		err = refusal.Input("settings."+string(unset[0]), "a value is needed")
	}
	*s = read
	return err
}

// Read reads settings from JSON values and returns, besides, the keys of those that are null. All
// that is wrong is told at once.
func Read(raw map[string]json.RawMessage) (set Settings, unset []Key, err error) {
	return readAll(raw, false)
}

// readAll reads settings; stored ones may have raw directives that were possible when they were
// written: [Resolve] leaves them out.
func readAll(raw map[string]json.RawMessage, stored bool) (set Settings, unset []Key, err error) {
	set = Settings{}
	var wrong []refusal.Field
	for _, key := range slices.Sorted(maps.Keys(raw)) {
		field := "settings." + key
		info, known := Of(Key(key))
		if !known {
			wrong = append(wrong, refusal.Wrong(field, "there is no such setting"))
			continue
		}
		if string(raw[key]) == "null" {
			unset = append(unset, info.Key)
			continue
		}
		if stored && info.Kind == Text {
			info.check = nil
		}
		value, err := info.Decode(raw[key])
		if err != nil {
			wrong = append(wrong, refusal.Wrong(field, "%s", err))
			continue
		}
		set[info.Key] = value
	}
	if len(wrong) > 0 {
		return set, unset, refusal.New(refusal.InvalidInput, "some settings are wrong").At(wrong)
	}
	return set, unset, nil
}

// Decode reads and checks one value.
func (i Info) Decode(text json.RawMessage) (any, error) {
	var err error
	var value any
	switch i.Kind {
	case Switch:
		value, err = decode[bool](text, "true or false")
	case Size, Seconds, Number:
		var n int64
		if n, err = decode[int64](text, "a whole number"); err == nil && (n < i.Least || n > i.Most) {
			err = language.Errorf("must be from %s to %s", i.Format(i.Least), i.Format(i.Most))
		}
		value = n
	case Choice:
		var s string
		if s, err = decode[string](text, "a text"); err == nil && !slices.Contains(i.Choices, s) {
			err = language.Errorf("must be one of %s", strings.Join(i.Choices, ", "))
		}
		value = s
	case Choices, Paths, Networks:
		var list []string
		if list, err = decode[[]string](text, "a list of texts"); err == nil {
			list = append([]string{}, list...)
			err = i.checkList(list)
		}
		value = list
	case Path:
		var s string
		if s, err = decode[string](text, "a text"); err == nil && s != "" {
			err = CheckPath(s)
		}
		value = s
	case Version:
		var s string
		if s, err = decode[string](text, "a text"); err == nil && s != "" && !version.MatchString(s) {
			err = language.Errorf("%q is no version; write such as 8.2, or nothing for the newest", s)
		}
		value = s
	case Zone:
		var s string
		if s, err = decode[string](text, "a text"); err == nil {
			err = checkZone(s)
		}
		value = s
	case Map:
		var m map[string]string
		if m, err = decode[map[string]string](text, "an object with texts"); err == nil {
			if most := cmp.Or(int(i.Most), mostEntries); len(m) > most {
				err = language.Errorf("at most %d are possible", most)
			}
		}
		value = m
	case Text:
		value, err = decode[string](text, "a text")
	}
	if err == nil && i.check != nil {
		err = i.check(value)
	}
	return value, err
}

const mostEntries = 30

var version = regexp.MustCompile(`^[0-9]{1,2}\.[0-9]{1,2}$`)

func decode[T any](text json.RawMessage, want string) (T, error) {
	var v T
	if err := json.Unmarshal(text, &v); err != nil {
		return v, language.Errorf("must be %s", want)
	}
	return v, nil
}

func (i Info) checkList(list []string) error {
	if len(list) == 0 && i.Kind != Networks {
		return language.Errorf("name at least one")
	}
	if len(list) > mostEntries {
		return language.Errorf("at most %d are possible", mostEntries)
	}
	seen := map[string]bool{}
	for _, item := range list {
		if seen[item] {
			return language.Errorf("%s is listed twice", item)
		}
		seen[item] = true
		if i.Kind == Choices && !slices.Contains(i.Choices, item) {
			return language.Errorf("%q is none of %s", item, strings.Join(i.Choices, ", "))
		}
		var err error
		switch {
		case i.Kind == Paths:
			err = CheckPath(item)
		case i.Kind == Networks && item == "all":
			err = language.Errorf("leave the list empty for everybody")
		case i.Kind == Networks:
			err = network(item)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Parse reads a value as people write it in one line: on, off, 64M, 30d, a,b, or
// name=value,name=value. Braces around JSON are taken as JSON.
func (i Info) Parse(typed string) (any, error) {
	typed = strings.TrimSpace(typed)
	var v any
	switch i.Kind {
	case Switch:
		on := slices.Index([]string{"off", "on", "false", "true", "no", "yes"}, typed)
		if on < 0 {
			return nil, language.Errorf("say on or off")
		}
		v = on%2 == 1
	case Size:
		n, err := plans.ParseSize(typed)
		if err != nil {
			return nil, err
		}
		v = n
	case Seconds:
		n, err := ParseSeconds(typed)
		if err != nil {
			return nil, err
		}
		v = n
	case Number:
		n, err := strconv.ParseInt(typed, 10, 64)
		if err != nil {
			return nil, language.Errorf("%q is not a number", typed)
		}
		v = n
	case Choices, Paths, Networks:
		v = strings.FieldsFunc(typed, func(r rune) bool { return r == ',' || r == ' ' })
	case Map:
		m := map[string]string{}
		if strings.HasPrefix(typed, "{") {
			if err := json.Unmarshal([]byte(typed), &m); err != nil {
				return nil, language.Errorf("is no JSON object with texts")
			}
		} else if typed != "" {
			name, value, found := strings.Cut(typed, "=")
			if !found {
				return nil, language.Errorf("write NAME=VALUE, or a JSON object for several")
			}
			m[strings.TrimSpace(name)] = strings.TrimSpace(value)
		}
		v = m
	default:
		v = typed
	}
	text, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return i.Decode(text)
}

// Format writes a value for people, in one line where its kind allows that.
func (i Info) Format(value any) string {
	switch v := value.(type) {
	case bool:
		if v {
			return "on"
		}
		return "off"
	case int64:
		switch i.Kind {
		case Size:
			return plans.FormatSize(v)
		case Seconds:
			return FormatSeconds(v)
		}
		return strconv.FormatInt(v, 10)
	case []string:
		if len(v) == 0 {
			return "none"
		}
		return strings.Join(v, ", ")
	case map[string]string:
		var parts []string
		for _, name := range slices.Sorted(maps.Keys(v)) {
			parts = append(parts, name+"="+v[name])
		}
		if len(parts) == 0 {
			return "none"
		}
		return strings.Join(parts, "; ")
	case string:
		if v == "" {
			return "none"
		}
		return v
	}
	return fmt.Sprint(value)
}

var units = []struct {
	letter string
	length int64
}{{"d", day}, {"h", 60 * minute}, {"m", minute}, {"s", 1}}

// ParseSeconds reads a length of time such as 30d, 12h, 5m or 90s, and
// 0. A bare number is refused: 30 what?
func ParseSeconds(typed string) (int64, error) {
	if typed == "0" {
		return 0, nil
	}
	for _, u := range units {
		if digits, found := strings.CutSuffix(typed, u.letter); found {
			n, err := strconv.ParseInt(digits, 10, 64)
			if err == nil && n >= 0 && n <= 1<<40/u.length {
				return n * u.length, nil
			}
		}
	}
	if _, err := strconv.ParseInt(typed, 10, 64); err == nil {
		return 0, language.Errorf("%s what? write %ss, %sm, %sh or %sd", typed, typed, typed, typed, typed)
	}
	return 0, language.Errorf("%q is not a length of time; write such as 90s, 5m, 12h or 30d", typed)
}

// FormatSeconds writes a length of time in the largest unit that divides it.
func FormatSeconds(n int64) string {
	if n == 0 {
		return "0"
	}
	for _, u := range units {
		if n%u.length == 0 {
			return strconv.FormatInt(n/u.length, 10) + u.letter
		}
	}
	return ""
}

var plainPath = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9._-]*(/[A-Za-z0-9_][A-Za-z0-9._-]*)*$`)

// CheckPath accepts a relative path of plain names only: no "..", nothing hidden, nothing that any
// configuration language would read as syntax.
func CheckPath(p string) error {
	if len(p) > 512 || !plainPath.MatchString(p) || path.Clean(p) != p {
		return language.Errorf("%q is not a plain path below the document root: letters, digits, dots, hyphens and "+
			"underscores, with / between them and none at the start", p)
	}
	return nil
}

var zoneName = regexp.MustCompile(`^[A-Za-z]+([/_+-][A-Za-z0-9]+)*$`)

func checkZone(name string) error {
	if _, err := time.LoadLocation(name); err != nil || !zoneName.MatchString(name) || name == "Local" {
		return language.Errorf("%q is no time zone; write one such as UTC or Europe/Oslo", name)
	}
	return nil
}

// checkRedirects checks addresses and where they lead. Targets have no
// query of their own, as the visitor's is kept.
func checkRedirects(v any) error {
	for from, to := range v.(map[string]string) {
		if !location.MatchString(from) {
			return language.Errorf("%q is not an address of the site such as /old", from)
		}
		if strings.HasPrefix(from, "/.well-known/") {
			return language.Errorf("%q is the server's own", from)
		}
		if !location.MatchString(to) && !absolute.MatchString(to) {
			return language.Errorf("%q leads to %q, which is neither an address of the site such as /new nor one "+
				"such as "+
				"https://ferries.example/new, without a question mark", from, to)
		}
		if from == to {
			return language.Errorf("%q leads to itself", from)
		}
	}
	return nil
}

var absolute = regexp.MustCompile(
	`^https?://[A-Za-z0-9][A-Za-z0-9.-]{0,250}(:[0-9]{1,5})?(/[A-Za-z0-9._~!&',()+:@%/-]{0,300})?$`)

// AllMethods reports whether a list leaves out none of those that can be chosen: then others are
// let through as well, but for those that only tell of the server (TRACE, TRACK, CONNECT).
func AllMethods(list []string) bool { return len(list) == len(allMethods) }

func checkMethods(v any) error {
	list := v.([]string)
	if !slices.Contains(list, "GET") || !slices.Contains(list, "HEAD") {
		return language.Errorf("GET and HEAD have to be among them (RFC 9110, section 9.1)")
	}
	return nil
}

// paged are the statuses for which a page can be given.
var paged = []string{"400", "401", "403", "404", "405", "410", "413", "414", "429", "500", "502", "503", "504"}

func checkErrorPages(v any) error {
	for status, page := range v.(map[string]string) {
		if !slices.Contains(paged, status) {
			return language.Errorf("%q: a page can be given for %s", status, strings.Join(paged, ", "))
		}
		if err := CheckPath(page); err != nil {
			return err
		}
	}
	return nil
}

// owned are headers that the web server answers for itself: setting them as well would break
// answers or contradict other settings.
var owned = []string{"Connection", "Content-Length", "Content-Encoding", "Content-Range", "Content-Type", "Date",
	"Host", "Keep-Alive", "Location", "Server", "Set-Cookie", "Status",
	"Strict-Transport-Security", "Te", "Trailer", "Transfer-Encoding", "Upgrade", "X-Accel-Redirect",
	"X-Accel-Buffering", "X-Accel-Charset", "X-Accel-Expires", "X-Accel-Limit-Rate"}

var token = regexp.MustCompile("^[A-Za-z][A-Za-z0-9-]{0,63}$")

// checkHeaders holds names and values against RFC 9110, sections 5.1
// and 5.5: visible ASCII and blanks.
func checkHeaders(v any) error {
	seen := map[string]bool{}
	for name, value := range v.(map[string]string) {
		canonical := textproto.CanonicalMIMEHeaderKey(name)
		switch {
		case !token.MatchString(name):
			return language.Errorf("%q is no name of a header: letters, digits and hyphens", name)
		case seen[canonical]:
			return language.Errorf("%s is listed twice", name)
		case canonical == "Strict-Transport-Security":
			return language.Errorf("%s has a setting of its own, hsts", name)
		case slices.Contains(owned, canonical):
			return language.Errorf("%s is the web server's own to send", name)
		case len(value) == 0 || len(value) > 2000 || strings.TrimSpace(value) != value:
			return language.Errorf("%s needs a value of 1 to 2000 characters without blanks around it", name)
		case strings.ContainsFunc(value, func(r rune) bool { return r < ' ' || r > '~' }):
			return language.Errorf("%s: a value holds letters, digits and signs of ASCII in one line", name)
		case strings.ContainsRune(value, '$'):
			return language.Errorf("%s: a value cannot hold a dollar sign; nginx would read a variable there", name)
		}
		seen[canonical] = true
	}
	return nil
}
