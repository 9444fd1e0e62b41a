package certs

import (
	"context"
	"slices"
	"strings"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/certificates"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/refusal"
	"victualler/internal/manifest"
	"victualler/internal/service/dns"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// How a site comes by its certificate, as it is on record.
const (
	automatic  = string(certificates.Automatic)
	uploaded   = string(certificates.Uploaded)
	selfSigned = string(certificates.SelfSigned)
)

// siteCertificate is everything about the certificate of one site.
type siteCertificate struct {
	entitlement entitlement.Entitlement
	domain      db.Domain
	config      db.SiteCertificate
	// inUse is what the site shows; nil where its server has made one itself.
	inUse *db.Certificate
	// newest is what it shows or is about to: the one in use, or one that is being installed.
	newest *db.Certificate
	// authority is the one that is asked for the next; nil where there is none.
	authority *db.Authority
	// mail says that the domain's mail is here.
	mail bool
}

func (s *Service) loadSiteCertificate(ctx context.Context, q *db.Queries, domainID int64) (siteCertificate, error) {
	var c siteCertificate
	var err error
	if c.domain, err = q.DomainByID(ctx, domainID); err != nil {
		return c, err
	}
	if c.config, err = q.SiteCertificate(ctx, domainID); err != nil {
		return c, err
	}
	account, err := q.Account(ctx, c.domain.AccountID)
	if err != nil {
		return c, err
	}
	terms, err := entitlement.LoadTerms(ctx, s.Base, q, []db.Account{account})
	if err != nil {
		return c, err
	}
	c.entitlement = terms[0]
	rows, err := q.CertificatesOfSite(ctx, domainID)
	if err != nil {
		return c, err
	}
	mail, err := q.MailOfDomain(ctx, domainID)
	if err != nil {
		return c, err
	}
	c.mail = mail.Mailboxes+mail.Addresses+mail.Lists > 0
	for _, row := range rows {
		if c.newest = &row; row.State == "in-use" {
			c.inUse = &row
		}
	}
	var authority db.Authority
	if c.config.AuthorityID != nil {
		authority, err = q.AuthorityByID(ctx, *c.config.AuthorityID)
	} else {
		authority, err = q.DefaultAuthority(ctx)
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
	if len(c.config.Names) > 0 {
		return c.config.Names
	}
	return []string{c.domain.Name, "www." + c.domain.Name}
}

// mailNames are names for the domain's mail, which the certificate is for as well as soon as they
// lead here. Nobody is told that they do not, as mail works without.
func (c siteCertificate) mailNames() []string {
	if !c.mail || len(c.config.Names) > 0 {
		return nil
	}
	return mail.NamesOf(c.domain.Name)
}

// namesOr are names that somebody asks for, which must be the site's;
// without any, those that its certificate should be for.
func (c siteCertificate) namesOr(typed []string) ([]string, error) {
	if len(typed) == 0 {
		return c.names(), nil
	}
	return siteNames(c.domain, typed)
}

// cannotOrder says why nothing can be ordered for the site, whatever DNS says.
func (c siteCertificate) cannotOrder(now time.Time) *refusal.Refusal {
	name := usecase.Unicode(c.domain.Name)
	switch {
	case !dns.ServedByWeb(c.domain):
		return refusal.New(refusal.WrongState, "%s has no site: it is dns-only", name)
	case c.config.Mode != automatic && c.schedule().Due(now) == certificates.NotDue:
		return refusal.New(refusal.WrongState,
			"the certificate of %s is %s", name, c.config.Mode).
			Help(refusal.Remedy{By: refusal.Anybody, Do: language.New("make it automatic first (mode: automatic)"),
				Command: "certificate change " + name + " --mode automatic"})
	case !c.entitlement.Has("certificates"):
		return c.entitlement.MissingFeature("certificates",
			"certificates of an authority need the feature certificates, which this account does not have")
	case slices.ContainsFunc(c.names(), func(n string) bool {
		return strings.HasPrefix(n, "*.")
	}) && !c.entitlement.Has("wildcard"):
		return c.entitlement.MissingFeature("wildcard",
			"a certificate for all names below a domain needs the feature wildcard, which this account does not have")
	case c.authority == nil:
		return refusal.New(refusal.WrongState, "no authority has been added yet").Help(refusal.Remedy{
			By: refusal.Operator, Do: language.New("add one"), Command: "authority add NAME DIRECTORY"})
	}
	return nil
}

// schedule is what decides when a certificate is ordered for the site.
func (c siteCertificate) schedule() certificates.Site {
	s := certificates.Site{Mode: certificates.Mode(c.config.Mode), Names: append(c.names(), c.mailNames()...)}
	if n := c.newest; n != nil {
		s.Newest = &certificates.Newest{Names: n.Names, Uploaded: n.AuthorityID == nil, NotAfter: n.NotAfter}
		if n.RenewAt != nil {
			s.Newest.RenewAt = *n.RenewAt
		}
	}
	return s
}

// dueAt is how the moment at which a site is looked at is put on record.
func dueAt(at time.Time) *time.Time {
	if at.IsZero() {
		return nil
	}
	return &at
}

// Part is the certificates that an account's sites are to show. It
// comes after the part that adds the sites.
func (s *Service) CertificatesPart() rollout.Part {
	return rollout.Part{Name: "certificates", Fill: s.fillCertificates,
		Applied: func(ctx context.Context, tx store.Tx, account db.Account, _ bool) error {
			if err := tx.RetireReplacedCertificates(ctx, db.RetireReplacedCertificatesParams{AccountID: account.ID,
				Revision: account.Revision}); err != nil {
				return err
			}
			return tx.MarkCertificatesInstalled(ctx, db.MarkCertificatesInstalledParams{AccountID: account.ID,
				Revision: account.Revision})
		},
		Failed: func(ctx context.Context, tx store.Tx, accountID, revision int64) error {
			if err := tx.RevertFailedUpload(ctx, db.RevertFailedUploadParams{AccountID: accountID,
				Revision: revision}); err != nil {
				return err
			}
			return tx.DropFailedCertificates(ctx, db.DropFailedCertificatesParams{AccountID: accountID,
				Revision: revision})
		},
	}
}

func (s *Service) fillCertificates(ctx context.Context, q *db.Queries, st entitlement.Entitlement,
	m *rollout.Manifests) error {
	rows, err := q.CertificatesInForce(ctx, st.Account.ID)
	if err != nil {
		return err
	}
	list := m.Home().Sites
	for _, row := range rows { // the newest comes last
		site := slices.IndexFunc(list, func(s manifest.Site) bool { return s.Domain.String() == row.Name })
		if site < 0 {
			continue
		}
		key, err := s.keyText(row.Certificate.Key)
		if err != nil {
			return err
		}
		list[site].Certificate = &manifest.Certificate{Chain: row.Certificate.Chain, Key: manifest.Secret(key)}
	}
	return nil
}

// ServerCertificate is what a server shows that greets others by a name: a certificate of a site
// here that is for the name; nil where there is none.
func (s *Service) ServerCertificate(ctx context.Context, q *db.Queries, host string) (*manifest.Certificate, error) {
	row, err := dns.HostCertificate(ctx, q, host)
	if store.None(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	key, err := s.keyText(row.Key)
	return &manifest.Certificate{Chain: row.Chain, Key: manifest.Secret(key)}, err
}

// findSite finds the certificate of a domain that the actor reaches.
func (s *Service) findSite(ctx context.Context, a usecase.Actor, reference, name string) (siteCertificate, error) {
	_, d, _, err := s.domains.LoadDomain(ctx, a, reference, name)
	if err != nil {
		return siteCertificate{}, err
	}
	c, err := s.loadSiteCertificate(ctx, s.Store.Queries, d.ID)
	switch {
	case store.None(err) && d.Waiting:
		return c, refusal.New(refusal.WrongState, "%s has no site yet: nothing shows that it is yours",
			usecase.Unicode(d.Name))
	case store.None(err):
		return c, refusal.New(refusal.WrongState, "%s has no site: it is dns-only",
			usecase.Unicode(d.Name))
	}
	return c, err
}

// siteNames checks names that somebody chooses for a site's certificate: the site's own, or
// everything directly below its domain.
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
			return nil, refusal.Input("names", "%s is no name of the site %s: it can be for %s, www.%s and *.%s", t,
				d.Name, d.Name, d.Name, d.Name)
		}
		if !slices.Contains(list, n) {
			list = append(list, n)
		}
	}
	return list, nil
}

// changeSiteCertificate does something about the certificate of a site, in one transaction.
func changeSiteCertificate[T any](ctx context.Context, s *Service, a usecase.Actor, found siteCertificate,
	fn func(tx store.Tx, c siteCertificate) (T, error)) (T, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (T, error) {
		var none T
		if _, err := entitlement.LockToChange(ctx, s.Base, tx, a, found.entitlement.Account.ID); err != nil {
			return none, err
		}
		if _, err := usecase.LockSiteCertificate(ctx, tx, found.domain.ID); err != nil {
			return none, err
		}
		c, err := s.loadSiteCertificate(ctx, tx.Queries, found.domain.ID)
		if err != nil {
			return none, err
		}
		return fn(tx, c)
	})
}

// ChangeCertificate changes how a site comes by its certificate.
// Version is the one the caller has seen, or 0.
//
// Refusals: ApplyFailed, Changed, InvalidInput, NotAllowed, NotFound, ServerUnreachable, Suspended,
// WrongState.
// Locks: the account, the reseller, the site's certificate.
func (s *Service) ChangeCertificate(ctx context.Context, a usecase.Actor, reference, name string, version int64,
	in api.CertificateChange) (api.CertificateChanged, error) {
	none := api.CertificateChanged{}
	found, err := s.findSite(ctx, a, reference, name)
	if err != nil {
		return none, err
	}
	return changeSiteCertificate(ctx, s, a, found, func(tx store.Tx,
		c siteCertificate) (api.CertificateChanged, error) {
		if err := usecase.CheckVersion("the certificate of "+usecase.Unicode(c.domain.Name), version,
			c.config.Version); err != nil {
			return none, err
		}
		now := s.Now()
		p := db.ChangeSiteCertificateParams{DomainID: c.domain.ID, Mode: c.config.Mode, Names: c.config.Names,
			KeyType: c.config.KeyType, PinKey: c.config.PinKey, AuthorityID: c.config.AuthorityID, DueAt: now}
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
		if in.Mode != "" && in.Mode != c.config.Mode {
			p.Mode = in.Mode
			leave = in.Mode == selfSigned && c.inUse != nil
			if in.Mode != automatic {
				if err := s.cancelOrderTx(ctx, tx, c,
					language.New("the certificate is no longer automatic")); err != nil {
					return none, err
				}
			}
		}
		a.Summarize("change the certificate of %s", usecase.Unicode(c.domain.Name))
		after, err := tx.ChangeSiteCertificate(ctx, p)
		if err != nil {
			return none, err
		}
		next := c
		next.config = after
		if reason := next.cannotOrder(now); reason != nil && (in.Names != nil || in.Mode == automatic) &&
			reason.Kind != refusal.WrongState {
			return none, reason
		}
		if err := usecase.Record(ctx, tx, a, "certificate.change", usecase.AboutAccount(c.entitlement.Account),
			configRecord(c), configRecord(next)); err != nil {
			return none, err
		}
		var out api.CertificateChanged
		if leave {
			if err := tx.RetireCertificates(ctx, c.domain.ID); err != nil {
				return none, err
			}
			if out.Operation, err = s.rollout.ApplyAccounts(ctx, tx, a, "certificate.change",
				usecase.AboutAccount(c.entitlement.Account), []int64{c.entitlement.Account.ID}); err != nil {
				return none, err
			}
		}
		if c, err = s.loadSiteCertificate(ctx, tx.Queries, found.domain.ID); err != nil {
			return none, err
		}
		out.Certificate, err = s.certificateView(ctx, tx.Queries, a, c)
		out.Version = out.Certificate.Version
		return out, err
	})
}

func configRecord(c siteCertificate) map[string]any {
	return map[string]any{"domain": c.domain.Name, "mode": c.config.Mode, "names": c.config.Names,
		"key_type": c.config.KeyType, "pin_key": c.config.PinKey}
}

// withCertificateTx does something about the certificate of a site that may have one of an
// authority, in one transaction.
func withCertificateTx[T any](ctx context.Context, s *Service, a usecase.Actor, found siteCertificate,
	fn func(tx store.Tx, c siteCertificate) (T, error)) (T, error) {
	return changeSiteCertificate(ctx, s, a, found, func(tx store.Tx, c siteCertificate) (T, error) {
		var none T
		if err := checkCertificatesAllowed(ctx, tx.Queries, a, c); err != nil {
			return none, err
		}
		return fn(tx, c)
	})
}

// checkCertificatesAllowed says why the actor may do nothing about certificates of a site.
func checkCertificatesAllowed(ctx context.Context, q *db.Queries, a usecase.Actor, c siteCertificate) error {
	row, err := q.AccountRow(ctx, c.entitlement.Account.ID)
	if err != nil {
		return err
	}
	if err := entitlement.CheckChangeable(a, row); err != nil {
		return err
	}
	if !c.entitlement.Has("certificates") {
		return c.entitlement.MissingFeature("certificates",
			"certificates of an authority need the feature certificates, which this account does not have")
	}
	return nil
}
