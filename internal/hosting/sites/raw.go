package sites

import (
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"victualler/internal/hosting/language"
)

// Raw directives are nginx directives that stand at the end of a site's server block. nginx reads
// them as root and serves everybody, so they are let through only if they are in the table below,
// with arguments of the kinds that it names. None of these kinds can name a file, an address to
// connect to, or another site; none makes nginx work long for one request.

const (
	mostRaw = 16 << 10
	// mostBlocks bounds what a site costs: each block takes nginx some 10 KB in each process.
	mostBlocks = 50
)

// kind checks one argument of a directive; the error says what is possible.
type kind func(arg string) error

// rule is what a directive may have: arguments of these kinds, the last
// of which may be repeated or, with optional, left out.
type rule struct {
	args     []kind
	repeats  bool
	optional bool
	// in lists the blocks that it may stand in, where that is not the
	// server block, which is "", or a location.
	in []string
	// again says that a block may have more than one.
	again bool
}

// places are the blocks that a directive may stand in.
func (r rule) places() []string {
	if r.in == nil {
		return []string{"", "location"}
	}
	return r.in
}

var anywhere = []string{"", "location", "if"}

// rules is the grammar: everything that is not in it is refused.
var rules = map[string]rule{
	"absolute_redirect":    {args: []kind{flag}},
	"add_header":           {args: []kind{headerName, text, words("always")}, optional: true, again: true},
	"allow":                {args: []kind{network}, again: true, in: []string{"", "location", "limit_except"}},
	"autoindex":            {args: []kind{flag}},
	"autoindex_exact_size": {args: []kind{flag}},
	"autoindex_format":     {args: []kind{words("html", "json", "xml")}},
	"autoindex_localtime":  {args: []kind{flag}},
	"break":                {again: true, in: anywhere},
	"charset":              {args: []kind{charset}},
	"client_body_timeout":  {args: []kind{seconds(120)}},
	"default_type":         {args: []kind{mime}},
	"deny":                 {args: []kind{network}, again: true, in: []string{"", "location", "limit_except"}},
	"etag":                 {args: []kind{flag}},
	"expires":              {args: []kind{expires}},
	"gzip":                 {args: []kind{flag}, in: []string{"location"}},
	"gzip_comp_level":      {args: []kind{number(1, 6)}, in: []string{"location"}},
	"gzip_min_length":      {args: []kind{number(0, 1<<30)}, in: []string{"location"}},
	"gzip_types":           {args: []kind{mime}, repeats: true, in: []string{"location"}},
	"gzip_vary":            {args: []kind{flag}, in: []string{"location"}},
	"if":                   {again: true}, // see checkCondition
	"if_modified_since":    {args: []kind{words("off", "exact", "before")}},
	"internal":             {in: []string{"location"}},
	"keepalive_timeout":    {args: []kind{seconds(120)}},
	"limit_except": {args: []kind{words(allMethods[:len(allMethods)-1]...)}, repeats: true,
		in: []string{"location"}},
	"limit_rate":       {args: []kind{bytes}},
	"limit_rate_after": {args: []kind{bytes}},
	"location":         {in: []string{""}}, // see checkLocation
	"log_not_found":    {args: []kind{flag}},
	"max_ranges":       {args: []kind{number(0, 100)}},
	"port_in_redirect": {args: []kind{flag}},
	"return":           {args: []kind{number(200, 599), text}, optional: true, again: true, in: anywhere},
	"satisfy":          {args: []kind{words("all", "any")}},
	"send_timeout":     {args: []kind{seconds(120)}},
	"set":              {args: []kind{ownVariable, text}, again: true, in: anywhere},
	"types":            {again: true},
	"valid_referers":   {args: []kind{referer}, repeats: true},
}

// blocks are the directives that have a block.
var blocks = []string{"if", "limit_except", "location", "types"}

// instead tells of settings that do what people look for in a directive that is not possible here.
var instead = map[string]string{
	"alias": "the document root of a domain", "root": "the document root of a domain",
	"try_files": "the setting front_script", "index": "the setting index_files",
	"error_page": "the setting error_pages", "rewrite": "the settings redirects and front_script, or return",
	"client_max_body_size": "the setting largest_upload", "auth_basic": "a protected folder",
	"auth_basic_user_file": "a protected folder", "access_log": "the setting access_log",
	"ssl_certificate": "the site's certificate", "fastcgi_param": "the settings of PHP",
	"fastcgi_read_timeout": "the setting php_time",
}

// flag and those that follow are the kinds of arguments.
func flag(arg string) error { return words("on", "off")(arg) }

func words(list ...string) kind {
	return func(arg string) error {
		if !slices.Contains(list, arg) {
			return language.Errorf("%q is not one of %s", arg, strings.Join(list, ", "))
		}
		return nil
	}
}

func number(least, most int64) kind {
	return func(arg string) error {
		n, err := strconv.ParseInt(arg, 10, 64)
		if err != nil || n < least || n > most {
			return language.Errorf("%q is not a number from %d to %d", arg, least, most)
		}
		return nil
	}
}

var duration = regexp.MustCompile(`^([0-9]{1,6})(s|m|h|d)?$`)

func seconds(most int64) kind {
	return func(arg string) error {
		parts := duration.FindStringSubmatch(arg)
		if parts == nil {
			return language.Errorf("%q is not a time such as 30s", arg)
		}
		n, _ := strconv.ParseInt(parts[1], 10, 64)
		if n *= map[string]int64{"": 1, "s": 1, "m": 60, "h": 3600, "d": 86400}[parts[2]]; n > most {
			return language.Errorf("%s is more than %ds", arg, most)
		}
		return nil
	}
}

func expires(arg string) error {
	if slices.Contains([]string{"epoch", "max", "off"}, arg) {
		return nil
	}
	return seconds(10 * 366 * 86400)(strings.TrimPrefix(arg, "-"))
}

func matching(expression, what string) kind {
	pattern := regexp.MustCompile(expression)
	return func(arg string) error {
		if !pattern.MatchString(arg) {
			return language.Errorf("%q is not %s", arg, what)
		}
		return nil
	}
}

var (
	bytes       = matching(`^[0-9]{1,9}[kKmM]?$`, "a number of bytes such as 500k")
	charset     = matching(`^(off|[A-Za-z0-9][A-Za-z0-9_-]{1,30})$`, "a character set such as utf-8")
	mime        = matching(`^[a-z]+/[A-Za-z0-9.+-]{1,80}$`, "a type such as text/plain")
	extension   = matching(`^[A-Za-z0-9_-]{1,20}$`, "an ending such as ics")
	headerName  = matching(`^[A-Za-z][A-Za-z0-9-]{0,60}$`, "the name of a header")
	ownVariable = matching(`^\$my_[a-z0-9_]{1,40}$`, "a variable of your own, whose name begins with $my_")
	referer     = matching(
		`^(none|blocked|server_names|(\*\.)?[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)*|[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)*\.\*)$`,
		"none, blocked, server_names or a name such as *.ferries.example")
)

func network(arg string) error {
	if arg == "all" {
		return nil
	}
	if _, err := netip.ParsePrefix(arg); err == nil {
		return nil
	}
	if _, err := netip.ParseAddr(arg); err != nil {
		return language.Errorf("%q is neither all nor an address or a network such as 192.0.2.0/24", arg)
	}
	return nil
}

// variables that raw directives may read: what the visitor sent, and what is known of them. None is
// a path of the server.
var readable = regexp.MustCompile(`^(args|body_bytes_sent|connection_requests|content_length|content_type|host|` +
	`hostname_sent|https|invalid_referer|is_args|msec|query_string|remote_addr|remote_port|request_id|request_method|` +
	`request_scheme|request_uri|scheme|server_name|server_port|server_protocol|ssl_protocol|status|time_iso8601|` +
	`time_local|uri|(arg|cookie|http|my|sent_http)_[a-z0-9_]{1,60}|[1-9])$`)

var variable = regexp.MustCompile(`\$(\w*|\{)`)

// text is what is sent to visitors, with variables in it.
func text(arg string) error {
	if strings.ContainsAny(arg, "\r\n\t") {
		return language.Errorf("a text has no line breaks and no tabs in it")
	}
	for _, match := range variable.FindAllStringSubmatch(arg, -1) {
		if !readable.MatchString(match[1]) {
			return language.Errorf("$%s cannot be used; possible are such as $host, $request_uri, $arg_…, $http_…, "+
				"$my_…", match[1])
		}
	}
	return nil
}

var allMethods = []string{"GET", "HEAD", "POST", "OPTIONS", "PUT", "PATCH", "DELETE", "PROPFIND", "PROPPATCH", "MKCOL",
	"COPY", "MOVE", "LOCK", "UNLOCK", "REPORT"}

// checkExpression refuses regular expressions that could take nginx long, as each request of a
// visitor is compared with them: what repeats may hold nothing that repeats, and no more than two
// parts may repeat without a bound.
func checkExpression(expression string) error {
	if len(expression) > 300 {
		return language.Errorf("an expression has at most 300 characters")
	}
	if strings.ContainsAny(expression, "\r\n\t") {
		return language.Errorf("an expression has no line breaks and no tabs in it")
	}
	if strings.Contains(strings.ReplaceAll(expression, "(?:", ""), "(?") {
		return language.Errorf("the expression %q has a group of a kind that cannot be used; (?:…) can", expression)
	}
	if !escapes.MatchString(expression) {
		return language.Errorf("the expression %q has a backslash before something that cannot be used with one",
			expression)
	}
	if _, err := regexp.Compile(expression); err != nil {
		return language.Errorf("the expression %q cannot be used: %s", expression,
			strings.TrimPrefix(err.Error(), "error parsing regexp: "))
	}
	repeated, class := 0, false
	for i := 0; i < len(expression); i++ {
		switch c := expression[i]; {
		case c == '\\':
			i++
		case class:
			class = c != ']'
		case c == '[':
			class = true
			if strings.HasPrefix(expression[i:], "[]") || strings.HasPrefix(expression[i:], "[^]") {
				i += strings.IndexByte(expression[i:], ']') // as the first one, it is a character
			}
		case c == '*' || c == '+' || c == '{':
			if repeated++; repeated > 2 {
				return language.Errorf("the expression %q repeats more than two parts; it could take long", expression)
			}
			if i > 0 && expression[i-1] == ')' {
				return language.Errorf("the expression %q repeats a group; it could take long", expression)
			}
		}
	}
	return nil
}

// escapes are backslashes that mean the same to everybody.
var escapes = regexp.MustCompile(`^(?:[^\\]|\\[dwsbDWSB]|\\[^\w\s])*$`)

// checkLocation checks what addresses a location is for.
func checkLocation(args []string) error {
	modifier, pattern := "", ""
	switch len(args) {
	case 1:
		pattern = args[0]
	case 2:
		modifier, pattern = args[0], args[1]
	default:
		return language.Errorf("location takes one address or expression, with =, ^~, ~ or ~* before it")
	}
	switch modifier {
	case "~", "~*":
		return checkExpression(pattern)
	case "", "=", "^~":
		if !location.MatchString(pattern) {
			return language.Errorf("%q is not an address from / on; put a blank behind the sign before it", pattern)
		}
		return nil
	}
	return language.Errorf("%q is not one of =, ^~, ~, ~*", modifier)
}

var location = regexp.MustCompile(`^/[A-Za-z0-9._~!&',()+:@%/-]{0,300}$`)

// checkCondition checks what is in the parentheses of an if: a variable, alone or compared with a
// text or an expression. Whether files are there cannot be asked.
func checkCondition(args []string) error {
	joined := strings.Join(args, "\x00")
	if !strings.HasPrefix(joined, "(") || !strings.HasSuffix(joined, ")") {
		return language.Errorf("if takes a condition in parentheses")
	}
	parts := slices.DeleteFunc(strings.Split(joined[1:len(joined)-1], "\x00"), func(s string) bool { return s == "" })
	if len(parts) == 0 || !strings.HasPrefix(parts[0], "$") || !readable.MatchString(parts[0][1:]) {
		return language.Errorf("if compares a variable such as $request_method, $http_user_agent or $arg_lang")
	}
	switch {
	case len(parts) == 1:
		return nil
	case len(parts) != 3:
		return language.Errorf("if takes a variable, a comparison and one text; put the text in quotation marks")
	}
	switch parts[1] {
	case "=", "!=":
		return text(parts[2])
	case "~", "~*", "!~", "!~*":
		return checkExpression(parts[2])
	}
	return language.Errorf("%q is not one of =, !=, ~, ~*, !~, !~*", parts[1])
}

// CheckRaw refuses raw directives that are not in the grammar, with the
// line and what to do instead.
func CheckRaw(raw string) error { return checkRaw(raw) }

func checkRaw(v any) error {
	raw := v.(string)
	if len(raw) > mostRaw {
		return language.Errorf("raw directives have at most %d characters", mostRaw)
	}
	if at := strings.IndexFunc(raw, func(r rune) bool {
		return r < ' ' && r != '\n' && r != '\t' || r == 0x7f || r == '\ufffd'
	}); at >= 0 {
		return language.Errorf("line %d: there is a control character", 1+strings.Count(raw[:at], "\n"))
	}
	p := rawParser{text: raw, line: 1, seen: []map[string]bool{{}}}
	for p.at < len(p.text) {
		if err := p.step(); err != nil {
			return err
		}
	}
	switch {
	case len(p.words) > 0:
		return p.wrong(p.start, "%q lacks a semicolon", strings.Join(p.words, " "))
	case len(p.open) > 0:
		return language.Errorf("a closing brace is missing for %s", p.open[len(p.open)-1])
	}
	return nil
}

// rawParser takes raw directives apart as nginx does, and checks each as soon as it is read.
type rawParser struct {
	text string
	at   int
	// words are those of the directive that is being read, which began in line start.
	words       []string
	line, start int
	open        []string // the names of the blocks around
	blocks      int
	// seen are the directives and locations of each block around, and of the server block, that
	// nginx takes once only.
	seen []map[string]bool
}

func (p *rawParser) wrong(line int, format string, args ...any) error {
	return language.Errorf("line %d: %s", line, language.New(format, args...))
}

// inside is the block that the parser is in; empty is the server block.
func (p *rawParser) inside() string {
	if len(p.open) == 0 {
		return ""
	}
	return p.open[len(p.open)-1]
}

// step reads on by one character or one word.
func (p *rawParser) step() error {
	switch c := p.text[p.at]; c {
	case '\n':
		p.line++
		p.at++
	case ' ', '\t':
		p.at++
	case '#':
		for p.at < len(p.text) && p.text[p.at] != '\n' {
			p.at++
		}
	case ';', '{':
		p.at++
		if len(p.words) == 0 {
			return p.wrong(p.line, "%q without a directive before it", c)
		}
		if err := p.check(c == '{'); err != nil {
			return p.wrong(p.start, "%s", err)
		}
		if c == '{' {
			if p.blocks++; p.blocks > mostBlocks {
				return p.wrong(p.line, "there are more than %d blocks", mostBlocks)
			}
			p.open, p.seen = append(p.open, p.words[0]), append(p.seen, map[string]bool{})
		}
		p.words = nil
	case '}':
		p.at++
		if len(p.words) > 0 {
			return p.wrong(p.start, "%q lacks a semicolon", strings.Join(p.words, " "))
		}
		if len(p.open) == 0 {
			return p.wrong(p.line, "a closing brace without an opening one; it would leave the site's own block")
		}
		p.open, p.seen = p.open[:len(p.open)-1], p.seen[:len(p.seen)-1]
	default:
		if len(p.words) == 0 {
			p.start = p.line
		}
		word, length, err := rawWord(p.text[p.at:])
		if err != nil {
			return p.wrong(p.line, "%s", err)
		}
		p.line += strings.Count(p.text[p.at:p.at+length], "\n")
		p.words = append(p.words, word)
		p.at += length
	}
	return nil
}

// check checks the directive that was read, with a block or without.
func (p *rawParser) check(block bool) error {
	name, args := p.words[0], p.words[1:]
	if p.inside() == "types" {
		if block || len(args) == 0 {
			return language.Errorf("types holds lines such as: text/calendar ics;")
		}
		return checkArgs("types", rule{args: []kind{mime, extension}, repeats: true}, p.words)
	}
	r, known := rules[name]
	switch {
	case name == "location" && len(args) == 0:
		return checkLocation(args)
	case !known && instead[name] != "":
		return language.Errorf("%s cannot be used here; there is %s for it", name, instead[name])
	case !known:
		return language.Errorf("%s cannot be used here; possible are directives that name no file and no other "+
			"address, "+
			"such as location, return, add_header, expires, allow", name)
	case slices.Contains(blocks, name) != block && block:
		return language.Errorf("%s takes no block", name)
	case slices.Contains(blocks, name) != block:
		return language.Errorf("%s needs a block in braces", name)
	case !slices.Contains(r.places(), p.inside()):
		return language.Errorf("%s cannot be inside %s", name, or(p.inside(), "the site's own block"))
	}
	var err error
	once := name
	switch name {
	case "location":
		err = checkLocation(args)
		if once = "location " + args[len(args)-1:][0]; args[0] == "=" {
			once = "location = " + args[1]
		}
		r.again = strings.HasPrefix(args[0], "~")
	case "if":
		err = checkCondition(args)
	case "valid_referers":
		if err = checkArgs(name, r, args); err == nil && !slices.ContainsFunc(args, func(a string) bool {
			return a != "none" && a != "blocked"
		}) {
			err = language.Errorf("valid_referers needs server_names or a name")
		}
	default:
		err = checkArgs(name, r, args)
	}
	here := p.seen[len(p.seen)-1]
	if err == nil && !r.again && here[once] {
		err = language.Errorf("%s is there twice", once)
	}
	here[once] = true
	return err
}

func or(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

// checkArgs checks each argument by its kind.
func checkArgs(name string, r rule, args []string) error {
	least := len(r.args)
	if r.optional {
		least--
	}
	if len(args) < least || len(args) > len(r.args) && !r.repeats {
		return language.Errorf("%s takes %d arguments, not %d", name, len(r.args), len(args))
	}
	for n, arg := range args {
		if r.repeats && slices.ContainsFunc(args[:n], func(a string) bool { return strings.EqualFold(a, arg) }) {
			return language.Errorf("%s: %s is there twice", name, arg)
		}
		if err := r.args[min(n, len(r.args)-1)](arg); err != nil {
			return language.Errorf("%s: %s", name, err)
		}
	}
	return nil
}

// rawWord reads a word as nginx does: quoted as a whole, or up to a blank, semicolon or brace.
func rawWord(text string) (word string, length int, err error) {
	if quote := text[0]; quote == '"' || quote == '\'' {
		for i := 1; i < len(text); i++ {
			switch text[i] {
			case '\\':
				i++
			case '\n':
				return "", 0, language.Errorf("a quotation mark is not closed in its line")
			case quote:
				if i+1 < len(text) && !strings.ContainsRune(" \t\n;{)", rune(text[i+1])) {
					return "", 0, language.Errorf("a blank is needed after the quoted text %s", text[:i+1])
				}
				return unescape(text[1:i]), i + 1, nil
			}
		}
		return "", 0, language.Errorf("a quotation mark is not closed")
	}
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '\\':
			i++
			if i >= len(text) || text[i] == '\n' {
				return "", 0, language.Errorf("a backslash at the end of a line")
			}
		case '"', '\'':
			return "", 0, language.Errorf("put the whole word in quotation marks")
		case '$':
			if i+1 < len(text) && text[i+1] == '{' {
				return "", 0, language.Errorf("write $name for a variable, without braces")
			}
		case ' ', '\t', '\n', ';', '{', '}':
			return unescape(text[:i]), i, nil
		}
	}
	return unescape(text), len(text), nil
}

// unescape reads backslashes as nginx does: those before others than these stay.
var unescape = strings.NewReplacer(`\\`, `\`, `\"`, `"`, `\'`, `'`, `\t`, "\t", `\r`, "\r", `\n`, "\n").Replace
