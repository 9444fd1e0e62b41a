package sites

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
)

// The table and the struct for servers name the same settings, and
// every default passes its own check.
func TestTableAndSwitchesAgree(t *testing.T) {
	text, err := json.Marshal(Defaults())
	require.NoError(t, err)
	var members map[string]json.RawMessage
	require.NoError(t, json.Unmarshal(text, &members))
	assert.Len(t, members, len(All))
	for _, info := range All {
		value, err := info.Decode(members[string(info.Key)])
		require.NoError(t, err, info.Key)
		assert.Equal(t, info.Default, value, info.Key)
		again, err := info.Parse(strings.TrimSuffix(info.Format(info.Default), "none"))
		require.NoError(t, err, info.Key)
		assert.Equal(t, info.Default, again, "%s is written as it is read", info.Key)
	}
	assert.NoError(t, Defaults().Check())
	wrong := Defaults()
	wrong.FrontScript = "../x.php"
	assert.Error(t, wrong.Check())
}

func TestSettingsRefuse(t *testing.T) {
	for text, want := range map[string]string{
		`{"nonsense": 1}`: "no such setting", `{"compression": "on"}`: "true or false", `{"hsts": -1}`: "from 0",
		`{"hsts": 1.5}`: "whole number", `{"hsts": 99999999999}`: "730d",
		`{"preferred": "ww"}`: "one of both, bare, www", `{"methods": []}`: "at least one",
		`{"methods": ["GET"]}`: "GET and HEAD", `{"methods": ["GET","HEAD","GET"]}`: "twice",
		`{"methods": ["GET","HEAD","TRACE"]}`: "none of", `{"index_files": ["../x"]}`: "plain path",
		`{"index_files": ["a b"]}`: "plain path", `{"front_script": "/index.php"}`: "plain path",
		`{"front_script": ".hidden.php"}`: "plain path", `{"error_pages": {"404": "x;}"}}`: "plain path",
		`{"error_pages": {"200": "x.html"}}`: "can be given for", `{"php_timezone": "Mars/Base"}`: "time zone",
		`{"php_timezone": "../etc/passwd"}`: "time zone", `{"php_timezone": "Local"}`: "time zone",
		`{"largest_upload": 10}`: "64K", `{"headers": {"Content-Length": "1"}}`: "own to send",
		`{"headers": {"X A": "1"}}`: "no name of a header", `{"headers": {"X": "a\nb"}}`: "in one line",
		`{"headers": {"X": "$host"}}`: "dollar", `{"headers": {"x-a": "1", "X-A": "2"}}`: "twice",
		`{"headers": {"Strict-Transport-Security": "max-age=1"}}`: "hsts", `{"headers": {"X": ""}}`: "needs a value",
		`[]`: "object",
	} {
		var s Settings
		err := json.Unmarshal([]byte(text), &s)
		require.Error(t, err, text)
		require.True(t, refusal.Is(err, refusal.InvalidInput), text)
		assert.Contains(t, err.Error(), want, text)
	}
}

func TestParseSettings(t *testing.T) {
	for _, c := range []struct {
		key   Key
		typed string
		want  any
		wrong string
	}{
		{"compression", "off", false, ""}, {"compression", "maybe", nil, "on or off"},
		{"largest_upload", "256M", int64(256 * plans.MiB), ""}, {"largest_upload", "256", nil, "256 what?"},
		{"hsts", "12h", int64(43200), ""}, {"hsts", "30", nil, "30 what?"}, {"hsts", "0", int64(0), ""},
		{"hsts", "soon", nil, "length of time"}, {"hsts", "99999999999999999999d", nil, "length of time"},
		{"methods", "GET, HEAD,PUT", []string{"GET", "HEAD", "PUT"}, ""},
		{"error_pages", "404=e/missing.html", map[string]string{"404": "e/missing.html"}, ""},
		{"headers", `{"X-A":"1","X-B":"a=b"}`, map[string]string{"X-A": "1", "X-B": "a=b"}, ""},
		{"headers", "X-A", nil, "NAME=VALUE"}, {"php_inputs", "many", nil, "not a number"},
	} {
		info, known := Of(c.key)
		require.True(t, known)
		got, err := info.Parse(c.typed)
		if c.wrong != "" {
			assert.ErrorContains(t, err, c.wrong, c.typed)
			continue
		}
		require.NoError(t, err, c.typed)
		assert.Equal(t, c.want, got)
	}
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.Int64Range(0, 1<<40).Draw(t, "seconds")
		back, err := ParseSeconds(FormatSeconds(n))
		require.NoError(t, err)
		require.Equal(t, n, back)
	})
}

func TestResolve(t *testing.T) {
	own, template := Settings{"hsts": int64(60), "php_memory": int64(plans.GiB)}, Settings{"hsts": int64(5),
		"compression": false}
	list := Resolve(Bounds{PHPMemory: 256 * plans.MiB, PHPTime: 30, Disk: 10 * plans.MiB, Upload: plans.GiB,
		SiteConnections:    400,
		VisitorConnections: 100}, Layer{"site", own},
		Layer{"template shop", template})
	byKey := map[Key]Effective{}
	for _, e := range list {
		byKey[e.Key] = e
	}
	assert.Equal(t, int64(60), byKey["hsts"].Value, "the site's own goes first")
	assert.Equal(t, "site", byKey["hsts"].Source)
	assert.Equal(t, false, byKey["compression"].Value)
	assert.Equal(t, "template shop", byKey["compression"].Source)
	assert.Empty(t, byKey["methods"].Source)
	assert.Equal(t, int64(256*plans.MiB), byKey["php_memory"].Value)
	assert.Contains(t, byKey["php_memory"].Bounded.String(), "set to 1G; the limit php_memory allows 256M")
	assert.Equal(t, int64(10*plans.MiB), byKey["largest_upload"].Value, "what is usual is bounded, too")
	s, err := SwitchesOf(list)
	require.NoError(t, err)
	assert.Equal(t, int64(60), s.HSTS)
	key, err := BoundsOf(plans.Limits{plans.PHPMemory: plans.Of(0), plans.Disk: plans.Unlimited}).Admit(own)
	assert.Equal(t, Key("php_memory"), key)
	assert.ErrorContains(t, err, "128M")
}

func TestTarget(t *testing.T) {
	for typed, want := range map[string]string{
		"ferries.example": "https://ferries.example", "HTTP://Ferries.Example:80/": "http://ferries.example",
		"https://www.ferries.example/a b":         "https://www.ferries.example/a%20b",
		"https://möwe.example/ä?x=1&y=$host;#top": "https://xn--mwe-sna.example/%C3%A4?x=1&y=%24host%3B#top",
		"https://ferries.example:8443/x":          "https://ferries.example:8443/x",
		"http://10.77.0.21/":                      "http://10.77.0.21",
		"https://ferries.example/\"{}'":           "https://ferries.example/%22%7B%7D%27",
		"https://[2001:db8::1]/x":                 "https://[2001:db8::1]/x",
	} {
		got, _, err := ParseTarget(typed)
		require.NoError(t, err, typed)
		assert.Equal(t, want, got)
		again, corrections, err := ParseTarget(got)
		require.NoError(t, err, got)
		assert.Equal(t, got, again, "final")
		assert.Empty(t, corrections)
	}
	for typed, want := range map[string]string{"": "needs a target", "ftp://x.example/": "http://",
		"https://": "not an address", "https://a@ferries.example/": "before the @",
		"https://exa mple/": "not an address",
		"https://nodots/":   "name cannot be", strings.Repeat("x", 2000): "at most", "javascript:alert(1)": ""} {
		_, _, err := ParseTarget(typed)
		require.Error(t, err, typed)
		assert.ErrorContains(t, err, want, typed)
	}
	assert.ErrorContains(t, Redirection{"https://a.example#x", 301, true, false}.Check(), "#")
	assert.ErrorContains(t, Redirection{"https://a.example?x=1", 301, true, true}.Check(), "?")
	assert.ErrorContains(t, Redirection{"https://a.example", 303, true, true}.Check(), "303")
	assert.NoError(t, Redirection{"https://a.example?x=1", 302, false, true}.Check())
	assert.True(t, Circle("a", map[string]string{"a": "b", "b": "c", "c": "a"}))
	assert.True(t, Circle("a", map[string]string{"a": "a"}))
	assert.False(t, Circle("a", map[string]string{"a": "b", "b": "c", "c": "b"}),
		"a circle elsewhere is not this name's")
	assert.False(t, Circle("a", map[string]string{"a": "b"}))
}

// Whatever is typed: a target that is accepted is final, and holds
// nothing that a configuration file reads as syntax.
func TestAnyTarget(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		typed := rapid.OneOf(rapid.String(),
			rapid.StringMatching(`https?://[a-z]{1,5}\.example(/.{0,20})?(\?.{0,20})?(#.{0,9})?`)).Draw(t, "typed")
		got, _, err := ParseTarget(typed)
		if err != nil {
			return
		}
		again, _, err := ParseTarget(got)
		require.NoError(t, err)
		require.Equal(t, got, again)
		require.NotContains(t, got, "$")
		require.False(t, strings.ContainsAny(got, " ;{}\"'\\\n\r\t"), got)
	})
}

func TestRawRefuses(t *testing.T) {
	for raw, want := range map[string]string{
		"}": "leave the site's own block", "} server {": "leave the site's own block",
		"location /a {": "closing brace is missing", "location /a { deny all; }}": "leave the site's own block",
		"include /etc/passwd;": "include cannot", "types { include /etc/passwd; }": "not a type",
		"load_module x;": "cannot be used", "content_by_lua_block { }": "cannot be used",
		"access_log /etc/cron.d/x;": "the setting access_log", "error_log /tmp/x;": "cannot be used",
		"ssl_certificate /x;": "certificate", "listen 25;": "cannot be used",
		"server_name other.example;": "cannot be used", "disable_symlinks off;": "cannot be used",
		"fastcgi_pass unix:/run/victualler/php/other.sock;":         "cannot be used",
		"fastcgi_param PHP_ADMIN_VALUE x;":                          "the settings of PHP",
		"auth_basic_user_file /etc/shadow;":                         "a protected folder",
		"location /x { proxy_pass http://127.0.0.1:3000; }":         "cannot be used",
		"root /home/ferries/sites;":                                 "document root",
		"location /x { alias /home/ferries/sites; }":                "document root",
		"location /x { try_files /../../etc/passwd =404; }":         "front_script",
		"rewrite ^(.)(.)$ /$1$2/etc/passwd;":                        "redirects",
		"error_page 404 /../../etc/passwd;":                         "error_pages",
		"index ../../bakery/index.html;":                            "index_files",
		"client_max_body_size 1g;":                                  "largest_upload",
		"set $document_root /etc;":                                  "$my_",
		"set $my_x $document_root;":                                 "$document_root cannot be used",
		"add_header X $realpath_root;":                              "$realpath_root cannot be used",
		"return 200 ${host};":                                       "without braces",
		"return 200 \"a\\nb\";":                                     "line breaks",
		"return 200 \"x;":                                           "not closed",
		"return 99;":                                                "number from 200",
		"if (-f $request_filename) { return 200; }":                 "compares a variable",
		"if ($request_filename) { return 200; }":                    "compares a variable",
		"if ($host = a b) { return 200; }":                          "quotation marks",
		"if $host { return 200; }":                                  "parentheses",
		"if ($host ~ \"^(?<document_root>/etc)$\") { return 200; }": "kind that cannot be used",
		"location ~ \"^(a+)+$\" { deny all; }":                      "repeats a group",
		"location ~ \"a*b*c*\" { deny all; }":                       "more than two parts",
		"location ~ \"[\" { deny all; }":                            "cannot be used",
		"location ~ \\x2e { deny all; }":                            "backslash",
		"location @named { deny all; }":                             "not an address",
		"location ~x { deny all; }":                                 "not an address",
		"location = /a /b /c { }":                                   "location takes",
		"internal;":                                                 "cannot be inside",
		"limit_except GET { deny all; }":                            "cannot be inside",
		"send_timeout 1d;":                                          "more than 120s",
		"allow everybody;":                                          "neither all",
		"deny all":                                                  "semicolon", "\x00": "control", "\xff": "control",
		";": "without a directive", "location /a \"b\"c { }": "blank is needed", "deny all { }": "takes no block",
		"location /a;": "needs a block", strings.Repeat("location /a { ", 9): "cannot be inside location",
		strings.Repeat("location ~ a { }", 51): "more than 50 blocks",
		"location /a { } location ^~ /a { }":   "location /a is there twice",
		"charset utf-8; charset off;":          "charset is there twice",
		"location /a { location /a/b { } }":    "location cannot be inside location",
		"if ($host) { expires 1d; }":           "expires cannot be inside if",
		strings.Repeat("#", mostRaw+1):         "at most",
	} {
		err := CheckRaw(raw)
		if assert.ErrorContains(t, err, want, raw) && want != "at most" && want != "closing brace is missing" {
			assert.Contains(t, err.Error(), "line 1: ")
		}
	}
	assert.ErrorContains(t, CheckRaw("deny all;\n\nroot x;"), "line 3: root")
	for _, raw := range []string{"", "# nothing\n",
		"location = /old { return 301 https://x.example/?q=$arg_q; }", "location /gone { return 410; }",
		"location ~ \\.(?:bak|old)$ { deny all; }", "add_header X-A \"a; b { } # c\" always;",
		"location ~ \"^/[0-9]{4}$\" { deny all; }", "types { text/calendar ics; text/x-log log txt; }",
		"if ($request_method = POST) { return 403; }", "if ($http_user_agent ~* \"(bot|spider)\") { return 403; }",
		"location /x { limit_except GET { deny all; } }", "expires 30d; charset utf-8; etag off;",
		"set $my_lang $arg_lang; add_header X-Lang $my_lang;",
		"valid_referers none blocked server_names; if ($invalid_referer) { return 403; }",
		"allow 192.0.2.0/24; allow 2001:db8::1; deny all; satisfy any;"} {
		assert.NoError(t, CheckRaw(raw), raw)
	}
}

// Directives that were possible once are kept, and are not in force.
func TestRawOfEarlierVersions(t *testing.T) {
	var stored Settings
	require.NoError(t, json.Unmarshal([]byte(`{"raw": "proxy_pass http://127.0.0.1:3000;", "php": false}`), &stored))
	for _, e := range Resolve(Unbounded, Layer{Source: "site", Settings: stored}) {
		switch e.Key {
		case "raw":
			assert.Equal(t, "", e.Value)
			assert.Contains(t, e.Bounded.String(), "not in force: line 1: proxy_pass cannot be used here")
		case "php":
			assert.Equal(t, false, e.Value)
		}
	}
	_, _, err := Read(map[string]json.RawMessage{"raw": json.RawMessage(`"proxy_pass http://127.0.0.1:3000;"`)})
	assert.Error(t, err)
}

func TestRedirectsAndVisitors(t *testing.T) {
	for text, want := range map[string]string{
		`{"redirects": {"/old": "/new", "/shop": "https://shop.ferries.example/x"}}`: "",
		`{"redirects": {"old": "/new"}}`:                                             "not an address of the site",
		`{"redirects": {"/.well-known/acme-challenge/x": "/new"}}`:                   "the server's own",
		`{"redirects": {"/a": "/a"}}`:                                                "leads to itself",
		`{"redirects": {"/a": "$document_root"}}`:                                    "neither an address",
		`{"redirects": {"/a": "https://x.example/?q=1"}}`:                            "question mark",
		`{"redirects": {"/a\"; root /etc; #": "/b"}}`:                                "not an address of the site",
		`{"visitors_from": []}`:                                                      "",
		`{"visitors_from": ["192.0.2.0/24", "2001:db8::1"]}`:                         "",
		`{"visitors_from": ["all"]}`:                                                 "leave the list empty",
		`{"visitors_from": ["192.0.2.1; root /"]}`:                                   "neither all",
		`{"site_connections": 5}`:                                                    "must be from 10 to 5000",
	} {
		var s Settings
		err := json.Unmarshal([]byte(text), &s)
		if want == "" {
			assert.NoError(t, err, text)
		} else {
			var r *refusal.Refusal
			if assert.ErrorAs(t, err, &r, text) {
				assert.Contains(t, r.Fields[0].Message, want, text)
			}
		}
	}
}

func TestFolders(t *testing.T) {
	hash := "$2a$06$" + strings.Repeat("a", 53)
	assert.NoError(t, Folder{Path: "members/inner", Title: "Members", Users: []FolderUser{{"anna@x", hash}}}.Check())
	assert.NoError(t, Folder{Title: "All of it"}.Check())
	for want, f := range map[string]Folder{"plain path": {Path: "../x", Title: "x"}, "title": {Title: "x\";"},
		"visitor's name": {Title: "x", Users: []FolderUser{{"a:b", hash}}},
		"bcrypt":         {Title: "x", Users: []FolderUser{{"a", "plain\nroot:x"}}}, "script": {Path: "x.php",
			Title: "x"}} {
		assert.ErrorContains(t, f.Check(), want)
	}
	assert.NoError(t, CheckRoot("sites/ferries.example/public"))
	for _, root := range []string{"", "sites", "tmp", "sites/../tmp", "/sites/x", "sites/x/", "sites/.git", "sites//x",
		"sites/a b", "logs/x"} {
		assert.Error(t, CheckRoot(root), root)
	}
}
