package zones

import (
	"strconv"
	"strings"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
)

// MostRecords is how many own records a zone can have.
const MostRecords = 2000

// Line is one record of a zone file as it stands there.
type Line struct {
	// Number is the line on which it begins, from 1.
	Number int
	Typed
}

// skipped are types that a zone file may hold and that are not taken over: signing is the name
// server's own work (RFC 4034, RFC 5155, RFC 7344), as is the SOA record.
var skipped = map[string]string{"SOA": "the service keeps it", "RRSIG": "signing is done anew",
	"NSEC": "signing is done anew", "NSEC3": "signing is done anew",
	"NSEC3PARAM": "signing is done anew", "DNSKEY": "signing is done anew", "CDS": "signing is done anew",
	"CDNSKEY": "signing is done anew", "DS": "a delegation's keys are not kept here",
	"TYPE65534": "signing is done anew"}

// ReadFile reads a zone file (RFC 1035, section 5). Names in it are
// relative to the origin, which is the zone's name until the file says
// otherwise. What is not taken over is told in words. Errors name the line.
func ReadFile(zone, text string) (records []Line, left []language.Text, err error) {
	f := file{zone: zone, origin: zone + ".", ttl: UsualTTL}
	for {
		tokens, number, indented, err := f.entry(&text)
		if err != nil {
			return nil, nil, refusal.Input("text", "line %d: %s", number, err)
		}
		if tokens == nil {
			return f.records, f.left, nil
		}
		if err := f.readEntry(tokens, number, indented); err != nil {
			return nil, nil, refusal.Input("text", "line %d: %s", number, err)
		}
	}
}

// file is a zone file that is being read.
type file struct {
	zone, origin string
	ttl          int64
	owner        string
	line         int
	records      []Line
	left         []language.Text
}

// entry returns the next entry as its tokens, with quotation marks and escapes as they stand.
// Parentheses let an entry go on over lines.
func (f *file) entry(text *string) (tokens []string, first int, indented bool, err error) {
	depth := 0
	for *text != "" || depth > 0 {
		if *text == "" {
			return nil, first, false, language.Errorf("a parenthesis is not closed")
		}
		line, rest, _ := strings.Cut(*text, "\n")
		*text = rest
		f.line++
		if len(tokens) == 0 {
			first = f.line
			indented = strings.HasPrefix(line, " ") || strings.HasPrefix(line, "\t")
		}
		found, err := split(strings.TrimSuffix(line, "\r"), &depth)
		if err != nil {
			return nil, f.line, false, err
		}
		tokens = append(tokens, found...)
		if depth == 0 && len(tokens) > 0 {
			return tokens, first, indented, nil
		}
	}
	return nil, f.line, false, nil
}

// split parts a line into tokens, without comments and parentheses.
func split(line string, depth *int) (tokens []string, err error) {
	var token strings.Builder
	inside, quoted := false, false
	end := func() {
		if inside {
			tokens = append(tokens, token.String())
		}
		token.Reset()
		inside = false
	}
	for i := 0; i < len(line); i++ {
		c := line[i]
		switch {
		case c == '\\' && i+1 < len(line):
			token.WriteString(line[i : i+2])
			inside = true
			i++
		case c == '"':
			quoted = !quoted
			token.WriteByte(c)
			inside = true
			if !quoted {
				end()
			}
		case quoted:
			token.WriteByte(c)
		case c == ';':
			end()
			return tokens, nil
		case c == '(' || c == ')':
			end()
			if c == '(' {
				*depth++
			} else if *depth--; *depth < 0 {
				return nil, language.Errorf("a parenthesis is closed that was not opened")
			}
		case c == ' ' || c == '\t':
			end()
		default:
			token.WriteByte(c)
			inside = true
		}
	}
	if quoted {
		return nil, language.Errorf("a quotation mark is not closed")
	}
	end()
	return tokens, nil
}

// readEntry reads one entry: a directive or a record.
func (f *file) readEntry(tokens []string, number int, indented bool) error {
	switch strings.ToUpper(tokens[0]) {
	case "$ORIGIN":
		if len(tokens) != 2 || !strings.HasSuffix(tokens[1], ".") {
			return language.Errorf("write $ORIGIN with a whole name and a dot at its end")
		}
		f.origin = strings.ToLower(tokens[1])
		return nil
	case "$TTL":
		ttl, is := lifetime(strings.Join(tokens[1:], " "))
		if !is {
			return language.Errorf("write $TTL with a number of seconds")
		}
		f.ttl = ttl
		return nil
	}
	if strings.HasPrefix(tokens[0], "$") {
		return language.Errorf("%s is not possible here; put everything into one file", tokens[0])
	}
	if !indented {
		f.owner = f.complete(strings.ToLower(tokens[0]))
		tokens = tokens[1:]
	}
	if f.owner == "" {
		return language.Errorf("the first record has no name")
	}
	ttl := f.ttl
	for len(tokens) > 0 { // time to live and class, in either order
		if t, is := lifetime(tokens[0]); is {
			ttl = t
		} else if class := strings.ToUpper(tokens[0]); class == "CH" || class == "HS" {
			return language.Errorf("the class %s is not that of the Internet (IN)", class)
		} else if class != "IN" {
			break
		}
		tokens = tokens[1:]
	}
	if len(tokens) == 0 {
		return language.Errorf("the type of the record is missing")
	}
	kind, data := strings.ToUpper(tokens[0]), tokens[1:]
	if why, is := skipped[kind]; is {
		f.left = append(f.left,
			language.New("line %d: %s of %s left out: %s", number, kind, strings.TrimSuffix(f.owner, "."),
				language.Plain(why)))
		return nil
	}
	if kind == string(NS) && f.owner == f.zone+"." {
		f.left = append(f.left, language.New("line %d: the name servers of %s itself left out: the service keeps them",
			number, f.zone))
		return nil
	}
	if len(f.records) == MostRecords {
		return language.Errorf("a zone can have %d records of its own at most", MostRecords)
	}
	for _, at := range namesIn[Type(kind)] {
		if at < len(data) {
			data[at] = f.complete(data[at])
		}
	}
	for i, token := range data {
		if kind == string(TXT) && !strings.HasPrefix(token, `"`) {
			data[i] = `"` + token + `"` // without quotation marks, blanks part the texts
		}
	}
	if within := min(max(ttl, LeastTTL), MostTTL); within != ttl {
		f.left = append(f.left, language.New("line %d: time to live of %d taken instead of %d", number, within, ttl))
		ttl = within
	}
	f.records = append(f.records, Line{number, Typed{Name: f.owner, Type: kind, Data: strings.Join(data, " "),
		TTL: ttl}})
	return nil
}

// namesIn tells which parts of a record's data are names, by type.
var namesIn = map[Type][]int{CNAME: {0}, MX: {1}, NS: {0}, PTR: {0}, SRV: {3}, SVCB: {1}, HTTPS: {1}}

// complete returns a whole name, with a dot at its end.
func (f *file) complete(name string) string {
	switch {
	case name == "@":
		return f.origin
	case strings.HasSuffix(name, "."):
		return name
	}
	return name + "." + f.origin
}

// lifetime reads a time to live: seconds, or the usual short form such as 1h30m.
func lifetime(text string) (int64, bool) {
	if text == "" || text[0] < '0' || text[0] > '9' {
		return 0, false
	}
	if n, err := strconv.ParseInt(text, 10, 64); err == nil {
		return n, true
	}
	var sum, n int64
	digits := false
	for _, c := range strings.ToLower(text) {
		unit, is := map[rune]int64{'s': 1, 'm': 60, 'h': 3600, 'd': 24 * 3600, 'w': 7 * 24 * 3600}[c]
		switch {
		case c >= '0' && c <= '9' && n < 1<<31:
			n, digits = n*10+int64(c-'0'), true
		case is && digits:
			sum, n, digits = sum+n*unit, 0, false
		default:
			return 0, false
		}
	}
	return sum, !digits
}
