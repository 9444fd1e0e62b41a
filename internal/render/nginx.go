package render

import (
	"encoding/pem"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/sites"
	"victualler/internal/manifest"
)

// Where nginx's files are.
const (
	NGINXBaseFile   = "/etc/nginx/conf.d/victualler.conf"
	NGINXDir        = "/etc/nginx/victualler"
	NGINXAccountDir = NGINXDir + "/accounts"
	// NGINXPartDir holds what sites include. It lies beside the accounts'
	// directory and not above it: staged files are laid over each directory,
	// and Linux allows no more layers over what is laid over already.
	NGINXPartDir = NGINXDir + "/parts"
	// TLSDir holds a directory for each account with the certificates
	// of its sites, readable for root alone.
	TLSDir = NGINXDir + "/tls"
	// NGINXCertificateDir holds the same certificates as entries of the table in which nginx finds
	// them by the name that a visitor asks for, readable for root alone.
	NGINXCertificateDir = NGINXDir + "/certificates"
	// PageDir holds the pages that all sites of a server show where they have none of their own.
	PageDir = "/var/lib/victualler-pages"
	// RequestLog is where nginx writes the requests of all sites; the
	// agent sorts them into the homes.
	RequestLog = "/var/log/victualler/requests.log"
	// ChallengeDir is below where answers to an authority's challenges
	// lie (RFC 8555, section 8.3), for all names.
	ChallengeDir = "/var/lib/victualler-challenges"
)

// WebGroup is the group of the web server's workers on Debian.
const WebGroup = "www-data"

// UploadDir is where nginx keeps what it has received of uploads and has not yet handed on. It is
// to be a file system of its own: what visitors send takes no room from the server or from homes.
const UploadDir = "/var/lib/victualler-uploads"

// CheckPath is where a site tells, to its own server only, which rendering of it is loaded: that of
// nginx in the header, that of PHP's pool in the body (RFC 8615 reserves /.well-known/). Every
// location of a site costs nginx some 10 KB of memory in each process, so there is one for both.
const (
	CheckPath   = "/.well-known/victualler"
	CheckHeader = "X-Loaded"
)

const baseHeading = "# Written by victualler-agent when it starts.\n"

// NGINXBase renders what all sites of a server share: the answer to names that
// no site has, and the parts that sites include.
func NGINXBase(s Server, told manifest.Server) []File {
	base := func(path, content string) File { return File{Path: path, Mode: 0o644, Content: baseHeading + content} }
	own := "allow 127.0.0.1; allow ::1;"
	bare := ""
	for _, a := range s.Addresses {
		own += " allow " + a.String() + ";"
		if a.Is6() {
			bare += ` "[` + a.String() + `]"`
		} else {
			bare += " " + a.String()
		}
	}
	neutral := func(status int, title, text string) string {
		return fmt.Sprintf(`    access_log off;
    default_type "text/html; charset=utf-8";
    include %s/challenge.conf;
    location / {
        return %d %s;
    }
}
`, NGINXPartDir, status, quotePage(page(language.English, title, "", signal, text)))
	}
	content := `server_names_hash_max_size 65536;
server_names_hash_bucket_size 512;
ssl_session_cache shared:victualler:10m;
ssl_session_timeout 1d;
map_hash_bucket_size 1024; # the addresses that sites redirect are long
limit_conn_zone $server_name zone=sites:4m;
limit_conn_zone $binary_remote_addr$server_name zone=visitors:16m;
limit_conn_status 429;
# What comes in, and what goes out faster to us than from us, waits in files: in a file system of its own.
client_body_temp_path ` + UploadDir + `/body;
fastcgi_temp_path ` + UploadDir + `/answers;
fastcgi_max_temp_file_size 64m;
limit_conn_log_level info; # a flood of requests is no flood of lines
server_tokens off; # which version answers is nobody's business
variables_hash_max_size 65536;
variables_hash_bucket_size 512;

# Certificate and key of each name. They are read when somebody asks for the name: a block with a
# certificate of its own costs each test and each reload 1.5 ms and each process 50 KB.
map_hash_max_size 65536;
map $ssl_server_name $certificate_and_key {
    default "";
    include ` + NGINXCertificateDir + `/*` + nginxNames + `;
}
include ` + NGINXCertificateDir + `/*` + nginxParts + `;

# Account and site, and then the line that the site's own log gets; none where the site keeps no log.
log_format visits escape=default '$log_site ';
log_format sites escape=default '$log_site $remote_addr - $remote_user [$time_local] "$request" $status $body_bytes_sent "$http_referer" "$http_user_agent"';
uninitialized_variable_warn off; # a request that is none has no site, and most have no method to be told

# The path as it was asked for: what nginx makes of it would lose what is escaped in it.
map $request_uri $sent_path {
    default /;
    "~^(?<before_query>/[^?]*)" $before_query;
}

# Where a mailbox is looked after in a browser, for those who ask for the name that is for it.
map $host $mailbox_page {
    default "";
    "~^` + mail.MailboxLabel + `\." ` + quote(told.MailboxPage) + `;
}

# Names nobody has: never somebody's site (RFC 9110, section 15.5.20), and over TLS no certificate of somebody's (RFC 6066, section 3).
server {
    listen 80 default_server;
    listen [::]:80 default_server;
    listen 443 ssl http2 default_server;
    listen [::]:443 ssl http2 default_server;
    server_name _;
    set $log_site ""; # so that it is known where there is no site
    ssl_reject_handshake on;
    ssl_certificate data:$certificate_and_key; # of the names below that have no certificate in their own block
    ssl_certificate_key data:$certificate_and_key;
    ssl_protocols TLSv1.2 TLSv1.3;
    ssl_prefer_server_ciphers off;
` + neutral(421, "Not served here", "<p>No site is served under this name on this server.</p>\n<p>If the name is yours: it leads here, and here it belongs to no account yet.</p>")
	if bare != "" {
		content += `
# The bare address.
server {
    listen 80;
    listen [::]:80;
    server_name` + bare + `;
` + neutral(404, "A web server", "<p>This address serves many sites, each under its own name. The address alone shows none of them.</p>")
	}
	content += "\ninclude " + NGINXAccountDir + "/*.conf;\n"
	list := errorPages()
	for _, tag := range language.Tags() {
		list = append(list, base(suspendedConf(tag)))
	}
	return append(list, []File{
		base(NGINXBaseFile, content),
		base(NGINXPartDir+"/own.conf", own+" deny all;\nauth_basic off;\naccess_log off;\ndefault_type text/plain;\n"),
		base(NGINXPartDir+"/challenge.conf", `# Authorities ask here, whatever else becomes of requests (RFC 8555, section 8.3).
location ^~ /.well-known/acme-challenge/ {
    allow all;
    root `+ChallengeDir+`;
    auth_basic off;
    default_type text/plain;
    try_files $uri =404;
}
`),
		base(NGINXPartDir+"/errors.conf", errorsConf()),
		base(NGINXPartDir+"/tls.conf", "listen 443 ssl http2;\nlisten [::]:443 ssl http2;\nssl_protocols TLSv1.2 "+
			"TLSv1.3;\nssl_prefer_server_ciphers off;\n"),
		base(NGINXPartDir+"/compress.conf", `gzip on;
gzip_vary on;
gzip_min_length 1000;
gzip_proxied any;
gzip_types text/plain text/css text/xml text/javascript text/calendar text/markdown application/javascript application/json application/ld+json application/manifest+json
    application/xml application/atom+xml application/rss+xml application/xhtml+xml image/svg+xml font/ttf font/otf application/vnd.ms-fontobject;
`),
		base(NGINXPartDir+"/php.conf", `try_files $uri =404;
include fastcgi_params;
fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name;
fastcgi_param HTTP_PROXY ""; # a visitor's Proxy header is no setting of ours (RFC 3875, section 4.1.18)
`),
	}...)
}

// NGINX renders the virtual hosts of one account; none for an absent one.
func NGINX(m manifest.Manifest) []File {
	if !m.HasHome() {
		return nil
	}
	w := writeSites(m)
	// Neighbours are not to read what a customer's site does, and with
	// which secrets in its headers.
	conf := File{Path: NGINXAccountDir + "/" + m.SignInName + ".conf", Mode: 0o600,
		Content: withFingerprint(w.b.String())}
	return append([]File{conf}, w.users...)
}

func writeSites(m manifest.Manifest) *siteWriter {
	w := &siteWriter{m: m}
	w.b.WriteString(heading("#", m))
	for _, site := range m.Sites {
		w.site = site
		w.write()
		w.mailSettings()
	}
	return w
}

// NGINXOwner returns the sign-in name of the account to which a file in [NGINXAccountDir] belongs.
func NGINXOwner(path string) string {
	name, _, _ := strings.Cut(filepath.Base(path), ".")
	return name
}

// nginxWord is the longest text between quotation marks that nginx reads, less than its buffer for
// configuration of 4096 bytes.
const nginxWord = 3900

// NGINXCertificates renders the certificates of an account's sites by name. Pair returns what is
// shown for a site, both in PEM; a site without is left out.
func NGINXCertificates(m manifest.Manifest, pair func(manifest.Site) (chain, key string)) []File {
	if !m.HasHome() {
		return nil
	}
	var list, parts strings.Builder
	for _, site := range m.Sites {
		chain, key := pair(site)
		chain, key = bare(chain, "CERTIFICATE"), bare(key, "PRIVATE KEY", "EC PRIVATE KEY", "RSA PRIVATE KEY")
		if chain == "" || key == "" {
			continue
		}
		// The key comes first: OpenSSL looks for certificates behind
		// it, but not for a key behind them.
		value := key + chain
		if len(value) > nginxWord {
			value = inParts(&parts, fingerprint(site.Domain.String())[:12], value)
		}
		for _, name := range append(site.Names(), site.MailNames()...) {
			fmt.Fprintf(&list, "%s \"%s\";\n", name, value)
		}
	}
	var files []File
	add := func(ending, text string) {
		if text != "" {
			files = append(files, File{Path: NGINXCertificateDir + "/" + m.SignInName + ending, Mode: 0o600,
				Secret:  true,
				Content: heading("#", m) + text})
		}
	}
	add(nginxNames, list.String())
	add(nginxParts, parts.String())
	return files
}

// Endings of the files in [NGINXCertificateDir]: the names, and the
// parts of what is too long for a word.
const (
	nginxNames = ".names"
	nginxParts = ".parts"
)

// NGINXPartsBeside is the file with the parts that the file at path names; empty if it names none.
func NGINXPartsBeside(path string) string {
	stem, isNames := strings.CutSuffix(path, nginxNames)
	if !isNames {
		return ""
	}
	return stem + nginxParts
}

// bare returns the blocks of those kinds in a PEM file (RFC 7468), and nothing that somebody has
// written around them: it could end the text that they are put into.
func bare(text string, kinds ...string) string {
	var b strings.Builder
	for rest := []byte(text); ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			return b.String()
		}
		if slices.Contains(kinds, block.Type) {
			b.Write(pem.EncodeToMemory(&pem.Block{Type: block.Type, Bytes: block.Bytes}))
		}
	}
}

// inParts writes a long text as variables, and returns the text that is made of them.
func inParts(b *strings.Builder, id, text string) (value string) {
	for n := 0; text != ""; n++ {
		part := text[:min(nginxWord, len(text))]
		text = text[len(part):]
		name := fmt.Sprintf("$part_%s_%d", id, n)
		fmt.Fprintf(b, "map \"\" %s {\n    default \"%s\";\n}\n", name, part)
		value += name
	}
	return value
}

// NGINXFingerprint returns what a site of the account answers under
// [CheckPath], in [CheckHeader], when nginx has loaded the rendering of m.
func NGINXFingerprint(m manifest.Manifest) string {
	return fingerprint(writeSites(m).b.String())
}

// CertificateFile is where a site's certificate lies. Another certificate has another name, so that
// the one in use stays until nginx has the next one.
func CertificateFile(m manifest.Manifest, site manifest.Site) string {
	return certificatePath(m, site) + ".pem"
}

// KeyFile is where the key of a site's certificate lies.
func KeyFile(m manifest.Manifest, site manifest.Site) string {
	return certificatePath(m, site) + ".key"
}

func certificatePath(m manifest.Manifest, site manifest.Site) string {
	path := TLSDir + "/" + m.SignInName + "/" + site.Domain.String()
	if site.Certificate != nil {
		path += "." + site.Certificate.Digest()
	}
	return path
}

// ChallengeFile is where the answer to an authority's challenge lies (RFC 8555, section 8.3).
func ChallengeFile(token string) string {
	return ChallengeDir + "/.well-known/acme-challenge/" + token
}

// siteWriter writes the server blocks of an account, site by site.
type siteWriter struct {
	m    manifest.Manifest
	site manifest.Site
	// other are the site's names that only lead to the preferred ones.
	other []string
	b     strings.Builder
	users []File
}

func (w *siteWriter) line(indent int, format string, args ...any) {
	w.b.WriteString(strings.Repeat("    ", indent))
	fmt.Fprintf(&w.b, format, args...)
	w.b.WriteByte('\n')
}

// write parts the site's names into server blocks: one with the
// content, and others that lead to it.
func (w *siteWriter) write() {
	bare, www := w.site.Domain.String(), w.site.WWW()
	s := w.site.Switches
	content, wanted := w.site.Names(), "$host"
	w.other = nil
	switch s.Preferred {
	case "bare":
		content, w.other, wanted = []string{bare}, []string{www}, bare
	case "www":
		content, w.other, wanted = []string{www}, []string{bare}, www
	}
	switch {
	case w.m.Suspended:
		w.block(w.site.Names(), true, true, func() {
			w.pages()
			w.line(1, "include %s/suspended-%s.conf;", NGINXPartDir, pageLanguage(w.m))
		})
	case w.site.Redirect != nil:
		r := w.site.Redirect
		to := r.Target
		if r.KeepPath {
			to = strings.TrimSuffix(to, "/") + "$sent_path"
		}
		switch {
		case r.KeepQuery && strings.Contains(to, "?"):
			to += "&$args"
		case r.KeepQuery:
			to += "$is_args$args"
		}
		w.block(w.site.Names(), true, true, func() { w.sendTo(r.Code, to) })
	case s.HTTPSRedirect:
		w.block(w.site.Names(), true, false, func() { w.sendTo(301, "https://"+wanted+"$request_uri") })
		w.redirects()
		w.block(content, false, true, w.content)
		if w.other != nil {
			w.block(w.other, false, true, func() { w.strict(); w.sendTo(301, "https://"+wanted+"$request_uri") })
		}
	default:
		w.redirects()
		w.block(content, true, true, w.content)
		if w.other != nil {
			w.block(w.other, true, true, func() { w.strict(); w.sendTo(301, "$scheme://"+wanted+"$request_uri") })
		}
	}
}

// mailSettings answers mail programs that ask for the settings of the domain's mail, and other
// servers that ask how it is to travel. Whoever asks has no cookie and no password.
func (w *siteWriter) mailSettings() {
	told := w.site.Mail
	if told == nil || len(told.Names) == 0 || w.m.Suspended {
		return
	}
	w.block(told.Names, true, true, func() {
		domain, server := w.site.Domain.String(), told.Server.String()
		xml := func(where, text string) {
			w.line(1, "location %s {\n        types { }\n        default_type \"text/xml; charset=utf-8\";\n       "+
				" return 200 %s;\n    }", where, quote(text))
		}
		xml("= /mail/config-v1.1.xml", fmt.Sprintf(clientConfig, domain, server))
		xml("= /.well-known/autoconfig/mail/config-v1.1.xml", fmt.Sprintf(clientConfig, domain, server))
		xml(`~* ^/autodiscover/autodiscover\.xml$`, fmt.Sprintf(accountSettings, server))
		if told.Policy {
			w.line(1, "location = /.well-known/mta-sts.txt {\n        default_type text/plain;\n        return 200 "+
				"%s;\n    }",
				quote(fmt.Sprintf("version: STSv1\r\nmode: enforce\r\nmx: %s\r\nmax_age: 604800\r\n", server)))
		}
		w.line(1, "location / {\n        if ($mailbox_page) {\n            return 302 $mailbox_page;\n        }\n"+
			"        return 404;\n    }")
	})
}

// The documents with which mail programs set themselves up once an address has been typed: two, as
// they have agreed on two. Each is filled with names alone.
const (
	clientConfig = `<?xml version="1.0" encoding="UTF-8"?>
<clientConfig version="1.1">
  <emailProvider id="%[1]s">
    <domain>%[1]s</domain>
    <displayName>%[1]s</displayName>
    <incomingServer type="imap">
      <hostname>%[2]s</hostname><port>993</port><socketType>SSL</socketType>
      <authentication>password-cleartext</authentication><username>%%EMAILADDRESS%%</username>
    </incomingServer>
    <incomingServer type="pop3">
      <hostname>%[2]s</hostname><port>995</port><socketType>SSL</socketType>
      <authentication>password-cleartext</authentication><username>%%EMAILADDRESS%%</username>
    </incomingServer>
    <outgoingServer type="smtp">
      <hostname>%[2]s</hostname><port>465</port><socketType>SSL</socketType>
      <authentication>password-cleartext</authentication><username>%%EMAILADDRESS%%</username>
    </outgoingServer>
  </emailProvider>
</clientConfig>
`
	accountSettings = `<?xml version="1.0" encoding="UTF-8"?>
<Autodiscover xmlns="http://schemas.microsoft.com/exchange/autodiscover/responseschema/2006">
  <Response xmlns="http://schemas.microsoft.com/exchange/autodiscover/outlook/responseschema/2006a">
    <Account>
      <AccountType>email</AccountType>
      <Action>settings</Action>
      <Protocol>
        <Type>IMAP</Type><Server>%[1]s</Server><Port>993</Port>
        <SSL>on</SSL><SPA>off</SPA><AuthRequired>on</AuthRequired>
      </Protocol>
      <Protocol>
        <Type>POP3</Type><Server>%[1]s</Server><Port>995</Port>
        <SSL>on</SSL><SPA>off</SPA><AuthRequired>on</AuthRequired>
      </Protocol>
      <Protocol>
        <Type>SMTP</Type><Server>%[1]s</Server><Port>465</Port>
        <SSL>on</SSL><Encryption>SSL</Encryption><SPA>off</SPA><AuthRequired>on</AuthRequired>
      </Protocol>
    </Account>
  </Response>
</Autodiscover>
`
)

// redirects writes where single addresses of the site lead: as a table, as
// each location would cost memory in each process.
func (w *siteWriter) redirects() {
	list := w.site.Switches.Redirects
	if len(list) == 0 {
		return
	}
	w.line(0, "\nmap $uri %s {\n    default \"\";", w.leads())
	for _, from := range slices.Sorted(maps.Keys(list)) {
		w.line(1, "%s %s;", quote(from), quote(list[from]))
	}
	w.line(0, "}")
}

// leads is the variable with the address that a request is redirected to.
func (w *siteWriter) leads() string {
	return "$leads_" + fingerprint(w.site.Domain.String())[:12]
}

func (w *siteWriter) sendTo(code int, to string) {
	w.line(1, "location / {\n        return %d %s;\n    }", code, to)
}

// block writes one server block. The one that is asked for the bare name without TLS answers the
// agent, too. Visitors of a busy site find its certificate in the block with its content.
func (w *siteWriter) block(names []string, plain, tls bool, inner func()) {
	w.line(0, "\nserver {")
	if plain {
		w.line(1, "listen 80;\n    listen [::]:80;")
	}
	w.line(1, "server_name %s;", strings.Join(names, " "))
	if tls {
		w.line(1, "include %s/tls.conf;", NGINXPartDir)
	}
	if tls && w.site.Busy && !slices.Equal(names, w.other) {
		w.line(1, "ssl_certificate %s;", CertificateFile(w.m, w.site))
		w.line(1, "ssl_certificate_key %s;", KeyFile(w.m, w.site))
	}
	w.line(1, `set $log_site "%s %s";`, w.m.SignInName, w.site.Domain)
	if w.site.Redirect != nil || w.site.Switches.AccessLog {
		w.line(1, "access_log %s sites;", RequestLog)
	} else {
		w.line(1, "access_log %s visits;", RequestLog)
	}
	inner()
	w.line(1, "include %s/challenge.conf;", NGINXPartDir)
	if plain && names[0] == w.site.Domain.String() {
		w.line(1, `# The agent asks here which rendering is loaded; nobody else is answered.
    location = %s {
        include %s/own.conf;
        add_header %s "%s" always;
        # Not “return”: that would answer before it is asked who may.
        try_files /.none =204;
    }`, CheckPath, NGINXPartDir, CheckHeader, fingerprintMark)
	}
	w.line(0, "}")
}

// pages tells the pages of the server whose they are.
func (w *siteWriter) pages() {
	w.line(1, "set %s %s;", pageName, quote(htmlText(w.site.Domain.Unicode())))
	w.line(1, "set %s %s;", pageBrand, quote(brandLine(w.m.Brand)))
	w.line(1, "set %s %s;", pageAccent, quote(accent(w.m.Brand)))
	w.line(1, "set %s %s;", pageTag, pageLanguage(w.m))
}

// strict sends the header of strict transport security, over TLS alone (RFC 6797, section 7.2).
func (w *siteWriter) strict() {
	s := w.site.Switches
	if s.HSTS == 0 {
		return
	}
	value := fmt.Sprintf("max-age=%d", s.HSTS)
	if s.HSTSSubdomains {
		value += "; includeSubDomains"
	}
	w.line(1, `set $strict "";`)
	w.line(1, `if ($https) {`+"\n        set $strict %s;\n    }", quote(value))
	w.line(1, "add_header Strict-Transport-Security $strict always;")
}

// formOverhead is what a form adds to the file that it uploads.
const formOverhead = 1 << 20

// static are the endings of files that are the same for every visitor.
const static = "css|js|mjs|map|jpe?g|png|gif|webp|avif|svg|ico|bmp|" +
	"woff2?|ttf|otf|eot|mp4|webm|ogg|mp3|wav|flac|pdf|zip|gz|wasm"

// content writes the inside of a block that serves files and PHP.
func (w *siteWriter) content() {
	s := w.site.Switches
	w.line(1, "root %s/%s;", w.m.HomePath(), w.site.Root)
	w.line(1, "index %s;", strings.Join(s.IndexFiles, " "))
	w.line(1, "# A link may only lead to what belongs to the link's own owner, however the\n    # customer arranges "+
		"links and directories below the home.")
	w.line(1, "disable_symlinks if_not_owner from=%s/;", w.m.HomePath())
	w.line(1, "client_max_body_size %d;", s.LargestUpload+formOverhead)
	w.line(1, "limit_conn sites %d;\n    limit_conn visitors %d;", s.SiteConnections, s.VisitorConnections)
	for _, from := range s.VisitorsFrom {
		w.line(1, "allow %s;", from)
	}
	if len(s.VisitorsFrom) > 0 {
		w.line(1, "deny all;")
	}
	if len(s.Redirects) > 0 {
		w.line(1, "if (%s) {\n        return 301 %[1]s$is_args$args;\n    }", w.leads())
	}
	if s.DirectoryListing {
		w.line(1, "autoindex on;")
	}
	if s.Compression {
		w.line(1, "include %s/compress.conf;", NGINXPartDir)
	} else {
		w.line(1, "gzip off;")
	}
	w.strict()
	for _, name := range slices.Sorted(maps.Keys(s.Headers)) {
		w.line(1, "add_header %s %s always;", name, quote(s.Headers[name]))
	}
	if sites.AllMethods(s.Methods) {
		w.line(1, "if ($request_method ~ ^(?:TRACE|TRACK|CONNECT)$) {\n        return 405;\n    }")
	} else {
		w.line(1, "if ($request_method !~ ^(?:%s)$) {\n        set $allowed %s;\n        return 405;\n    }",
			strings.Join(s.Methods, "|"), quote(strings.Join(s.Methods, ", ")))
		w.line(1, "add_header Allow $allowed always;")
	}
	for _, status := range slices.Sorted(maps.Keys(s.ErrorPages)) {
		w.line(1, "error_page %s /%s;", status, s.ErrorPages[status])
	}
	w.pages()
	w.line(1, "include %s/errors.conf;", NGINXPartDir)
	for _, folder := range w.site.Folders {
		if folder.Path == "" {
			w.guard(1, folder)
			continue
		}
		w.line(1, "location = /%s {", folder.Path)
		w.guard(2, folder)
		w.line(2, "try_files %s;", w.tries())
		w.line(1, "}")
		w.line(1, "location ^~ /%s/ {", folder.Path)
		w.guard(2, folder)
		w.serve(2)
		w.line(2, "try_files %s;", w.tries())
		w.line(1, "}")
	}
	w.serve(1)
	w.line(1, "location / {\n        try_files %s;\n    }", w.tries())
	if s.Raw != "" {
		w.line(1, "# Raw directives.")
		for line := range strings.Lines(strings.TrimRight(s.Raw, "\n") + "\n") {
			w.b.WriteString("    " + line)
		}
	}
}

// tries is what is looked for under an address, in this order.
func (w *siteWriter) tries() string {
	if front := w.site.Switches.FrontScript; front != "" {
		return "$uri $uri/ /" + front + "$is_args$args"
	}
	return "$uri $uri/ =404"
}

// serve writes what becomes of dot-files, scripts and static files, for the whole site or a folder.
// What comes first counts first: a script in a hidden directory is hidden.
func (w *siteWriter) serve(indent int) {
	s := w.site.Switches
	if !s.DotFiles {
		w.line(indent, `location ~ /\.(?!well-known/) {`)
		w.line(indent+1, "return 404;")
		w.line(indent, "}")
	}
	w.line(indent, `location ~ \.php$ {`)
	if s.PHP {
		w.line(indent+1, "include %s/php.conf;", NGINXPartDir)
		w.line(indent+1, "fastcgi_read_timeout %ds;", s.PHPTime+phpGrace)
		// By a variable: nginx compares each address that is written
		// out with all others of the server.
		w.line(indent+1, "set $php_socket unix:%s;", PHPSocket(w.m, PHPVersion(w.site)))
		w.line(indent+1, "fastcgi_pass $php_socket;")
	} else {
		w.line(indent+1, "return 404; # never a script's source")
	}
	w.line(indent, "}")
	if s.StaticCaching > 0 {
		w.line(indent, `location ~* \.(?:%s)$ {`, static)
		w.line(indent+1, "expires %ds;", s.StaticCaching)
		w.line(indent+1, "try_files %s;", w.tries())
		w.line(indent, "}")
	}
}

// guard asks visitors for a name and a password (RFC 7617).
func (w *siteWriter) guard(indent int, folder sites.Folder) {
	path := fmt.Sprintf("%s/%s.%s.users", NGINXAccountDir, w.m.SignInName,
		fingerprint(w.site.Root + "/" + folder.Path)[:12])
	if !slices.ContainsFunc(w.users, func(f File) bool { return f.Path == path }) {
		var b strings.Builder
		for _, u := range folder.Users {
			b.WriteString(u.Name + ":" + u.Hash + "\n")
		}
		w.users = append(w.users, File{Path: path, Mode: 0o640, Group: WebGroup, Content: b.String()})
	}
	w.line(indent, `auth_basic %s;`, quote(folder.Title))
	w.line(indent, "auth_basic_user_file %s;", path)
}

// quote writes text as one nginx string. A dollar sign cannot be written in one: the text has none.
func quote(text string) string {
	return quotePage(strings.ReplaceAll(text, "$", ""))
}
