package certs

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/certificates"
	"victualler/internal/hosting/names"
	"victualler/internal/service/dns"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// state is the word for how a site is certified.
func (c siteCertificate) state(ordered bool, now time.Time) string {
	has := c.inUse != nil
	return certificateState(stateMask(has, has && c.inUse.AuthorityID == nil, ordered, c.config.Failures > 0, has &&
		c.inUse.NotAfter.Before(now)))
}

// What is known of a site's certificate, as bits; [certificateState] says what they come to, and
// the inventory is narrowed by them.
const (
	maskHas      = 1 << iota // there is one in use
	maskUploaded             // that somebody has brought
	maskOrdered              // an order is on its way
	maskFailing              // the last try has failed
	maskEnded                // the one in use has ended
	maskAll      = 1<<iota - 1
)

func certificateState(mask int32) string {
	has := mask&maskHas != 0
	switch {
	case has && mask&maskEnded != 0:
		return "expired"
	case mask&maskOrdered != 0 && !has:
		return "ordered"
	case mask&maskFailing != 0:
		return "failing"
	case has && mask&maskUploaded != 0:
		return "uploaded"
	case has:
		return "valid"
	}
	return "self-signed"
}

// stateMasks are all that come to a state; nil for no state.
func stateMasks(state string) []int32 {
	var list []int32
	for mask := int32(0); state != "" && mask <= maskAll; mask++ {
		if certificateState(mask) == state {
			list = append(list, mask)
		}
	}
	return list
}

func stateMask(has, brought, ordered, failing, ended bool) int32 {
	var out int32
	for n, is := range []bool{has, brought, ordered, failing, ended} {
		if is {
			out |= 1 << n
		}
	}
	return out
}

// Certificate tells everything about the certificate of a site.
//
// Refusals: InvalidInput, NotAllowed, NotFound, WrongState.
func (s *Service) Certificate(ctx context.Context, a usecase.Actor, reference, name string) (api.SiteCertificate,
	error) {
	c, err := s.findSite(ctx, a, reference, name)
	if err != nil {
		return api.SiteCertificate{}, err
	}
	return s.certificateView(ctx, s.Store.Queries, a, c)
}

func (s *Service) certificateView(ctx context.Context, q *db.Queries, a usecase.Actor,
	c siteCertificate) (api.SiteCertificate, error) {
	out := api.SiteCertificate{Domain: c.domain.Name, Mode: c.config.Mode, Names: c.names(),
		MailNames: usecase.NonNil(c.mailNames()),
		Chosen:    len(c.config.Names) > 0, KeyType: c.config.KeyType, Failures: int(c.config.Failures),
		FailingSince: c.config.FailedAt,
		Code:         c.config.Code, Problem: a.SayKept(c.config.Problem), Covered: []string{},
		LeftOut: []api.LeftOut{},
		PinKey:  c.config.PinKey, Records: []api.ChallengeRecord{}, Aliases: []api.ChallengeAlias{},
		Requests: []api.SigningRequest{}, Earlier: []api.EarlierCertificate{}, Version: c.config.Version}
	if c.authority != nil {
		out.Authority = c.authority.Name
	}
	if reason := c.cannotOrder(s.Now()); reason == nil {
		out.NextTry = c.config.DueAt
	}
	for _, more := range []func(context.Context, *db.Queries, siteCertificate, *api.SiteCertificate) error{viewOrder,
		viewRequests, viewEarlier, viewAliases} {
		if err := more(ctx, q, c, &out); err != nil {
			return out, err
		}
	}
	if err := viewLeftOut(ctx, q, a, c, &out); err != nil {
		return out, err
	}
	out.State = c.state(out.Operation != 0, s.Now())
	if c.inUse == nil {
		return out, nil
	}
	leaf, err := leafOf(c.inUse.Chain)
	if err != nil {
		return out, err
	}
	out.Covered, out.NotBefore, out.NotAfter, out.RenewAt, out.Serial = c.inUse.Names, &c.inUse.NotBefore,
		&c.inUse.NotAfter, c.inUse.RenewAt, c.inUse.Serial
	out.Issuer = issuerWords(leaf)
	out.InstalledAt = c.inUse.InstalledAt
	return out, nil
}

// viewOrder tells of the order that is on its way.
func viewOrder(ctx context.Context, q *db.Queries, c siteCertificate, out *api.SiteCertificate) error {
	under, err := q.UnfinishedOrder(ctx, c.domain.ID)
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
			out.Records = append(out.Records, api.ChallengeRecord{Name: r.Record, Type: "TXT", Data: r.Value,
				Visible: r.LookedAt != nil && len(r.Missing) == 0, Missing: r.Missing, CheckedAt: r.LookedAt})
		}
	}
	return err
}

// viewLeftOut tells which names the last order has left out, and why.
func viewLeftOut(ctx context.Context, q *db.Queries, a usecase.Actor, c siteCertificate,
	out *api.SiteCertificate) error {
	last, err := q.LastOrder(ctx, c.domain.ID)
	if store.None(err) || c.config.Mode != automatic {
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
			l.Reason, l.Do = a.SayKept(l.Reason), a.SayKept(l.Do)
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
		out.Earlier = append(out.Earlier, api.EarlierCertificate{Serial: r.Serial, State: r.State, Names: r.Names,
			Issuer: issuerWords(leaf), Authority: r.Authority, NotBefore: r.NotBefore, NotAfter: r.NotAfter})
	}
	return nil
}

// viewAliases tells which records would prove the site's names for
// good, where its DNS is hosted elsewhere.
func viewAliases(ctx context.Context, q *db.Queries, c siteCertificate, out *api.SiteCertificate) error {
	_, target, err := challengeAlias(ctx, q, c)
	if err != nil || target == "" {
		return err
	}
	rows, err := q.ZonesOfAccount(ctx, c.entitlement.Account.ID)
	if err != nil || slices.ContainsFunc(rows, func(z db.Zone) bool {
		return z.Hosted == dns.HostedHere &&
			(c.domain.Name == z.Name || strings.HasSuffix(c.domain.Name, "."+z.Name))
	}) {
		return err
	}
	wanted := []string{c.domain.Name} // with which everything below it could be had, too
	if len(c.config.Names) > 0 {
		wanted = c.config.Names
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

// CertificateFilter narrows the inventory; empty fields do not.
type CertificateFilter struct {
	Account, Domain, Authority, Search string
	// State is one of [api.CertificateLine].
	State string
	// Days leaves out what lasts longer.
	Days int
}

// endOfTime is when certificates end that servers have made themselves,
// as far as their order is concerned.
var endOfTime = time.Date(9999, 12, 31, 23, 59, 59, 0, time.UTC).Unix()

// Certificates is the inventory: every site with what it shows, those that have none for all trying
// first, then those with the fewest days left.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) Certificates(ctx context.Context, a usecase.Actor, f CertificateFilter, afterEnds, afterID int64,
	most int) (api.CertificatePage, error) {
	page := api.CertificatePage{Certificates: []api.CertificateLine{}}
	p := db.CertificatesParams{Authority: f.Authority, Search: strings.ToLower(f.Search),
		Masks: stateMasks(f.State), AfterEnds: afterEnds, AfterID: afterID, Most: int32(most + 1)}
	p.Reseller, p.Customer = a.Scope()
	if f.Authority != "" {
		if _, err := s.findAuthority(ctx, f.Authority); err != nil {
			return page, err
		}
	}
	now := s.Now()
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
		number, err := usecase.FindAccount(ctx, s.Store.Queries, a, f.Account)
		if err != nil {
			return page, err
		}
		p.Account = number
	}
	rows, err := s.Store.Fresh().Certificates(ctx, p)
	if err != nil {
		return page, err
	}
	if len(rows) > most {
		rows = rows[:most]
		last := rows[most-1]
		page.Next = usecase.Cursor(last.Ends, last.DomainID)
	}
	for _, r := range rows {
		line := api.CertificateLine{Domain: r.Name, Unicode: usecase.Unicode(r.Name), Account: r.SignInName,
			AccountID: r.AccountID, Server: r.Server, Mode: r.Mode, Authority: r.Authority,
			Names: usecase.NonNil(r.Names),
			Code:  r.Code, Problem: a.SayKept(r.Problem)}
		ends := time.Unix(r.Ends, 0).UTC()
		has := r.Ends > 0 && r.Ends < endOfTime
		line.State = certificateState(stateMask(has, r.Authority == "", r.Ordered, r.Failures > 0, has &&
			ends.Before(now)))
		if has {
			left := int(ends.Sub(now).Hours() / 24)
			line.NotAfter, line.DaysLeft = &ends, &left
		}
		page.Certificates = append(page.Certificates, line)
	}
	return page, nil
}
