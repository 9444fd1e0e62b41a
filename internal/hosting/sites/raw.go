package sites

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Raw directives are nginx directives that stand at the end of a site's server block. They are read
// before nginx sees them, because nginx runs as root and would do what they say: only directives
// from a list are let through, and none of them may name a file outside the home, leave the block,
// or build a path out of what visitors send.

const (
	mostRaw   = 16 << 10
	mostDepth = 8
)

// rawPlain are directives without a file in them.
var rawPlain = []string{"absolute_redirect", "add_header", "add_trailer", "allow", "auth_basic", "autoindex",
	"autoindex_exact_size", "autoindex_format", "autoindex_localtime", "break",
	"charset", "client_body_timeout", "client_max_body_size", "default_type", "deny", "etag", "expires", "gzip",
	"gzip_comp_level", "gzip_min_length", "gzip_proxied", "gzip_static", "gzip_types",
	"gzip_vary", "if_modified_since", "internal", "keepalive_timeout", "limit_rate", "limit_rate_after",
	"log_not_found", "max_ranges", "port_in_redirect",
	"proxy_buffering", "proxy_connect_timeout", "proxy_hide_header", "proxy_http_version", "proxy_intercept_errors",
	"proxy_pass_header", "proxy_read_timeout", "proxy_redirect", "proxy_send_timeout",
	"proxy_set_header", "proxy_ssl_server_name", "proxy_ssl_verify_depth", "recursive_error_pages", "return", "satisfy",
	"send_timeout", "set", "valid_referers"}

// rawPaths are directives that name files or internal addresses: they may use only variables that
// hold no more than the normalized address.
var rawPaths = []string{"alias", "error_page", "index", "rewrite", "root", "try_files"}

// rawBlocks are directives with a block.
var rawBlocks = []string{"if", "limit_except", "location", "types"}

// addressVariables hold the normalized address, which has no "..", or
// what follows its question mark.
var addressVariables = []string{"uri", "document_uri", "is_args", "args", "query_string"}

// directive is one statement with its line.
type directive struct {
	line  int
	words []string
	block bool
	// inside is the name of the block it stands in; empty at the top.
	inside string
}

func checkRaw(v any) error {
	_, err := parseRaw(v.(string))
	return err
}

// CheckRawIn refuses raw directives that name directories outside a home, such as /home/ferries.
func CheckRawIn(raw, home string) error {
	list, err := parseRaw(raw)
	if err != nil {
		return err
	}
	for _, d := range list {
		if d.words[0] != "root" && d.words[0] != "alias" {
			continue
		}
		dir := d.words[1]
		if dir != home && !strings.HasPrefix(dir, home+"/") {
			return fmt.Errorf("line %d: %s has to be below %s", d.line, d.words[0], home)
		}
	}
	return nil
}

func parseRaw(text string) ([]directive, error) {
	if len(text) > mostRaw {
		return nil, fmt.Errorf("raw directives have at most %d characters", mostRaw)
	}
	if at := strings.IndexFunc(text, func(r rune) bool {
		return r < ' ' && r != '\n' && r != '\t' || r == 0x7f
	}); at >= 0 {
		return nil, fmt.Errorf("line %d: there is a control character", 1+strings.Count(text[:at], "\n"))
	}
	var list []directive
	var open []string // names of the blocks around
	var words []string
	line, start := 1, 1
	for i := 0; i < len(text); {
		switch c := text[i]; {
		case c == '\n':
			line++
			i++
		case c == ' ' || c == '\t':
			i++
		case c == '#':
			for i < len(text) && text[i] != '\n' {
				i++
			}
		case c == ';' || c == '{':
			if len(words) == 0 {
				return nil, fmt.Errorf("line %d: %q without a directive before it", line, c)
			}
			d := directive{line: start, words: words, block: c == '{'}
			if len(open) > 0 {
				d.inside = open[len(open)-1]
			}
			if err := checkDirective(d); err != nil {
				return nil, fmt.Errorf("line %d: %w", start, err)
			}
			list = append(list, d)
			if c == '{' {
				if len(open) == mostDepth {
					return nil, fmt.Errorf("line %d: blocks are nested more than %d deep", line, mostDepth)
				}
				open = append(open, words[0])
			}
			words = nil
			i++
		case c == '}':
			if len(words) > 0 {
				return nil, fmt.Errorf("line %d: %q lacks a semicolon", start, strings.Join(words, " "))
			}
			if len(open) == 0 {
				return nil, fmt.Errorf("line %d: a closing brace without an opening one; it would leave the site's "+
					"own block", line)
			}
			open = open[:len(open)-1]
			i++
		default:
			if len(words) == 0 {
				start = line
			}
			word, length, err := rawWord(text[i:])
			if err != nil {
				return nil, fmt.Errorf("line %d: %w", line, err)
			}
			line += strings.Count(text[i:i+length], "\n")
			words = append(words, word)
			i += length
		}
	}
	if len(words) > 0 {
		return nil, fmt.Errorf("line %d: %q lacks a semicolon", start, strings.Join(words, " "))
	}
	if len(open) > 0 {
		return nil, fmt.Errorf("a closing brace is missing for %s", open[len(open)-1])
	}
	return list, nil
}

// rawWord reads a word as nginx does: quoted as a whole, or up to a blank, semicolon or brace. Only
// a backslash before a quote, a backslash or a character of a regular expression is left alone.
func rawWord(text string) (word string, length int, err error) {
	if quote := text[0]; quote == '"' || quote == '\'' {
		for i := 1; i < len(text); i++ {
			switch text[i] {
			case '\\':
				i++
			case quote:
				if i+1 < len(text) && !strings.ContainsRune(" \t\n;{)", rune(text[i+1])) {
					return "", 0, fmt.Errorf("a blank is needed after the quoted text %s", text[:i+1])
				}
				return text[1:i], i + 1, nil
			}
		}
		return "", 0, fmt.Errorf("a quotation mark is not closed")
	}
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '\\':
			i++
			if i >= len(text) || text[i] == '\n' {
				return "", 0, fmt.Errorf("a backslash at the end of a line")
			}
		case '"', '\'':
			if i > 0 && text[i-1] != '(' && text[i-1] != '=' {
				continue
			}
			return "", 0, fmt.Errorf("put the whole word in quotation marks")
		case '$':
			if i+1 < len(text) && text[i+1] == '{' {
				return "", 0, fmt.Errorf("write $name for a variable, without braces")
			}
		case ' ', '\t', '\n', ';', '{', '}':
			return text[:i], i, nil
		}
	}
	return text, len(text), nil
}

var variable = regexp.MustCompile(`\$(\w+|\{)`)

func checkDirective(d directive) error {
	name := d.words[0]
	if d.inside == "types" {
		if d.block {
			return fmt.Errorf("there is no block in types")
		}
		return nil
	}
	known := slices.Contains(rawPlain, name) || slices.Contains(rawPaths, name) || name == "proxy_pass"
	switch block := slices.Contains(rawBlocks, name); {
	case !known && !block:
		return fmt.Errorf("%s cannot be used here; possible are directives that stay inside the site, such as "+
			"location, return, rewrite, add_header, try_files, proxy_pass", name)
	case block && !d.block:
		return fmt.Errorf("%s needs a block in braces", name)
	case !block && d.block:
		return fmt.Errorf("%s takes no block", name)
	}
	for _, word := range d.words[1:] {
		if strings.Contains(word, "..") {
			return fmt.Errorf("“..” cannot be used in %s: it could lead out of the site", name)
		}
		if strings.Contains(strings.ToLower(word), "unix:") {
			return fmt.Errorf("%s cannot lead to a socket on the server", name)
		}
	}
	switch name {
	case "if":
		return checkCondition(d.words[1:])
	case "proxy_pass":
		return checkProxyPass(d.words[1:])
	case "root", "alias":
		if len(d.words) != 2 || !strings.HasPrefix(d.words[1], "/") || strings.Contains(d.words[1], "$") {
			return fmt.Errorf("%s takes one directory, from / on and without variables", name)
		}
	case "set":
		if len(d.words) != 3 || !rawOwnVariable.MatchString(d.words[1]) {
			return fmt.Errorf("set takes a variable whose name begins with $my_, and a value")
		}
	case "rewrite":
		return checkRewrite(d.words[1:])
	case "error_page", "index", "try_files":
		for _, word := range d.words[1:] {
			if !redirects(word) {
				if err := onlyAddress(name, word, false); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

var rawOwnVariable = regexp.MustCompile(`^\$my_[a-z0-9_]{1,40}$`)

// redirects reports whether a text leads to another address rather than to a file.
func redirects(word string) bool {
	return strings.HasPrefix(word, "http://") || strings.HasPrefix(word, "https://") ||
		strings.HasPrefix(word, "$scheme://")
}

// onlyAddress refuses variables that could hold "..": a visitor would choose the file.
func onlyAddress(name, word string, captures bool) error {
	for _, match := range variable.FindAllStringSubmatch(word, -1) {
		v := match[1]
		if slices.Contains(addressVariables, v) || captures && len(v) == 1 && v[0] >= '1' && v[0] <= '9' {
			continue
		}
		return fmt.Errorf("%s cannot use $%s, which visitors could fill with another path; $%s can be used", name, v,
			strings.Join(addressVariables, ", $"))
	}
	return nil
}

// checkRewrite lets captures through, which are parts of the normalized
// address: rewrite matches nothing else.
func checkRewrite(args []string) error {
	if len(args) < 2 {
		return fmt.Errorf("rewrite takes an expression and what to put in its place")
	}
	if redirects(args[1]) {
		return nil
	}
	address, _, _ := strings.Cut(args[1], "?")
	return onlyAddress("rewrite", address, true)
}

func checkCondition(words []string) error {
	text := strings.Join(words, " ")
	if !strings.HasPrefix(text, "(") || !strings.HasSuffix(text, ")") {
		return fmt.Errorf("if takes a condition in parentheses")
	}
	inner := strings.TrimSpace(text[1 : len(text)-1])
	for _, test := range []string{"-f", "-d", "-e", "-x", "!-f", "!-d", "!-e", "!-x"} {
		if rest, found := strings.CutPrefix(inner, test+" "); found && strings.TrimSpace(rest) != "$request_filename" {
			return fmt.Errorf("%s looks at $request_filename only", test)
		}
	}
	return nil
}

var upstream = regexp.MustCompile(`^https?://[A-Za-z0-9][A-Za-z0-9.-]*(:[0-9]{1,5})?(/[A-Za-z0-9._~/%-]*)?$`)

func checkProxyPass(args []string) error {
	if len(args) != 1 || !upstream.MatchString(args[0]) {
		return fmt.Errorf("proxy_pass takes one address such as http://127.0.0.1:3000 or https://shop.example/, " +
			"without variables")
	}
	return nil
}
