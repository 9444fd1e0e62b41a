package render

import (
	"fmt"
	"html"
	"strings"

	"victualler/internal/hosting/language"
	"victualler/internal/manifest"
)

// StarterPage is the page of a site that has no content yet.
func StarterPage(m manifest.Manifest, site manifest.Site) string {
	tag := pageLanguage(m)
	return page(tag, htmlText(site.Domain.Unicode()), brandLine(m.Brand), accent(m.Brand), paragraphs(tag,
		language.New("This address works. Its pages have not been put here yet."),
		language.New("If it is yours: replace index.html in the site's directory.")))
}

// pageLanguage is the language of the pages of an account; English where this server does not know
// the customer's.
func pageLanguage(m manifest.Manifest) string {
	if language.Known(m.Language) {
		return m.Language
	}
	return language.English
}

// suspendedText is what visitors of a suspended site see. Why it is
// suspended is nobody's business but its owner's.
var suspendedText = []language.Text{language.New("This site is switched off for the time being."),
	language.New("If it is yours: sign in, or ask whoever hosts it for you.")}

// errorTexts are what visitors see where a site has no page of its own for a status.
var errorTexts = []struct {
	status int
	text   language.Text
}{
	{400, language.New("The browser asked for something that this site does not understand.")},
	{401, language.New("This part of the site is for people with a name and a password.")},
	{403, language.New("This part of the site is not for everybody.")},
	{404, language.New("There is no such page here.")},
	{405, language.New("This address cannot be asked for in that way.")},
	{413, language.New("That is larger than this site takes.")},
	{429, language.New("Too much is asked for at once. Trying again in a moment helps.")},
	{500, language.New("Something on this site went wrong. Trying again later may help.")},
	{502, language.New("The program behind this site did not answer. Trying again later may help.")},
	{503, language.New("This site is not available at the moment. Trying again later may help.")},
	{504, language.New("The program behind this site took too long. Trying again later may help.")},
}

// Variables in which a site's server block gives its pages the name,
// the brand and its colour, as HTML, and the language.
const (
	pageName   = "$page_name"
	pageBrand  = "$page_brand"
	pageAccent = "$page_accent"
	pageTag    = "$page_language"
)

// errorPath is where the pages of errors are, for nginx alone.
const errorPath = "/.victualler/"

// errorPages renders the pages of errors that all sites of a server
// share, in each language. nginx puts in the name and brand of the site.
func errorPages() []File {
	var list []File
	for _, tag := range language.Tags() {
		for _, e := range errorTexts {
			list = append(list, errorPage(tag, e.status, e.text))
		}
	}
	return list
}

func errorPage(tag string, status int, text language.Text) File {
	echo := func(variable string) string {
		return `<!--# echo var="` + strings.TrimPrefix(variable, "$") + `" encoding="none" -->`
	}
	body := paragraphs(tag, text)
	if status == 404 {
		body += "\n<p><a href=\"/\">" + htmlText(language.Say(tag, "The site's first page")) + "</a></p>"
	}
	return File{Path: fmt.Sprintf("%s/%s%s%d.html", PageDir, tag, errorPath, status), Mode: 0o644,
		Content: page(tag, echo(pageName), echo(pageBrand), echo(pageAccent), body)}
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
    root %s/%s;
    disable_symlinks off;
    default_type "text/html; charset=utf-8";
    types { }
    ssi on;
    ssi_types *;
}
`, errorPath, PageDir, pageTag)
	return b.String()
}

// suspendedConf is the part with what suspended sites answer in a language, whatever is asked for.
func suspendedConf(tag string) (path, content string) {
	return NGINXPartDir + "/suspended-" + tag + ".conf", `default_type "text/html; charset=utf-8";
add_header Cache-Control no-store always;
location / {
    return 503 ` + quotePage(page(tag, pageName, pageBrand, pageAccent, paragraphs(tag, suspendedText...))) + `;
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

// paragraphs says texts in a language, as HTML.
func paragraphs(tag string, texts ...language.Text) string {
	said := make([]string, len(texts))
	for i, text := range texts {
		said[i] = "<p>" + htmlText(text.In(tag)) + "</p>"
	}
	return strings.Join(said, "\n")
}

// page needs nothing from anywhere else. All but the tag of the language is HTML.
func page(tag, name, brand, accent, body string) string {
	return `<!doctype html>
<html lang="` + tag + `">
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
` + body + `
<footer>` + brand + `</footer>
</main>
</body>
</html>
`
}
