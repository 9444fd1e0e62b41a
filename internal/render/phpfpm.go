package render

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"victualler/internal/hosting/plans"
	"victualler/internal/manifest"
)

// PHPSocket is the path of the socket on which an account's PHP of a version listens; empty is the
// version that follows the newest.
func PHPSocket(m manifest.Manifest, version string) string {
	return "/run/php/account-" + poolName(m, version) + ".sock"
}

// poolName is the name of the account's pool of a version.
func poolName(m manifest.Manifest, version string) string {
	if version == "" {
		return m.SignInName
	}
	return m.SignInName + "-" + version
}

// PHPVersion is the version of PHP that runs a site's scripts; empty is the newest.
func PHPVersion(s manifest.Site) string {
	if s.Redirect != nil || !s.Switches.PHP {
		return ""
	}
	return s.Switches.PHPVersion
}

// PHPPools lists the versions for which a server's PHP of version s.PHP
// has a pool of the account: empty, where it is the newest and so
// serves all sites that name none; and its own, if a site names it.
func PHPPools(m manifest.Manifest, s Server) []string {
	if !m.HasHome() {
		return nil
	}
	var pools []string
	if s.Newest {
		pools = append(pools, "")
	}
	if slices.ContainsFunc(m.PHPSites(), func(site manifest.Site) bool { return site.Switches.PHPVersion == s.PHP }) {
		pools = append(pools, s.PHP)
	}
	return pools
}

// PHPFPM renders an account's pools; none for an absent account. A pool runs as
// the account's own user, starts workers only when asked, and sees only the home.
func PHPFPM(m manifest.Manifest, s Server) []File {
	var files []File
	settings := phpSettings(m, s)
	for _, version := range PHPPools(m, s) {
		files = append(files, File{Path: phpDir(s.PHP) + "/pool.d/account-" + poolName(m, version) + ".conf",
			Mode: 0o600, Content: withFingerprint(pool(m, s, version, settings))})
	}
	return append(files, settings...)
}

// pool writes a pool, with the mark in the place of its fingerprint.
// Settings are those of single sites.
func pool(m manifest.Manifest, s Server, version string, settings []File) string {
	home := m.HomePath()
	mark := "none"
	if len(settings) > 0 {
		mark = fingerprint(settings[0].Content)
	}
	longest := int64(plans.PHPTimeFloor)
	for _, site := range m.PHPSites() {
		longest = max(longest, site.Switches.PHPTime)
	}
	return heading(";", m) + fmt.Sprintf(`[%s]
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
`, poolName(m, version), m.SignInName, m.SignInName, PHPSocket(m, version), m.PHP.Workers, longest+phpGrace/2, mark, CheckPath, fingerprintMark,
		home, home, home, home, home, home)
}

// phpGrace is how many seconds longer than PHP the web server waits, so
// that PHP itself tells what is wrong.
const phpGrace = 20

// phpSettings renders what sites of an account set for PHP, each for its own directory: PHP reads
// such sections when it runs a script below that directory, and no script can change what they set
// (php.ini, “[PATH=…]”). The sites of an account share a pool.
func phpSettings(m manifest.Manifest, s Server) []File {
	var php []manifest.Site
	for _, site := range m.PHPSites() {
		if site.Switches.PHPVersion == s.PHP || site.Switches.PHPVersion == "" && s.Newest {
			php = append(php, site)
		}
	}
	if len(php) == 0 || !m.HasHome() {
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
	return []File{{Path: phpDir(s.PHP) + "/conf.d/account-" + m.SignInName + ".ini", Mode: 0o600, Content: b.String()}}
}

func onOff(on bool) string {
	if on {
		return "On"
	}
	return "Off"
}

// PHPFPMOwner returns the sign-in name of the account to which a pool
// or a file of settings belongs.
func PHPFPMOwner(file string) string {
	name := strings.TrimPrefix(path.Base(file), "account-")
	return name[:strings.IndexAny(name, "-.")]
}

// PHPFPMFingerprint returns what the account's pool of a version answers to a ping when it
// has loaded the rendering of m.
func PHPFPMFingerprint(m manifest.Manifest, s Server, version string) string {
	return fingerprint(pool(m, s, version, phpSettings(m, s)))
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
