package knot

import (
	"bufio"
	"encoding/binary"
	"io"
	"net"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/zones"
	"victualler/internal/manifest"
)

// standIn answers as Knot does, with zones of which it only remembers
// the records, and what it was told.
type standIn struct {
	zones map[string][]found
	// draft is the zone of the transaction under way.
	draft []found
	told  []string
	// refuses is a command that it refuses, with the words for it.
	refuses, says string
}

// talk is one conversation with it.
func (k *standIn) talk(t *testing.T) *control {
	t.Helper()
	ours, theirs := net.Pipe()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		in := bufio.NewReader(theirs)
		var command unit
		for {
			code, err := in.ReadByte()
			switch {
			case err != nil || code == unitEnd:
				theirs.Close()
				return
			case code == unitData:
				command = unit{}
			case code == unitBlock:
				_, err := theirs.Write(append(encode(k.answer(command)), unitBlock))
				if err != nil {
					return
				}
			default:
				var size [2]byte
				_, _ = io.ReadFull(in, size[:])
				text := make([]byte, binary.BigEndian.Uint16(size[:]))
				_, _ = io.ReadFull(in, text)
				command[code-itemOffset] = string(text)
			}
		}
	}()
	c := &control{conn: ours, in: bufio.NewReader(ours), out: bufio.NewWriter(ours)}
	t.Cleanup(func() { c.close(); <-ended })
	return c
}

func encode(units []unit) []byte {
	var out []byte
	for _, u := range units {
		out = append(out, unitData)
		for n, text := range u {
			if text != "" {
				out = binary.BigEndian.AppendUint16(append(out, byte(itemOffset+n)), uint16(len(text)))
				out = append(out, text...)
			}
		}
	}
	return out
}

func (k *standIn) answer(u unit) []unit {
	command, zone := u[itemCommand], u[itemZone]
	k.told = append(k.told, strings.TrimSpace(strings.Join([]string{command, u[itemOwner], u[itemTTL], u[itemType],
		u[itemData]}, " ")))
	have, known := k.zones[zone]
	switch {
	case !known:
		return []unit{{itemError: errNoZone.Error()}}
	case command == k.refuses:
		return []unit{{itemError: k.says}}
	}
	same := func(f found) bool {
		return f.owner == u[itemOwner] && f.kind == u[itemType] && (u[itemData] == "" || f.data == u[itemData])
	}
	switch command {
	case "zone-read":
		if len(have) == 0 {
			return []unit{{itemError: "no such data: empty zone"}}
		}
		var units []unit
		for _, f := range have {
			units = append(units, unit{itemZone: zone, itemOwner: f.owner, itemTTL: "3600", itemType: f.kind,
				itemData: f.data})
			if f.ttl != 3600 {
				units[len(units)-1][itemTTL] = "60"
			}
		}
		return units
	case "zone-begin":
		k.draft = slices.Clone(have)
	case "zone-unset":
		k.draft = slices.DeleteFunc(k.draft, same)
	case "zone-set":
		f, err := foundOf(u[itemOwner], u[itemType], u[itemData], 3600)
		if err != nil {
			return []unit{{itemError: err.Error()}}
		}
		if u[itemTTL] != "3600" {
			f.ttl = 60
		}
		if f.kind == "SOA" {
			k.draft = slices.DeleteFunc(k.draft, func(f found) bool { return f.kind == "SOA" })
		}
		k.draft = append(k.draft, f)
	case "zone-commit":
		k.zones[zone] = k.draft
	case "zone-abort":
		k.draft = nil
	}
	return nil
}

func records(t *testing.T, zone string, list ...zones.Record) manifest.Zone {
	t.Helper()
	return manifest.Zone{Name: zone, NameServers: []string{"ns1.ternisland.example", "ns2.ternisland.example"},
		Records: list}
}

func record(name string, kind zones.Type, ttl int64, data string) zones.Record {
	return zones.Record{Name: name, Type: kind, TTL: ttl, Data: data}
}

// Whatever is in Knot, what is wanted is there afterwards, and nothing
// is told a second time.
func TestEnsureLeadsToWhatIsWanted(t *testing.T) {
	address := netip.MustParseAddr("192.0.2.7").String()
	want := records(t, "ferries.example", record("@", zones.A, 3600, address), record("www", zones.A, 3600, address),
		record("@", zones.TXT, 3600, `"v=spf1 mx -all"`), record("@", zones.MX, 3600, "10 mail.ferries.example."))
	for name, have := range map[string][]found{
		"empty":           {},
		"something else":  parsed(t, "ferries.example. A 192.0.2.9", "quay.ferries.example. A 192.0.2.9"),
		"another address": parsed(t, "ferries.example. A 192.0.2.9", "www.ferries.example. A "+address),
		"one too many":    parsed(t, "ferries.example. A "+address, "ferries.example. A 192.0.2.9"),
		"capitals":        parsed(t, "WWW.Ferries.EXAMPLE. A "+address),
		"signatures":      parsed(t, "ferries.example. DNSKEY 257 3 13 AAAA", "ferries.example. NSEC www A"),
	} {
		knot := &standIn{zones: map[string][]found{"ferries.example": have}}
		n, err := ensure(knot.talk(t), want)
		require.NoError(t, err, name)
		assert.Positive(t, n, name)
		all, err := wantedRecords(want, 1)
		require.NoError(t, err)
		have, err = read(knot.talk(t), "ferries.example")
		require.NoError(t, err)
		unset, set := differences(have, all, false)
		assert.Empty(t, unset, "%s: %v", name, knot.told)
		assert.Empty(t, set, "%s: %v", name, knot.told)
		knot.told = nil
		n, err = ensure(knot.talk(t), want)
		require.NoError(t, err)
		assert.Zero(t, n, name)
		assert.Equal(t, []string{"zone-read"}, knot.told, "%s: nothing is left to do", name)
	}
}

// parsed are records of an hour, each as owner, type and data.
func parsed(t *testing.T, lines ...string) []found {
	t.Helper()
	var list []found
	for _, line := range lines {
		fields := strings.SplitN(line, " ", 3)
		f, err := foundOf(fields[0], fields[1], fields[2], 3600)
		require.NoError(t, err)
		list = append(list, f)
	}
	return list
}

func TestSignaturesStayInSignedZones(t *testing.T) {
	signed := parsed(t, "ferries.example. DNSKEY 257 3 13 AAAA", "ferries.example. RRSIG A 13 2 3600 1 1 1 x. AAAA")
	want := parsed(t, "ferries.example. A 192.0.2.7")
	unset, set := differences(signed, want, true)
	assert.Empty(t, unset)
	assert.Equal(t, want, set)
	unset, _ = differences(signed, want, false)
	assert.Equal(t, signed, unset)
	assert.Empty(t, diff(append(signed, want...), want, true))
	assert.Contains(t, diff(signed, want, false), "-ferries.example. 3600 DNSKEY")
}

// A set whose time to live changes is set anew as a whole.
func TestAnotherTimeToLive(t *testing.T) {
	knot := &standIn{zones: map[string][]found{"ferries.example": nil}}
	first := records(t, "ferries.example", record("@", zones.A, 3600, "192.0.2.7"),
		record("@", zones.A, 3600, "192.0.2.8"))
	_, err := ensure(knot.talk(t), first)
	require.NoError(t, err)
	knot.told = nil
	_, err = ensure(knot.talk(t), records(t, "ferries.example", record("@", zones.A, 60, "192.0.2.7"),
		record("@", zones.A, 60, "192.0.2.8")))
	require.NoError(t, err)
	assert.Equal(t, []string{"zone-read", "zone-begin", "zone-unset ferries.example.  A",
		"zone-set ferries.example. 60 A 192.0.2.7", "zone-set ferries.example. 60 A 192.0.2.8", "zone-commit"},
		knot.told)
}

// What Knot refuses is told in its words, and the transaction is over.
func TestRefusedByKnot(t *testing.T) {
	want := records(t, "ferries.example", record("@", zones.A, 3600, "192.0.2.7"))
	for _, command := range []string{"zone-set", "zone-commit"} {
		knot := &standIn{zones: map[string][]found{"ferries.example": nil}, refuses: command, says: "not enough memory"}
		_, err := ensure(knot.talk(t), want)
		assert.ErrorContains(t, err, "Knot refuses "+command, command)
		assert.ErrorContains(t, err, "not enough memory")
		assert.Equal(t, "zone-abort", knot.told[len(knot.told)-1])
		assert.Empty(t, knot.zones["ferries.example"])
	}
	knot := &standIn{zones: map[string][]found{"ferries.example": nil}, refuses: "zone-begin", says: "busy"}
	_, err := ensure(knot.talk(t), want)
	assert.ErrorContains(t, err, "busy")
	_, err = ensure((&standIn{}).talk(t), want)
	assert.ErrorContains(t, err, "has not been told that it is the primary")
	_, err = foundOf("ferries.example.", "A", "nonsense", 60)
	assert.ErrorContains(t, err, "cannot be read")
}

// An answer that is not one of Knot's ends the conversation with an error.
func TestAnswersThatCannotBeRead(t *testing.T) {
	for _, answer := range []string{"\x09", "\x10\x00\x01x", "\x01\x10\x00\x09x"} {
		ours, theirs := net.Pipe()
		go func() {
			_, _ = io.CopyN(io.Discard, theirs, 1)
			go io.Copy(io.Discard, theirs)
			_, _ = theirs.Write([]byte(answer))
			theirs.Close()
		}()
		c := &control{conn: ours, in: bufio.NewReader(ours), out: bufio.NewWriter(ours)}
		_, err := c.ask(unit{itemCommand: "zone-read", itemZone: "ferries.example"})
		assert.ErrorContains(t, err, "answer of Knot to zone-read", "%q", answer)
		ours.Close()
	}
	_, err := (&control{conn: nopConn{}, out: bufio.NewWriter(io.Discard)}).
		ask(unit{itemData: strings.Repeat("x", 1<<16)})
	assert.ErrorContains(t, err, "65536 octets")
}

type nopConn struct{ net.Conn }

func (nopConn) SetDeadline(time.Time) error { return nil }
