package render

import "html"

// SuspendedPage is what visitors of a suspended site see. Why it is suspended is nobody's business but its owner's.
func SuspendedPage(domain string) string {
	return plainPage(domain, `<p>This site is switched off for the time being.</p>
<p>If it is yours: sign in, or ask whoever hosts it for you.</p>`)
}

// StarterPage is the page of a site that has no content yet. It needs nothing
// from anywhere else.
func StarterPage(domain string) string {
	return plainPage(domain, `<p>This address works. Its pages have not been put here yet.</p>
<p>If it is yours: replace <code>index.html</code> in the site's directory.</p>`)
}

// plainPage needs nothing from anywhere else. Text is HTML.
func plainPage(domain, text string) string {
	name := html.EscapeString(domain)
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
main { max-width: 34rem; padding: 2rem; border-left: 4px solid #b4532a; }
h1 { font-size: 1.7rem; line-height: 1.2; margin: 0 0 .6rem; overflow-wrap: anywhere; }
p { margin: .4rem 0; }
</style>
</head>
<body>
<main>
<h1>` + name + `</h1>
` + text + `
</main>
</body>
</html>
`
}
