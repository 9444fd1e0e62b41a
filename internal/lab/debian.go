package lab

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"strings"
)

// MachinePackages are the Debian packages the demo and the tests need on the
// machine itself. Everything else lives in the base tree.
var MachinePackages = []string{"mmdebstrap", "btrfs-progs", "iproute2", "util-linux", "postgresql-15",
	"python3-dkim", "python3-authheaders"}

// ErrNoNamespaces says that this process may not make namespaces and mounts.
var ErrNoNamespaces = errors.New("the lab needs root and the right to make namespaces and mounts: run it as root on " +
	"a Debian 12 machine or virtual machine (not in an unprivileged container)")

// CheckRights returns [ErrNoNamespaces] where servers cannot be run.
func CheckRights() error {
	if os.Geteuid() != 0 {
		return ErrNoNamespaces
	}
	if err := exec.Command("unshare", "--mount", "--pid", "--net", "--uts", "--ipc", "--fork",
		"true").Run(); err != nil {
		return ErrNoNamespaces
	}
	return nil
}

// InstallPackages installs the Debian packages of names that are missing. No
// service is started by it and no PostgreSQL cluster is made.
func InstallPackages(ctx context.Context, say func(string), names ...string) error {
	missing := missingPackages(ctx, names)
	if len(missing) == 0 {
		return nil
	}
	say("installing Debian packages: " + strings.Join(missing, " "))
	restore, err := forbidServices()
	if err != nil {
		return err
	}
	defer restore()
	apt := func(args ...string) error {
		cmd := exec.CommandContext(ctx, "apt-get", args...)
		cmd.Env = append(os.Environ(), "DEBIAN_FRONTEND=noninteractive")
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("apt-get %s: %w\n%s", strings.Join(args, " "), err, tail(string(out), 2000))
		}
		return nil
	}
	if err := apt("-qq", "update"); err != nil {
		return err
	}
	install := []string{"install", "-y", "-qq", "--no-install-recommends", "-o", "Dpkg::Options::=--force-confold"}
	for _, name := range missing {
		// A PostgreSQL server package makes a cluster "main" when it is
		// installed, unless its common part, installed before, forbids it.
		if strings.HasPrefix(name, "postgresql-") {
			if err := apt(append(install, "postgresql-common")...); err != nil {
				return err
			}
			undo, err := forbidCluster()
			if err != nil {
				return err
			}
			defer undo()
		}
	}
	return apt(append(install, missing...)...)
}

func missingPackages(ctx context.Context, names []string) []string {
	var missing []string
	for _, name := range names {
		out, err := exec.CommandContext(ctx, "dpkg-query", "-W", "-f", "${db:Status-Status}", "--", name).Output()
		if err != nil || string(out) != "installed" {
			missing = append(missing, name)
		}
	}
	return missing
}

// forbidServices makes package scripts start nothing, by Debian's own means
// (invoke-rc.d asks policy-rc.d). A policy that is already there stays.
func forbidServices() (restore func(), err error) {
	const policy = "/usr/sbin/policy-rc.d"
	f, err := os.OpenFile(policy, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o755)
	if errors.Is(err, fs.ErrExist) {
		return func() {}, nil
	}
	if err != nil {
		return nil, fmt.Errorf("forbid services to start: %w", err)
	}
	defer f.Close()
	if _, err := f.WriteString("#!/bin/sh\nexit 101\n"); err != nil {
		return nil, err
	}
	return func() { os.Remove(policy) }, nil
}

func forbidCluster() (restore func(), err error) {
	const conf = "/etc/postgresql-common/createcluster.conf"
	old, err := os.ReadFile(conf)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if err := os.WriteFile(conf, append(old, "\ncreate_main_cluster = false\n"...), 0o644); err != nil {
		return nil, fmt.Errorf("forbid PostgreSQL's main cluster: %w", err)
	}
	return func() { os.WriteFile(conf, old, 0o644) }, nil
}

func tail(s string, n int) string {
	if len(s) > n {
		return "…" + s[len(s)-n:]
	}
	return s
}
