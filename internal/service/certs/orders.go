package certs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"victualler/internal/acme"
	"victualler/internal/api"
	"victualler/internal/hosting/certificates"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
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

// maxSharedWait is how long at most other sites wait where an authority has been asked too often:
// it does not say whether that was for the names of one order or in all. The site of the order
// waits as long as it was told to.
const maxSharedWait = 10 * time.Minute

// ordersPerRound is how many sites that are due are begun with in one round, and ordersBegun how
// many of them at the same time.
const (
	ordersPerRound      = 100
	maxConcurrentOrders = 20
)

// beginTime is more than one of them takes to be rehearsed, and until its turn comes.
const beginTime = 3 * time.Minute

// OrderCertificates begins the orders that are due.
func (s *Service) OrderCertificates(ctx context.Context) error {
	if err := s.resumeOrders(ctx); err != nil {
		return err
	}
	now := s.Now()
	due, err := s.Store.ClaimDueCertificates(ctx, db.ClaimDueCertificatesParams{Now: now, Until: now.Add(beginTime),
		Most: ordersPerRound})
	if err != nil {
		return err
	}
	usecase.Concurrently(maxConcurrentOrders, due, func(row db.ClaimDueCertificatesRow) {
		if _, err := s.beginOrder(ctx, usecase.System(), row.DomainID, orderRequest{}); err != nil && ctx.Err() == nil {
			s.Log.Warn("order not begun", "domain", row.Name, "reason", err)
		}
	})
	return nil
}

// resumeOrders takes up orders whose process was killed.
func (s *Service) resumeOrders(ctx context.Context) error {
	cut, err := s.Store.StalledOrders(ctx, usecase.StalledAfter.Seconds())
	if err != nil || len(cut) == 0 {
		return err
	}
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		for _, order := range cut {
			if err := s.Queue.Order(ctx, tx, order); err != nil {
				return err
			}
		}
		return nil
	})
}

// recheckInterval is when a site is looked at again of which nothing can be ordered now.
const recheckInterval = time.Hour

// orderRequest is how an order comes about.
type orderRequest struct {
	// byPerson says that a person asks for it, for whom it is always
	// due and who is told why it cannot be.
	byPerson bool
	api.CertificateOrder
}

// beginOrder rehearses the names of a site and orders a certificate for those that would pass;
// nothing where that is not due.
func (s *Service) beginOrder(ctx context.Context, a usecase.Actor, domainID int64, ask orderRequest) (operation int64,
	err error) {
	site, err := s.loadSiteCertificate(ctx, s.Store.Queries, domainID)
	if err != nil {
		return 0, err
	}
	wait := func(until time.Time) (int64, error) {
		return 0, s.Store.ScheduleCertificate(ctx, db.ScheduleCertificateParams{DomainID: domainID, NextAt: &until,
			Seen: site.config.NextAt})
	}
	now := s.Now()
	if reason := site.cannotOrder(now); reason != nil {
		if ask.byPerson {
			return 0, reason
		}
		return wait(now.Add(recheckInterval))
	}
	for _, limited := range []*time.Time{site.config.LimitedUntil, site.authority.LimitedUntil} {
		if limited != nil && limited.After(now) {
			if ask.byPerson {
				return 0, refusal.New(refusal.WrongState, "%s has been asked too often and takes the next order at %s",
					site.authority.Name, usecase.FormatTime(*limited))
			}
			return wait(*limited)
		}
	}
	if !ask.byPerson && !site.due(now) {
		return wait(site.nextCheck(now))
	}
	if ask.byPerson {
		if err := s.AllowProbe(ctx, a); err != nil {
			return 0, err
		}
	}
	chosen, err := s.chooseNames(ctx, site, ask)
	if err != nil {
		return 0, err
	}
	pass, out := chosen.pass, chosen.out
	switch {
	case len(pass) == 0 && ask.byPerson:
		return 0, refusal.New(refusal.WrongState, "no name would pass: %s. What to do: %s", out[0].Reason, out[0].Do)
	case len(pass) == 0:
		f := &orderFailure{code: out[0].Code, reason: out[0].Reason}
		// The authority has not been asked, so its patience is not what counts: soon after somebody
		// has put it right, the certificate should come.
		return 0, s.siteFailed(ctx, s.Store.Queries, site, f, min(recheckInterval, s.retryAfter(site, f)))
	case len(out) > 0 && ask.byPerson && !ask.LeaveOut:
		return 0, &refusal.Refusal{Kind: refusal.NeedsDecision, Detail: fmt.Sprintf("%s would fail: %s. What to do: "+
			"%s. Or leave it out for now (leave_out; client: --leave-out): it is added when it passes", out[0].Name,
			out[0].Reason, out[0].Do),
			Decide: []refusal.Choice{{Field: "leave_out", Value: "true",
				Means: fmt.Sprintf("order for %s; the rest is added when it passes", strings.Join(pass, ", "))}}}
	case !ask.byPerson && site.inUse != nil && !site.renewal(now) && !addsNames(site.inUse.Names, pass):
		return wait(site.nextCheck(now)) // it was looked at because a name is missing, and that would still fail
	}
	secret, err := s.keyForOrder(site)
	if err != nil {
		return 0, err
	}
	leftOut, err := json.Marshal(usecase.NonNil(out))
	if err != nil {
		return 0, err
	}
	ways, err := json.Marshal(chosen.ways)
	if err != nil {
		return 0, err
	}
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (int64, error) {
		if _, err := usecase.LockSiteCertificate(ctx, tx, domainID); err != nil {
			return 0, err
		}
		if under, err := tx.UnfinishedOrder(ctx, domainID); err == nil {
			return under.OperationID, nil // another process was quicker
		} else if !store.None(err) {
			return 0, err
		}
		if free, bound, err := withinBounds(ctx, tx, site.authority.ID, pass, now); err != nil {
			return 0, err
		} else if bound != nil && ask.byPerson {
			return 0, refusal.New(refusal.WrongState, "there were %d orders in %d hours already (bound per %s at "+
				"%s), and the next one is possible at %s", bound.Most, bound.Hours, bound.Per, site.authority.Name,
				usecase.FormatTime(free))
		} else if bound != nil {
			return 0, tx.ScheduleCertificate(ctx, db.ScheduleCertificateParams{DomainID: domainID, NextAt: &free,
				Seen: site.config.NextAt})
		}
		a.Summarize("order a certificate for %s", strings.Join(pass, ", "))
		account := site.entitlement.Account
		operation, err := usecase.AddOperation(ctx, tx, a, db.AddOperationParams{Kind: "certificate.order",
			Subject: usecase.Unicode(site.domain.Name), AccountID: &account.ID, ServerID: &account.ServerID})
		if err != nil {
			return 0, err
		}
		order, err := tx.AddOrder(ctx, db.AddOrderParams{DomainID: domainID, AuthorityID: site.authority.ID,
			OperationID: operation, Names: pass, LeftOut: leftOut, KeyType: site.config.KeyType, Key: secret,
			Ways: ways})
		if err != nil {
			return 0, err
		}
		if err := usecase.Record(ctx, tx, a, "certificate.order", usecase.AboutAccount(account), nil,
			map[string]any{"domain": site.domain.Name, "names": pass, "authority": site.authority.Name,
				"by_hand": ask.ByHand}); err != nil {
			return 0, err
		}
		return operation, s.Queue.Order(ctx, tx, order.ID)
	})
}

// choice is what comes of a rehearsal: for which names it is ordered,
// how they are proved, and which ones are left out.
type choice struct {
	pass []string
	ways map[string]certificates.Proof
	out  []api.LeftOut
}

// chooseNames rehearses the names of a site and chooses those to be ordered for.
func (s *Service) chooseNames(ctx context.Context, site siteCertificate, ask orderRequest) (choice, error) {
	c := choice{ways: map[string]certificates.Proof{}}
	verdicts, err := s.rehearse(ctx, rehearsal{site: site, names: site.names(), chosen: len(site.config.Names) > 0,
		byHand: ask.ByHand})
	if err != nil {
		return c, err
	}
	var refused []string
	if !ask.byPerson { // one name that an authority sees otherwise than we do must not keep the others from theirs
		if refused, err = s.Store.RefusedNames(ctx, site.domain.ID); err != nil {
			return c, err
		}
		if len(refused) >= len(site.names()) {
			refused = nil
		}
	}
	for _, name := range site.names() {
		v := verdicts[name]
		if v.Result != certificates.Fail && slices.Contains(refused, name) {
			v = certificates.Verdict{Result: certificates.Fail, Code: site.config.Code, Reason: site.config.Problem,
				Do: "see what the authority says; the name is ordered for again after a day"}
		}
		if v.Result == certificates.Fail {
			c.out = append(c.out, api.LeftOut{Name: name, Code: v.Code, Reason: v.Reason, Do: v.Do})
			continue
		}
		c.pass = append(c.pass, name)
		switch { // of one of which nothing can be known, it is tried in the way that there is
		case ask.ByHand:
			c.ways[name] = certificates.ByHand
		case v.Proof == "" && strings.HasPrefix(name, "*."):
			c.ways[name] = certificates.InZone
		case v.Proof != "" && v.Proof != certificates.OverHTTP:
			c.ways[name] = v.Proof
		}
	}
	return c, nil
}

// withinBounds is when an authority's bounds let a site order again; a bound only where that is not
// now. Until the end of the transaction, nobody else is told so.
func withinBounds(ctx context.Context, tx store.Tx, authority int64, names []string, now time.Time) (time.Time,
	*certificates.Bound, error) {
	none := time.Time{}
	row, err := tx.AuthorityByID(ctx, authority)
	if err != nil {
		return none, nil, err
	}
	var bounds []certificates.Bound
	if err := json.Unmarshal(row.Bounds, &bounds); err != nil || len(bounds) == 0 {
		return none, nil, err
	}
	if err := usecase.LockAuthority(ctx, tx, authority); err != nil {
		return none, nil, err
	}
	hours := 0
	for _, b := range bounds {
		hours = max(hours, b.Hours)
	}
	rows, err := tx.OrderTimes(ctx, db.OrderTimesParams{AuthorityID: authority,
		CreatedAt: now.Add(-time.Duration(hours) * time.Hour)})
	if err != nil {
		return none, nil, err
	}
	var placed []certificates.Placed
	for _, r := range rows {
		placed = append(placed, certificates.Placed{Names: r.Names, At: r.CreatedAt})
	}
	free, bound := certificates.Next(bounds, placed, names, now)
	return free, bound, nil
}

// addsNames reports whether some names would be had that are not.
func addsNames(had, names []string) bool {
	return slices.ContainsFunc(names, func(n string) bool { return !slices.Contains(had, n) })
}

// retryAfter is how long is waited for the next try, after one more failure of a site.
func (s *Service) retryAfter(site siteCertificate, f *orderFailure) time.Duration {
	var left time.Duration
	if site.inUse != nil {
		left = site.inUse.NotAfter.Sub(s.Now())
	}
	return certificates.RetryAfter(int(site.config.Failures)+1, left, f.wait, site.domain.Name)
}

// siteFailed notes why a certificate could not be had, and has the next try be after a pause.
func (s *Service) siteFailed(ctx context.Context, q *db.Queries, site siteCertificate, f *orderFailure,
	pause time.Duration) error {
	now := s.Now()
	next := now.Add(pause)
	p := db.SaveCertificateFailureParams{DomainID: site.domain.ID, Code: f.code, Problem: f.reason, NextAt: &next}
	if f.wait > 0 {
		until := now.Add(f.wait)
		p.LimitedUntil = &until
	}
	return q.SaveCertificateFailure(ctx, p)
}

// orderFailure is why an order has come to nothing.
type orderFailure struct {
	code, reason string
	// wait is how long the authority wants to be left alone; 0 where it does not say.
	wait time.Duration
	// names are those that could not be proved.
	names []string
}

func (f *orderFailure) Error() string { return f.reason }

// retryAfter says that an order goes on after a while.
type retryAfter struct{ after time.Duration }

func (g retryAfter) Error() string { return fmt.Sprintf("goes on in %s", g.after) }

// errEnteredByHand says that an order goes on when somebody has entered what it needs, and
// errTakenBack that it does not go on at all.
var (
	errEnteredByHand = errors.New("waiting for records")
	errCancelled     = errors.New("the order was taken back")
)

// byHandFor is how long it is looked whether somebody has entered records.
const byHandFor = 7 * 24 * time.Hour

// byHandPause is how soon it is looked again, for somebody who has been asked for records so long
// ago: at once as long as they may be at it, and then ever less often.
func byHandPause(since time.Duration) time.Duration {
	return max(5*time.Second, min(since/60, 5*time.Minute))
}

// Order brings an order as far as it goes now. With again, it goes on after that time. An error
// means that it should be tried again.
func (s *Service) Order(ctx context.Context, id int64) (again time.Duration, err error) {
	if !s.ordering.Begin(id) {
		return 0, nil
	}
	defer s.ordering.End(id)
	order, err := s.Store.OrderByID(ctx, id)
	if err != nil {
		if store.None(err) { // it went with its domain
			return 0, nil
		}
		return 0, err
	}
	if order.State == orderDone || order.State == orderFailed {
		return 0, nil
	}
	site, err := s.loadSiteCertificate(ctx, s.Store.Queries, order.DomainID)
	if err != nil {
		return 0, err
	}
	authority, err := s.Store.AuthorityByID(ctx, order.AuthorityID)
	if err != nil {
		return 0, err
	}
	client, err := s.authorityAt(authority)
	if err != nil {
		return 0, err
	}
	defer client.Close()
	w := &orderRun{service: s, client: client, site: site, authority: authority, order: order,
		ways: map[string]certificates.Proof{}}
	if err := json.Unmarshal(order.Ways, &w.ways); err != nil {
		return 0, err
	}
	w.progress = s.StartProgress(order.OperationID)
	defer w.progress.Close()
	if site.entitlement.Account.State != "active" {
		err = &orderFailure{code: "account", reason: "the account is being closed"}
	} else {
		err = w.run(ctx)
	}
	var on retryAfter
	if errors.As(err, &on) && s.Now().Sub(order.CreatedAt) > w.checkDeadline() {
		err = &orderFailure{code: "authority", reason: fmt.Sprintf("the order at %s has come to no end within %d hours",
			authority.Name, int(orderTime.Hours()))}
	}
	var failure *orderFailure
	switch {
	case err == nil:
		return 0, nil
	case errors.As(err, &on):
		return on.after, nil
	case errors.Is(err, errEnteredByHand):
		return byHandPause(s.Now().Sub(order.CreatedAt)), nil
	case errors.Is(err, errCancelled):
		return 0, nil
	case ctx.Err() != nil:
		return 0, err
	case errors.As(err, &failure):
		w.progress.Close()
		return 0, w.failed(ctx, failure)
	}
	var unreached *usecase.AgentError
	if errors.As(err, &unreached) && s.Now().Sub(order.CreatedAt) < rollout.GiveUpAfter {
		w.progress.Note(fmt.Sprintf("%s; trying again", unreached))
		return 5 * time.Second, nil
	}
	if unreached != nil {
		w.progress.Close()
		return 0, w.failed(ctx, &orderFailure{code: "server", reason: fmt.Sprintf("the challenges could not be shown "+
			"for %s: %s", rollout.GiveUpAfter, unreached)})
	}
	if !acme.Theirs(err) { // the database's, or ours
		return 0, err
	}
	why := acme.Reason(err)
	if why.Kind == "accountDoesNotExist" {
		err := s.registerAgain(ctx, client, authority)
		if err == nil {
			return time.Second, w.restart(ctx)
		}
		if !acme.Theirs(err) {
			return 0, err
		}
		why = acme.Reason(err)
	}
	patience := rollout.GiveUpAfter
	if w.byHand() { // somebody has gone to some trouble for it
		patience = w.checkDeadline()
	}
	if !why.Passing || why.Limited || s.Now().Sub(order.CreatedAt) > patience {
		if why.Limited {
			why.Wait = max(why.Wait, time.Minute)
			until := s.Now().Add(min(why.Wait, maxSharedWait))
			if err := s.Store.LimitAuthority(ctx, db.LimitAuthorityParams{ID: authority.ID,
				LimitedUntil: &until}); err != nil {
				return 0, err
			}
		}
		w.progress.Close()
		return 0, w.failed(ctx, &orderFailure{code: usecase.OrEmpty(why.Kind, "authority"),
			reason: fmt.Sprintf("%s: %s", authority.Name, why.Detail), wait: why.Wait})
	}
	w.progress.Note(fmt.Sprintf("%s does not answer as it should (%s); trying again", authority.Name, why.Detail))
	return 5 * time.Second, nil
}

// OrderCertificate orders a certificate for a site now, for the names that would pass.
func (s *Service) OrderCertificate(ctx context.Context, a usecase.Actor, reference, name string,
	in api.CertificateOrder) (api.Started, error) {
	if answer, repeated, err := usecase.StoredAnswer[int64](ctx, s.Base, s.Store.Queries, a); err != nil || repeated {
		return api.Started{Operation: answer}, err
	}
	c, err := s.findSite(ctx, a, reference, name)
	if err != nil {
		return api.Started{}, err
	}
	if err := checkCertificatesAllowed(ctx, s.Store.Queries, a, c); err != nil {
		return api.Started{}, err
	}
	operation, err := s.beginOrder(ctx, a, c.domain.ID, orderRequest{true, in})
	var unreached *usecase.AgentError
	if errors.As(err, &unreached) {
		return api.Started{}, refusal.New(refusal.ServerUnreachable, "the site's server cannot be given anything to "+
			"answer with: %s", unreached)
	}
	return api.Started{Operation: operation}, err
}

// CancelOrder ends an order that is on its way and has not come so far that the authority issues.
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
		a.Summarize("take the order for %s back", strings.Join(under.Names, ", "))
		if err := s.cancelOrderTx(ctx, tx, c, a.Name+" has taken the order back"); err != nil {
			return struct{}{}, err
		}
		next := s.Now().Add(recheckInterval)
		if err := tx.ScheduleCertificate(ctx, db.ScheduleCertificateParams{DomainID: c.domain.ID, NextAt: &next,
			Seen: c.config.NextAt}); err != nil {
			return struct{}{}, err
		}
		return struct{}{},
			usecase.Record(ctx, tx, a, "certificate.take_back", usecase.AboutAccount(c.entitlement.Account),
				map[string]any{"domain": c.domain.Name, "names": under.Names}, nil)
	})
	return err
}

// cancelOrderTx ends the order of a site that is on its way, if there is one.
func (s *Service) cancelOrderTx(ctx context.Context, tx store.Tx, c siteCertificate, why string) error {
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
	if err := w.end(ctx, tx, orderFailed); err != nil {
		return err
	}
	return usecase.FinishOperationsTx(ctx, tx, fmt.Errorf("%s", why), under.OperationID)
}
