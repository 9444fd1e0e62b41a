package knot

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"time"
)

// socket is where Knot takes commands while it runs.
const socket = "/run/knot/knot.sock"

// Knot's control protocol (libknot/control): a message is units of
// items, each a code, a length of 16 bits and text. A block of units
// ends with a mark, on which the answer comes as a block of its own.
const (
	unitEnd   = 0
	unitData  = 1
	unitExtra = 2
	unitBlock = 3

	itemOffset = 0x10
)

// The items of a unit, by number.
const (
	itemCommand = iota
	itemFlags
	itemError
	itemSection
	itemItem
	itemID
	itemZone
	itemOwner
	itemTTL
	itemType
	itemData
	itemFilters
	items
)

// unit is one unit of a message.
type unit [items]string

// controlTimeout is how long Knot may take for one command; signing a new zone needs keys.
const controlTimeout = 20 * time.Second

// control is one conversation with Knot, which holds one at a time.
type control struct {
	conn net.Conn
	in   *bufio.Reader
	out  *bufio.Writer
}

// dialControl begins a conversation, waiting for a Knot that is being started.
func dialControl(ctx context.Context) (*control, error) {
	for end := time.Now().Add(5 * time.Second); ; {
		conn, err := (&net.Dialer{}).DialContext(ctx, "unix", socket)
		if err == nil {
			return &control{conn: conn, in: bufio.NewReader(conn), out: bufio.NewWriter(conn)}, nil
		}
		if time.Now().After(end) {
			return nil, fmt.Errorf("Knot does not run: %w", err)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// close ends the conversation.
func (c *control) close() {
	c.out.WriteByte(unitEnd)
	c.out.Flush()
	c.conn.Close()
}

// errNoZone is Knot's word for a zone that it does not have.
var errNoZone = errors.New("no such zone found")

// ask sends one command and returns the units of the answer.
func (c *control) ask(command unit) ([]unit, error) {
	if err := c.conn.SetDeadline(time.Now().Add(controlTimeout)); err != nil {
		return nil, err
	}
	c.out.WriteByte(unitData)
	for n, text := range command {
		if text == "" && n != itemCommand {
			continue
		}
		if len(text) > 0xffff {
			return nil, fmt.Errorf("Knot takes no item of %d octets", len(text))
		}
		c.out.WriteByte(byte(itemOffset + n))
		c.out.Write(binary.BigEndian.AppendUint16(nil, uint16(len(text))))
		c.out.WriteString(text)
	}
	c.out.WriteByte(unitBlock)
	if err := c.out.Flush(); err != nil {
		return nil, fmt.Errorf("ask Knot: %w", err)
	}
	units, err := c.answer()
	if err != nil {
		return nil, fmt.Errorf("answer of Knot to %s: %w", command[itemCommand], err)
	}
	for _, u := range units {
		if u[itemError] == errNoZone.Error() {
			return nil, errNoZone
		}
		if u[itemError] != "" {
			return nil, fmt.Errorf("Knot refuses %s %s %s %s %s: %s", command[itemCommand], command[itemZone],
				command[itemOwner], command[itemType], command[itemData], u[itemError])
		}
	}
	return units, nil
}

// answer reads units up to the end of the block. What a unit does not
// say again is as in the unit before, for extra data.
func (c *control) answer() ([]unit, error) {
	var units []unit
	for {
		code, err := c.in.ReadByte()
		if err != nil {
			return nil, err
		}
		switch {
		case code == unitBlock || code == unitEnd:
			return units, nil
		case code == unitData || code == unitExtra:
			units = append(units, unit{})
		case code >= itemOffset && code < itemOffset+items && len(units) > 0:
			var size [2]byte
			if _, err := io.ReadFull(c.in, size[:]); err != nil {
				return nil, err
			}
			text := make([]byte, binary.BigEndian.Uint16(size[:]))
			if _, err := io.ReadFull(c.in, text); err != nil {
				return nil, err
			}
			units[len(units)-1][code-itemOffset] = string(text)
		default:
			return nil, fmt.Errorf("it cannot be read (code %d)", code)
		}
	}
}
