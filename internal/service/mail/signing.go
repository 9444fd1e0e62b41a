package mail

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"slices"
	"time"

	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/names"
	"victualler/internal/manifest"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// Names of what is sealed.
const (
	sealedSigningKey = "key that mail is signed with"
	sealedReturnKey  = "key of what is passed on"
	sealedLinkKey    = "key of the servers' keys for mail"
)

// returnKey is what senders of messages that are passed on are rewritten with, on all servers.
func (s *Service) returnKey(ctx context.Context, q *db.Queries) ([]byte, error) {
	return s.InstallationKey(ctx, q, sealedReturnKey, func(i db.Installation) []byte { return i.ReturnKey },
		q.SaveReturnKey)
}

// linkKeys tells the key of each server, by its number, by which others know it ([mail.LinkKey]).
func (s *Service) linkKeys(ctx context.Context, q *db.Queries) (func(server int64) ed25519.PrivateKey, error) {
	key, err := s.InstallationKey(ctx, q, sealedLinkKey, func(i db.Installation) []byte { return i.LinkKey },
		q.SaveLinkKey)
	return func(server int64) ed25519.PrivateKey { return mail.LinkKey(key, server) }, err
}

// keySize is that of keys that mail is signed with, in bits: smaller ones are doubted, and the
// record of a larger one is too long for some (RFC 8301, section 3.2).
const keySize = 2048

// spareKeys are made before they are needed: it takes a tenth of a second, and whoever adds a
// mailbox has the account locked.
type spareKeys chan *rsa.PrivateKey

// take returns a key, and has others made for the next time.
func (spare spareKeys) take() (*rsa.PrivateKey, error) {
	defer func() {
		go func() {
			for len(spare) < cap(spare) {
				key, err := rsa.GenerateKey(rand.Reader, keySize)
				if err != nil {
					return
				}
				select {
				case spare <- key:
				default:
				}
			}
		}()
	}()
	select {
	case key := <-spare:
		return key, nil
	default:
		return rsa.GenerateKey(rand.Reader, keySize)
	}
}

// turnKeys does what is due with the keys of an account's domain; the account is locked.
func (s *Service) turnKeys(ctx context.Context, tx store.Tx, account, domain int64) error {
	all, err := tx.SigningKeysOfAccount(ctx, account)
	if err != nil {
		return err
	}
	var states []mail.SigningState
	for _, k := range all {
		if k.DomainID == domain {
			states = append(states, stateOf(k))
		}
	}
	published, err := tx.DomainIsInZoneHere(ctx, domain)
	if err != nil {
		return err
	}
	now := s.Now()
	turn := mail.TurnKeys(states, published, now)
	if turn.Remove != 0 {
		if err := tx.RemoveSigningKey(ctx, turn.Remove); err != nil {
			return err
		}
	}
	if turn.Retire != 0 {
		if err := tx.RetireSigningKey(ctx, db.RetireSigningKeyParams{ID: turn.Retire, RetiredAt: &now}); err != nil {
			return err
		}
	}
	if turn.Activate != 0 {
		if err := tx.ActivateSigningKey(ctx, db.ActivateSigningKeyParams{ID: turn.Activate,
			ActiveAt: &now}); err != nil {
			return err
		}
	}
	if turn.Make == "" {
		return nil
	}
	key, err := s.spare.take()
	if err != nil {
		return err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	record, err := mail.SigningRecord(&key.PublicKey)
	if err != nil {
		return err
	}
	var active *time.Time
	if turn.AtOnce {
		active = &now
	}
	return tx.AddSigningKey(ctx, db.AddSigningKeyParams{AccountID: account, DomainID: domain, Selector: turn.Make,
		Key:    s.Key.Seal(sealedSigningKey, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})),
		Record: record, MadeAt: now, ActiveAt: active})
}

// stateOf is where a key is in its life.
func stateOf(k db.SigningKey) mail.SigningState {
	return mail.SigningState{ID: k.ID, Selector: k.Selector, MadeAt: k.MadeAt, ActiveAt: k.ActiveAt,
		RetiredAt: k.RetiredAt}
}

// keysInForce are the keys that an account's messages are signed with, one for each domain.
func (s *Service) keysInForce(ctx context.Context, q *db.Queries, account int64) ([]manifest.SigningKey, error) {
	all, err := q.SigningKeysOfAccount(ctx, account)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	domains, err := q.MailDomains(ctx, account)
	if err != nil {
		return nil, err
	}
	var list []manifest.SigningKey
	for _, k := range all {
		at := slices.IndexFunc(domains, func(d db.MailDomainsRow) bool { return d.ID == k.DomainID })
		if at < 0 || !stateOf(k).Signs() {
			continue
		}
		domain, _, err := names.ParseDomain(domains[at].Name)
		if err != nil {
			return nil, err
		}
		key, err := s.Key.Open(sealedSigningKey, k.Key)
		if err != nil {
			return nil, err
		}
		list = append(list, manifest.SigningKey{Domain: domain, Selector: k.Selector, Key: manifest.Secret(key)})
	}
	return list, nil
}

// TurnSigningKeys replaces the keys that have signed for long, step by step ([mail.TurnKeys]), and
// applies the accounts that it changes something for.
//
// Refusals: ApplyFailed, InvalidInput, ServerUnreachable.
// Locks: the account.
func (s *Service) TurnSigningKeys(ctx context.Context) error {
	now := s.Now()
	list, err := s.Store.AccountsWithKeysToTurn(ctx, db.AccountsWithKeysToTurnParams{
		MadeBefore: now.Add(-mail.KeyLife), PublishedBefore: now.Add(-mail.KeyLead),
		RetiredBefore: now.Add(-mail.KeyLag)})
	if err != nil {
		return err
	}
	for _, account := range list {
		if err := s.turnKeysOf(ctx, account); err != nil {
			s.Log.Warn("the keys of an account's mail are not turned; they are in an hour", "account", account,
				"reason", err)
		}
	}
	return nil
}

func (s *Service) turnKeysOf(ctx context.Context, number int64) error {
	a := usecase.System()
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		account, err := usecase.LockAccount(ctx, tx, number)
		if err != nil {
			return err
		}
		before, err := tx.SigningKeysOfAccount(ctx, number)
		if err != nil {
			return err
		}
		domains, err := tx.MailDomains(ctx, number)
		if err != nil {
			return err
		}
		for _, d := range domains {
			if err := s.turnKeys(ctx, tx, number, d.ID); err != nil {
				return err
			}
		}
		after, err := tx.SigningKeysOfAccount(ctx, number)
		if err != nil || slices.EqualFunc(before, after, sameKey) {
			return err
		}
		if err := usecase.Record(ctx, tx, a, "mail.keys", usecase.AboutAccount(account), nil, nil); err != nil {
			return err
		}
		_, err = s.rollout.ApplyAccounts(ctx, tx, a, "mail.keys", usecase.AboutAccount(account), []int64{number})
		return err
	})
}

func sameKey(a, b db.SigningKey) bool {
	return a.ID == b.ID && (a.ActiveAt == nil) == (b.ActiveAt == nil) && (a.RetiredAt == nil) == (b.RetiredAt == nil)
}
