package agent

import (
	"crypto/tls"
	"net"
	"slices"
	"sync"
)

// Bounds of connections that have not shown yet that they are the service's: each costs a goroutine
// and a handshake. Whoever is one too many from an address is sent away; where there are too many
// of all together, the one that has waited longest is: the service needs some milliseconds.
const (
	mostStrangers        = 256
	mostStrangersFromOne = 32
)

// door is a listener that keeps the service from being crowded out.
type door struct {
	net.Listener

	mu        sync.Mutex
	strangers []*caller // in the order in which they came
}

// caller is a connection; a stranger until its handshake has shown that it is the service's.
type caller struct {
	net.Conn
	door *door
	host string
}

// Accept implements net.Listener.
func (d *door) Accept() (net.Conn, error) {
	for {
		conn, err := d.Listener.Accept()
		if err != nil {
			return nil, err
		}
		host, _, _ := net.SplitHostPort(conn.RemoteAddr().String())
		c := &caller{Conn: conn, door: d, host: host}
		if d.enter(c) {
			return c, nil
		}
		conn.Close()
	}
}

// enter takes a stranger in, if there is room for one.
func (d *door) enter(c *caller) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	fromOne := 0
	for _, other := range d.strangers {
		if other.host == c.host {
			fromOne++
		}
	}
	if fromOne >= mostStrangersFromOne {
		return false
	}
	if len(d.strangers) >= mostStrangers {
		d.strangers[0].Conn.Close() // its server notices, and closes the caller
		d.strangers = d.strangers[1:]
	}
	d.strangers = append(d.strangers, c)
	return true
}

// known takes a caller from the strangers: it is the service, or it has gone.
func (d *door) known(c *caller) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if at := slices.Index(d.strangers, c); at >= 0 {
		d.strangers = slices.Delete(d.strangers, at, at+1)
	}
}

// Close implements net.Conn.
func (c *caller) Close() error {
	c.door.known(c)
	return c.Conn.Close()
}

// tls returns a configuration by which callers are known once config has let them in.
func (d *door) tls(config *tls.Config) *tls.Config {
	return &tls.Config{MinVersion: config.MinVersion, GetConfigForClient: func(hello *tls.ClientHelloInfo) (*tls.Config,
		error) {
		c, is := hello.Conn.(*caller)
		if !is {
			return config, nil
		}
		own := config.Clone()
		own.NextProtos = []string{"h2", "http/1.1"} // net/http sets them in the outer one alone
		own.VerifyConnection = func(s tls.ConnectionState) error {
			if err := config.VerifyConnection(s); err != nil {
				return err
			}
			d.known(c)
			return nil
		}
		return own, nil
	}}
}
