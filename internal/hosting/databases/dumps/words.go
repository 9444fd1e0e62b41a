package dumps

import "strings"

// wordsOf returns the first tokens of a statement, within its first bytes: words in lower case,
// names in quotes as they are with the quote before them, other characters one by one. Comments are
// left out; of those that MariaDB executes, what is within is not.
func wordsOf(text []byte, within int) []string {
	return textsOf(tokensOf(text, within, within))
}

// firstWord is the first token of a statement.
func firstWord(text []byte) string {
	if tokens := tokensOf(text, headLength, 1); len(tokens) > 0 {
		return tokens[0].text
	}
	return ""
}

func textsOf(tokens []token) []string {
	list := make([]string, len(tokens))
	for n, t := range tokens {
		list[n] = t.text
	}
	return list
}

// token is a part of a statement, from one byte up to another.
type token struct {
	text     string
	from, to int
}

// tokensOf returns the first tokens within the first bytes of a statement.
func tokensOf(text []byte, within, most int) []token {
	text = text[:min(len(text), within)]
	var list []token
	for at := 0; at < len(text) && len(list) < most; {
		c := text[at]
		from := at
		next := func(n int) byte {
			if at+n < len(text) {
				return text[at+n]
			}
			return 0
		}
		switch {
		case isBlank(c):
			at++
			continue
		case c == '-' && next(1) == '-', c == '#':
			for at < len(text) && text[at] != '\n' {
				at++
			}
			continue
		case c == '/' && next(1) == '*' && (next(2) == '!' || next(2) == 'M' && next(3) == '!'):
			at += 3
			if next(0) == '!' {
				at++
			}
			for next(0) >= '0' && next(0) <= '9' {
				at++
			}
			continue
		case c == '/' && next(1) == '*':
			if end := strings.Index(string(text[at+2:]), "*/"); end >= 0 {
				at += end + 4
			} else {
				at = len(text)
			}
			continue
		case c == '*' && next(1) == '/':
			at += 2
			continue
		case c == '\'' || c == '"' || c == '`':
			at++
			for at < len(text) && text[at] != c {
				if text[at] == '\\' && c == '\'' {
					at++
				}
				at++
			}
			at = min(at+1, len(text))
			list = append(list, token{string(c) + strings.Trim(string(text[from:at]), string(c)), from, at})
			continue
		case isLetter(c) || c >= '0' && c <= '9' || c == '@':
			for at < len(text) && (isLetter(text[at]) || text[at] >= '0' && text[at] <= '9' || text[at] == '$' ||
				text[at] == '@') {
				at++
			}
			list = append(list, token{strings.ToLower(string(text[from:at])), from, at})
			continue
		}
		at++
		list = append(list, token{string(c), from, at})
	}
	return list
}

// nameOf is the name that a token is, without its quote.
func nameOf(t string) string {
	if t != "" && (t[0] == '`' || t[0] == '"') {
		return t[1:]
	}
	return t
}
