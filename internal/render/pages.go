package render

import (
	"fmt"
	"html"
	"strings"

	"victualler/internal/manifest"
)

// StarterPage is the page of a site that has no content yet.
func StarterPage(m manifest.Manifest, site manifest.Site) string {
	return page(htmlText(site.Domain.Unicode()), brandLine(m.Brand), accent(m.Brand), `<p>This address works. Its pages have not been put here yet.</p>
<p>If it is yours: replace <code>index.html</code> in the site's directory.</p>`)
}

// suspendedText is what visitors of a suspended site see. Why it is
// suspended is nobody's business but its owner's.
const suspendedText = `<p>This site is switched off for the time being.</p>
<p>If it is yours: sign in, or ask whoever hosts it for you.</p>`

// errorTexts are what visitors see where a site has no page of its own for a status.
var errorTexts = []struct {
	status int
	text   string
}{
	{400, "<p>The browser asked for something that this site does not understand.</p>"},
	{401, "<p>This part of the site is for people with a name and a password.</p>"},
	{403, "<p>This part of the site is not for everybody.</p>"},
	{404, "<p>There is no such page here.</p>\n<p><a href=\"/\">The site's first page</a></p>"},
	{405, "<p>This address cannot be asked for in that way.</p>"},
	{413, "<p>That is larger than this site takes.</p>"},
	{429, "<p>Too much is asked for at once. Trying again in a moment helps.</p>"},
	{500, "<p>Something on this site went wrong. Trying again later may help.</p>"},
	{502, "<p>The program behind this site did not answer. Trying again later may help.</p>"},
	{503, "<p>This site is not available at the moment. Trying again later may help.</p>"},
	{504, "<p>The program behind this site took too long. Trying again later may help.</p>"},
}

// Variables in which a site's server block gives its pages the name,
// the brand and its colour: as HTML.
const (
	pageName   = "$page_name"
	pageBrand  = "$page_brand"
	pageAccent = "$page_accent"
)

// errorPath is where the pages of errors are, for nginx alone.
const errorPath = "/.victualler/"

// errorPages renders the pages of errors that all sites of a server
// share. nginx puts in the name and brand of the site.
func errorPages() []File {
	var list []File
	for _, e := range errorTexts {
		echo := func(variable string) string {
			return `<!--# echo var="` + strings.TrimPrefix(variable, "$") + `" encoding="none" -->`
		}
		list = append(list, File{Path: fmt.Sprintf("%s%s%d.html", PageDir, errorPath, e.status), Mode: 0o644,
			Content: page(echo(pageName), echo(pageBrand), echo(pageAccent), e.text)})
	}
	return list
}

// errorsConf has sites show those pages: one location for all of them.
func errorsConf() string {
	var b strings.Builder
	for _, e := range errorTexts {
		fmt.Fprintf(&b, "error_page %d %s%d.html;\n", e.status, errorPath, e.status)
	}
	fmt.Fprintf(&b, `location ^~ %s {
    internal;
    auth_basic off;
    root %s;
    disable_symlinks off;
    default_type "text/html; charset=utf-8";
    types { }
    ssi on;
    ssi_types *;
}
`, errorPath, PageDir)
	return b.String()
}

// suspendedPage renders what suspended sites answer, whatever is asked for.
func suspendedPage() string {
	return `default_type "text/html; charset=utf-8";
add_header Cache-Control no-store always;
location / {
    return 503 ` + quotePage(page(pageName, pageBrand, pageAccent, suspendedText)) + `;
}
`
}

// quotePage writes a page as one nginx string, in which the variables
// of pages stand for themselves.
func quotePage(text string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`
}

func brandLine(b manifest.Brand) string {
	var lines string
	for _, text := range []string{b.Title, b.Footer} {
		if text != "" {
			lines += "<p>" + htmlText(text) + "</p>"
		}
	}
	return lines
}

// signal is the colour of pages without a brand.
const signal = "#b4532a"

func accent(b manifest.Brand) string {
	if b.Accent == "" {
		return signal
	}
	return b.Accent
}

// htmlText writes text as HTML in one line, without a dollar sign,
// which would be a variable to nginx.
func htmlText(text string) string {
	return strings.ReplaceAll(html.EscapeString(strings.Join(strings.Fields(text), " ")), "$", "&#36;")
}

// page needs nothing from anywhere else. All of it is HTML.
func page(name, brand, accent, text string) string {
	return `<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta name="robots" content="noindex">
<title>` + name + `</title>
<style>
:root { color-scheme: light dark; }
body { margin: 0; min-height: 100vh; display: grid; place-content: center; font: 17px/1.6 ui-sans-serif, system-ui, sans-serif; background: Canvas; color: CanvasText; }
main { max-width: 34rem; padding: 2rem; border-left: 4px solid ` + accent + `; }
h1 { font-size: 1.7rem; line-height: 1.2; margin: 0 0 .6rem; overflow-wrap: anywhere; }
p { margin: .4rem 0; }
footer { margin-top: 1.6rem; font-size: .85rem; opacity: .75; }
</style>
</head>
<body>
<main>
<h1>` + name + `</h1>
` + text + `
<footer>` + brand + `</footer>
</main>
</body>
</html>
`
}
