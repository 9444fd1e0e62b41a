// Package lab runs several real servers on one machine, for the demo, the
// tests and the benchmarks.
//
// A [Lab] owns one network bridge. Each [Server] in it is a Debian system of
// its own: mount, process, host name, IPC and network namespaces; an overlay of
// the shared base tree ([Base]); a btrfs file system with quota on /home; and a
// first process that starts nginx, PHP-FPM, sshd and the agent on their
// standard ports.
//
//	base, _ := lab.EnsureBase(ctx, lab.CacheDir(), progress)
//	l, _ := lab.New(lab.Options{Name: "try", Dir: dir, Base: base, Subnet: netip.MustParsePrefix("10.79.0.0/24")})
//	defer l.Stop()
//	skua, _ := l.StartServer(ctx, lab.ServerOptions{Name: "skua", Host: 21})
//	out, _ := skua.Exec(ctx, "nginx", "-t")
//
// The namespaces belong to processes only: nothing is named in the machine's
// own tables except the bridge, so a server whose first process is gone has
// taken its mounts, loop device, veth pair and everything it ran with it. The
// state file names the bridge and the first processes, and [New] removes what a
// killed run left behind: that, and only that.
//
// Programs that use this package must call [Hook] first thing in main (or
// TestMain): the package starts its own executable again as a server's first
// process.
package lab
