package service

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"victualler/internal/acme"
	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/certificates"
	"victualler/internal/hosting/refusal"
	"victualler/internal/resolve"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// The states of orders.
const (
	orderNew        = "new"        // the authority has not taken it yet
	orderProving    = "proving"    // the names are being proved
	orderFinalizing = "finalizing" // the authority issues
	orderInstalling = "installing" // the certificate is on its way to its server
	orderDone       = "done"
	orderFailed     = "failed"
)

const sealedCertificateKey = "key of a certificate"

// ordersAtOnce is how many sites that are due are begun with in one round, and ordersBegun how many of them at the same time.
const (
	ordersAtOnce = 200
	ordersBegun  = 20
)

// OrderCertificates begins the orders that are due.
func (s *Service) OrderCertificates(ctx context.Context) error {
	if err := s.resumeOrders(ctx); err != nil {
		return err
	}
	now := s.now()
	due, err := s.store.CertificatesDue(ctx, db.CertificatesDueParams{Now: &now, Most: ordersAtOnce})
	if err != nil {
		return err
	}
	atOnce(ordersBegun, due, func(row db.CertificatesDueRow) {
		if _, err := s.beginOrder(ctx, machine(), row.DomainID, false); err != nil && ctx.Err() == nil {
			s.log.Warn("order not begun", "domain", row.Name, "reason", err)
		}
	})
	return nil
}

// resumeOrders takes up orders whose process was killed.
func (s *Service) resumeOrders(ctx context.Context) error {
	cut, err := s.store.OrdersCut(ctx, stalledAfter.Seconds())
	if err != nil || len(cut) == 0 {
		return err
	}
	return s.store.InTx(ctx, func(tx store.Tx) error {
		for _, order := range cut {
			if err := s.queue.Order(ctx, tx, order); err != nil {
				return err
			}
		}
		return nil
	})
}

// later is when a site is looked at again of which nothing can be ordered now.
const later = time.Hour

// beginOrder rehearses the names of a site and orders a certificate for those that would pass; nothing where that is not due. Asked for by somebody, it is always due.
func (s *Service) beginOrder(ctx context.Context, a Actor, domainID int64, asked bool) (operation int64, err error) {
	site, err := s.loadSiteCertificate(ctx, s.store.Queries, domainID)
	if err != nil {
		return 0, err
	}
	wait := func(until time.Time) (int64, error) {
		return 0, s.store.TryCertificateAt(ctx, db.TryCertificateAtParams{DomainID: domainID, NextAt: &until})
	}
	now := s.now()
	if reason := site.cannotOrder(); reason != nil {
		if asked {
			return 0, reason
		}
		return wait(now.Add(later))
	}
	if limited := site.authority.LimitedUntil; limited != nil && limited.After(now) {
		if asked {
			return 0, refusal.New(refusal.WrongState, "%s has been asked too often and takes the next order at %s", site.authority.Name, limited.UTC().Format("2006-01-02 15:04 UTC"))
		}
		return wait(*limited)
	}
	if !asked && !site.due(now) {
		return wait(site.nextLook(now))
	}
	verdicts, err := s.rehearse(ctx, site.standing, site.names(), site.authority)
	if err != nil {
		return 0, err
	}
	var pass []string
	var out []api.LeftOut
	for _, name := range site.names() {
		if v := verdicts[name]; v.Result == certificates.Fail {
			out = append(out, api.LeftOut{Name: name, Code: v.Code, Reason: v.Says, Do: v.Do})
		} else {
			pass = append(pass, name)
		}
	}
	if len(pass) == 0 {
		first := out[0]
		if asked {
			return 0, refusal.New(refusal.WrongState, "no name would pass: %s. What to do: %s", first.Reason, first.Do)
		}
		return 0, s.siteFailed(ctx, s.store.Queries, site, first.Code, first.Reason, 0)
	}
	if !asked && site.inUse != nil && !site.renewal(now) && !gains(site.inUse.Names, pass) {
		return wait(site.nextLook(now)) // it was looked at because a name is missing, and that would still fail
	}
	key, err := certificates.KeyType(site.wish.KeyType).New()
	if err != nil {
		return 0, err
	}
	secret, err := s.sealCertificateKey(key)
	if err != nil {
		return 0, err
	}
	text, err := json.Marshal(append([]api.LeftOut{}, out...))
	if err != nil {
		return 0, err
	}
	return change(ctx, s, a, func(tx store.Tx) (int64, error) {
		if _, err := tx.LockSiteCertificate(ctx, domainID); err != nil {
			return 0, err
		}
		if under, err := tx.OrderUnderWay(ctx, domainID); err == nil {
			return under.OperationID, nil // another process was quicker
		} else if !store.None(err) {
			return 0, err
		}
		a.say("order a certificate for %s", strings.Join(pass, ", "))
		account := site.standing.account
		operation, err := addOperation(ctx, tx, a, db.AddOperationParams{Kind: "certificate.order", Subject: unicode(site.domain.Name), AccountID: &account.ID, ServerID: &account.ServerID})
		if err != nil {
			return 0, err
		}
		order, err := tx.AddOrder(ctx, db.AddOrderParams{DomainID: domainID, AuthorityID: site.authority.ID, OperationID: operation, Names: pass, LeftOut: text, KeyType: site.wish.KeyType, Key: secret})
		if err != nil {
			return 0, err
		}
		if err := record(ctx, tx, a, "certificate.order", aboutAccount(account), nil, map[string]any{"domain": site.domain.Name, "names": pass, "authority": site.authority.Name}); err != nil {
			return 0, err
		}
		return operation, s.queue.Order(ctx, tx, order.ID)
	})
}

// gains reports whether some names would be had that are not.
func gains(had, names []string) bool {
	return slices.ContainsFunc(names, func(n string) bool { return !slices.Contains(had, n) })
}

func (s *Service) sealCertificateKey(key crypto.Signer) ([]byte, error) {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return s.key.Seal(sealedCertificateKey, der), nil
}

func (s *Service) certificateKey(sealed []byte) (crypto.Signer, error) {
	der, err := s.key.Open(sealedCertificateKey, sealed)
	if err != nil {
		return nil, err
	}
	return certificates.ParseKey(der)
}

// siteFailed notes that a certificate could not be had, and when the next try is. Told is how long the authority wants to be left alone.
func (s *Service) siteFailed(ctx context.Context, q *db.Queries, site siteCertificate, code, reason string, told time.Duration) error {
	var left time.Duration
	if site.inUse != nil {
		left = site.inUse.NotAfter.Sub(s.now())
	}
	next := s.now().Add(certificates.RetryAfter(int(site.wish.Failures)+1, left, told, site.domain.Name))
	return q.CertificateFailed(ctx, db.CertificateFailedParams{DomainID: site.domain.ID, Code: code, Problem: reason, NextAt: &next})
}

// orderFailure is why an order has come to nothing.
type orderFailure struct {
	code, reason string
	wait         time.Duration
}

func (f *orderFailure) Error() string { return f.reason }

// errLater says that an order goes on in a while.
var errLater = errors.New("later")

// Order brings an order as far as it goes now. With again, it goes on after that time. An error means that it should be tried again.
func (s *Service) Order(ctx context.Context, id int64) (again time.Duration, err error) {
	order, err := s.store.OrderByID(ctx, id)
	if err != nil {
		if store.None(err) { // it went with its domain
			return 0, nil
		}
		return 0, err
	}
	if order.State == orderDone || order.State == orderFailed {
		return 0, nil
	}
	site, err := s.loadSiteCertificate(ctx, s.store.Queries, order.DomainID)
	if err != nil {
		return 0, err
	}
	authority, err := s.store.AuthorityByID(ctx, order.AuthorityID)
	if err != nil {
		return 0, err
	}
	client, err := s.authorityAt(authority)
	if err != nil {
		return 0, err
	}
	defer client.Close()
	w := &orderWork{service: s, client: client, site: site, authority: authority, order: order, progress: s.progress(order.OperationID)}
	defer w.progress.close()
	err = w.run(ctx)
	var failure *orderFailure
	switch {
	case err == nil:
		return 0, nil
	case errors.Is(err, errLater):
		return time.Second, nil
	case ctx.Err() != nil:
		return 0, err
	case errors.As(err, &failure):
		w.progress.close()
		return 0, w.failed(ctx, failure)
	}
	var unreached *agentError
	if errors.As(err, &unreached) && s.now().Sub(order.CreatedAt) < giveUpAfter {
		w.progress.note(fmt.Sprintf("%s; trying again", unreached))
		return 5 * time.Second, nil
	}
	if unreached != nil {
		w.progress.close()
		return 0, w.failed(ctx, &orderFailure{code: "server", reason: fmt.Sprintf("the challenges could not be shown for %s: %s", giveUpAfter, unreached)})
	}
	if !acme.Theirs(err) { // the database's, or ours
		return 0, err
	}
	why := acme.Reason(err)
	if !why.Passing || why.Limited || s.now().Sub(order.CreatedAt) > giveUpAfter {
		if why.Limited {
			until := s.now().Add(max(why.Wait, time.Minute))
			if err := s.store.LimitAuthority(ctx, db.LimitAuthorityParams{ID: authority.ID, LimitedUntil: &until}); err != nil {
				return 0, err
			}
		}
		w.progress.close()
		return 0, w.failed(ctx, &orderFailure{orEmpty(why.Kind, "authority"), fmt.Sprintf("%s: %s", authority.Name, why.Detail), why.Wait})
	}
	w.progress.note(fmt.Sprintf("%s does not answer as it should (%s); trying again", authority.Name, why.Detail))
	return 5 * time.Second, nil
}

func orEmpty(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

// orderWork is an order on its way.
type orderWork struct {
	service   *Service
	client    *acme.Client
	site      siteCertificate
	authority db.Authority
	order     db.Order
	progress  *progress
}

func (w *orderWork) begin(step string) {
	w.progress.step(agentlink.Step{Name: step, State: agentlink.StepRunning})
}

func (w *orderWork) done(step, detail string) {
	w.progress.step(agentlink.Step{Name: step, State: agentlink.StepDone, Detail: detail})
}

// moves writes down how far the order is, before anything that must not happen twice.
func (w *orderWork) moves(ctx context.Context, state, url string) error {
	w.order.State, w.order.Url = state, url
	return w.service.store.OrderMoves(ctx, db.OrderMovesParams{ID: w.order.ID, State: state, Url: url, InstallID: w.order.InstallID})
}

func (w *orderWork) run(ctx context.Context) error {
	steps := []struct {
		state string
		do    func(context.Context) error
	}{{orderNew, w.place}, {orderProving, w.prove}, {orderFinalizing, w.finalize}, {orderInstalling, w.installed}}
	for _, step := range steps {
		if w.order.State != step.state {
			continue
		}
		if err := step.do(ctx); err != nil {
			return err
		}
	}
	return nil
}

// place gives the order to the authority.
func (w *orderWork) place(ctx context.Context) error {
	w.begin("order")
	var replaces *x509.Certificate
	if c := w.site.inUse; c != nil && c.AuthorityID != nil && *c.AuthorityID == w.authority.ID {
		replaces, _ = leafOf(c.Chain)
	}
	o, err := w.client.Order(ctx, w.order.Names, w.authority.Profile, replaces)
	if err != nil {
		return err
	}
	w.done("order", fmt.Sprintf("%s at %s", strings.Join(w.order.Names, ", "), w.authority.Name))
	return w.moves(ctx, orderProving, o.URL)
}

// pollFor is how long an order is watched before others get their turn.
const pollFor = 60 * time.Second

// poll asks until done reports that it is over, ever more slowly.
func poll(ctx context.Context, done func() (bool, error)) error {
	pause := 50 * time.Millisecond
	for end := time.Now().Add(pollFor); ; pause = min(2*pause, 2*time.Second) {
		over, err := done()
		if over || err != nil {
			return err
		}
		if time.Now().After(end) {
			return errLater
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}

// prove meets the challenges of all names.
func (w *orderWork) prove(ctx context.Context) error {
	w.begin("prove")
	o, err := w.client.OrderAt(ctx, w.order.Url)
	if err != nil {
		return err
	}
	if o.Status == "pending" {
		if err := w.meet(ctx, o); err != nil {
			return err
		}
		err := poll(ctx, func() (bool, error) {
			o, err = w.client.OrderAt(ctx, w.order.Url)
			return err == nil && o.Status != "pending", err
		})
		if err != nil {
			return err
		}
	}
	if o.Status == "invalid" {
		return w.refused(ctx, o)
	}
	w.done("prove", strings.Join(w.order.Names, ", "))
	return w.moves(ctx, orderFinalizing, w.order.Url)
}

// meet has the challenges of an order answered, and tells the authority.
func (w *orderWork) meet(ctx context.Context, o acme.Order) error {
	s := w.service
	for _, url := range o.Proofs {
		proof, err := w.client.ProofAt(ctx, url)
		if err != nil {
			return err
		}
		if proof.Status != "pending" {
			continue
		}
		kind := certificates.ByHTTP
		if proof.Wildcard {
			kind = certificates.ByDNS
		}
		at := slices.IndexFunc(proof.Challenges, func(c acme.Challenge) bool { return c.Kind == kind })
		if at < 0 {
			return &orderFailure{code: "challenge", reason: fmt.Sprintf("%s offers no way to prove %s that we know", w.authority.Name, proof.Name)}
		}
		c := proof.Challenges[at]
		if err := s.store.KeepChallenge(ctx, db.KeepChallengeParams{OrderID: w.order.ID, Name: proof.Name, Kind: c.Kind, Token: c.Token, Value: c.Value, Url: c.URL, Proof: url}); err != nil {
			return err
		}
	}
	list, err := s.store.ChallengesOf(ctx, w.order.ID)
	if err != nil {
		return err
	}
	if err := w.show(ctx, list); err != nil {
		return err
	}
	for _, c := range list {
		if c.Accepted {
			continue
		}
		if err := w.client.Accept(ctx, acme.Challenge{URL: c.Url, Kind: c.Kind, Token: c.Token}); err != nil {
			return err
		}
		if err := s.store.AcceptedChallenge(ctx, c.ID); err != nil {
			return err
		}
	}
	return nil
}

// show has the web servers and the zone show what challenges ask for, and waits until all name servers do.
func (w *orderWork) show(ctx context.Context, list []db.Challenge) error {
	s := w.service
	files := agentlink.Challenges{Answers: map[string]string{}}
	records := false
	for _, c := range list {
		if c.Kind == certificates.ByHTTP {
			files.Answers[c.Token] = c.Value
		} else {
			records = true
		}
	}
	if len(files.Answers) > 0 {
		home, err := s.store.ServerByID(ctx, w.site.standing.account.ServerID)
		if err != nil {
			return err
		}
		servers, err := s.store.WebServers(ctx)
		if err != nil {
			return err
		}
		if err := s.challenge(ctx, home, servers, files); err != nil {
			return err
		}
	}
	if !records {
		return nil
	}
	if err := w.applyAccount(ctx, "certificate.challenge"); err != nil {
		return err
	}
	return poll(ctx, func() (bool, error) {
		for _, c := range list {
			if c.Kind != certificates.ByDNS {
				continue
			}
			for _, server := range s.authoritative(ctx, c.Name) {
				answer, err := resolve.AskAt(ctx, server.address, certificates.ChallengeName(c.Name), "TXT")
				if err != nil || !slices.Contains(answer.Data, `"`+c.Value+`"`) {
					w.progress.note(fmt.Sprintf("%s does not show the record of %s yet", server.name, c.Name))
					return false, nil
				}
			}
		}
		w.progress.note("")
		return true, nil
	})
}

// applyAccount has the account's servers told what they are to hold now, and waits until they do.
func (w *orderWork) applyAccount(ctx context.Context, kind string) error {
	s := w.service
	account := w.site.standing.account
	var operation int64
	err := s.store.InTx(ctx, func(tx store.Tx) error {
		if _, err := tx.LockAccount(ctx, account.ID); err != nil {
			return err
		}
		var err error
		operation, err = s.applyAll(ctx, tx, machine(), kind, aboutAccount(account), []int64{account.ID})
		return err
	})
	if err != nil || operation == 0 {
		return err
	}
	return w.await(ctx, operation)
}

// await waits for the end of an operation.
func (w *orderWork) await(ctx context.Context, operation int64) error {
	limited, cancel := context.WithTimeout(ctx, pollFor)
	defer cancel()
	var last api.Operation
	err := w.service.WatchOperation(limited, machine(), operation, 0, func(o api.Operation) error { last = o; return nil })
	switch {
	case limited.Err() != nil && ctx.Err() == nil:
		return errLater
	case err != nil:
		return err
	case last.State == "failed":
		return &orderFailure{code: "install", reason: last.Failure}
	}
	return nil
}

// refused says why the authority has refused an order.
func (w *orderWork) refused(ctx context.Context, o acme.Order) error {
	for _, url := range o.Proofs {
		proof, err := w.client.ProofAt(ctx, url)
		if err == nil && proof.Failure != nil {
			why := acme.Reason(proof.Failure)
			return &orderFailure{code: orEmpty(why.Kind, "authority"), reason: fmt.Sprintf("%s could not prove %s: %s", w.authority.Name, proof.Name, why.Detail)}
		}
	}
	f := &orderFailure{code: "authority", reason: w.authority.Name + " has refused the order"}
	if o.Failure != nil {
		why := acme.Reason(o.Failure)
		f.code, f.reason = orEmpty(why.Kind, "authority"), fmt.Sprintf("%s: %s", w.authority.Name, why.Detail)
	}
	return f
}

// finalize has the certificate issued and takes it. Cut off anywhere, it goes on with the order as the authority has it: nothing is ordered twice.
func (w *orderWork) finalize(ctx context.Context) error {
	s := w.service
	w.begin("issue")
	key, err := s.certificateKey(w.order.Key)
	if err != nil {
		return err
	}
	var o acme.Order
	handedIn := false
	err = poll(ctx, func() (bool, error) {
		if o, err = w.client.OrderAt(ctx, w.order.Url); err != nil {
			return false, err
		}
		if o.Status == "ready" && !handedIn {
			handedIn = true
			request, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{DNSNames: w.order.Names}, key)
			if err != nil {
				return false, err
			}
			return false, w.client.Finalize(ctx, o, request)
		}
		return o.Status == "valid" || o.Status == "invalid", nil
	})
	if err != nil {
		return err
	}
	if o.Status == "invalid" {
		return w.refused(ctx, o)
	}
	chain, err := w.client.Download(ctx, o)
	if err != nil {
		return err
	}
	for _, f := range certificates.Check(chain, key.Public(), w.order.Names, s.now()) {
		if f.Fatal {
			return &orderFailure{code: "certificate", reason: fmt.Sprintf("what %s has issued cannot be used: %s", w.authority.Name, f.Says)}
		}
	}
	w.done("issue", fmt.Sprintf("good until %s", chain[0].NotAfter.UTC().Format("2006-01-02 15:04 UTC")))
	return w.install(ctx, chain)
}

// install writes the certificate down and has it brought to its server.
func (w *orderWork) install(ctx context.Context, chain []*x509.Certificate) error {
	s := w.service
	leaf := chain[0]
	account := w.site.standing.account
	renew := certificates.RenewAt(leaf.NotBefore, leaf.NotAfter, nil, leaf.SerialNumber.Text(16))
	ask := s.now()
	return s.store.InTx(ctx, func(tx store.Tx) error {
		locked, err := tx.LockAccount(ctx, account.ID)
		if err != nil {
			return err
		}
		if err := tx.DropInstalling(ctx, w.order.DomainID); err != nil {
			return err
		}
		_, err = tx.AddCertificate(ctx, db.AddCertificateParams{DomainID: w.order.DomainID, AuthorityID: &w.authority.ID, Names: w.order.Names, KeyType: w.order.KeyType, Key: w.order.Key,
			Chain: certificates.PEM(chain), Serial: leaf.SerialNumber.Text(16), NotBefore: leaf.NotBefore, NotAfter: leaf.NotAfter, RenewAt: &renew, AskAt: &ask, Revision: locked.Revision + 1})
		if err != nil {
			return err
		}
		operation, err := s.applyAll(ctx, tx, machine(), "certificate.install", aboutAccount(account), []int64{account.ID})
		if err != nil {
			return err
		}
		if operation != 0 {
			w.order.InstallID = &operation
		}
		w.order.State = orderInstalling
		return tx.OrderMoves(ctx, db.OrderMovesParams{ID: w.order.ID, State: orderInstalling, Url: w.order.Url, InstallID: w.order.InstallID})
	})
}

// installed waits until the server shows the certificate, and ends the order.
func (w *orderWork) installed(ctx context.Context) error {
	s := w.service
	w.begin("install")
	if w.order.InstallID != nil {
		if err := w.await(ctx, *w.order.InstallID); err != nil {
			return err
		}
	}
	w.done("install", "shown by its server")
	w.progress.close()
	w.clear(ctx)
	site, err := s.loadSiteCertificate(ctx, s.store.Queries, w.order.DomainID)
	if err != nil {
		return err
	}
	next := site.nextLook(s.now())
	return s.store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.CertificateCame(ctx, db.CertificateCameParams{DomainID: w.order.DomainID, NextAt: &next}); err != nil {
			return err
		}
		if err := w.end(ctx, tx, orderDone); err != nil {
			return err
		}
		return finishIn(ctx, tx, nil, w.order.OperationID)
	})
}

// end forgets the challenges of an order, and has the zone show them no longer.
func (w *orderWork) end(ctx context.Context, tx store.Tx, state string) error {
	list, err := tx.ChallengesOf(ctx, w.order.ID)
	if err != nil {
		return err
	}
	if err := tx.ForgetChallenges(ctx, w.order.ID); err != nil {
		return err
	}
	if err := tx.OrderMoves(ctx, db.OrderMovesParams{ID: w.order.ID, State: state, Url: w.order.Url, InstallID: w.order.InstallID}); err != nil {
		return err
	}
	if !slices.ContainsFunc(list, func(c db.Challenge) bool { return c.Kind == certificates.ByDNS }) {
		return nil
	}
	account := w.site.standing.account
	if _, err := tx.LockAccount(ctx, account.ID); err != nil {
		return err
	}
	_, err = w.service.applyAll(ctx, tx, machine(), "certificate.challenge", aboutAccount(account), []int64{account.ID})
	return err
}

// clear has web servers forget the order's challenges.
func (w *orderWork) clear(ctx context.Context) {
	s := w.service
	list, err := s.store.ChallengesOf(ctx, w.order.ID)
	servers, err2 := s.store.WebServers(ctx)
	if errors.Join(err, err2) != nil {
		return // they forget them by themselves
	}
	files := agentlink.Challenges{Answers: map[string]string{}}
	for _, c := range list {
		if c.Kind == certificates.ByHTTP {
			files.Answers[c.Token] = c.Value
		}
	}
	if len(files.Answers) > 0 {
		s.unchallenge(ctx, servers, files)
	}
}

// failed ends an order that has come to nothing. What is in use stays in use.
func (w *orderWork) failed(ctx context.Context, f *orderFailure) error {
	s := w.service
	w.clear(ctx)
	return s.store.InTx(ctx, func(tx store.Tx) error {
		if err := s.siteFailed(ctx, tx.Queries, w.site, f.code, f.reason, f.wait); err != nil {
			return err
		}
		if err := w.end(ctx, tx, orderFailed); err != nil {
			return err
		}
		return finishIn(ctx, tx, f, w.order.OperationID)
	})
}

// leafOf reads the first certificate of a chain.
func leafOf(chain string) (*x509.Certificate, error) {
	block, _ := pem.Decode([]byte(chain))
	if block == nil {
		return nil, errors.New("no certificate in the chain")
	}
	return x509.ParseCertificate(block.Bytes)
}
