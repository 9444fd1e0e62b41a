package service

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"victualler/internal/acme"
	"victualler/internal/api"
	"victualler/internal/hosting/certificates"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/refusal"
	"victualler/internal/manifest"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// How a site comes by its certificate.
const (
	automatic  = "automatic"
	uploaded   = "uploaded"
	selfSigned = "self-signed"
)

// siteCertificate is everything about the certificate of one site.
type siteCertificate struct {
	standing standing
	domain   db.Domain
	wish     db.SiteCertificate
	// inUse is what the site shows; nil where it has made one itself.
	inUse *db.Certificate
	// authority is the one that is asked for the next; nil where there is none.
	authority *db.Authority
}

func (s *Service) loadSiteCertificate(ctx context.Context, q *db.Queries, domainID int64) (siteCertificate, error) {
	var c siteCertificate
	var err error
	if c.domain, err = q.DomainByID(ctx, domainID); err != nil {
		return c, err
	}
	if c.wish, err = q.SiteCertificate(ctx, domainID); err != nil {
		return c, err
	}
	account, err := q.Account(ctx, c.domain.AccountID)
	if err != nil {
		return c, err
	}
	if c.standing, err = s.standingOf(ctx, q, account); err != nil {
		return c, err
	}
	inUse, err := q.CertificateInUse(ctx, domainID)
	if err == nil {
		c.inUse = &inUse
	} else if !store.None(err) {
		return c, err
	}
	var authority db.Authority
	if c.wish.AuthorityID != nil {
		authority, err = q.AuthorityByID(ctx, *c.wish.AuthorityID)
	} else {
		authority, err = q.UsualAuthority(ctx)
	}
	if err == nil {
		c.authority = &authority
	} else if !store.None(err) {
		return c, err
	}
	return c, nil
}

// names are those that the certificate should be for.
func (c siteCertificate) names() []string {
	if len(c.wish.Names) > 0 {
		return c.wish.Names
	}
	return []string{c.domain.Name, "www." + c.domain.Name}
}

// namesOr are names that somebody asks for, which must be the site's; without any, those that its certificate should be for.
func (c siteCertificate) namesOr(typed []string) ([]string, error) {
	if len(typed) == 0 {
		return c.names(), nil
	}
	return siteNames(c.domain, typed)
}

// cannotOrder says why nothing can be ordered for the site, whatever the world looks like.
func (c siteCertificate) cannotOrder(now time.Time) *refusal.Refusal {
	name := unicode(c.domain.Name)
	switch {
	case !servedByWeb(c.domain):
		return refusal.New(refusal.WrongState, "%s has no site: it is there for its name service alone", name)
	case c.wish.Mode != automatic && !c.lastMoment(now):
		return refusal.New(refusal.WrongState, "the certificate of %s is %s; have it come by itself first (mode: automatic)", name, c.wish.Mode)
	case !c.standing.has("certificates"):
		return c.standing.without("certificates of an authority need", "certificates")
	case slices.ContainsFunc(c.names(), func(n string) bool { return strings.HasPrefix(n, "*.") }) && !c.standing.has("wildcard"):
		return c.standing.without("a certificate for all names below a domain needs", "wildcard")
	case c.authority == nil:
		return refusal.New(refusal.WrongState, "no authority has been added yet; an operator adds one")
	}
	return nil
}

// renewal reports whether it is time for the next certificate.
func (c siteCertificate) renewal(now time.Time) bool {
	switch {
	case c.inUse == nil:
		return true
	case c.inUse.AuthorityID == nil: // brought by somebody
		return c.wish.Mode == automatic || c.lastMoment(now)
	}
	return c.inUse.RenewAt != nil && !c.inUse.RenewAt.After(now)
}

// lastMoment reports whether a certificate that somebody brought is about to end: an authority's takes its place then, as one that has ended is worse.
func (c siteCertificate) lastMoment(now time.Time) bool {
	return c.wish.Mode == uploaded && c.inUse != nil && !now.Before(standInAt(c.inUse.NotAfter))
}

func standInAt(ends time.Time) time.Time { return ends.Add(-24 * time.Hour) }

// due reports whether there is something to be ordered, as far as that is known without asking the world.
func (c siteCertificate) due(now time.Time) bool {
	return c.renewal(now) || gains(c.inUse.Names, c.names())
}

// nextLook is when the site should be looked at again.
func (c siteCertificate) nextLook(now time.Time) time.Time {
	next := now.Add(later)
	if c.wish.Mode == uploaded && c.inUse != nil {
		next = standInAt(c.inUse.NotAfter)
	}
	if c.inUse != nil && c.inUse.RenewAt != nil && (c.inUse.RenewAt.Before(next) || !gains(c.inUse.Names, c.names())) {
		next = *c.inUse.RenewAt
	}
	if next.Before(now) {
		next = now
	}
	return next
}

// addCertificates gives the sites of a manifest the certificates that they are to show.
func (s *Service) addCertificates(ctx context.Context, q *db.Queries, domains []db.Domain, account int64, m *manifest.Manifest) error {
	rows, err := q.CertificatesInForce(ctx, account)
	if err != nil {
		return err
	}
	for _, row := range rows { // the newest comes last
		at := slices.IndexFunc(domains, func(d db.Domain) bool { return d.ID == row.DomainID })
		site := slices.IndexFunc(m.Sites, func(s manifest.Site) bool { return at >= 0 && s.Domain.String() == domains[at].Name })
		if site < 0 {
			continue
		}
		key, err := s.keyText(row.Key)
		if err != nil {
			return err
		}
		m.Sites[site].Certificate = &manifest.Certificate{Chain: row.Chain, Key: manifest.Secret(key)}
	}
	return nil
}

// SiteKeyPair is the certificate in use of a site and its key, both PEM, for the service to show them itself; nothing where there is none.
func (s *Service) SiteKeyPair(ctx context.Context, name string) (chain, key []byte, err error) {
	d, _, err := names.ParseDomain(name)
	if err != nil {
		return nil, nil, err
	}
	row, err := s.store.CertificateOfName(ctx, d.String())
	if store.None(err) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	key, err = s.keyText(row.Key)
	return []byte(row.Chain), key, err
}

// keyText opens the key of a certificate, and writes it as PEM.
func (s *Service) keyText(sealed []byte) ([]byte, error) {
	der, err := s.key.Open(sealedCertificateKey, sealed)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), nil
}

// AskRenewals asks authorities when the certificates that are in use should be renewed (RFC 9773).
func (s *Service) AskRenewals(ctx context.Context) error {
	s.settleAccountKeys(ctx)
	now := s.now()
	due, err := s.store.CertificatesToAsk(ctx, &now)
	if err != nil {
		return err
	}
	atOnce(ordersBegun, due, func(row db.Certificate) {
		if err := s.askRenewal(ctx, row); err != nil && ctx.Err() == nil {
			s.log.Warn("authority not asked when to renew", "certificate", row.ID, "reason", err)
		}
	})
	return nil
}

// withIssuer does something with the authority that has issued a certificate.
func (s *Service) withIssuer(ctx context.Context, row db.Certificate, do func(client *acme.Client, leaf *x509.Certificate, authority db.Authority) error) error {
	authority, err := s.store.AuthorityByID(ctx, *row.AuthorityID)
	if err != nil {
		return err
	}
	leaf, err := leafOf(row.Chain)
	if err != nil {
		return err
	}
	client, err := s.authorityAt(authority)
	if err != nil {
		return err
	}
	defer client.Close()
	return do(client, leaf, authority)
}

func (s *Service) askRenewal(ctx context.Context, row db.Certificate) error {
	again := s.now().Add(later) // until it answers, what was known counts
	told := db.RenewalToldParams{ID: row.ID, RenewAt: row.RenewAt, AskAt: &again, Explanation: row.Explanation}
	err := s.withIssuer(ctx, row, func(client *acme.Client, leaf *x509.Certificate, _ db.Authority) error {
		says, err := client.Renewal(ctx, leaf)
		switch {
		case err != nil:
			return err
		case says == nil: // it never says
			told.AskAt, told.Explanation = nil, ""
		default:
			at := certificates.RenewAt(row.NotBefore, row.NotAfter, &says.Window, row.Serial)
			again = s.now().Add(says.AskAgain)
			told.RenewAt, told.Explanation = &at, says.Explanation
		}
		return nil
	})
	if stored := s.store.RenewalTold(ctx, told); stored != nil || told.RenewAt == nil {
		return stored
	}
	if stored := s.store.TryCertificateBy(ctx, db.TryCertificateByParams{DomainID: row.DomainID, NextAt: *told.RenewAt}); stored != nil {
		return stored
	}
	return err
}

// atOnce works on a list, on some of it at the same time.
func atOnce[T any](most int, list []T, do func(T)) {
	var group sync.WaitGroup
	places := make(chan struct{}, most)
	for _, one := range list {
		places <- struct{}{}
		group.Go(func() {
			defer func() { <-places }()
			do(one)
		})
	}
	group.Wait()
}

// findSite finds the certificate of a domain that the actor reaches.
func (s *Service) findSite(ctx context.Context, a Actor, reference, name string) (siteCertificate, error) {
	_, d, _, err := s.lookAtDomain(ctx, a, reference, name)
	if err != nil {
		return siteCertificate{}, err
	}
	c, err := s.loadSiteCertificate(ctx, s.store.Queries, d.ID)
	if store.None(err) {
		return c, refusal.New(refusal.WrongState, "%s has no site: it is there for its name service alone", unicode(d.Name))
	}
	return c, err
}

// state is the word for how a site stands.
func (c siteCertificate) state(ordered bool, now time.Time) string {
	has := c.inUse != nil
	return certificateState(stands(has, has && c.inUse.AuthorityID == nil, ordered, c.wish.Failures > 0, has && c.inUse.NotAfter.Before(now)))
}

// What a site's certificate stands by, as bits; [certificateState] says what they come to, and the inventory is narrowed by them.
const (
	standsHas     = 1 << iota // there is one in use
	standsBrought             // that somebody has brought
	standsOrdered             // an order is on its way
	standsFailing             // the last try has failed
	standsEnded               // the one in use has ended
	standsAll     = 1<<iota - 1
)

func certificateState(stands int32) string {
	has := stands&standsHas != 0
	switch {
	case has && stands&standsEnded != 0:
		return "expired"
	case stands&standsOrdered != 0 && !has:
		return "ordered"
	case stands&standsFailing != 0:
		return "failing"
	case has && stands&standsBrought != 0:
		return "uploaded"
	case has:
		return "valid"
	}
	return "self-signed"
}

// standings are all that come to a state; nil for no state.
func standings(state string) []int32 {
	var list []int32
	for stands := int32(0); state != "" && stands <= standsAll; stands++ {
		if certificateState(stands) == state {
			list = append(list, stands)
		}
	}
	return list
}

func stands(has, brought, ordered, failing, ended bool) int32 {
	var out int32
	for n, is := range []bool{has, brought, ordered, failing, ended} {
		if is {
			out |= 1 << n
		}
	}
	return out
}

// Certificate tells everything about the certificate of a site.
func (s *Service) Certificate(ctx context.Context, a Actor, reference, name string) (api.SiteCertificate, error) {
	c, err := s.findSite(ctx, a, reference, name)
	if err != nil {
		return api.SiteCertificate{}, err
	}
	return s.certificateView(ctx, s.store.Queries, c)
}

func (s *Service) certificateView(ctx context.Context, q *db.Queries, c siteCertificate) (api.SiteCertificate, error) {
	out := api.SiteCertificate{Domain: c.domain.Name, Mode: c.wish.Mode, Names: c.names(), Chosen: len(c.wish.Names) > 0, KeyType: c.wish.KeyType, Failures: int(c.wish.Failures), FailingSince: c.wish.FailedAt,
		Code: c.wish.Code, Problem: c.wish.Problem, Covered: []string{}, LeftOut: []api.LeftOut{},
		PinKey: c.wish.PinKey, Records: []api.ChallengeRecord{}, Aliases: []api.ChallengeAlias{}, Requests: []api.SigningRequest{}, Earlier: []api.EarlierCertificate{}, Version: c.wish.Version}
	if c.authority != nil {
		out.Authority = c.authority.Name
	}
	if reason := c.cannotOrder(s.now()); reason == nil {
		out.NextTry = c.wish.NextAt
	}
	for _, more := range []func(context.Context, *db.Queries, siteCertificate, *api.SiteCertificate) error{viewOrder, viewLeftOut, viewRequests, viewEarlier, viewAliases} {
		if err := more(ctx, q, c, &out); err != nil {
			return out, err
		}
	}
	out.State = c.state(out.Operation != 0, s.now())
	if c.inUse == nil {
		return out, nil
	}
	leaf, err := leafOf(c.inUse.Chain)
	if err != nil {
		return out, err
	}
	out.Covered, out.NotBefore, out.NotAfter, out.RenewAt, out.Serial = c.inUse.Names, &c.inUse.NotBefore, &c.inUse.NotAfter, c.inUse.RenewAt, c.inUse.Serial
	out.Issuer = issuerWords(leaf)
	out.InstalledAt = c.inUse.InstalledAt
	return out, nil
}

// viewOrder tells of the order that is on its way.
func viewOrder(ctx context.Context, q *db.Queries, c siteCertificate, out *api.SiteCertificate) error {
	under, err := q.OrderUnderWay(ctx, c.domain.ID)
	if store.None(err) {
		return nil
	}
	if err != nil {
		return err
	}
	out.Operation = under.OperationID
	list, err := q.ChallengesOf(ctx, under.ID)
	for _, r := range list {
		if r.Kind == certificates.ByDNS && r.AccountID == nil {
			out.Records = append(out.Records, api.ChallengeRecord{Name: r.Record, Type: "TXT", Data: r.Value, Shown: r.LookedAt != nil && len(r.Missing) == 0, Missing: r.Missing, LookedAt: r.LookedAt})
		}
	}
	return err
}

// viewLeftOut tells which names the last order has left out, and why.
func viewLeftOut(ctx context.Context, q *db.Queries, c siteCertificate, out *api.SiteCertificate) error {
	last, err := q.LastOrder(ctx, c.domain.ID)
	if store.None(err) || c.wish.Mode != automatic {
		return nil
	}
	if err != nil {
		return err
	}
	var all []api.LeftOut
	if err := json.Unmarshal(last.LeftOut, &all); err != nil {
		return err
	}
	for _, l := range all {
		if slices.Contains(c.names(), l.Name) && (c.inUse == nil || !slices.Contains(c.inUse.Names, l.Name)) {
			out.LeftOut = append(out.LeftOut, l)
		}
	}
	return nil
}

func viewRequests(ctx context.Context, q *db.Queries, c siteCertificate, out *api.SiteCertificate) error {
	rows, err := q.SigningRequests(ctx, c.domain.ID)
	for _, r := range rows {
		out.Requests = append(out.Requests, requestView(r))
	}
	return err
}

// mostEarlier is how many certificates that are used no longer are told of.
const mostEarlier = 10

func viewEarlier(ctx context.Context, q *db.Queries, c siteCertificate, out *api.SiteCertificate) error {
	rows, err := q.EarlierCertificates(ctx, db.EarlierCertificatesParams{DomainID: c.domain.ID, Limit: mostEarlier})
	if err != nil {
		return err
	}
	for _, r := range rows {
		leaf, err := leafOf(r.Chain)
		if err != nil {
			return err
		}
		out.Earlier = append(out.Earlier, api.EarlierCertificate{Serial: r.Serial, State: r.State, Names: r.Names, Issuer: issuerWords(leaf), Authority: r.Authority, NotBefore: r.NotBefore, NotAfter: r.NotAfter})
	}
	return nil
}

// viewAliases tells which records would prove the site's names for good, where its name service is elsewhere.
func viewAliases(ctx context.Context, q *db.Queries, c siteCertificate, out *api.SiteCertificate) error {
	_, target, err := challengeAlias(ctx, q, c)
	if err != nil || target == "" {
		return err
	}
	rows, err := q.ZonesOfAccount(ctx, c.standing.account.ID)
	if err != nil || slices.ContainsFunc(rows, func(z db.Zone) bool {
		return z.NameService == here && (c.domain.Name == z.Name || strings.HasSuffix(c.domain.Name, "."+z.Name))
	}) {
		return err
	}
	wanted := []string{c.domain.Name} // with which everything below it could be had, too
	if len(c.wish.Names) > 0 {
		wanted = c.wish.Names
	}
	for _, n := range wanted {
		a := api.ChallengeAlias{Name: certificates.ChallengeName(n), Target: target}
		if !slices.Contains(out.Aliases, a) {
			out.Aliases = append(out.Aliases, a)
		}
	}
	return nil
}

func issuerWords(leaf *x509.Certificate) string {
	if len(leaf.Issuer.Organization) > 0 {
		return fmt.Sprintf("%s, %s", leaf.Issuer.Organization[0], leaf.Issuer.CommonName)
	}
	return leaf.Issuer.CommonName
}

// Rehearse says of each name of a site what an authority would do, and asks none.
func (s *Service) Rehearse(ctx context.Context, a Actor, reference, name string, in api.RehearsalQuestion) (api.Rehearsal, error) {
	out := api.Rehearsal{Names: []api.RehearsedName{}}
	c, err := s.findSite(ctx, a, reference, name)
	if err != nil {
		return out, err
	}
	wanted, err := c.namesOr(in.Names)
	if err != nil {
		return out, err
	}
	if err := s.outward.ask(a, s.now()); err != nil {
		return out, err
	}
	verdicts, err := s.rehearse(ctx, rehearsal{site: c, names: wanted, wanted: len(in.Names) > 0 || len(c.wish.Names) > 0})
	var unreached *agentError
	if errors.As(err, &unreached) {
		return out, refusal.New(refusal.ServerUnreachable, "the site's server cannot be given anything to answer with: %s", unreached)
	}
	if err != nil {
		return out, err
	}
	out.Pass = true
	for _, n := range wanted {
		v := verdicts[n]
		out.Names = append(out.Names, api.RehearsedName{Name: n, Result: string(v.Result), Way: string(v.Way), Code: v.Code, Reason: v.Says, Do: v.Do})
		out.Pass = out.Pass && v.Result == certificates.Pass
	}
	return out, nil
}

// siteNames checks names that somebody chooses for a site's certificate: the site's own, or everything directly below its domain.
func siteNames(d db.Domain, typed []string) ([]string, error) {
	var list []string
	for _, t := range typed {
		rest := strings.ToLower(strings.TrimSpace(t))
		prefix := ""
		for _, p := range []string{"*.", "www."} {
			if prefix == "" && strings.HasPrefix(rest, p) {
				rest, prefix = strings.TrimPrefix(rest, p), p
			}
		}
		parsed, _, err := names.ParseDomain(rest)
		if err != nil {
			return nil, refusal.Input("names", "%s: %v", t, err)
		}
		n := prefix + parsed.String()
		if n != d.Name && n != "www."+d.Name && n != "*."+d.Name {
			return nil, refusal.Input("names", "%s is no name of the site %s: it can be for %s, www.%s and *.%s", t, d.Name, d.Name, d.Name, d.Name)
		}
		if !slices.Contains(list, n) {
			list = append(list, n)
		}
	}
	return list, nil
}

// OrderCertificate orders a certificate for a site now, for the names that would pass.
func (s *Service) OrderCertificate(ctx context.Context, a Actor, reference, name string, in api.CertificateOrder) (api.Started, error) {
	if answer, repeated, err := earlierAnswer[int64](ctx, s, s.store.Queries, a); err != nil || repeated {
		return api.Started{Operation: answer}, err
	}
	c, err := s.findSite(ctx, a, reference, name)
	if err != nil {
		return api.Started{}, err
	}
	if err := mayHaveCertificates(ctx, s.store.Queries, a, c); err != nil {
		return api.Started{}, err
	}
	operation, err := s.beginOrder(ctx, a, c.domain.ID, asking{true, in})
	var unreached *agentError
	if errors.As(err, &unreached) {
		return api.Started{}, refusal.New(refusal.ServerUnreachable, "the site's server cannot be given anything to answer with: %s", unreached)
	}
	return api.Started{Operation: operation}, err
}

// changeSiteCertificate does something about the certificate of a site, in one transaction.
func changeSiteCertificate[T any](ctx context.Context, s *Service, a Actor, found siteCertificate, fn func(tx store.Tx, c siteCertificate) (T, error)) (T, error) {
	return change(ctx, s, a, func(tx store.Tx) (T, error) {
		var none T
		if _, err := s.lockToChange(ctx, tx, a, found.standing.account.ID); err != nil {
			return none, err
		}
		if _, err := tx.LockSiteCertificate(ctx, found.domain.ID); err != nil {
			return none, err
		}
		c, err := s.loadSiteCertificate(ctx, tx.Queries, found.domain.ID)
		if err != nil {
			return none, err
		}
		return fn(tx, c)
	})
}

// ChangeCertificate changes how a site comes by its certificate. Version is the one the caller has seen, or 0.
func (s *Service) ChangeCertificate(ctx context.Context, a Actor, reference, name string, version int64, in api.CertificateChange) (api.SiteCertificate, error) {
	none := api.SiteCertificate{}
	found, err := s.findSite(ctx, a, reference, name)
	if err != nil {
		return none, err
	}
	return changeSiteCertificate(ctx, s, a, found, func(tx store.Tx, c siteCertificate) (api.SiteCertificate, error) {
		if err := unchanged("the certificate of "+unicode(c.domain.Name), version, c.wish.Version); err != nil {
			return none, err
		}
		now := s.now()
		p := db.ChangeSiteCertificateParams{DomainID: c.domain.ID, Mode: c.wish.Mode, Names: c.wish.Names, KeyType: c.wish.KeyType, PinKey: c.wish.PinKey, AuthorityID: c.wish.AuthorityID, NextAt: &now}
		if in.Names != nil {
			if p.Names, err = siteNames(c.domain, *in.Names); err != nil {
				return none, err
			}
		}
		if in.KeyType != nil {
			k, err := certificates.ParseKeyType(*in.KeyType)
			if err != nil {
				return none, err
			}
			p.KeyType = string(k)
		}
		if in.PinKey != nil {
			p.PinKey = *in.PinKey
		}
		if in.Authority != nil {
			p.AuthorityID = nil
			if *in.Authority != "" {
				row, err := tx.FindAuthority(ctx, *in.Authority)
				if store.None(err) {
					return none, refusal.Input("authority", "there is no authority %q", *in.Authority)
				}
				if err != nil {
					return none, err
				}
				p.AuthorityID = &row.ID
			}
		}
		leave := false
		if in.Mode != "" && in.Mode != c.wish.Mode {
			p.Mode = in.Mode
			leave = in.Mode == selfSigned && c.inUse != nil
		}
		if p.Mode != automatic {
			if err := s.takeBackIn(ctx, tx, c, "the certificate is no longer to come by itself"); err != nil {
				return none, err
			}
		}
		a.say("change the certificate of %s", unicode(c.domain.Name))
		after, err := tx.ChangeSiteCertificate(ctx, p)
		if err != nil {
			return none, err
		}
		next := c
		next.wish = after
		if reason := next.cannotOrder(now); reason != nil && (in.Names != nil || in.Mode == automatic) && reason.Kind != refusal.WrongState {
			return none, reason
		}
		if err := record(ctx, tx, a, "certificate.change", aboutAccount(c.standing.account), wishRecord(c), wishRecord(next)); err != nil {
			return none, err
		}
		if leave {
			if err := tx.RetireCertificates(ctx, c.domain.ID); err != nil {
				return none, err
			}
			if _, err := s.applyAll(ctx, tx, a, "certificate.change", aboutAccount(c.standing.account), []int64{c.standing.account.ID}); err != nil {
				return none, err
			}
		}
		if c, err = s.loadSiteCertificate(ctx, tx.Queries, found.domain.ID); err != nil {
			return none, err
		}
		return s.certificateView(ctx, tx.Queries, c)
	})
}

func wishRecord(c siteCertificate) map[string]any {
	return map[string]any{"domain": c.domain.Name, "mode": c.wish.Mode, "names": c.wish.Names, "key_type": c.wish.KeyType, "pin_key": c.wish.PinKey}
}

// CertificateFilter narrows the inventory; empty fields do not.
type CertificateFilter struct {
	Account, Domain, Authority, Search string
	// State is one of [api.CertificateLine].
	State string
	// Days leaves out what lasts longer.
	Days int
}

// endOfTime is when certificates end that servers have made themselves, as far as their order is concerned.
var endOfTime = time.Date(9999, 12, 31, 23, 59, 59, 0, time.UTC).Unix()

// Certificates is the inventory: every site with what it shows, those that have none for all trying first, then those with the fewest days left.
func (s *Service) Certificates(ctx context.Context, a Actor, f CertificateFilter, afterEnds, afterID int64, most int) (api.CertificatePage, error) {
	page := api.CertificatePage{Certificates: []api.CertificateLine{}}
	p := db.CertificatesParams{Authority: f.Authority, Search: strings.ToLower(f.Search), Standings: standings(f.State), AfterEnds: afterEnds, AfterID: afterID, Most: int32(most + 1)}
	p.Reseller, p.Customer = a.scope()
	now := s.now()
	p.Now = now
	if f.Days > 0 {
		until := now.Add(time.Duration(f.Days) * 24 * time.Hour)
		p.EndsBefore = &until
	}
	if f.Domain != "" {
		d, _, err := names.ParseDomain(f.Domain)
		if err != nil {
			return page, err
		}
		p.Domain = d.String()
	}
	if f.Account != "" {
		number, err := findAccount(ctx, s.store.Queries, a, f.Account)
		if err != nil {
			return page, err
		}
		p.Account = number
	}
	rows, err := s.store.Fresh().Certificates(ctx, p)
	if err != nil {
		return page, err
	}
	if len(rows) > most {
		rows = rows[:most]
		last := rows[most-1]
		page.Next = cursor(last.Ends, last.DomainID)
	}
	for _, r := range rows {
		line := api.CertificateLine{Domain: r.Name, Unicode: unicode(r.Name), Account: r.SignInName, AccountID: r.AccountID, Server: r.Server, Mode: r.Mode, Authority: r.Authority, Names: nonNil(r.Names),
			Code: r.Code, Problem: r.Problem}
		ends := time.Unix(r.Ends, 0).UTC()
		has := r.Ends > 0 && r.Ends < endOfTime
		line.State = certificateState(stands(has, r.Authority == "", r.Ordered, r.Failures > 0, has && ends.Before(now)))
		if has {
			left := int(ends.Sub(now).Hours() / 24)
			line.NotAfter, line.DaysLeft = &ends, &left
		}
		page.Certificates = append(page.Certificates, line)
	}
	return page, nil
}
