package render

import (
	"fmt"

	"victualler/internal/manifest"
)

// PHPSocket is the path of the socket on which an account's PHP listens.
func PHPSocket(m manifest.Manifest) string { return "/run/php/account-" + m.SignInName + ".sock" }

// PHPFPM renders an account's pool; none for an absent account. The pool runs as
// the account's own user, starts workers only when asked, and sees only the home.
func PHPFPM(m manifest.Manifest, s Server) []File {
	if m.Wanted == manifest.Absent {
		return nil
	}
	home := m.HomePath()
	text := heading(";", m) + fmt.Sprintf(`[%s]
user = %s
group = %s
listen = %s
listen.owner = www-data
listen.group = www-data
listen.mode = 0600
pm = ondemand
pm.max_children = %d
pm.process_idle_timeout = 10s
pm.max_requests = 500
; The agent asks here which rendering is loaded.
ping.path = %s
ping.response = %s
security.limit_extensions = .php
env[HOME] = %s
env[TMPDIR] = %s/tmp
php_admin_value[open_basedir] = %s/
php_admin_value[upload_tmp_dir] = %s/tmp
php_admin_value[sys_temp_dir] = %s/tmp
php_admin_value[session.save_path] = %s/tmp
php_admin_value[expose_php] = 0
`, m.SignInName, m.SignInName, m.SignInName, PHPSocket(m), m.PHP.Workers, PHPCheckPath, fingerprintMark,
		home, home, home, home, home, home)
	return []File{{Path: phpDir(s.PHP) + "/pool.d/account-" + m.SignInName + ".conf", Mode: 0o644, Content: withFingerprint(text)}}
}

// PHPFPMFingerprint returns what the account's pool answers to a ping when it
// has loaded the rendering of m.
func PHPFPMFingerprint(m manifest.Manifest, s Server) string {
	return answered(PHPFPM(m, s), "ping.response = ")
}

// PHPFPMBase renders settings of all pools: caches that keep accounts apart, and
// time for running requests when pools are added or removed.
func PHPFPMBase(s Server) []File {
	return []File{
		{Path: phpDir(s.PHP) + "/conf.d/90-victualler.ini", Mode: 0o644, Content: `; Written by victualler-agent when it starts.
; One cache serves all pools: check on each use that the pool may read the file.
opcache.validate_permission = 1
opcache.validate_root = 1
`},
		{Path: phpDir(s.PHP) + "/pool.d/00-victualler.conf", Mode: 0o644, Content: `; Written by victualler-agent when it starts.
[global]
; Requests that run when pools are added or removed may finish.
process_control_timeout = 10s
`},
	}
}

func phpDir(version string) string { return "/etc/php/" + version + "/fpm" }
