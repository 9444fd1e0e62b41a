package certs

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"slices"
	"strings"
	"time"

	"victualler/internal/acme"
	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/certificates"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// The states of orders. Each but the last two has one step, which is in [orderSteps]:
//
//	new ─submit─▶ proving ─prove─▶ finalizing ─finalize─▶ installing ─installed─▶ done
//
// From any of them an order may come to nothing: failed. If the authority has forgotten our
// account, it begins anew. An order that a person has cancelled is failed as well.
const (
	orderNew        = "new"        // the authority has not taken it yet
	orderProving    = "proving"    // the names are being proved
	orderFinalizing = "finalizing" // the authority issues
	orderInstalling = "installing" // the certificate is on its way to its server
	orderDone       = "done"
	orderFailed     = "failed"
)

// orderSteps are the steps by the state in which they are taken.
var orderSteps = map[string]func(*orderRun, context.Context) (outcome, error){
	orderNew:        (*orderRun).submit,
	orderProving:    (*orderRun).prove,
	orderFinalizing: (*orderRun).finalize,
	orderInstalling: (*orderRun).installed,
}

// outcome is what has come of a step, or of a part of one; made by [goesOn], [advances], [waits]
// and [fails]. What a step cannot know anything about, such as a network that fails, it returns as
// an error; [orderRun.outcomeOf] decides what that comes to.
type outcome struct {
	kind outcomeKind
	// state is the one that the order advances to.
	state string
	// commit changes what must change with the state, in the same transaction; nil for nothing.
	commit func(context.Context, store.Tx) error
	// after is when the order goes on.
	after time.Duration
	// note says what is waited for, in the list of operations.
	note language.Text
	// failure is why the order has come to nothing.
	failure orderFailure
}

type outcomeKind int

const (
	goingOn outcomeKind = iota
	advancing
	waiting
	failing
)

// goesOn is the outcome of a part of a step after which the next part follows.
func goesOn() outcome { return outcome{} }

// advances is the outcome of a step that is done.
func advances(state string, commit func(context.Context, store.Tx) error) outcome {
	return outcome{kind: advancing, state: state, commit: commit}
}

// waits is the outcome of a step that is taken again after a while.
func waits(after time.Duration, note language.Text) outcome {
	return outcome{kind: waiting, after: after, note: note}
}

// fails is the outcome of a step that ends the order.
func fails(f orderFailure) outcome { return outcome{kind: failing, failure: f} }

// orderFailure is why an order has come to nothing.
type orderFailure struct {
	code   string
	reason language.Text
	// wait is how long the authority wants to be left alone; 0 where it does not say.
	wait time.Duration
	// names are those that could not be proved.
	names []string
}

// authorityClient is what orders ask of an authority; an [acme.Client] but in tests.
type authorityClient interface {
	Order(ctx context.Context, names []string, profile string, replaces *x509.Certificate) (acme.Order, error)
	OrderAt(ctx context.Context, url string) (acme.Order, error)
	ProofAt(ctx context.Context, url string) (acme.Proof, error)
	Accept(ctx context.Context, challenge acme.Challenge) error
	Finalize(ctx context.Context, o acme.Order, request []byte) (time.Duration, error)
	Download(ctx context.Context, o acme.Order) ([]*x509.Certificate, error)
	Register(ctx context.Context, email string, external *acme.External) (string, error)
	Close()
}

// orderRun is an order that somebody is at.
type orderRun struct {
	service   *Service
	client    authorityClient
	site      siteCertificate
	authority db.Authority
	order     db.Order
	ways      proofs
	progress  *usecase.Progress
}

// Order brings an order as far as it goes now. With again, it goes on after that time. An error
// means that it should be tried again.
//
// Refusals: ApplyFailed, InvalidInput, MailFailed, ServerUnreachable.
// Locks: the account.
func (s *Service) Order(ctx context.Context, id int64) (again time.Duration, err error) {
	if !s.ordering.Begin(id) {
		return 0, nil
	}
	defer s.ordering.End(id)
	order, err := s.Store.OrderByID(ctx, id)
	if store.None(err) || err == nil && orderSteps[order.State] == nil { // it went with its domain, or has ended
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	w := &orderRun{service: s, order: order}
	if w.ways, err = waysOf(order); err != nil {
		return 0, err
	}
	if w.site, err = s.loadSiteCertificate(ctx, s.Store.Queries, order.DomainID); err != nil {
		return 0, err
	}
	if w.authority, err = s.Store.AuthorityByID(ctx, order.AuthorityID); err != nil {
		return 0, err
	}
	if w.client, err = s.connect(w.authority); err != nil {
		return 0, err
	}
	defer w.client.Close()
	w.progress = s.StartProgress(order.OperationID)
	defer w.progress.Close()
	w.progress.Expect("order", "prove", "issue", "install")
	return w.run(ctx)
}

// run takes step after step until one has to wait, or the order has ended.
func (w *orderRun) run(ctx context.Context) (again time.Duration, err error) {
	for orderSteps[w.order.State] != nil {
		out, err := w.step(ctx)
		if err != nil {
			return 0, err
		}
		switch out.kind {
		case waiting:
			w.progress.Note(out.note)
			return out.after, nil
		case failing:
			f := out.failure
			w.removeChallenges(ctx)
			out = w.ended(orderFailed, func(ctx context.Context, tx store.Tx) error {
				return w.recordFailure(ctx, tx, f)
			}, language.Errorf("%s", f.reason))
		}
		if moved, err := w.advance(ctx, out); err != nil || !moved || out.after > 0 {
			return out.after, err
		}
	}
	return 0, nil
}

// step takes the step of the order's state. What it cannot do now, it says as an outcome; an error
// is none of the authority's and none of the servers'.
func (w *orderRun) step(ctx context.Context) (outcome, error) {
	if w.site.entitlement.Account.State != "active" {
		return fails(orderFailure{code: "account", reason: language.New("the account is being closed")}), nil
	}
	out, err := orderSteps[w.order.State](w, ctx)
	if err != nil {
		out, err = w.outcomeOf(ctx, err)
	}
	if err == nil && out.kind == waiting && w.age() > w.deadline() {
		out = fails(orderFailure{code: "authority",
			reason: language.New("the order at %s has come to no end within %d "+
				"hours", w.authority.Name, int(w.deadline().Hours()))})
	}
	return out, err
}

func (w *orderRun) age() time.Duration { return w.service.Now().Sub(w.order.CreatedAt) }

// errOvertaken ends a transaction in which an order was to advance that has ended meanwhile.
var errOvertaken = errors.New("the order has ended meanwhile")

// advance puts the state that an order has advanced to on record, with what belongs to it, unless
// the order has ended meanwhile.
func (w *orderRun) advance(ctx context.Context, out outcome) (moved bool, err error) {
	order := w.order
	err = w.service.Store.InTx(ctx, func(tx store.Tx) error {
		w.order = order
		w.order.State = out.state
		if out.commit != nil {
			if err := out.commit(ctx, tx); err != nil {
				return err
			}
		}
		saved, err := saveOrderState(ctx, tx, w.order)
		if err == nil && !saved {
			err = errOvertaken
		}
		return err
	})
	if errors.Is(err, errOvertaken) {
		return false, nil
	}
	return err == nil, err
}

// saveOrderState puts on record where an order is, and reports whether it had not ended before.
func saveOrderState(ctx context.Context, tx store.Tx, order db.Order) (bool, error) {
	n, err := tx.SaveOrderState(ctx, db.SaveOrderStateParams{ID: order.ID, State: order.State, Url: order.Url,
		InstallID: order.InstallID})
	return n > 0, err
}

// ended is the outcome of an order that has come to an end, and its operation with it: well where
// cause is nil.
func (w *orderRun) ended(state string, commit func(context.Context, store.Tx) error, cause error) outcome {
	w.progress.Close()
	return advances(state, func(ctx context.Context, tx store.Tx) error {
		if err := w.cleanUp(ctx, tx, cause); err != nil { // it locks accounts, so it comes first
			return err
		}
		return commit(ctx, tx)
	})
}

// cleanUp ends what belongs to an order that ends: its challenges and
// its operation, well where cause is nil.
func (w *orderRun) cleanUp(ctx context.Context, tx store.Tx, cause error) error {
	if err := w.forgetChallenges(ctx, tx); err != nil {
		return err
	}
	return usecase.FinishOperationsTx(ctx, tx, cause, w.order.OperationID)
}

// recordFailure puts on record why the order has come to nothing, and when the site is looked at
// again. What is in use stays in use.
func (w *orderRun) recordFailure(ctx context.Context, tx store.Tx, f orderFailure) error {
	s := w.service
	site, err := s.loadSiteCertificate(ctx, tx.Queries, w.order.DomainID)
	if err != nil {
		return err
	}
	if err := s.saveFailure(ctx, tx.Queries, site, f); err != nil {
		return err
	}
	next, err := w.dueAfter(site, s.Now().Add(s.retryAfter(site, f)))
	if err != nil {
		return err
	}
	if err := tx.ScheduleCertificate(ctx, db.ScheduleCertificateParams{DomainID: w.order.DomainID, DueAt: next,
		Seen: site.config.DueAt}); err != nil {
		return err
	}
	return tx.RefusedOrder(ctx, db.RefusedOrderParams{ID: w.order.ID, Refused: usecase.NonNil(f.names)})
}

// dueAfter is when a site is looked at again after the order: at once if somebody has chosen names
// since, of which the order knows nothing.
func (w *orderRun) dueAfter(site siteCertificate, otherwise time.Time) (*time.Time, error) {
	var out []api.LeftOut
	if err := json.Unmarshal(w.order.LeftOut, &out); err != nil {
		return nil, err
	}
	considered := slices.Clone(w.order.Names)
	for _, l := range out {
		considered = append(considered, l.Name)
	}
	for _, n := range site.names() {
		if !slices.Contains(considered, n) {
			return dueAt(w.service.Now()), nil
		}
	}
	return dueAt(otherwise), nil
}

// tryAgain is how soon a step is taken again that somebody could not answer.
const tryAgain = 5 * time.Second

// maxSharedWait is how long at most other sites wait where an authority has been asked too often:
// it does not say whether that was for the names of one order or in all. The site of the order
// waits as long as it was told to.
const maxSharedWait = 10 * time.Minute

// outcomeOf is what it comes to that a step has met an error: of the authority, or of a server. An
// error that is neither, such as the database's, it returns.
func (w *orderRun) outcomeOf(ctx context.Context, err error) (outcome, error) {
	if ctx.Err() != nil {
		return outcome{}, err
	}
	if unreached, ok := errors.AsType[*usecase.AgentError](err); ok {
		if w.age() < rollout.GiveUpAfter {
			return waits(tryAgain, language.New("%s; trying again", unreached)), nil
		}
		return fails(orderFailure{code: "server", reason: language.New("the challenges could not be shown for %s: %s",
			rollout.GiveUpAfter, unreached)}), nil
	}
	if !acme.Theirs(err) {
		return outcome{}, err
	}
	why := acme.Reason(err)
	if why.Kind == "accountDoesNotExist" {
		err := w.service.registerAgain(ctx, w.client, w.authority)
		switch {
		case err == nil:
			return w.startsOver(), nil
		case !acme.Theirs(err):
			return outcome{}, err
		}
		why = acme.Reason(err)
	}
	patience := rollout.GiveUpAfter
	if w.ways.byHand() { // somebody has gone to some trouble for it
		patience = w.deadline()
	}
	if why.Passing && !why.Limited && w.age() <= patience {
		return waits(tryAgain, language.New("%s does not answer as it should (%s); trying again", w.authority.Name,
			why.Detail)), nil
	}
	if why.Limited {
		why.Wait = max(why.Wait, time.Minute)
		until := w.service.Now().Add(min(why.Wait, maxSharedWait))
		if err := w.service.Store.LimitAuthority(ctx, db.LimitAuthorityParams{ID: w.authority.ID,
			LimitedUntil: &until}); err != nil {
			return outcome{}, err
		}
	}
	return fails(orderFailure{code: usecase.OrEmpty(why.Kind, "authority"),
		reason: language.New("%s: %s", w.authority.Name, why.Detail), wait: why.Wait}), nil
}

// startsOver is the outcome of an order of which the authority knows nothing any more: what it had
// of it belonged to an account that is gone.
func (w *orderRun) startsOver() outcome {
	out := advances(orderNew, func(ctx context.Context, tx store.Tx) error {
		w.order.Url = ""
		return tx.DeleteChallenges(ctx, w.order.ID)
	})
	out.after = time.Second // with the account as it is on record then
	return out
}

func (w *orderRun) begin(step string) {
	w.progress.Step(agentlink.Step{Name: step, State: agentlink.StepRunning})
}

func (w *orderRun) done(step string, detail language.Text) {
	w.progress.Step(agentlink.Step{Name: step, State: agentlink.StepDone, Detail: detail.Encode()})
}

// submit gives the order to the authority.
func (w *orderRun) submit(ctx context.Context) (outcome, error) {
	w.begin("order")
	var replaces *x509.Certificate
	if c := w.site.inUse; c != nil && c.AuthorityID != nil && *c.AuthorityID == w.authority.ID {
		replaces, _ = leafOf(c.Chain)
	}
	o, err := w.client.Order(ctx, w.order.Names, w.authority.Profile, replaces)
	if err != nil {
		return outcome{}, err
	}
	w.done("order", language.New("%s at %s", strings.Join(w.order.Names, ", "), w.authority.Name))
	return advances(orderProving, func(context.Context, store.Tx) error {
		w.order.Url = o.URL
		return nil
	}), nil
}

// pollTime is how long an order is watched before others get their turn, and orderTime how long an
// authority may take to prove names and to issue.
const (
	pollTime  = time.Minute
	orderTime = 24 * time.Hour
)

// deadline is after how long an order has come to nothing that has not come to an end.
func (w *orderRun) deadline() time.Duration {
	if w.ways.byHand() {
		return byHandTime + orderTime
	}
	return orderTime
}

// poll asks until done reports that it is over, ever more slowly, and never sooner than done says.
// It waits where that takes long.
func (w *orderRun) poll(ctx context.Context,
	done func() (over bool, wait time.Duration, err error)) (outcome, error) {
	end := time.Now().Add(min(pollTime, w.deadline()-w.age()))
	for pause := 50 * time.Millisecond; ; pause = min(2*pause, 2*time.Second) {
		over, wait, err := done()
		if over || err != nil {
			return goesOn(), err
		}
		if wait = max(wait, pause); time.Now().Add(wait).After(end) {
			return waits(max(wait, time.Second), language.Text{}), nil
		}
		select {
		case <-ctx.Done():
			return outcome{}, ctx.Err()
		case <-time.After(wait):
		}
	}
}

// prove meets the challenges of all names.
func (w *orderRun) prove(ctx context.Context) (outcome, error) {
	w.begin("prove")
	if w.ways.byHand() { // the authority is not asked as long as there is nothing for it to see
		known, err := w.service.Store.ChallengesOf(ctx, w.order.ID)
		if err != nil {
			return outcome{}, err
		}
		if out, err := w.checkRecords(ctx, notAccepted(known)); err != nil || out.kind != goingOn {
			return out, err
		}
	}
	o, err := w.client.OrderAt(ctx, w.order.Url)
	if err != nil {
		return outcome{}, err
	}
	if o.Status == "pending" {
		if out, err := w.answerChallenges(ctx, o); err != nil || out.kind != goingOn {
			return out, err
		}
		out, err := w.poll(ctx, func() (bool, time.Duration, error) {
			o, err = w.client.OrderAt(ctx, w.order.Url)
			return err == nil && o.Status != "pending", o.Wait, err
		})
		if err != nil {
			return outcome{}, err
		}
		if out.kind == waiting {
			if w.unprovable(ctx, o) {
				return w.refused(ctx, o), nil
			}
			return out, nil
		}
	}
	if o.Status == "invalid" {
		return w.refused(ctx, o), nil
	}
	w.done("prove", language.Plain(strings.Join(w.order.Names, ", ")))
	return advances(orderFinalizing, nil), nil
}

// unprovable reports whether a name of an order will not be proved any more, though the authority
// has not said so of the order.
func (w *orderRun) unprovable(ctx context.Context, o acme.Order) bool {
	return slices.ContainsFunc(o.Proofs, func(url string) bool {
		proof, err := w.client.ProofAt(ctx, url)
		return err == nil && proof.Status != "pending" && proof.Status != "valid"
	})
}

// refused is the outcome of an order that the authority has refused, with what there is to be said
// about it.
func (w *orderRun) refused(ctx context.Context, o acme.Order) outcome {
	f := orderFailure{code: "authority", reason: language.New("%s has refused the order", w.authority.Name)}
	if o.Failure != nil {
		why := acme.Reason(o.Failure)
		f.code, f.reason = usecase.OrEmpty(why.Kind, "authority"), language.New("%s: %s", w.authority.Name, why.Detail)
	}
	for _, url := range o.Proofs {
		proof, err := w.client.ProofAt(ctx, url)
		if err != nil || proof.Failure == nil {
			continue
		}
		name := provedName(proof)
		if f.names = append(f.names, name); len(f.names) == 1 {
			why := acme.Reason(proof.Failure)
			f.code, f.reason = usecase.OrEmpty(why.Kind, "authority"),
				language.New("%s could not prove %s: %s", w.authority.Name, name, why.Detail)
		}
	}
	return fails(w.explained(ctx, f))
}

// explained is a failure in our words before the authority's, where a rehearsal meets it, too.
func (w *orderRun) explained(ctx context.Context, f orderFailure) orderFailure {
	if len(f.names) == 0 || w.ways.byHand() {
		return f
	}
	verdicts, err := w.service.rehearse(ctx, rehearsal{site: w.site, names: f.names[:1],
		chosen: len(w.site.config.Names) > 0})
	if v := verdicts[f.names[0]]; err == nil && v.Result == certificates.Fail {
		f.code, f.reason = v.Code, language.New("%s (%s)", v.Reason, f.reason)
	}
	return f
}

// clocksDiffer is how far an authority's clock may be ahead of ours.
const clocksDiffer = 24 * time.Hour

// finalize has the certificate issued and takes it. Cut off anywhere, it goes on with the order as
// the authority has it: nothing is ordered twice.
func (w *orderRun) finalize(ctx context.Context) (outcome, error) {
	s := w.service
	w.begin("issue")
	key, err := s.certificateKey(w.order.Key)
	if err != nil {
		return outcome{}, err
	}
	var o acme.Order
	handedIn := false
	out, err := w.poll(ctx, func() (bool, time.Duration, error) {
		if o, err = w.client.OrderAt(ctx, w.order.Url); err != nil {
			return false, 0, err
		}
		if o.Status != "ready" || handedIn {
			return o.Status == "valid" || o.Status == "invalid", o.Wait, nil
		}
		template := &x509.CertificateRequest{DNSNames: w.order.Names}
		request, err := x509.CreateCertificateRequest(rand.Reader, template, key)
		if err != nil {
			return false, 0, err
		}
		wait, err := w.client.Finalize(ctx, o, request)
		handedIn = err == nil
		if err != nil && acme.Reason(err).Kind == "orderNotReady" {
			// It is no longer, or not yet for all of the authority's
			// machines: it is looked at again.
			err = nil
		}
		return false, wait, err
	})
	if err != nil || out.kind != goingOn {
		return out, err
	}
	if o.Status == "invalid" {
		return w.refused(ctx, o), nil
	}
	chain, err := w.client.Download(ctx, o)
	if err != nil {
		return outcome{}, err
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
			return fails(orderFailure{code: "certificate",
				reason: language.New("what %s has issued cannot be used: %s", w.authority.Name, f.Says)}), nil
		}
	}
	w.done("issue", language.New("good until %s", chain[0].NotAfter.UTC().Format("2006-01-02 15:04 UTC")))
	return advances(orderInstalling, func(ctx context.Context, tx store.Tx) error {
		return w.install(ctx, tx, chain)
	}), nil
}

// install puts the certificate on record and has it brought to its server.
func (w *orderRun) install(ctx context.Context, tx store.Tx, chain []*x509.Certificate) error {
	s := w.service
	leaf := chain[0]
	account, err := usecase.LockAccount(ctx, tx, w.site.entitlement.Account.ID)
	if err != nil {
		return err
	}
	if err := tx.DropInstalling(ctx, w.order.DomainID); err != nil {
		return err
	}
	if err := s.saveIntermediates(ctx, tx.Queries, chain, true); err != nil {
		return err
	}
	renew := certificates.RenewAt(leaf.NotBefore, leaf.NotAfter, nil, leaf.SerialNumber.Text(16))
	ask := s.Now()
	if _, err = tx.AddCertificate(ctx, db.AddCertificateParams{DomainID: w.order.DomainID,
		AuthorityID: &w.authority.ID, Names: w.order.Names, KeyType: w.order.KeyType, Key: w.order.Key,
		Chain: certificates.PEM(chain), Serial: leaf.SerialNumber.Text(16), NotBefore: leaf.NotBefore,
		NotAfter: leaf.NotAfter, RenewAt: &renew, AskAt: &ask, Revision: account.Revision + 1}); err != nil {
		return err
	}
	operation, err := s.rollout.ApplyAccounts(ctx, tx, w.actor(), "certificate.install",
		usecase.AboutAccount(account), []int64{account.ID})
	w.order.InstallID = &operation
	return err
}

// actor is as whom servers are told what the order needs: that is part of the order's operation.
func (w *orderRun) actor() usecase.Actor { return usecase.System().Within(w.order.OperationID) }

// installed waits until the server shows the certificate, and ends the order.
func (w *orderRun) installed(ctx context.Context) (outcome, error) {
	s := w.service
	w.begin("install")
	if w.order.InstallID != nil {
		if out, err := w.await(ctx, *w.order.InstallID); err != nil || out.kind != goingOn {
			return out, err
		}
	}
	w.done("install", language.New("shown by its server"))
	w.removeChallenges(ctx)
	return w.ended(orderDone, func(ctx context.Context, tx store.Tx) error {
		site, err := s.loadSiteCertificate(ctx, tx.Queries, w.order.DomainID)
		if err != nil {
			return err
		}
		site.config.Mode = automatic
		next, err := w.dueAfter(site, site.schedule().Next(s.Now()))
		if err != nil {
			return err
		}
		return tx.SaveCertificateIssued(ctx, db.SaveCertificateIssuedParams{DomainID: w.order.DomainID, Mode: automatic,
			DueAt: next})
	}, nil), nil
}

// await waits for the end of an operation.
func (w *orderRun) await(ctx context.Context, operation int64) (outcome, error) {
	limited, cancel := context.WithTimeout(ctx, pollTime)
	defer cancel()
	var last api.Operation
	err := w.service.rollout.WatchOperation(limited, usecase.System(), operation, 0, func(o api.Operation) error {
		last = o
		return nil
	})
	switch {
	case limited.Err() != nil && ctx.Err() == nil:
		return waits(time.Second, language.Plain(last.Note)), nil
	case err != nil:
		return outcome{}, err
	case last.State == "failed":
		return fails(orderFailure{code: "install", reason: language.Plain(last.Failure)}), nil
	}
	return goesOn(), nil
}

// CancelOrder ends an order that is on its way and has not come so far that the authority issues.
//
// Refusals: ApplyFailed, InvalidInput, NotAllowed, NotFound, ServerUnreachable, Suspended,
// WrongState.
// Locks: the account, the reseller, the site's certificate.
func (s *Service) CancelOrder(ctx context.Context, a usecase.Actor, reference, name string) error {
	found, err := s.findSite(ctx, a, reference, name)
	if err != nil {
		return err
	}
	_, err = withCertificateTx(ctx, s, a, found, func(tx store.Tx, c siteCertificate) (struct{}, error) {
		under, err := tx.UnfinishedOrder(ctx, c.domain.ID)
		if store.None(err) {
			return struct{}{}, refusal.New(refusal.WrongState, "no order for %s is on its way",
				usecase.Unicode(c.domain.Name))
		}
		if err != nil {
			return struct{}{}, err
		}
		a.Summarize("cancel the order for %s", strings.Join(under.Names, ", "))
		if err := s.cancelOrderTx(ctx, tx, c, language.New("cancelled by %s", a.Name)); err != nil {
			return struct{}{}, err
		}
		if err := tx.ScheduleCertificate(ctx, db.ScheduleCertificateParams{DomainID: c.domain.ID,
			DueAt: dueAt(s.Now().Add(certificates.Recheck)), Seen: c.config.DueAt}); err != nil {
			return struct{}{}, err
		}
		return struct{}{},
			usecase.Record(ctx, tx, a, "certificate.cancel", usecase.AboutAccount(c.entitlement.Account),
				map[string]any{"domain": c.domain.Name, "names": under.Names}, nil)
	})
	return err
}

// cancelOrderTx ends the order of a site that is on its way, if there is one.
func (s *Service) cancelOrderTx(ctx context.Context, tx store.Tx, c siteCertificate, why language.Text) error {
	under, err := tx.UnfinishedOrder(ctx, c.domain.ID)
	if store.None(err) {
		return nil
	}
	if err != nil {
		return err
	}
	if under.State != orderNew && under.State != orderProving {
		return refusal.New(refusal.WrongState,
			"a certificate for %s is being issued just now: try again when it is there", usecase.Unicode(c.domain.Name))
	}
	w := orderRun{service: s, site: c, order: under}
	if err := w.cleanUp(ctx, tx, usecase.Cancelled{Why: why}); err != nil {
		return err
	}
	w.order.State = orderFailed
	_, err = saveOrderState(ctx, tx, w.order)
	return err
}

// leafOf reads the first certificate of a chain.
func leafOf(chain string) (*x509.Certificate, error) {
	block, _ := pem.Decode([]byte(chain))
	if block == nil {
		return nil, errors.New("no certificate in the chain")
	}
	return x509.ParseCertificate(block.Bytes)
}
