package usecase

import (
	"encoding/base64"
	"encoding/json"
	"strings"

	"victualler/internal/hosting/refusal"
)

// Cursor packs the last row's sort key for the next page. It is opaque to clients.
func Cursor(parts ...any) string {
	text, err := json.Marshal(parts)
	if err != nil {
		panic(err) // strings and numbers only
	}
	return base64.RawURLEncoding.EncodeToString(text)
}

// ReadCursor unpacks a cursor into the places given; an empty one leaves them as they are.
func ReadCursor(text string, parts ...any) error {
	if text == "" {
		return nil
	}
	raw, err := base64.RawURLEncoding.DecodeString(text)
	if err == nil {
		err = json.Unmarshal(raw, &parts)
	}
	if err != nil {
		return refusal.Input("cursor", "that is not a cursor of this list; take “next” from the page before")
	}
	return nil
}

// EscapeLike makes text match itself in a LIKE pattern.
func EscapeLike(text string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text)
}
