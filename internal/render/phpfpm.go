package render

import (
	"fmt"
	"path"
	"strings"

	"victualler/internal/hosting/plans"
	"victualler/internal/manifest"
)

// PHPSocket is the path of the socket on which an account's PHP listens.
func PHPSocket(m manifest.Manifest) string { return "/run/php/account-" + m.SignInName + ".sock" }

// PHPFPM renders an account's pool; none for an absent account. The pool runs as
// the account's own user, starts workers only when asked, and sees only the home.
func PHPFPM(m manifest.Manifest, s Server) []File {
	if !m.Here() {
		return nil
	}
	text, settings := pool(m, s)
	return append([]File{{Path: phpDir(s.PHP) + "/pool.d/account-" + m.SignInName + ".conf", Mode: 0o644, Content: withFingerprint(text)}}, settings...)
}

// pool writes the pool, with the mark in the place of its fingerprint, and the settings of single sites.
func pool(m manifest.Manifest, s Server) (text string, settings []File) {
	home := m.HomePath()
	settings = phpSettings(m, s)
	mark := "none"
	if len(settings) > 0 {
		mark = fingerprint(settings[0].Content)
	}
	longest := int64(plans.PHPTimeFloor)
	for _, site := range m.PHPSites() {
		longest = max(longest, site.Switches.PHPTime)
	}
	text = heading(";", m) + fmt.Sprintf(`[%s]
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
; Whatever a request waits for, it ends.
request_terminate_timeout = %ds
; The agent asks here which rendering is loaded. Settings of single sites: %s
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
`, m.SignInName, m.SignInName, m.SignInName, PHPSocket(m), m.PHP.Workers, longest+phpGrace/2, mark, CheckPath, fingerprintMark,
		home, home, home, home, home, home)
	return text, settings
}

// phpGrace is how many seconds longer than PHP the web server waits, so that PHP itself tells what is wrong.
const phpGrace = 20

// phpSettings renders what sites of an account set for PHP, each for its own directory: PHP reads such sections when
// it runs a script below that directory, and no script can change what they set (php.ini, “[PATH=…]”). The sites of an account share a pool.
func phpSettings(m manifest.Manifest, s Server) []File {
	php := m.PHPSites()
	if len(php) == 0 {
		return nil
	}
	var b strings.Builder
	b.WriteString(heading(";", m))
	for _, site := range php {
		set := site.Switches
		fmt.Fprintf(&b, `[PATH=%s/%s]
memory_limit = %d
max_execution_time = %d
max_input_vars = %d
display_errors = %s
upload_max_filesize = %d
post_max_size = %d
date.timezone = "%s"
`, m.HomePath(), site.Root, set.PHPMemory, set.PHPTime, set.PHPInputs, onOff(set.PHPErrors), set.LargestUpload, set.LargestUpload+formOverhead, set.PHPTimezone)
	}
	return []File{{Path: phpDir(s.PHP) + "/conf.d/account-" + m.SignInName + ".ini", Mode: 0o644, Content: b.String()}}
}

func onOff(on bool) string {
	if on {
		return "On"
	}
	return "Off"
}

// PHPFPMOwner returns the sign-in name of the account to which a pool or a file of settings belongs.
func PHPFPMOwner(file string) string {
	name, _, _ := strings.Cut(strings.TrimPrefix(path.Base(file), "account-"), ".")
	return name
}

// PHPFPMFingerprint returns what the account's pool answers to a ping when it
// has loaded the rendering of m.
func PHPFPMFingerprint(m manifest.Manifest, s Server) string {
	text, _ := pool(m, s)
	return fingerprint(text)
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
