package agentlink

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/hmac"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"
)

// Enrolment, over one TLS connection on which neither side trusts a
// certificate yet:
//
//  1. The agent takes only a peer whose certificate chain ends at the key that
//     the join secret pins.
//  2. GET: the agent sends a signing request, and a proof that it knows the secret,
//     bound to this connection: somebody in between would have another connection on each side.
//  3. POST: the service sends the signed certificate and the authority's.
const enrolPath = "/v1/enrol"

const bindingLabel = "EXPORTER-victualler-enrolment"

type enrolRequest struct {
	SigningRequest []byte `json:"signing_request"`
	Proof          []byte `json:"proof"`
}

type enrolAnswer struct {
	Certificate []byte `json:"certificate"`
	Authority   []byte `json:"authority"`
}

// Enrollee is the agent's side of an enrolment.
type Enrollee struct {
	secret  JoinSecret
	key     *ecdsa.PrivateKey
	request []byte

	joined chan Identity
}

// NewEnrollee prepares an enrolment with a new key. The identity comes through
// [Enrollee.Joined], once.
func NewEnrollee(secret JoinSecret) (*Enrollee, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	request, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{}, key)
	return &Enrollee{secret: secret, key: key, request: request, joined: make(chan Identity, 1)}, err
}

// Joined delivers the identity.
func (e *Enrollee) Joined() <-chan Identity { return e.joined }

// ServerTLS is the configuration to listen with until joined.
func (e *Enrollee) ServerTLS() (*tls.Config, error) {
	now := time.Now()
	template := &x509.Certificate{SerialNumber: serial(), NotBefore: now.Add(-clockSlack), NotAfter: now.Add(agentLife)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, e.key.Public(), e.key)
	if err != nil {
		return nil, err
	}
	return &tls.Config{
		MinVersion: tls.VersionTLS13, Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: e.key}},
		ClientAuth: tls.RequireAnyClientCert, VerifyConnection: e.checkService,
	}, nil
}

// checkService lets in only the service that the secret pins.
func (e *Enrollee) checkService(c tls.ConnectionState) error {
	chain := c.PeerCertificates
	if len(chain) != 2 || pinOf(chain[1]) != e.secret.Pin {
		return errors.New("not the service that the join secret names")
	}
	roots := x509.NewCertPool()
	roots.AddCert(chain[1])
	_, err := chain[0].Verify(x509.VerifyOptions{Roots: roots, DNSName: serviceName,
		KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}})
	return err
}

// ServeHTTP implements the two calls.
func (e *Enrollee) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path != enrolPath {
		http.Error(w, "this agent has not joined yet", http.StatusServiceUnavailable)
		return
	}
	switch r.Method {
	case http.MethodGet:
		binding, err := r.TLS.ExportKeyingMaterial(bindingLabel, nil, 32)
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		json.NewEncoder(w).Encode(enrolRequest{e.request, e.secret.proof(binding, e.request)})
	case http.MethodPost:
		var answer enrolAnswer
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10)).Decode(&answer); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		identity, err := e.identity(answer)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		select {
		case e.joined <- identity:
			w.WriteHeader(http.StatusNoContent)
		default:
			http.Error(w, "this agent has joined already", http.StatusConflict)
		}
	}
}

func (e *Enrollee) identity(answer enrolAnswer) (Identity, error) {
	authority, err := x509.ParseCertificate(answer.Authority)
	if err != nil {
		return Identity{}, err
	}
	if pinOf(authority) != e.secret.Pin {
		return Identity{}, errors.New("the authority is not the one that the join secret names")
	}
	leaf, err := x509.ParseCertificate(answer.Certificate)
	if err != nil {
		return Identity{}, err
	}
	if err := leaf.CheckSignatureFrom(authority); err != nil {
		return Identity{}, err
	}
	if !e.key.PublicKey.Equal(leaf.PublicKey) {
		return Identity{}, errors.New("the certificate is for another key")
	}
	return Identity{tls.Certificate{Certificate: [][]byte{answer.Certificate}, PrivateKey: e.key, Leaf: leaf},
		authority}, nil
}

// ErrWrongSecret says that what listens at a server's address does not know
// the join secret.
var ErrWrongSecret = errors.New("the agent there does not know the join secret; run “victualler-agent join” on the " +
	"server with the secret that was shown")

// Enrol is the service's side: it signs the certificate of the agent at address
// as that of the server with that number.
func (a *Authority) Enrol(ctx context.Context, address string, secret JoinSecret, serverID int64, now time.Time) error {
	certificate, err := a.serviceCertificate(now)
	if err != nil {
		return err
	}
	transport := &http.Transport{MaxConnsPerHost: 1, TLSClientConfig: &tls.Config{
		MinVersion: tls.VersionTLS13, Certificates: []tls.Certificate{*certificate},
		InsecureSkipVerify: true, // the proof, bound to this connection, takes the place of a trusted certificate
	}}
	defer transport.CloseIdleConnections()
	client := http.Client{Transport: transport, Timeout: 10 * time.Second}
	var request enrolRequest
	connection, err := exchange(ctx, &client, http.MethodGet, address, nil, &request)
	if err != nil {
		return err
	}
	binding, err := connection.ExportKeyingMaterial(bindingLabel, nil, 32)
	if err != nil {
		return err
	}
	if !hmac.Equal(request.Proof, secret.proof(binding, request.SigningRequest)) {
		return ErrWrongSecret
	}
	signed, err := a.SignAgent(request.SigningRequest, serverID, now)
	if err != nil {
		return err
	}
	// Should this go over a new connection, to somebody else even: the key that
	// was proved is in the certificate, so nobody else can use it.
	_, err = exchange(ctx, &client, http.MethodPost, address, enrolAnswer{signed, a.Certificate.Raw}, nil)
	return err
}

// exchange makes one call and returns the connection over which it went.
func exchange(ctx context.Context, client *http.Client, method, address string, body, answer any) (*tls.ConnectionState,
	error) {
	text, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	request, err := http.NewRequestWithContext(ctx, method, "https://"+address+enrolPath, bytes.NewReader(text))
	if err != nil {
		return nil, err
	}
	response, err := client.Do(request)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	if response.StatusCode >= 300 {
		message, _ := io.ReadAll(io.LimitReader(response.Body, 1<<10))
		return nil, fmt.Errorf("the agent answers %d: %s", response.StatusCode, bytes.TrimSpace(message))
	}
	if answer != nil {
		err = json.NewDecoder(io.LimitReader(response.Body, 64<<10)).Decode(answer)
	}
	return response.TLS, err
}
