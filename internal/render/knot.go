package render

import (
	"fmt"
	"net/netip"
	"path"
	"strings"

	"victualler/internal/manifest"
)

// knotDir holds what Knot reads. All of it is in one directory, so that it can be staged together.
const knotDir = "/etc/knot"

// KnotAccountFiles is the pattern of accounts' files.
const KnotAccountFiles = knotDir + "/account-*.conf"

// CatalogZone is the zone by which secondaries learn what zones there
// are (RFC 9432). Nobody else can ask for it.
const CatalogZone = "catalog.victualler.invalid"

// member is what all zones have in common: no files, everything in the
// journal, so that the primary's records are set while it runs and a
// secondary answers after a restart without the primary.
const member = `    storage: "/var/lib/knot"
    zonefile-sync: -1
    zonefile-load: none
    journal-content: all
`

// KnotBase renders what all zones share: the server's place among the
// name servers. Without one, Knot is left alone.
func KnotBase(s manifest.Server, own Server) []File {
	ns := s.DNS
	if ns == nil {
		return nil
	}
	var b strings.Builder
	b.WriteString("# Written by victualler-agent from what the service says about this server.\n")
	fmt.Fprintf(&b, `server:
    rundir: "/run/knot"
    user: knot:knot
    listen: [ %s ]
    identity: ""
    version: ""
    automatic-acl: on

log:
  - target: syslog
    any: info

database:
    storage: "/var/lib/knot"

key:
  - id: victualler
    algorithm: hmac-sha256
    secret: %s
`, sockets(own.Addresses), ns.Key)
	var peers []string
	if len(ns.Peers) > 0 {
		b.WriteString("\nremote:\n")
	}
	for _, p := range ns.Peers {
		peers = append(peers, p.Label)
		fmt.Fprintf(&b, "  - id: %s\n    address: [ %s ]\n    key: victualler\n", p.Label, sockets(p.Addresses))
	}
	if !ns.Primary {
		fmt.Fprintf(&b, `
template:
  - id: default
%[1]s    master: %[2]s

zone:
  - domain: %[3]s.
    catalog-role: interpret
    catalog-template: default
`, member, ns.Peers[0].Label, CatalogZone)
		return []File{knotConf(b.String())}
	}
	notify := ""
	if len(peers) > 0 {
		notify = "    notify: [ " + strings.Join(peers, ", ") + " ]\n"
	}
	// Keys that sign the zone change by themselves; the one that the parent knows by its DS record
	// does not, as somebody has to tell the parent.
	fmt.Fprintf(&b, `
policy:
  - id: victualler
    algorithm: ecdsap256sha256
    nsec3: on
    nsec3-iterations: 0
    nsec3-salt-length: 0
    zsk-lifetime: 60d
    ksk-lifetime: 0
    cds-cdnskey-publish: always

template:
  - id: default
%[1]s%[2]s  - id: plain
%[1]s%[2]s    serial-policy: unixtime
    catalog-role: member
    catalog-zone: %[3]s.
  - id: signed
%[1]s%[2]s    serial-policy: unixtime
    catalog-role: member
    catalog-zone: %[3]s.
    dnssec-signing: on
    dnssec-policy: victualler

zone:
  - domain: %[3]s.
    catalog-role: generate

include: "%[4]s"
`, member, notify, CatalogZone, KnotAccountFiles)
	return []File{knotConf(b.String())}
}

// knotConf holds a secret: only root and Knot may read it.
func knotConf(content string) File {
	return File{Path: knotDir + "/knot.conf", Mode: 0o640, Group: "knot", Content: content}
}

func sockets(addresses []netip.Addr) string {
	var list []string
	for _, a := range addresses {
		list = append(list, a.String()+"@53")
	}
	return strings.Join(list, ", ")
}

// Knot renders an account's zones: that they are there and whether they are signed. Their records
// are no files; the agent sets them while Knot runs.
func Knot(m manifest.Manifest) []File {
	if len(m.Zones) == 0 {
		return nil
	}
	var b strings.Builder
	b.WriteString(heading("#", m))
	b.WriteString("zone:\n")
	for _, z := range m.Zones {
		template := "plain"
		if z.Signed {
			template = "signed"
		}
		fmt.Fprintf(&b, "  - domain: %s.\n    template: %s\n", z.Name, template)
	}
	return []File{{Path: knotDir + "/account-" + m.SignInName + ".conf", Mode: 0o640, Group: "knot",
		Content: b.String()}}
}

// KnotOwner returns the sign-in name of the account to which a file of zones belongs.
func KnotOwner(file string) string {
	return strings.TrimSuffix(strings.TrimPrefix(path.Base(file), "account-"), ".conf")
}
