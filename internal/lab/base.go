package lab

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// basePackages are what a server of the lab has installed. The base tree is
// named after this list, so changing it builds a new one.
var basePackages = []string{
	"btrfs-progs", "ca-certificates", "cron", "curl",
	"dovecot-imapd", "dovecot-lmtpd", "dovecot-managesieved", "dovecot-pop3d", "dovecot-sieve", "dovecot-sqlite",
	"dovecot-fts-xapian", "iproute2", "iputils-ping", "knot", "knot-dnssecutils", "knot-dnsutils", "mariadb-server",
	"nginx-light", "openssh-server", "postfix", "postfix-sqlite", "postgresql",
	"php-fpm", "php-mysql", "php-pgsql", "procps", "quota", "redis-server", "rspamd", "rsync",
}

// baseRecipe counts changes to what is done with the packages.
const baseRecipe = "3"

// CacheDir is where base trees are kept: outside any checkout, so that a fresh
// clone finds them. VICTUALLER_CACHE overrides it.
func CacheDir() string {
	if dir := os.Getenv("VICTUALLER_CACHE"); dir != "" {
		return dir
	}
	return "/var/cache/victualler"
}

// EnsureBase returns the path of the base tree, building it first where it is
// missing: about two minutes and 500 MB, once per machine. A build that is cut
// off leaves nothing that a later call would take for whole.
func EnsureBase(ctx context.Context, cache string, say func(string)) (string, error) {
	sum := sha256.Sum256([]byte(baseRecipe + strings.Join(basePackages, ",")))
	dir := filepath.Join(cache, "base-"+hex.EncodeToString(sum[:6]))
	if isDir(dir) {
		return dir, nil
	}
	if err := os.MkdirAll(cache, 0o755); err != nil {
		return "", err
	}
	lock, err := lockFile(filepath.Join(cache, "lock"))
	if err != nil {
		return "", err
	}
	defer lock.Close()
	if isDir(dir) {
		return dir, nil
	}
	leftovers, _ := filepath.Glob(filepath.Join(cache, "building-*"))
	for _, old := range leftovers {
		os.RemoveAll(old)
	}
	building := filepath.Join(cache, fmt.Sprintf("building-%d", os.Getpid()))
	say("building the servers' base tree (about two minutes, once per machine)")
	start := time.Now()
	sources, err := debianSources()
	if err != nil {
		return "", err
	}
	args := []string{"--quiet", "--variant=apt", "--include=" + strings.Join(basePackages, ","),
		"--aptopt=Apt::Install-Recommends \"false\"", "bookworm", building}
	cmd := exec.CommandContext(ctx, "mmdebstrap", append(args, sources...)...)
	var stderr bytes.Buffer
	cmd.Stderr = &stderr
	if err := cmd.Run(); err != nil {
		os.RemoveAll(building)
		return "", fmt.Errorf("build base tree: %w\n%s", err, tail(stderr.String(), 3000))
	}
	if err := finishBase(building); err != nil {
		os.RemoveAll(building)
		return "", err
	}
	if err := os.Rename(building, dir); err != nil {
		return "", err
	}
	say(fmt.Sprintf("base tree built in %s", time.Since(start).Round(time.Second)))
	return dir, nil
}

// finishBase takes out what Debian's packages put in for a machine with one
// site, and what belongs to the machine that built the tree.
func finishBase(dir string) error {
	for _, path := range []string{"etc/nginx/sites-enabled/default", "var/cache/apt/archives", "etc/resolv.conf"} {
		if err := os.RemoveAll(filepath.Join(dir, path)); err != nil {
			return err
		}
	}
	return smallEngines(dir)
}

// smallEngines makes what MariaDB and PostgreSQL have on disk anew, small and in UTF-8: each server
// of the lab has a copy of what it writes to, and several of them share one machine.
func smallEngines(dir string) error {
	mariadb := "[mariadbd]\n" + strings.Join([]string{"innodb_log_file_size=8M", "innodb_buffer_pool_size=24M",
		"innodb_data_file_path=ibdata1:4M:autoextend", "key_buffer_size=1M", "aria_pagecache_buffer_size=1M",
		"aria_log_file_size=8M", "performance_schema=OFF"}, "\n") + "\n"
	if err := os.WriteFile(filepath.Join(dir, "etc/mysql/mariadb.conf.d/70-small.cnf"), []byte(mariadb),
		0o644); err != nil {
		return err
	}
	small := "shared_buffers = 16MB\nmax_wal_size = 64MB\nmin_wal_size = 32MB\nmaintenance_work_mem = 16MB\n"
	for _, step := range []string{
		"rm -rf /var/lib/mysql/* && mariadb-install-db --user=mysql --auth-root-authentication-method=socket " +
			"--skip-test-db",
		"if pg_lsclusters -h | grep -q main; then pg_dropcluster 15 main; fi; " +
			"pg_createcluster 15 main --locale C.UTF-8 -e UTF8 -- --wal-segsize=4",
		"printf '" + small + "' > /etc/postgresql/15/main/conf.d/70-small.conf",
	} {
		if out, err := exec.Command("chroot", dir, "sh", "-c", step).CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %w\n%s", step, err, tail(string(out), 2000))
		}
	}
	return nil
}

// debianSources finds the machine's own apt sources for bookworm, leaving out
// those of other vendors, whose packages and keys a base tree does not need.
func debianSources() ([]string, error) {
	candidates, _ := filepath.Glob("/etc/apt/sources.list.d/*.sources")
	lists, _ := filepath.Glob("/etc/apt/sources.list.d/*.list")
	candidates = append(append(candidates, "/etc/apt/sources.list"), lists...)
	var found []string
	for _, path := range candidates {
		text, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		for _, line := range strings.Split(string(text), "\n") {
			fields := strings.Fields(strings.SplitN(line, "#", 2)[0])
			if contains(fields, "bookworm") && (fields[0] == "Suites:" || contains(fields, "main")) {
				found = append(found, path)
				break
			}
		}
	}
	if len(found) == 0 {
		return nil, errors.New("no apt source for Debian 12 (bookworm) found below /etc/apt: the lab's servers are " +
			"built from the machine's own sources")
	}
	return found, nil
}

func contains(list []string, want string) bool {
	for _, s := range list {
		if s == want {
			return true
		}
	}
	return false
}

func isDir(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.IsDir()
}

// lockFile takes an exclusive lock that ends with the process.
func lockFile(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR|syscall.O_CLOEXEC, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}
