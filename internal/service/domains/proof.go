package domains

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"slices"
	"strings"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/dns"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// A round takes so many domains, each of which somebody is at for as long as proofClaim; a question
// to DNS has proofTimeout.
const (
	proofsOfRound = 50
	proofClaim    = time.Minute
	proofTimeout  = 4 * time.Second
)

// Taken tells somebody who is about to bring a domain what keeps it from them; empty for nothing.
// Whoever has to prove it does not learn by this whether it is hosted here.
//
// Refusals: DomainTaken.
func (s *Service) Taken(ctx context.Context, a usecase.Actor, domain names.Domain) (string, error) {
	settings, err := s.Store.Settings(ctx)
	if err != nil || a.Role != rights.Operator && settings.DomainProof == string(names.ProofRequire) {
		return "", err
	}
	err = checkDomainFree(ctx, s.Store.Queries, domain, 0)
	if r := refusal.As(err); r != nil {
		return r.Error(), nil
	}
	return "", err
}

// NewDomain decides whether an actor may bring a domain to an account, and what shows whose it is:
// it returns the row to be added, as far as that decides it. Have are the account's domains so far;
// the number is 0 for an account that is only being opened. A domain that has to be proved waits,
// and may be somebody else's as well until it is: nobody learns from it what others have.
//
// Refusals: DomainTaken, InvalidInput, NotAllowed.
func (s *Service) NewDomain(ctx context.Context, tx store.Tx, a usecase.Actor, domain names.Domain, account int64,
	have []db.Domain) (db.AddDomainParams, error) {
	p := db.AddDomainParams{AccountID: account, Name: domain.String(), Registrable: domain.Registrable()}
	if err := checkNotInstallationName(ctx, tx.Queries, a, domain, account); err != nil {
		return p, err
	}
	settings, err := tx.Settings(ctx)
	if err != nil {
		return p, err
	}
	now, above := s.Now(), domain.Above()
	switch {
	case a.Role == rights.Operator:
		p.ProvedAt, p.ProvedBy = &now, string(names.ProofByOperator)
	case slices.ContainsFunc(have, func(d db.Domain) bool {
		return slices.Contains(above, d.Name) && d.ProvedAt != nil
	}):
		p.ProvedAt, p.ProvedBy = &now, string(names.ProofByAbove)
	case settings.DomainProof != string(names.ProofOff):
		text := make([]byte, 16)
		rand.Read(text) // it never fails
		p.ProofText, p.ProofDueAt = hex.EncodeToString(text), &now
		if p.Waiting = settings.DomainProof == string(names.ProofRequire); p.Waiting {
			a.Note("%s is served when DNS shows that it is yours: see its page for the record to set", domain.Unicode())
			return p, nil
		}
	}
	return p, checkDomainFree(ctx, tx.Queries, domain, account)
}

// ProveDomain asks DNS whether a domain is its account's, at once. Vouch takes an operator's word
// for it instead.
//
// Refusals: ApplyFailed, DomainTaken, InvalidInput, NoServer, NotAllowed, NotFound,
// ServerUnreachable, Suspended, TooManyTries, WrongState.
// Locks: the account, the domain's name, the reseller.
func (s *Service) ProveDomain(ctx context.Context, a usecase.Actor, reference, name string,
	vouch bool) (api.DomainChanged, error) {
	none := api.DomainChanged{}
	rows, d, server, err := s.LoadDomain(ctx, a, reference, name)
	if err != nil {
		return none, err
	}
	switch {
	case vouch && a.Role != rights.Operator:
		return none, refusal.New(refusal.NotAllowed, "only an operator can say whose a domain is without DNS")
	case d.ProvedAt != nil:
		return none, refusal.New(refusal.WrongState, "it is known already that %s is yours", usecase.Unicode(d.Name))
	}
	by := names.ProofByOperator
	if !vouch {
		if err := s.AllowProbe(ctx, a); err != nil {
			return none, err
		}
		var failed string
		if by, failed, err = s.askProof(ctx, rows.account, d, server); err != nil {
			return none, err
		}
		if by == "" {
			if err := s.notProved(ctx, d, failed); err != nil {
				return none, err
			}
			return none, refusal.New(refusal.WrongState, "nothing shows yet that %s is yours: %s",
				usecase.Unicode(d.Name), failed)
		}
	}
	return s.prove(ctx, a, rows.account, d, by)
}

// askProof asks DNS about a domain, and tells in words what is missing.
func (s *Service) askProof(ctx context.Context, account db.Account, d db.Domain, server db.Server) (by names.Proof,
	failed string, err error) {
	ctx, cancel := context.WithTimeout(ctx, proofTimeout)
	defer cancel()
	domain, _, err := names.ParseDomain(d.Name)
	if err != nil {
		return "", "", err
	}
	e := names.ProofEvidence{Wanted: d.ProofText}
	if e.Claimed, err = s.Store.DomainClaimed(ctx, db.DomainClaimedParams{Registrable: d.Registrable, Name: d.Name,
		AccountID: account.ID, CustomerID: account.CustomerID}); err != nil {
		return "", "", err
	}
	answer, asked := s.Resolver.Ask(ctx, domain.ProofRecord(), "TXT")
	for _, data := range answer.Data {
		e.Texts = append(e.Texts, strings.ReplaceAll(data, `"`, ""))
	}
	addresses, _ := s.Resolver.Addresses(ctx, d.Name)
	ours := dns.PublicAddresses(server)
	e.LeadsHere = len(addresses) > 0
	for _, address := range addresses {
		e.LeadsHere = e.LeadsHere && slices.Contains(ours, address.Unmap())
	}
	if !e.LeadsHere {
		if e.LeadsHere, err = dns.DelegatedHere(ctx, s.Base, account.ResellerID, d.Name); err != nil {
			return "", "", err
		}
	}
	by = e.Judge()
	switch {
	case by != "":
	case asked != nil:
		failed = "DNS could not be asked: " + asked.Error()
	case len(e.Texts) > 0:
		failed = "the TXT record at " + domain.ProofRecord() + " says something else"
	case e.LeadsHere:
		failed = "it leads here, but that does not tell whose it is: somebody else has or had it, too"
	default:
		failed = "there is no TXT record at " + domain.ProofRecord()
	}
	return by, failed, nil
}

// nextProof is when DNS is asked again: often at first, as somebody is
// just about to set the record, and less and less.
func nextProof(added, now time.Time) time.Time {
	return now.Add(min(max(now.Sub(added)/20, time.Minute), 6*time.Hour))
}

// notProved writes down that nothing shows yet whose a domain is.
func (s *Service) notProved(ctx context.Context, d db.Domain, failed string) error {
	now := s.Now()
	due := nextProof(d.AddedAt, now)
	return s.Store.DomainAsked(ctx, db.DomainAskedParams{ID: d.ID, At: now, Failed: failed, Due: &due})
}

// prove writes down that a domain is its account's; one that has waited is served now.
func (s *Service) prove(ctx context.Context, a usecase.Actor, account db.Account, d db.Domain,
	by names.Proof) (api.DomainChanged, error) {
	domain, _, err := names.ParseDomain(d.Name)
	if err != nil {
		return api.DomainChanged{}, err
	}
	return s.changeDomains(ctx, a, account.SignInName, "domain.prove", domain,
		func(tx store.Tx, st entitlement.Entitlement, rows SiteRows) (db.Domain, []language.Text, error) {
			none := db.Domain{}
			was, err := rows.find(d.Name)
			if err != nil || was.ProvedAt != nil {
				return was, nil, err
			}
			if was.Waiting {
				if err := checkDomainFree(ctx, tx.Queries, domain, st.Account.ID); err != nil {
					return none, nil, err
				}
			}
			row, err := tx.DomainProved(ctx, db.DomainProvedParams{ID: was.ID, At: s.Now(), ProvedBy: string(by)})
			if err != nil {
				return none, nil, err
			}
			a.Summarize("take %s for a domain of account %s", domain.Unicode(), st.Account.SignInName)
			return row, nil, usecase.Record(ctx, tx, a, "domain.prove", usecase.AboutAccount(st.Account), nil,
				map[string]string{"domain": d.Name, "proved_by": string(by)})
		})
}

// CheckProofs asks DNS about domains that are due. Where nothing is
// asked for any longer, those that wait are served.
//
// Refusals: ApplyFailed, DomainTaken, InvalidInput, NoServer, NotAllowed, NotFound,
// ServerUnreachable, Suspended, WrongState.
// Locks: the account, the domain's name, the reseller.
func (s *Service) CheckProofs(ctx context.Context) error {
	settings, err := s.Store.Settings(ctx)
	if err != nil {
		return err
	}
	now := s.Now()
	due, err := s.Store.ClaimDueProofs(ctx, db.ClaimDueProofsParams{Now: now, Until: now.Add(proofClaim),
		Most: proofsOfRound})
	if err != nil {
		return err
	}
	for _, id := range due {
		if err := s.checkProof(ctx, id, names.ProofMode(settings.DomainProof)); err != nil {
			s.Log.Warn("whose a domain is", "domain", id, "reason", err)
		}
	}
	return nil
}

func (s *Service) checkProof(ctx context.Context, id int64, mode names.ProofMode) error {
	d, err := s.Store.DomainByID(ctx, id)
	if store.None(err) {
		return nil
	}
	if err != nil {
		return err
	}
	account, err := s.Store.Account(ctx, d.AccountID)
	if err != nil {
		return err
	}
	server, err := s.Store.ServerByID(ctx, account.ServerID)
	if err != nil {
		return err
	}
	by, failed, err := s.askProof(ctx, account, d, server)
	if err != nil {
		return err
	}
	if by == "" && mode != names.ProofRequire && d.Waiting {
		by = names.ProofByOperator
	}
	if by == "" {
		return s.notProved(ctx, d, failed)
	}
	_, err = s.prove(ctx, usecase.System(), account, d, by)
	if r := refusal.As(err); r != nil {
		return s.notProved(ctx, d, r.Error())
	}
	return err
}

// proofView shows what is to be done for a domain that is not proved; nil where nothing is.
func proofView(d db.Domain) *api.DomainProof {
	if d.ProvedAt != nil || d.ProofText == "" {
		return nil
	}
	domain, _, err := names.ParseDomain(d.Name)
	if err != nil {
		return nil
	}
	return &api.DomainProof{Waiting: d.Waiting, Record: domain.ProofRecord(), Text: d.ProofText,
		AskedAt: d.ProofAskedAt, Failed: d.ProofFailed}
}

// ProofWarnings tells of domains that are not served yet, or of which nothing shows whose they are.
func (rows SiteRows) ProofWarnings(a usecase.Actor) []api.Warning {
	list := []api.Warning{}
	for _, d := range rows.Domains {
		p := proofView(d)
		if p == nil {
			continue
		}
		w := api.Warning{Part: "site", Subject: d.Name, Code: "not-proved", Since: d.AddedAt,
			What: a.Say("Nothing shows yet that %s is yours.", usecase.Unicode(d.Name)),
			Mend: a.Say("Set a TXT record at %s with the text %s; DNS is asked again automatically.", p.Record, p.Text)}
		if p.Waiting {
			w.Seen = a.Say("Visitors see nothing of it here: it is served when that is shown.")
		}
		list = append(list, w)
	}
	return list
}
