package render

import (
	"fmt"
	"strings"

	"victualler/internal/manifest"
)

// Where nginx's files are.
const (
	NGINXBaseFile   = "/etc/nginx/conf.d/victualler.conf"
	NGINXAccountDir = "/etc/nginx/victualler/accounts"
)

// Paths under which a site tells, to its own server only, which rendering of it
// is loaded: by nginx, and by PHP (RFC 8615 reserves /.well-known/).
const (
	SiteCheckPath = "/.well-known/victualler/site"
	PHPCheckPath  = "/.well-known/victualler/php"
)

// NGINXBase renders what all sites of a server share: the answer to names that
// no site has.
func NGINXBase() []File {
	return []File{{Path: NGINXBaseFile, Mode: 0o644, Content: `# Written by victualler-agent when it starts.
server_names_hash_max_size 65536;
server_names_hash_bucket_size 512;

# The address itself and names nobody has: never somebody's site.
server {
    listen 80 default_server;
    listen [::]:80 default_server;
    server_name _;
    access_log off;
    default_type text/plain;
    return 404 "No site is served under this name here.\n";
}

include ` + NGINXAccountDir + `/*.conf;
`}}
}

// NGINX renders the virtual hosts of one account; none for an absent one.
func NGINX(m manifest.Manifest, s Server) []File {
	if m.Wanted == manifest.Absent {
		return nil
	}
	var b strings.Builder
	b.WriteString(heading("#", m))
	for _, site := range m.Sites {
		writeSite(&b, m, site, s)
	}
	return []File{{Path: NGINXAccountDir + "/" + m.SignInName + ".conf", Mode: 0o644, Content: withFingerprint(b.String())}}
}

// NGINXFingerprint returns what a site of the account answers under
// [SiteCheckPath] when nginx has loaded the rendering of m.
func NGINXFingerprint(m manifest.Manifest, s Server) string {
	return answered(NGINX(m, s), "return 200 \"")
}

// answered finds the text after a marker in the only file, up to a quote or line end.
func answered(files []File, marker string) string {
	if len(files) == 0 {
		return ""
	}
	_, rest, _ := strings.Cut(files[0].Content, marker)
	if end := strings.IndexAny(rest, "\"\n"); end >= 0 {
		rest = rest[:end]
	}
	return rest
}

func writeSite(b *strings.Builder, m manifest.Manifest, site manifest.Site, s Server) {
	fmt.Fprintf(b, `
server {
    listen 80;
    listen [::]:80;
    server_name %s;
    root %s/%s;
    index index.php index.html;

    # A link may only lead to what belongs to the link's own owner, however the
    # customer arranges links and directories below the home.
    disable_symlinks if_not_owner from=%s/;

`, strings.Join(site.Names(), " "), m.HomePath(), site.Root, m.HomePath())
	if m.Suspended {
		fmt.Fprintf(b, `    location / {
        default_type "text/html; charset=utf-8";
        add_header Cache-Control no-store always;
        return 503 %s;
    }

`, quote(SuspendedPage(site.Domain.Unicode())))
	} else {
		fmt.Fprintf(b, `    location / {
        try_files $uri $uri/ =404;
    }
    location ~ \.php$ {
        try_files $uri =404;
        fastcgi_pass unix:%s;
        include fastcgi_params;
        fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name;
        fastcgi_param HTTP_PROXY ""; # a visitor's Proxy header is no setting of ours (RFC 3875, section 4.1.18)
    }
    location ~ /\.(?!well-known/) {
        return 404;
    }

`, PHPSocket(m))
	}
	own := "allow 127.0.0.1; allow ::1;"
	for _, a := range s.Addresses {
		own += " allow " + a.String() + ";"
	}
	fmt.Fprintf(b, `    # The agent asks here which rendering is loaded; nobody else is answered.
    location = %s {
        %s deny all;
        access_log off;
        default_type text/plain;
        root /nonexistent;
        try_files /none @loaded;
    }
    location @loaded {
        internal;
        access_log off;
        default_type text/plain;
        return 200 "%s";
    }
    location = %s {
        %s deny all;
        access_log off;
        fastcgi_pass unix:%s;
        include fastcgi_params;
        fastcgi_param SCRIPT_FILENAME %s;
    }
}
`, SiteCheckPath, own, fingerprintMark, PHPCheckPath, own, PHPSocket(m), PHPCheckPath)
}

// quote writes text as one nginx string. A dollar sign cannot be written in one: the text has none.
func quote(text string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", "").Replace(text) + `"`
}
