package manifest

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const valid = `{"account_id": 17, "sign_in_name": "ternferries", "revision": 1, "wanted": "present", "home": {"disk_limit": null},
	"php": {"workers": 3}, "sites": [{"domain": "ternferries.example", "root": "sites/ternferries.example", "starter": true}]}`

func TestValidate(t *testing.T) {
	var m Manifest
	require.NoError(t, json.Unmarshal([]byte(valid), &m))
	assert.NoError(t, m.Validate())
	assert.Equal(t, 1_000_017, m.UID())
	for name, c := range map[string]struct{ old, new string }{
		"number":         {`"account_id": 17`, `"account_id": 0`},
		"revision":       {`"revision": 1`, `"revision": -4`},
		"wanted":         {`"present"`, `"maybe"`},
		"absent + sites": {`"present"`, `"absent"`},
		"sign-in name":   {`"ternferries", "rev`, `"../etc", "rev`},
		"reserved name":  {`"ternferries", "rev`, `"root", "rev`},
		"workers":        {`"workers": 3`, `"workers": 0`},
		"disk limit":     {`null`, `-1`},
		"root up":        {`sites/tern`, `../tern`},
		"root absolute":  {`sites/tern`, `/tern`},
		"root hidden":    {`sites/tern`, `.ssh/tern`},
		"root not clean": {`sites/tern`, `sites//tern`},
		"root syntax":    {`sites/tern`, `sites/a;b{}/tern`},
		"root newline":   {`sites/tern`, `sites/a\nb/tern`},
		"root empty":     {`sites/ternferries.example", "st`, `", "st`},
		"same domain": {`"starter": true}`,
			`"starter": true}, {"domain": "ternferries.example", "root": "sites/b"}`},
	} {
		t.Run(name, func(t *testing.T) {
			text := strings.Replace(valid, c.old, c.new, 1)
			require.NotEqual(t, valid, text)
			var m Manifest
			require.NoError(t, json.Unmarshal([]byte(text), &m))
			assert.Error(t, m.Validate())
		})
	}
	for _, domain := range []string{"Tern.example", "tern", "a b.example", "x;y.example"} {
		var m Manifest
		assert.Error(t,
			json.Unmarshal([]byte(strings.Replace(valid, `"domain": "ternferries.example"`, `"domain": "`+domain+`"`,
				1)), &m), domain)
	}
}
