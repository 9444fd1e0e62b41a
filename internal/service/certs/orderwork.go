package certs

import (
	"context"
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
	"victualler/internal/resolve"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// orderRun is an order on its way.
type orderRun struct {
	service   *Service
	client    *acme.Client
	site      siteCertificate
	authority db.Authority
	order     db.Order
	// ways are how names are proved; over HTTP where nothing is said.
	ways     map[string]certificates.Proof
	progress *usecase.Progress
}

func (w *orderRun) begin(step string) {
	w.progress.Step(agentlink.Step{Name: step, State: agentlink.StepRunning})
}

func (w *orderRun) done(step, detail string) {
	w.progress.Step(agentlink.Step{Name: step, State: agentlink.StepDone, Detail: detail})
}

// saveState writes down how far the order is, before anything that must not happen twice.
func (w *orderRun) saveState(ctx context.Context, state, url string) error {
	w.order.State, w.order.Url = state, url
	return saveStateTx(ctx, w.service.Store.Queries, w.order)
}

// saveStateTx writes down where an order is, unless it was taken back meanwhile.
func saveStateTx(ctx context.Context, q *db.Queries, order db.Order) error {
	moved, err := q.SaveOrderState(ctx, db.SaveOrderStateParams{ID: order.ID, State: order.State, Url: order.Url,
		InstallID: order.InstallID})
	if err == nil && moved == 0 {
		err = errCancelled
	}
	return err
}

func (w *orderRun) run(ctx context.Context) error {
	steps := []struct {
		state string
		do    func(context.Context) error
	}{{orderNew, w.submit}, {orderProving, w.prove}, {orderFinalizing, w.finalize}, {orderInstalling, w.installed}}
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

// restart has the order begin anew: what the authority had of it
// belongs to an account that is no more.
func (w *orderRun) restart(ctx context.Context) error {
	if err := w.service.Store.DeleteChallenges(ctx, w.order.ID); err != nil {
		return err
	}
	return w.saveState(ctx, orderNew, "")
}

// submit gives the order to the authority.
func (w *orderRun) submit(ctx context.Context) error {
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
	return w.saveState(ctx, orderProving, o.URL)
}

// pollFor is how long an order is watched before others get their turn, and orderTime how long an
// authority may take to prove names and to issue.
const (
	pollFor   = time.Minute
	orderTime = 24 * time.Hour
)

// checkDeadline is after how long an order has come to nothing that has not come to an end.
func (w *orderRun) checkDeadline() time.Duration {
	if w.byHand() {
		return byHandFor + orderTime
	}
	return orderTime
}

// poll asks until done reports that it is over, ever more slowly, and never sooner than done says.
func (w *orderRun) poll(ctx context.Context, done func() (over bool, wait time.Duration, err error)) error {
	now, pause := w.service.Now(), 50*time.Millisecond
	for end := time.Now().Add(min(pollFor, w.order.CreatedAt.Add(w.checkDeadline()).Sub(now))); ; pause = min(2*pause,
		2*time.Second) {
		over, wait, err := done()
		if over || err != nil {
			return err
		}
		if wait = max(wait, pause); time.Now().Add(wait).After(end) {
			return retryAfter{max(wait, time.Second)}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait):
		}
	}
}

// prove meets the challenges of all names.
func (w *orderRun) prove(ctx context.Context) error {
	w.begin("prove")
	if w.byHand() { // the authority is not asked as long as there is nothing for it to see
		known, err := w.service.Store.ChallengesOf(ctx, w.order.ID)
		if err != nil {
			return err
		}
		if err := w.checkRecords(ctx, notAccepted(known)); err != nil {
			return err
		}
	}
	o, err := w.client.OrderAt(ctx, w.order.Url)
	if err != nil {
		return err
	}
	if o.Status == "pending" {
		if err := w.answerChallenges(ctx, o); err != nil {
			return err
		}
		err := w.poll(ctx, func() (bool, time.Duration, error) {
			o, err = w.client.OrderAt(ctx, w.order.Url)
			return err == nil && o.Status != "pending", o.Wait, err
		})
		if errors.As(err, &retryAfter{}) && w.unprovable(ctx, o) {
			return w.refused(ctx, o)
		}
		if err != nil {
			return err
		}
	}
	if o.Status == "invalid" {
		return w.refused(ctx, o)
	}
	w.done("prove", strings.Join(w.order.Names, ", "))
	return w.saveState(ctx, orderFinalizing, w.order.Url)
}

// unprovable reports whether a name of an order will not be proved any more, though the authority
// has not said so of the order.
func (w *orderRun) unprovable(ctx context.Context, o acme.Order) bool {
	return slices.ContainsFunc(o.Proofs, func(url string) bool {
		proof, err := w.client.ProofAt(ctx, url)
		return err == nil && proof.Status != "pending" && proof.Status != "valid"
	})
}

// answerChallenges has the challenges of an order answered, and tells the authority.
func (w *orderRun) answerChallenges(ctx context.Context, o acme.Order) error {
	s := w.service
	// challenges that the authority was told of by somebody who was
	// killed before it was written down
	taken := map[string]bool{}
	for _, url := range o.Proofs {
		proof, err := w.client.ProofAt(ctx, url)
		if err != nil {
			return err
		}
		if proof.Status != "pending" {
			continue
		}
		name := proof.Name
		if proof.Wildcard {
			name = "*." + name
		}
		p := db.SaveChallengeParams{OrderID: w.order.ID, Name: name, Kind: certificates.ByHTTP, Proof: url}
		if err := w.placeChallenges(ctx, &p); err != nil {
			return err
		}
		at := slices.IndexFunc(proof.Challenges, func(c acme.Challenge) bool { return c.Kind == p.Kind })
		if at < 0 {
			return &orderFailure{code: "challenge",
				reason: fmt.Sprintf("%s offers no way to prove %s by %s", w.authority.Name, name, p.Kind)}
		}
		p.Token, p.Value, p.Url = proof.Challenges[at].Token, proof.Challenges[at].Value, proof.Challenges[at].URL
		taken[p.Url] = proof.Challenges[at].Status != "pending"
		if err := s.Store.SaveChallenge(ctx, p); err != nil {
			return err
		}
	}
	list, err := s.Store.ChallengesOf(ctx, w.order.ID)
	if err != nil {
		return err
	}
	if err := w.publishRecords(ctx, list); err != nil {
		return err
	}
	for _, c := range list {
		if c.Accepted {
			continue
		}
		if !taken[c.Url] {
			if err := w.client.Accept(ctx, acme.Challenge{URL: c.Url, Kind: c.Kind, Token: c.Token}); err != nil {
				return err
			}
		}
		if err := s.Store.AcceptedChallenge(ctx, c.ID); err != nil {
			return err
		}
	}
	return nil
}

// publishRecords has the web servers and the zone show what challenges
// ask for, and waits until all name servers do.
func (w *orderRun) publishRecords(ctx context.Context, list []db.Challenge) error {
	s := w.service
	files := agentlink.Challenges{Answers: map[string]string{}}
	for _, c := range list {
		if c.Kind == certificates.ByHTTP {
			files.Answers[c.Token] = c.Value
		}
	}
	if len(files.Answers) > 0 {
		home, err := s.Store.ServerByID(ctx, w.site.entitlement.Account.ServerID)
		if err != nil {
			return err
		}
		servers, err := s.Store.WebServers(ctx)
		if err != nil {
			return err
		}
		if err := s.challenge(ctx, home, servers, files); err != nil {
			return err
		}
	}
	hidden := notAccepted(list)
	if w.byHand() {
		return w.checkRecords(ctx, hidden)
	}
	if len(hidden) == 0 {
		return nil
	}
	if err := w.applyZones(ctx, zonesShowing(hidden)); err != nil {
		return err
	}
	return w.poll(ctx, func() (bool, time.Duration, error) {
		for _, c := range hidden {
			if missing := s.missingAt(ctx, c); len(missing) > 0 {
				w.progress.Note(fmt.Sprintf("%s does not show the record of %s yet", missing[0], c.Name))
				return false, 0, nil
			}
		}
		w.progress.Note("")
		return true, 0, nil
	})
}

// placeChallenges says how a name is proved, and where the record stands that does it.
func (w *orderRun) placeChallenges(ctx context.Context, p *db.SaveChallengeParams) error {
	switch w.ways[p.Name] {
	case certificates.InZone:
		p.Kind, p.Record, p.AccountID = certificates.ByDNS, certificates.ChallengeName(p.Name),
			&w.site.entitlement.Account.ID
	case certificates.ByAlias:
		account, name, err := challengeAlias(ctx, w.service.Store.Queries, w.site)
		if err != nil {
			return err
		}
		if name == "" {
			return &orderFailure{code: certificates.CodeAlias,
				reason: fmt.Sprintf("our zone for challenges, to which %s leads, is gone",
					certificates.ChallengeName(p.Name))}
		}
		p.Kind, p.Record, p.AccountID = certificates.ByDNS, name, &account
	case certificates.ByHand:
		p.Kind, p.Record = certificates.ByDNS, certificates.ChallengeName(p.Name)
	}
	return nil
}

func (w *orderRun) byHand() bool {
	for _, way := range w.ways {
		if way == certificates.ByHand {
			return true
		}
	}
	return false
}

// missingAt lists the authoritative name servers that do not show what a challenge asks for.
func (s *Service) missingAt(ctx context.Context, c db.Challenge) []string {
	servers := s.authoritative(ctx, c.Record)
	if len(servers) == 0 {
		return []string{"no name server of " + c.Record + " is known, which"}
	}
	var missing []string
	for _, server := range servers {
		answer, err := resolve.AskAt(ctx, server.address, c.Record, "TXT")
		if (err != nil || !slices.Contains(answer.Data, `"`+c.Value+`"`)) && !slices.Contains(missing, server.name) {
			missing = append(missing, server.name)
		}
	}
	return missing
}

// checkRecords looks whether somebody has entered what proves the names.
func (w *orderRun) checkRecords(ctx context.Context, list []db.Challenge) error {
	s := w.service
	var waiting []string
	for _, c := range list {
		missing := usecase.NonNil(s.missingAt(ctx, c))
		if err := s.Store.SaveChallengeCheck(ctx, db.SaveChallengeCheckParams{ID: c.ID, Missing: missing}); err != nil {
			return err
		}
		if len(missing) > 0 {
			waiting = append(waiting, fmt.Sprintf("%s TXT %q", c.Record, c.Value))
		}
	}
	if len(waiting) == 0 {
		w.progress.Note("")
		return nil
	}
	if s.Now().Sub(w.order.CreatedAt) > byHandFor {
		return &orderFailure{code: "hand", reason: fmt.Sprintf("%s was not entered within %d days", waiting[0],
			int(byHandFor.Hours()/24))}
	}
	w.progress.Note("waits for records that are entered by hand: " + strings.Join(waiting, ", "))
	return errEnteredByHand
}

// notAccepted are the challenges by DNS that the authority was not told of yet.
func notAccepted(list []db.Challenge) []db.Challenge {
	return slices.DeleteFunc(slices.Clone(list), func(c db.Challenge) bool {
		return c.Kind != certificates.ByDNS || c.Accepted
	})
}

// zonesShowing lists the accounts whose zones show challenges.
func zonesShowing(list []db.Challenge) []int64 {
	var accounts []int64
	for _, c := range list {
		if c.AccountID != nil {
			accounts = append(accounts, *c.AccountID)
		}
	}
	slices.Sort(accounts)
	return slices.Compact(accounts)
}

// applyZones has name servers told what the zones of accounts are to
// show now, and waits until they do.
func (w *orderRun) applyZones(ctx context.Context, accounts []int64) error {
	if len(accounts) == 0 {
		return nil
	}
	var operation int64
	err := w.service.Store.InTx(ctx, func(tx store.Tx) error {
		var err error
		operation, err = w.applyZonesIn(ctx, tx, accounts)
		return err
	})
	if err != nil || operation == 0 {
		return err
	}
	return w.await(ctx, operation)
}

func (w *orderRun) applyZonesIn(ctx context.Context, tx store.Tx, accounts []int64) (int64, error) {
	for _, account := range accounts {
		if _, err := usecase.LockAccount(ctx, tx, account); err != nil {
			return 0, err
		}
	}
	return w.service.rollout.ApplyAccounts(ctx, tx, usecase.System(), "certificate.challenge",
		usecase.AboutAccount(w.site.entitlement.Account), accounts)
}

// await waits for the end of an operation.
func (w *orderRun) await(ctx context.Context, operation int64) error {
	limited, cancel := context.WithTimeout(ctx, pollFor)
	defer cancel()
	var last api.Operation
	err := w.service.rollout.WatchOperation(limited, usecase.System(), operation, 0, func(o api.Operation) error {
		last = o
		return nil
	})
	switch {
	case limited.Err() != nil && ctx.Err() == nil:
		return retryAfter{time.Second}
	case err != nil:
		return err
	case last.State == "failed":
		return &orderFailure{code: "install", reason: last.Failure}
	}
	return nil
}

// refused says why the authority has refused an order.
func (w *orderRun) refused(ctx context.Context, o acme.Order) error {
	f := &orderFailure{code: "authority", reason: w.authority.Name + " has refused the order"}
	if o.Failure != nil {
		why := acme.Reason(o.Failure)
		f.code, f.reason = usecase.OrEmpty(why.Kind, "authority"), fmt.Sprintf("%s: %s", w.authority.Name, why.Detail)
	}
	for _, url := range o.Proofs {
		proof, err := w.client.ProofAt(ctx, url)
		if err != nil || proof.Failure == nil {
			continue
		}
		name := proof.Name
		if proof.Wildcard {
			name = "*." + name
		}
		if f.names = append(f.names, name); len(f.names) == 1 {
			why := acme.Reason(proof.Failure)
			f.code, f.reason = usecase.OrEmpty(why.Kind, "authority"),
				fmt.Sprintf("%s could not prove %s: %s", w.authority.Name, name, why.Detail)
		}
	}
	w.rehearseAgain(ctx, f)
	return f
}

// rehearseAgain looks for what the authority has run into, and says it
// in our words before the authority's.
func (w *orderRun) rehearseAgain(ctx context.Context, f *orderFailure) {
	if len(f.names) == 0 || w.byHand() {
		return
	}
	verdicts, err := w.service.rehearse(ctx, rehearsal{site: w.site, names: f.names[:1],
		chosen: len(w.site.config.Names) > 0})
	if v := verdicts[f.names[0]]; err == nil && v.Result == certificates.Fail {
		f.code, f.reason = v.Code, fmt.Sprintf("%s (%s)", v.Reason, f.reason)
	}
}

// clocksDiffer is how far an authority's clock may be ahead of ours.
const clocksDiffer = 24 * time.Hour

// finalize has the certificate issued and takes it. Cut off anywhere, it goes on with the order as
// the authority has it: nothing is ordered twice.
func (w *orderRun) finalize(ctx context.Context) error {
	s := w.service
	w.begin("issue")
	key, err := s.certificateKey(w.order.Key)
	if err != nil {
		return err
	}
	var o acme.Order
	handedIn := false
	err = w.poll(ctx, func() (bool, time.Duration, error) {
		if o, err = w.client.OrderAt(ctx, w.order.Url); err != nil {
			return false, 0, err
		}
		if o.Status == "ready" && !handedIn {
			template := &x509.CertificateRequest{DNSNames: w.order.Names}
			request, err := x509.CreateCertificateRequest(rand.Reader, template, key)
			if err != nil {
				return false, 0, err
			}
			wait, err := w.client.Finalize(ctx, o, request)
			handedIn = err == nil
			if err != nil && acme.Reason(err).Kind == "orderNotReady" {
				// it is no longer, or not yet for all of the
				// authority's machines: it is looked at again
				err = nil
			}
			return false, wait, err
		}
		return o.Status == "valid" || o.Status == "invalid", o.Wait, nil
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
	at := s.Now()
	if ahead := chain[0].NotBefore.Sub(at); ahead > 0 && ahead < clocksDiffer {
		// one of the two clocks is wrong, and visitors' may be right
		at = chain[0].NotBefore
		s.Log.Warn("the clock of this machine, or of an authority, is wrong", "authority", w.authority.Name, "ahead",
			ahead.Round(time.Second))
	}
	for _, f := range certificates.Check(chain, key.Public(), w.order.Names, at) {
		if f.Fatal {
			return &orderFailure{code: "certificate",
				reason: fmt.Sprintf("what %s has issued cannot be used: %s", w.authority.Name, f.Says)}
		}
	}
	w.done("issue", fmt.Sprintf("good until %s", chain[0].NotAfter.UTC().Format("2006-01-02 15:04 UTC")))
	return w.install(ctx, chain)
}

// install writes the certificate down and has it brought to its server.
func (w *orderRun) install(ctx context.Context, chain []*x509.Certificate) error {
	s := w.service
	leaf := chain[0]
	account := w.site.entitlement.Account
	renew := certificates.RenewAt(leaf.NotBefore, leaf.NotAfter, nil, leaf.SerialNumber.Text(16))
	ask := s.Now()
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		locked, err := usecase.LockAccount(ctx, tx, account.ID)
		if err != nil {
			return err
		}
		if err := tx.DropInstalling(ctx, w.order.DomainID); err != nil {
			return err
		}
		if err := s.saveIntermediates(ctx, tx.Queries, chain, true); err != nil {
			return err
		}
		_, err = tx.AddCertificate(ctx, db.AddCertificateParams{DomainID: w.order.DomainID,
			AuthorityID: &w.authority.ID, Names: w.order.Names, KeyType: w.order.KeyType, Key: w.order.Key,
			Chain: certificates.PEM(chain), Serial: leaf.SerialNumber.Text(16), NotBefore: leaf.NotBefore,
			NotAfter: leaf.NotAfter, RenewAt: &renew, AskAt: &ask, Revision: locked.Revision + 1})
		if err != nil {
			return err
		}
		operation, err := s.rollout.ApplyAccounts(ctx, tx, usecase.System(), "certificate.install",
			usecase.AboutAccount(account), []int64{account.ID})
		if err != nil {
			return err
		}
		if operation != 0 {
			w.order.InstallID = &operation
		}
		w.order.State = orderInstalling
		return saveStateTx(ctx, tx.Queries, w.order)
	})
}

// installed waits until the server shows the certificate, and ends the order.
func (w *orderRun) installed(ctx context.Context) error {
	s := w.service
	w.begin("install")
	if w.order.InstallID != nil {
		if err := w.await(ctx, *w.order.InstallID); err != nil {
			return err
		}
	}
	w.done("install", "shown by its server")
	w.progress.Close()
	w.removeChallenges(ctx)
	site, err := s.loadSiteCertificate(ctx, s.Store.Queries, w.order.DomainID)
	if err != nil {
		return err
	}
	next := site.nextCheck(s.Now())
	if considered, err := w.considered(); err != nil {
		return err
	} else if addsNames(considered, site.names()) { // somebody has chosen others meanwhile
		next = s.Now()
	}
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.SaveCertificateIssued(ctx, db.SaveCertificateIssuedParams{DomainID: w.order.DomainID,
			Mode: automatic, NextAt: &next}); err != nil {
			return err
		}
		if err := w.end(ctx, tx, orderDone); err != nil {
			return err
		}
		return usecase.FinishOperationsTx(ctx, tx, nil, w.order.OperationID)
	})
}

// considered are the names of which it was thought when the order began: those that it is for, and
// those that it has left out.
func (w *orderRun) considered() ([]string, error) {
	var out []api.LeftOut
	err := json.Unmarshal(w.order.LeftOut, &out)
	list := slices.Clone(w.order.Names)
	for _, l := range out {
		list = append(list, l.Name)
	}
	return list, err
}

// end forgets the challenges of an order, and has the zone show them no longer.
func (w *orderRun) end(ctx context.Context, tx store.Tx, state string) error {
	list, err := tx.ChallengesOf(ctx, w.order.ID)
	if err != nil {
		return err
	}
	if err := tx.DeleteChallenges(ctx, w.order.ID); err != nil {
		return err
	}
	w.order.State = state
	if err := saveStateTx(ctx, tx.Queries, w.order); err != nil {
		return err
	}
	_, err = w.applyZonesIn(ctx, tx, zonesShowing(list))
	return err
}

// removeChallenges has web servers forget the order's challenges.
func (w *orderRun) removeChallenges(ctx context.Context) {
	s := w.service
	list, err := s.Store.ChallengesOf(ctx, w.order.ID)
	servers, err2 := s.Store.WebServers(ctx)
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
		s.removeChallenge(ctx, servers, files)
	}
}

// failed ends an order that has come to nothing. What is in use stays in use.
func (w *orderRun) failed(ctx context.Context, f *orderFailure) error {
	s := w.service
	w.removeChallenges(ctx)
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		if err := s.siteFailed(ctx, tx.Queries, w.site, f, s.retryAfter(w.site, f)); err != nil {
			return err
		}
		if err := tx.RefusedOrder(ctx, db.RefusedOrderParams{ID: w.order.ID,
			Refused: usecase.NonNil(f.names)}); err != nil {
			return err
		}
		if err := w.end(ctx, tx, orderFailed); err != nil {
			return err
		}
		return usecase.FinishOperationsTx(ctx, tx, f, w.order.OperationID)
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
