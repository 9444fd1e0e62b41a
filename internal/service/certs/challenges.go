package certs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"victualler/internal/acme"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/certificates"
	"victualler/internal/hosting/language"
	"victualler/internal/resolve"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// provedName is the name that a proof is for, as orders have it.
func provedName(p acme.Proof) string {
	if p.Wildcard {
		return "*." + p.Name
	}
	return p.Name
}

// answerChallenges has the challenges of an order answered, and tells the authority.
func (w *orderRun) answerChallenges(ctx context.Context, o acme.Order) (outcome, error) {
	s := w.service
	// Challenges that the authority was told of by somebody who was
	// killed before that was on record.
	told := map[string]bool{}
	for _, url := range o.Proofs {
		proof, err := w.client.ProofAt(ctx, url)
		if err != nil {
			return outcome{}, err
		}
		if proof.Status != "pending" {
			continue
		}
		p := db.SaveChallengeParams{OrderID: w.order.ID, Name: provedName(proof), Kind: certificates.ByHTTP, Proof: url}
		if out, err := w.placeChallenge(ctx, &p); err != nil || out.kind != goingOn {
			return out, err
		}
		at := slices.IndexFunc(proof.Challenges, func(c acme.Challenge) bool { return c.Kind == p.Kind })
		if at < 0 {
			return fails(orderFailure{code: "challenge",
				reason: language.New("%s offers no way to prove %s by %s", w.authority.Name, p.Name, p.Kind)}), nil
		}
		p.Token, p.Value, p.Url = proof.Challenges[at].Token, proof.Challenges[at].Value, proof.Challenges[at].URL
		told[p.Url] = proof.Challenges[at].Status != "pending"
		if err := s.Store.SaveChallenge(ctx, p); err != nil {
			return outcome{}, err
		}
	}
	list, err := s.Store.ChallengesOf(ctx, w.order.ID)
	if err != nil {
		return outcome{}, err
	}
	if out, err := w.publish(ctx, list); err != nil || out.kind != goingOn {
		return out, err
	}
	for _, c := range list {
		if c.Accepted {
			continue
		}
		if !told[c.Url] {
			if err := w.client.Accept(ctx, acme.Challenge{URL: c.Url, Kind: c.Kind, Token: c.Token}); err != nil {
				return outcome{}, err
			}
		}
		if err := s.Store.AcceptedChallenge(ctx, c.ID); err != nil {
			return outcome{}, err
		}
	}
	return goesOn(), nil
}

// publish has the web servers and the zone show what challenges ask for, and goes on when all name
// servers do.
func (w *orderRun) publish(ctx context.Context, list []db.Challenge) (outcome, error) {
	s := w.service
	if files := answersTo(list); len(files.Answers) > 0 {
		home, err := s.Store.ServerByID(ctx, w.site.entitlement.Account.ServerID)
		if err != nil {
			return outcome{}, err
		}
		servers, err := s.Store.WebServers(ctx)
		if err != nil {
			return outcome{}, err
		}
		if err := s.challenge(ctx, home, servers, files); err != nil {
			return outcome{}, err
		}
	}
	hidden := notAccepted(list)
	if w.ways.byHand() {
		return w.checkRecords(ctx, hidden)
	}
	if len(hidden) == 0 {
		return goesOn(), nil
	}
	if out, err := w.applyZones(ctx, zonesShowing(hidden)); err != nil || out.kind != goingOn {
		return out, err
	}
	var note language.Text
	out, err := w.poll(ctx, func() (bool, time.Duration, error) {
		for _, c := range hidden {
			if missing := s.missingAt(ctx, c); len(missing) > 0 {
				note = language.New("%s does not show the record of %s yet", missing[0], c.Name)
				w.progress.Note(note)
				return false, 0, nil
			}
		}
		w.progress.Note(language.Text{})
		return true, 0, nil
	})
	out.note = note
	return out, err
}

// answersTo are the files by which names are proved over HTTP.
func answersTo(list []db.Challenge) agentlink.Challenges {
	files := agentlink.Challenges{Answers: map[string]string{}}
	for _, c := range list {
		if c.Kind == certificates.ByHTTP {
			files.Answers[c.Token] = c.Value
		}
	}
	return files
}

// placeChallenge says how a name is proved, and where the record is that does it.
func (w *orderRun) placeChallenge(ctx context.Context, p *db.SaveChallengeParams) (outcome, error) {
	switch w.ways[p.Name] {
	case certificates.InZone:
		p.Kind, p.Record, p.AccountID = certificates.ByDNS, certificates.ChallengeName(p.Name),
			&w.site.entitlement.Account.ID
	case certificates.ByAlias:
		account, name, err := challengeAlias(ctx, w.service.Store.Queries, w.site)
		if err != nil {
			return outcome{}, err
		}
		if name == "" {
			return fails(orderFailure{code: certificates.CodeAlias,
				reason: language.New("our zone for challenges, to which %s leads, is gone",
					certificates.ChallengeName(p.Name))}), nil
		}
		p.Kind, p.Record, p.AccountID = certificates.ByDNS, name, &account
	case certificates.ByHand:
		p.Kind, p.Record = certificates.ByDNS, certificates.ChallengeName(p.Name)
	}
	return goesOn(), nil
}

// proofs are the ways in which names are proved; over HTTP where nothing is said.
type proofs map[string]certificates.Proof

// waysOf are those of an order.
func waysOf(order db.Order) (proofs, error) {
	out := proofs{}
	return out, json.Unmarshal(order.Ways, &out)
}

// byHand reports whether somebody enters records.
func (p proofs) byHand() bool {
	return slices.Contains(slices.Collect(maps.Values(p)), certificates.ByHand)
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

// byHandTime is how long it is looked whether somebody has entered records.
const byHandTime = 7 * 24 * time.Hour

// byHandPause is how soon it is looked again, for somebody who has been asked for records so long
// ago: at once as long as they may be at it, and then ever less often.
func byHandPause(since time.Duration) time.Duration {
	return max(5*time.Second, min(since/60, 5*time.Minute))
}

// checkRecords looks whether somebody has entered what proves the names.
func (w *orderRun) checkRecords(ctx context.Context, list []db.Challenge) (outcome, error) {
	s := w.service
	var lacking []string
	for _, c := range list {
		missing := usecase.NonNil(s.missingAt(ctx, c))
		if err := s.Store.SaveChallengeCheck(ctx, db.SaveChallengeCheckParams{ID: c.ID, Missing: missing}); err != nil {
			return outcome{}, err
		}
		if len(missing) > 0 {
			lacking = append(lacking, fmt.Sprintf("%s TXT %q", c.Record, c.Value))
		}
	}
	if len(lacking) == 0 {
		w.progress.Note(language.Text{})
		return goesOn(), nil
	}
	if w.age() > byHandTime {
		return fails(orderFailure{code: "hand", reason: language.New("%s was not entered within %d days", lacking[0],
			int(byHandTime.Hours()/24))}), nil
	}
	return waits(byHandPause(w.age()), language.New("waits for records that are entered by hand: %s",
		strings.Join(lacking, ", "))), nil
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
// show now, and goes on when they know.
func (w *orderRun) applyZones(ctx context.Context, accounts []int64) (outcome, error) {
	if len(accounts) == 0 {
		return goesOn(), nil
	}
	var operation int64
	err := w.service.Store.InTx(ctx, func(tx store.Tx) error {
		var err error
		operation, err = w.applyZonesTx(ctx, tx, accounts)
		return err
	})
	if err != nil || operation == 0 {
		return goesOn(), err
	}
	return w.await(ctx, operation)
}

func (w *orderRun) applyZonesTx(ctx context.Context, tx store.Tx, accounts []int64) (int64, error) {
	for _, account := range accounts {
		if _, err := usecase.LockAccount(ctx, tx, account); err != nil {
			return 0, err
		}
	}
	return w.service.rollout.ApplyAccounts(ctx, tx, w.actor(), "certificate.challenge",
		usecase.AboutAccount(w.site.entitlement.Account), accounts)
}

// forgetChallenges forgets the challenges of the order, and has zones show them no longer.
func (w *orderRun) forgetChallenges(ctx context.Context, tx store.Tx) error {
	list, err := tx.ChallengesOf(ctx, w.order.ID)
	if err != nil {
		return err
	}
	if err := tx.DeleteChallenges(ctx, w.order.ID); err != nil {
		return err
	}
	_, err = w.applyZonesTx(ctx, tx, zonesShowing(list))
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
	if files := answersTo(list); len(files.Answers) > 0 {
		s.removeChallenge(ctx, servers, files)
	}
}
