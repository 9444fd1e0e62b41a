package render

import (
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"

	"victualler/internal/hosting/plans"
	"victualler/internal/manifest"
	"victualler/internal/sandbox/definition"
)

// PHPSocket is the path of the socket on which an account's PHP of a version listens; empty is the
// version that follows the newest.
func PHPSocket(m manifest.Manifest, version string) string {
	return definition.SocketPath(m.UID(), version)
}

// phpName names the account's PHP of a version.
func phpName(m manifest.Manifest, version string) string {
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

// phpVersions lists the versions that an account's sites want, of those that the server has: empty
// is the newest, for all sites that name none.
func phpVersions(m manifest.Manifest, s Server) []string {
	var versions []string
	for _, site := range m.PHPSites() {
		version := site.Switches.PHPVersion
		if version != "" && !slices.Contains(s.PHP, version) || slices.Contains(versions, version) {
			continue
		}
		versions = append(versions, version)
	}
	slices.Sort(versions)
	return versions
}

// Sandbox renders the definition of an account's sandbox, and the files of the PHP in it; none
// where the account has no home. Those of PHP are read by the account's own user, and by no other.
func Sandbox(m manifest.Manifest, s Server) []File {
	if !m.HasHome() {
		return nil
	}
	var files []File
	box := definition.Sandbox{Account: m.SignInName, UID: m.UID(), Suspended: m.Suspended, Shell: m.Shell,
		Processes: m.Sandbox.Processes, Memory: m.Sandbox.Memory, CPU: m.Sandbox.CPU}
	for _, version := range phpVersions(m, s) {
		runs := version
		if version == "" {
			runs = s.PHP[0]
		}
		php := definition.PHP{Name: phpName(m, version), Version: runs, Socket: PHPSocket(m, version)}
		pool, settings := phpPool(m, php), phpSettings(m, version)
		php.Digest = fingerprint(pool + settings)
		box.PHP = append(box.PHP, php)
		for name, content := range map[string]string{"pool.conf": pool, "sites.ini": settings} {
			files = append(files, File{Path: php.Dir() + "/" + name, Mode: 0o640, Group: m.SignInName,
				Content: content})
		}
	}
	text, err := json.MarshalIndent(box, "", "  ")
	if err != nil {
		panic(err) // plain data always has a text
	}
	slices.SortFunc(files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	// The definition comes last: it names what must be there.
	return append(files, File{Path: definition.Path(m.SignInName), Mode: 0o600, Content: string(text) + "\n"})
}

// SandboxDigest identifies the definition of an account's sandbox, with all that it names.
func SandboxDigest(m manifest.Manifest, s Server) string {
	files := Sandbox(m, s)
	if len(files) == 0 {
		return ""
	}
	return definition.Digest(files[len(files)-1].Content)
}

// SandboxSockets lists the sockets on which an account's PHP is asked.
func SandboxSockets(m manifest.Manifest, s Server) []string {
	var list []string
	if m.HasHome() && !m.Suspended {
		for _, version := range phpVersions(m, s) {
			list = append(list, PHPSocket(m, version))
		}
	}
	slices.Sort(list)
	return list
}

// phpPool is the configuration of a process manager with one pool. It starts workers only when
// asked, and as the account's user, who cannot be given up any more.
func phpPool(m manifest.Manifest, php definition.PHP) string {
	longest := int64(plans.PHPTimeFloor)
	for _, site := range m.PHPSites() {
		longest = max(longest, site.Switches.PHPTime)
	}
	longest += phpGrace / 2
	home := m.HomePath()
	return heading(";", m) + fmt.Sprintf(`[global]
; What a log would tell, the supervisor of sandboxes measures.
error_log = syslog
; What runs when a configuration changes may finish, beside what has begun since.
process_control_timeout = %ds

[%s]
listen = %s
pm = ondemand
pm.max_children = %d
pm.process_idle_timeout = 10s
pm.max_requests = 500
; Whatever a request waits for, it ends.
request_terminate_timeout = %ds
security.limit_extensions = .php
env[HOME] = %s
env[TMPDIR] = %s/tmp
env[PATH] = /usr/local/bin:/usr/bin:/bin
php_admin_value[open_basedir] = %s/:/tmp/:/var/tmp/
php_admin_value[upload_tmp_dir] = %s/tmp
php_admin_value[sys_temp_dir] = %s/tmp
php_admin_value[session.save_path] = %s/tmp
php_admin_value[expose_php] = 0
php_admin_value[sendmail_path] = %s sendmail -t -i
`, longest, php.Name, php.Socket, m.PHP.Workers, longest, home, home, home, home, home, home, definition.Program)
}

// phpGrace is how many seconds longer than PHP the web server waits, so
// that PHP itself tells what is wrong.
const phpGrace = 20

// phpSettings renders what sites of an account set for PHP, each for its own directory: PHP reads
// such sections when it runs a script below that directory, and no script can change what they set
// (php.ini, “[PATH=…]”). Sites of one version share a process manager.
func phpSettings(m manifest.Manifest, version string) string {
	var b strings.Builder
	b.WriteString(heading(";", m))
	for _, site := range m.PHPSites() {
		set := site.Switches
		if set.PHPVersion != version {
			continue
		}
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
	return b.String()
}

func onOff(on bool) string {
	if on {
		return "On"
	}
	return "Off"
}

// SandboxOwner returns the sign-in name of the account to which a file of a sandbox belongs.
func SandboxOwner(file string) string {
	name := path.Base(file)
	if dir := path.Dir(file); path.Dir(dir) == definition.PHPDir {
		name = path.Base(dir)
	}
	name = strings.TrimPrefix(name, "account-") // as earlier versions named them, in PHP's own directories
	if at := strings.IndexAny(name, "-."); at >= 0 {
		name = name[:at]
	}
	return name
}

// PHPBase renders settings of all PHP that runs for accounts: each account has a cache of compiled
// scripts of its own.
func PHPBase(s Server) []File {
	var files []File
	for _, version := range s.PHP {
		files = append(files, File{Path: "/etc/php/" + version + "/fpm/conf.d/90-victualler.ini", Mode: 0o644,
			Content: `; Written by victualler-agent when it starts.
; Memory of a cache is taken as it fills, and counts in the account's limit.
opcache.memory_consumption = 64
opcache.interned_strings_buffer = 8
opcache.max_accelerated_files = 10000
`})
	}
	return files
}
