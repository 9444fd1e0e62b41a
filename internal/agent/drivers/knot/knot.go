// Package knot drives the name server: which zones there are, by its configuration, and their
// records, by its control socket.
package knot

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/miekg/dns"

	"victualler/internal/agent/daemon"
	"victualler/internal/agent/staging"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/manifest"
	"victualler/internal/render"
)

const pidFile = "/run/knot/knot.pid"

// Driver drives Debian's Knot.
type Driver struct {
	// Server is the server that is rendered for.
	Server render.Server
	// Scratch is a directory for staged files.
	Scratch string

	peers   atomic.Pointer[[]manifest.Peer]
	reloads atomic.Int64
	version string
}

// Installed reports whether there is a Knot on this server.
func Installed() bool {
	_, err := exec.LookPath("knotd")
	return err == nil
}

// New returns the driver.
func New(server render.Server, scratch string) *Driver {
	d := &Driver{Server: server, Scratch: scratch}
	if out, err := exec.Command("knotd", "-V").Output(); err == nil {
		fields := strings.Fields(string(out))
		d.version = fields[len(fields)-1]
	}
	return d
}

// Name implements agent.Program.
func (*Driver) Name() string { return "knot" }

// Base implements agent.Program.
func (d *Driver) Base(s manifest.Server) []render.File {
	d.peers.Store(nil)
	if s.DNS != nil {
		d.peers.Store(&s.DNS.Peers) // who is asked when the zones of an account are verified
	}
	return render.KnotBase(s, d.Server)
}

// Files implements agent.Program.
func (*Driver) Files(m manifest.Manifest) []render.File { return render.Knot(m) }

// AccountFiles implements agent.Program.
func (*Driver) AccountFiles() ([]string, error) { return daemon.FilesLike(render.KnotAccountFiles) }

// Owner implements agent.Program.
func (*Driver) Owner(path string) string { return render.KnotOwner(path) }

// Test implements agent.Program.
func (d *Driver) Test(ctx context.Context, staged []staging.Change) error {
	if !d.serves() {
		return nil
	}
	out, err := staging.Run(ctx, d.Scratch, staged, "knotc", "-c", "/etc/knot/knot.conf", "conf-check")
	if err != nil {
		return fmt.Errorf("Knot refuses its configuration: %s", strings.TrimSpace(out))
	}
	return nil
}

// Reload implements agent.Program. Knot answers from the zones it has while it reads its
// configuration. Other addresses to listen on it takes only when it starts, which happens once,
// when a server becomes a name server: then it is ended and its supervisor starts it again.
func (d *Driver) Reload(ctx context.Context) error {
	if !d.serves() {
		return nil
	}
	c, err := dialControl(ctx)
	if err != nil {
		return err
	}
	_, err = c.ask(unit{itemCommand: "reload"})
	c.close()
	if err != nil {
		return err
	}
	d.reloads.Add(1)
	if d.listens() {
		return nil
	}
	if _, err := os.Stat("/run/systemd/system"); err == nil {
		if out, err := exec.CommandContext(ctx, "systemctl", "restart", "knot").CombinedOutput(); err != nil {
			return fmt.Errorf("restart Knot: %w: %s", err, out)
		}
	} else if _, err := daemon.Signal(ctx, pidFile, syscall.SIGTERM); err != nil {
		return fmt.Errorf("Knot %w", err)
	}
	for end := time.Now().Add(10 * time.Second); !d.listens(); {
		if time.Now().After(end) {
			return fmt.Errorf("Knot does not listen on %s since it was started anew", d.Server.Addresses[0])
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
	return nil
}

// serves reports whether this server is a name server; on others, Knot is none of our business.
func (d *Driver) serves() bool { return d.peers.Load() != nil }

// listens reports whether somebody takes questions on the server's address.
func (d *Driver) listens() bool {
	conn, err := net.DialTimeout("tcp", netip.AddrPortFrom(d.Server.Addresses[0], 53).String(), time.Second)
	if err == nil {
		conn.Close()
	}
	return err == nil
}

// followTime is how long a look from outside waits for secondaries. One
// that takes longer is told, and no failure.
const followTime = 2 * time.Second

// Verify implements agent.Program: it asks the server's own address for
// every zone, and then the secondaries.
func (d *Driver) Verify(ctx context.Context, m manifest.Manifest) (language.Text, error) {
	if len(m.Zones) == 0 {
		return language.Text{}, nil
	}
	own := d.Server.Addresses[0]
	serials := map[string]uint32{}
	for _, z := range m.Zones {
		err := daemon.WaitFor(ctx, func(ctx context.Context) error {
			var err error
			serials[z.Name], err = serial(ctx, own, z.Name)
			return err
		})
		if err != nil {
			return language.Text{}, err
		}
	}
	seen := []language.Text{language.New("knot on %s answers for %s", own.String(), zonesOf(m))}
	if peers := d.peers.Load(); peers != nil {
		for _, p := range *peers {
			if follows(ctx, p, serials) {
				seen = append(seen, language.New("%s too", p.Label))
			} else {
				seen = append(seen, language.New("%s has not followed yet", p.Label))
			}
		}
	}
	return language.New("%s", seen), nil
}

// zonesOf names the first of an account's zones, of which there is one at least, and how many more
// there are.
func zonesOf(m manifest.Manifest) language.Text {
	if n := len(m.Zones) - 1; n > 0 {
		return language.New("%s and %d more", m.Zones[0].Name, n)
	}
	return language.New("%s", m.Zones[0].Name)
}

// follows reports whether a secondary has all zones with these serials,
// or later ones, within [followTime].
func follows(ctx context.Context, p manifest.Peer, serials map[string]uint32) bool {
	ctx, cancel := context.WithTimeout(ctx, followTime)
	defer cancel()
	for zone, wanted := range serials {
		for {
			found, err := serial(ctx, p.Addresses[0], zone)
			if err == nil && int32(found-wanted) >= 0 { // RFC 1982
				break
			}
			select {
			case <-ctx.Done():
				return false
			case <-time.After(20 * time.Millisecond):
			}
		}
	}
	return true
}

// serial asks a name server for the serial number of a zone that it answers for.
func serial(ctx context.Context, server netip.Addr, zone string) (uint32, error) {
	question := new(dns.Msg).SetQuestion(dns.Fqdn(zone), dns.TypeSOA)
	question.RecursionDesired = false
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	answer, err := dns.ExchangeContext(ctx, question, netip.AddrPortFrom(server, 53).String())
	if err != nil {
		return 0, fmt.Errorf("name server on %s: %w", server, err)
	}
	for _, rr := range answer.Answer {
		if soa, is := rr.(*dns.SOA); is && answer.Authoritative {
			return soa.Serial, nil
		}
	}
	return 0, fmt.Errorf("the name server on %s does not answer for %s (%s)", server, zone,
		dns.RcodeToString[answer.Rcode])
}

// VerifyGone implements agent.Program.
func (d *Driver) VerifyGone(ctx context.Context, last manifest.Manifest) (language.Text, error) {
	if len(last.Zones) == 0 {
		return language.Text{}, nil
	}
	own := d.Server.Addresses[0]
	for _, z := range last.Zones {
		err := daemon.WaitFor(ctx, func(ctx context.Context) error {
			if _, err := serial(ctx, own, z.Name); err == nil {
				return fmt.Errorf("knot on %s still answers for %s", own, z.Name)
			}
			return nil
		})
		if err != nil {
			return language.Text{}, err
		}
	}
	return language.New("knot on %s no longer answers for %s", own.String(), last.Zones[0].Name), nil
}

// Status implements agent.Program.
func (d *Driver) Status(context.Context) agentlink.ProgramStatus {
	return agentlink.ProgramStatus{Name: d.Name(), Version: d.version, Running: daemon.Running(pidFile),
		Reloads: d.reloads.Load()}
}

// without returns the names of the zones in one list that are not in another.
func without(list, others []manifest.Zone) []string {
	var names []string
	for _, z := range list {
		if !slices.ContainsFunc(others, func(o manifest.Zone) bool { return o.Name == z.Name }) {
			names = append(names, z.Name)
		}
	}
	return names
}
