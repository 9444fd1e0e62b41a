package language

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
)

// kept is a text with values as a column of a database has it.
type kept struct {
	Text   string `json:"text"`
	Values []any  `json:"values"`
}

// keptMark is how a column begins that has a text with values.
const keptMark = `{"text":`

// Encode writes a text to be kept, and said to whoever reads it later: as it is, or with values as
// a JSON object of them and the format. [Decode] reads both.
func (t Text) Encode() string {
	if len(t.args) == 0 {
		return t.format
	}
	out, err := json.Marshal(t.kept())
	if err != nil {
		return t.String()
	}
	return string(out)
}

func (t Text) kept() kept {
	k := kept{Text: t.format, Values: make([]any, len(t.args))}
	for i, arg := range t.args {
		switch v := arg.(type) {
		case Text:
			k.Values[i] = v.kept()
		case []Text:
			k.Values[i] = Join(v, ", ").kept()
		case Speaker:
			k.Values[i] = v.Text().kept()
		case string, bool, int, int32, int64, uint16, float64:
			k.Values[i] = v
		default:
			k.Values[i] = fmt.Sprint(v)
		}
	}
	return k
}

// Decode reads what [Text.Encode] has written. Anything else is a plain text.
func Decode(column string) Text {
	if !strings.HasPrefix(column, keptMark) {
		return Plain(column)
	}
	decoder := json.NewDecoder(strings.NewReader(column))
	decoder.UseNumber() // numbers are whole where they were
	var k struct {
		Text   string            `json:"text"`
		Values []json.RawMessage `json:"values"`
	}
	if err := decoder.Decode(&k); err != nil {
		return Plain(column)
	}
	t := Text{format: k.Text}
	for _, raw := range k.Values {
		t.args = append(t.args, decodeValue(raw))
	}
	return t
}

func decodeValue(raw json.RawMessage) any {
	if bytes.HasPrefix(raw, []byte(keptMark)) {
		return Decode(string(raw))
	}
	var whole int64
	if json.Unmarshal(raw, &whole) == nil {
		return whole
	}
	var v any
	if err := json.Unmarshal(raw, &v); err != nil {
		return string(raw)
	}
	return v
}

// Of is the text of an error: its own if it is a [Speaker], else what it says in English.
func Of(err error) Text {
	var s Speaker
	if errors.As(err, &s) {
		return s.Text()
	}
	return Plain(err.Error())
}
