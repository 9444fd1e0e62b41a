package mailflow

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/big"
	"net"
	"net/netip"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"time"

	"victualler/internal/hosting/networks"
	"victualler/internal/mailflow/definition"
	"victualler/internal/mailflow/submit"
)

// What a site sends is decided by the server with the account's mail. Where that is another one
// than the site's, the message is handed over as it comes, over TLS; each of the two servers shows
// a key that the other was told (definition.SendsBy, table homes), so no certificate is signed by
// anybody or ends. A line says first whose message it is, which is believed of the server with the
// account's home alone.

// linked precedes what a program in a sandbox has said, as JSON on a line of its own.
type linked struct {
	Account int64 `json:"account"`
}

// Bounds of a connection between two servers.
const (
	// shakingHands is how long it may take until each knows the other.
	shakingHands = 5 * time.Second
	// strangers is of how many connections it is not known yet whose they are, at most, and
	// strangersOfOne of how many of one subscriber.
	strangers, strangersOfOne = 512, 32
)

// sendsBy tells where the mail of an account's sites goes through; nil is through this server.
func (f *Flow) sendsBy(number int, account int64) (*definition.SendsBy, error) {
	own, err := user.LookupId(strconv.Itoa(number))
	var unknown user.UnknownUserIdError
	if errors.As(err, &unknown) {
		return nil, nil // closed at this moment
	}
	if err != nil {
		return nil, err
	}
	text, err := os.ReadFile(filepath.Join(f.SitesDir, own.Username+".conf"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var by definition.SendsBy
	if err := json.Unmarshal(text, &by); err != nil {
		return nil, fmt.Errorf("%s: %w", own.Username, err)
	}
	if by.Account != account {
		return nil, fmt.Errorf("the file of %s is another account's", own.Username)
	}
	return &by, nil
}

// sendByOther has the server with an account's mail take a message from a program in a sandbox, and
// returns its answer.
func (f *Flow) sendByOther(by definition.SendsBy, message io.Reader) submit.Answer {
	if !f.sites.enter(by.Account, siteAtOnce, allAtOnce) {
		return tooMany
	}
	defer f.sites.leave(by.Account)
	answer, err := f.askOther(by, message)
	if err != nil {
		f.Log.Error("a message of a site is not handed over", "account", by.Account, "server", by.Address, "error", err)
		return submit.Answer{Exit: submit.NotNow,
			Error: "the server with this account's mail cannot be reached just now; try again later"}
	}
	return answer
}

func (f *Flow) askOther(by definition.SendsBy, message io.Reader) (a submit.Answer, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), sitePatience)
	defer cancel()
	config, err := f.linkConfig(func(key ed25519.PublicKey) error {
		if !bytes.Equal(key, by.Key) {
			return errors.New("it shows another key than the server has")
		}
		return nil
	})
	if err != nil {
		return a, err
	}
	dialing, stop := context.WithTimeout(ctx, shakingHands)
	defer stop()
	opened, err := (&tls.Dialer{Config: config}).DialContext(dialing, "tcp", by.Address)
	if err != nil {
		return a, err
	}
	defer opened.Close()
	conn := opened.(*tls.Conn)
	end, _ := ctx.Deadline()
	if err := conn.SetDeadline(end); err != nil {
		return a, err
	}
	// Whoever refuses reads on without a look; the answer says why.
	writeErr := json.NewEncoder(conn).Encode(linked{by.Account})
	if writeErr == nil {
		_, writeErr = io.Copy(conn, io.LimitReader(message, siteMessage+siteHeader+1))
	}
	if writeErr == nil {
		writeErr = conn.CloseWrite()
	}
	if err := json.NewDecoder(io.LimitReader(conn, 64<<10)).Decode(&a); err != nil {
		return a, errors.Join(writeErr, err)
	}
	return a, nil
}

// ServeLink takes messages of sites from the servers with their homes until the listener is closed.
func (f *Flow) ServeLink(l net.Listener) error {
	var waiting busy[netip.Prefix]
	return serve(l, func(raw net.Conn) error {
		from, err := netip.ParseAddrPort(raw.RemoteAddr().String())
		if err != nil {
			return err
		}
		subscriber := networks.OfSubscriber(from.Addr())
		if !waiting.enter(subscriber, strangersOfOne, strangers) {
			return errors.New("too many strangers")
		}
		home, conn, err := f.greet(raw)
		waiting.leave(subscriber)
		if err != nil {
			return err
		}
		in := bufio.NewReader(io.LimitReader(conn, siteMessage+2*siteHeader))
		answer := f.acceptFromServer(home, in)
		if err := json.NewEncoder(conn).Encode(answer); err != nil {
			return err
		}
		// Closing while the other still writes would lose the answer on its way.
		_, err = io.Copy(io.Discard, in)
		return err
	})
}

// greet makes sure that a server of the installation is at the other end, and returns its key.
func (f *Flow) greet(raw net.Conn) (ed25519.PublicKey, *tls.Conn, error) {
	if err := raw.SetDeadline(time.Now().Add(shakingHands)); err != nil {
		return nil, nil, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), shakingHands)
	defer cancel()
	var home ed25519.PublicKey
	config, err := f.linkConfig(func(key ed25519.PublicKey) error {
		home = key
		known, err := f.Tables.IsHome(ctx, hex.EncodeToString(key))
		if err == nil && !known {
			err = errors.New("no sites are on the server with this key")
		}
		return err
	})
	if err != nil {
		return nil, nil, err
	}
	conn := tls.Server(raw, config)
	if err := conn.HandshakeContext(ctx); err != nil {
		return nil, nil, err
	}
	return home, conn, conn.SetDeadline(time.Now().Add(sitePatience))
}

// acceptFromServer takes a message from another server, if it is of an account with its home there.
func (f *Flow) acceptFromServer(home ed25519.PublicKey, in *bufio.Reader) submit.Answer {
	var of linked
	line, err := in.ReadSlice('\n')
	if err == nil {
		err = json.Unmarshal(line, &of)
	}
	if err != nil {
		return submit.Answer{Exit: submit.BadData, Error: "the request cannot be read"}
	}
	is, err := f.Tables.Home(context.Background(), of.Account)
	if err == nil && is == hex.EncodeToString(home) {
		return f.takeFromSite(of.Account, in)
	}
	if err != nil && !errors.Is(err, ErrNone) {
		f.Log.Error("it is not known where the sites of an account are", "account", of.Account, "error", err)
		return submit.Answer{Exit: submit.NotNow, Error: "the message cannot be sent just now; try again later"}
	}
	// It has moved, or its mail has, at this moment.
	f.Log.Warn("a server hands over what is not of its sites", "account", of.Account)
	return submit.Answer{Exit: submit.NotNow, Error: "this account's sites are on another server; try again later"}
}

// linkConfig is how this server shows its key to others of the installation, and judges theirs.
func (f *Flow) linkConfig(judge func(ed25519.PublicKey) error) (*tls.Config, error) {
	seed := f.config.Load().LinkKey
	if len(seed) != ed25519.SeedSize {
		return nil, errors.New("this server has no key that others know it by")
	}
	key := ed25519.NewKeyFromSeed(seed)
	// TLS carries keys in certificates; what else they say is not looked at.
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return nil, err
	}
	return &tls.Config{MinVersion: tls.VersionTLS13, ClientAuth: tls.RequireAnyClientCert,
		Certificates:       []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}},
		InsecureSkipVerify: true, // keys are known, not names; see VerifyConnection
		// Each connection shows its key.
		SessionTicketsDisabled: true,
		VerifyConnection: func(state tls.ConnectionState) error {
			shown, is := state.PeerCertificates[0].PublicKey.(ed25519.PublicKey)
			if !is {
				return errors.New("it shows a key of another kind")
			}
			return judge(shown)
		}}, nil
}
