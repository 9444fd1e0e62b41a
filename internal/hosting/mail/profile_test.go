package mail

import (
	"encoding/xml"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestProfile(t *testing.T) {
	text := string(Profile("anna@ternferries.example", "skua.ternisland.example", "Tern & Tide <Hosting>"))
	decoder, values := xml.NewDecoder(strings.NewReader(text)), map[string][]string{}
	key := ""
	for {
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err, text)
		start, is := token.(xml.StartElement)
		if !is || !strings.Contains("key string integer", start.Name.Local) {
			continue
		}
		var value string
		require.NoError(t, decoder.DecodeElement(&value, &start))
		if start.Name.Local == "key" {
			key = value
		} else {
			values[key] = append(values[key], value)
		}
	}
	assert.Equal(t, []string{"Tern & Tide <Hosting>"}, values["PayloadOrganization"])
	assert.Equal(t, []string{"skua.ternisland.example"}, values["IncomingMailServerHostName"])
	assert.Equal(t, []string{"993"}, values["IncomingMailServerPortNumber"])
	assert.Equal(t, []string{"anna@ternferries.example"}, values["OutgoingMailServerUsername"])
	require.Len(t, values["PayloadUUID"], 2)
	assert.NotEqual(t, values["PayloadUUID"][0], values["PayloadUUID"][1])
	assert.Regexp(t, `^[0-9A-F]{8}-[0-9A-F]{4}-8[0-9A-F]{3}-[89AB][0-9A-F]{3}-[0-9A-F]{12}$`, values["PayloadUUID"][0])
	assert.Regexp(t, `^example\.ternferries\.profile\.[0-9A-F]{8}$`, values["PayloadIdentifier"][0])
	assert.Equal(t, text, string(Profile("anna@ternferries.example", "skua.ternisland.example",
		"Tern & Tide <Hosting>")))
}
