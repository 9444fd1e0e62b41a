package certs

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/certificates"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// ordersPerRound is how many sites that are due are looked at in one round, and maxConcurrentOrders
// how many of them at the same time.
const (
	ordersPerRound      = 100
	maxConcurrentOrders = 20
)

// beginTime is more than it takes to rehearse one of them, and until its turn comes: nobody else
// takes a site meanwhile.
const beginTime = 3 * time.Minute

// OrderCertificates begins the orders that are due.
//
// Refusals: InvalidInput, NameTaken, NeedsDecision, NotAllowed, TooManyTries, WrongState.
// Locks: the authority, the site's certificate.
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
		_, err := s.beginOrder(ctx, usecase.System(), row.DomainID, orderRequest{})
		if err = errors.Join(err, s.Store.ReleaseCertificate(ctx, row.DomainID)); err != nil && ctx.Err() == nil {
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

// orderRequest is how an order comes about.
type orderRequest struct {
	// byPerson says that a person asks for it, for whom it is always
	// due and who is told why it cannot be.
	byPerson bool
	api.CertificateOrder
}

// beginOrder rehearses the names of a site and orders a certificate for
// those that would pass. For nobody in particular, it does so only if
// that is due, and else decides when it is looked at again.
func (s *Service) beginOrder(ctx context.Context, a usecase.Actor, domainID int64, ask orderRequest) (operation int64,
	err error) {
	site, err := s.loadSiteCertificate(ctx, s.Store.Queries, domainID)
	if err != nil {
		return 0, err
	}
	again := func(at time.Time) (int64, error) {
		return 0, s.Store.ScheduleCertificate(ctx, db.ScheduleCertificateParams{DomainID: domainID, DueAt: dueAt(at),
			Seen: site.config.DueAt})
	}
	now := s.Now()
	cause := certificates.Requested
	if !ask.byPerson {
		if cause = site.schedule().Due(now); cause == certificates.NotDue {
			return again(site.schedule().Next(now))
		}
	}
	if reason := site.cannotOrder(now); reason != nil {
		if ask.byPerson {
			return 0, reason
		}
		return again(now.Add(certificates.Recheck))
	}
	for _, limited := range []*time.Time{site.config.LimitedUntil, site.authority.LimitedUntil} {
		if limited != nil && limited.After(now) {
			if ask.byPerson {
				return 0, refusal.New(refusal.WrongState, "%s has been asked too often and takes the next order at %s",
					site.authority.Name, usecase.FormatTime(*limited))
			}
			return again(*limited)
		}
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
		v := chosen.why[out[0].Name]
		return 0, refusal.New(refusal.WrongState, "no name would pass: %s. What to do: %s", v.Reason, v.Do)
	case len(pass) == 0:
		f := orderFailure{code: out[0].Code, reason: chosen.why[out[0].Name].Reason}
		// The authority has not been asked, so its patience is not what counts: soon after somebody
		// has put it right, the certificate should come.
		pause := min(certificates.Recheck, s.retryAfter(site, f))
		if err := s.saveFailure(ctx, s.Store.Queries, site, f); err != nil {
			return 0, err
		}
		return again(now.Add(pause))
	case len(out) > 0 && ask.byPerson && !ask.LeaveOut:
		v := chosen.why[out[0].Name]
		return 0, refusal.New(refusal.NeedsDecision, "%s would fail: %s. What to do: %s. Or leave it out for now "+
			"(leave_out; client: --leave-out): it is added when it passes", out[0].Name, v.Reason, v.Do).
			Choose(refusal.Decision("leave_out", "true", "order for %s; the rest is added when it passes",
				strings.Join(pass, ", ")))
	case cause == certificates.MoreNames && !containsAny(site.schedule().Missing(), pass):
		return again(site.schedule().Next(now)) // what is missing would still fail
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
			ways, err := waysOf(under)
			if err != nil {
				return 0, err
			}
			if ask.byPerson && (!sameNames(under.Names, pass) || ask.ByHand && !ways.byHand()) {
				return 0, refusal.New(refusal.WrongState, "an order for %s is under way (operation %d): wait for its "+
					"end, or cancel it", strings.Join(under.Names, ", "), under.OperationID)
			}
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
			return 0, tx.ScheduleCertificate(ctx, db.ScheduleCertificateParams{DomainID: domainID, DueAt: &free,
				Seen: site.config.DueAt})
		}
		a.Summarize("order a certificate for %s", strings.Join(pass, ", "))
		account := site.entitlement.Account
		kind := "certificate.order"
		if cause == certificates.Renewal {
			kind = "certificate.renew"
		}
		operation, err := usecase.AddOperation(ctx, tx, a, db.AddOperationParams{Kind: kind,
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
		if err := usecase.Record(ctx, tx, a, kind, usecase.AboutAccount(account), nil,
			map[string]any{"domain": site.domain.Name, "names": pass, "authority": site.authority.Name,
				"by_hand": ask.ByHand, "cause": cause}); err != nil {
			return 0, err
		}
		return operation, s.Queue.Order(ctx, tx, order.ID)
	})
}

func sameNames(a, b []string) bool {
	return slices.Equal(slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b)))
}

// choice is what comes of a rehearsal: for which names it is ordered,
// how they are proved, and which ones are left out.
type choice struct {
	pass []string
	ways map[string]certificates.Proof
	out  []api.LeftOut
	// why says of those that are left out why they are.
	why map[string]certificates.Verdict
}

// chooseNames rehearses the names of a site and chooses those to be ordered for.
func (s *Service) chooseNames(ctx context.Context, site siteCertificate, ask orderRequest) (choice, error) {
	c := choice{ways: map[string]certificates.Proof{}, why: map[string]certificates.Verdict{}}
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
			v = certificates.Verdict{Result: certificates.Fail, Code: site.config.Code,
				Reason: language.Decode(site.config.Problem),
				Do:     language.New("see what the authority says; the name is ordered for again after a day")}
		}
		if v.Result == certificates.Fail {
			c.out = append(c.out, api.LeftOut{Name: name, Code: v.Code, Reason: v.Reason.Encode(), Do: v.Do.Encode()})
			c.why[name] = v
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
	return c, s.chooseMailNames(ctx, site, ask, refused, &c)
}

// chooseMailNames adds the names for mail that would pass.
func (s *Service) chooseMailNames(ctx context.Context, site siteCertificate, ask orderRequest, refused []string,
	c *choice) error {
	if ask.ByHand || len(c.pass) == 0 || len(site.mailNames()) == 0 {
		return nil
	}
	// We have made their records ourselves, so that they may be proved by DNS as well as over HTTP.
	verdicts, err := s.rehearse(ctx, rehearsal{site: site, names: site.mailNames(), chosen: true})
	if err != nil {
		return err
	}
	for _, name := range site.mailNames() {
		v := verdicts[name]
		if v.Result != certificates.Pass || slices.Contains(refused, name) {
			continue
		}
		c.pass = append(c.pass, name)
		if v.Proof != "" && v.Proof != certificates.OverHTTP {
			c.ways[name] = v.Proof
		}
	}
	return nil
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

// containsAny reports whether a list has one of some names.
func containsAny(list, some []string) bool {
	return slices.ContainsFunc(some, func(n string) bool { return slices.Contains(list, n) })
}

// retryAfter is how long is waited for the next try, after one more failure of a site.
func (s *Service) retryAfter(site siteCertificate, f orderFailure) time.Duration {
	var left time.Duration
	if site.inUse != nil {
		left = site.inUse.NotAfter.Sub(s.Now())
	}
	return certificates.RetryAfter(int(site.config.Failures)+1, left, f.wait, site.domain.Name)
}

// saveFailure puts on record why a certificate could not be had.
func (s *Service) saveFailure(ctx context.Context, q *db.Queries, site siteCertificate, f orderFailure) error {
	p := db.SaveCertificateFailureParams{DomainID: site.domain.ID, Code: f.code, Problem: f.reason.Encode()}
	if f.wait > 0 {
		until := s.Now().Add(f.wait)
		p.LimitedUntil = &until
	}
	return q.SaveCertificateFailure(ctx, p)
}

// OrderCertificate orders a certificate for a site now, for the names that would pass.
//
// Refusals: InvalidInput, NameTaken, NeedsDecision, NotAllowed, NotFound, ServerUnreachable,
// Suspended, TooManyTries, WrongState.
// Locks: the authority, the site's certificate.
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
