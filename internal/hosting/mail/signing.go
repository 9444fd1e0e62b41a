package mail

import (
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"regexp"
	"time"
)

// SelectorForm is how selectors of keys look here.
var SelectorForm = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)

// ParseSigningKey reads a key that mail is signed with: RSA of 2048 bits or more, in PEM.
func ParseSigningKey(text string) (*rsa.PrivateKey, error) {
	block, _ := pem.Decode([]byte(text))
	if block == nil {
		return nil, errors.New("this is no key in PEM")
	}
	parsed, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, err
	}
	key, is := parsed.(*rsa.PrivateKey)
	if !is || key.N.BitLen() < 2048 {
		return nil, errors.New("mail is signed with RSA keys of 2048 bits or more")
	}
	return key, nil
}

// SigningRecord is the text of the record that publishes the public half of a key (RFC 6376,
// section 3.6.1). It stands at SELECTOR._domainkey below the domain.
func SigningRecord(key *rsa.PublicKey) (string, error) {
	public, err := x509.MarshalPKIXPublicKey(key)
	if err != nil {
		return "", err
	}
	return "v=DKIM1; k=rsa; p=" + base64.StdEncoding.EncodeToString(public), nil
}

// Steps in the life of a signing key. What is under way is verified for days, and resolvers
// remember records for hours: a key is published before it signs, and long after it has.
const (
	// KeyLife is how long a key signs.
	KeyLife = 180 * 24 * time.Hour
	// KeyLead is how long the next one is published before it signs.
	KeyLead = 3 * 24 * time.Hour
	// KeyLag is how long one that has signed stays published.
	KeyLag = 14 * 24 * time.Hour
)

// selectors are used in turn.
var selectors = [2]string{"k1", "k2"}

// SigningState is where a key of a domain is in its life.
type SigningState struct {
	ID       int64
	Selector string
	MadeAt   time.Time
	// ActiveAt is when it began to sign, RetiredAt when it ceased to; nil while that has not
	// happened.
	ActiveAt, RetiredAt *time.Time
}

// Signs reports whether messages are signed with the key.
func (k SigningState) Signs() bool { return k.ActiveAt != nil && k.RetiredAt == nil }

// KeyTurn is what is to be done with the keys of a domain.
type KeyTurn struct {
	// Make is the selector of a key that is to be made and published; empty is none. It signs at
	// once if AtOnce is set.
	Make   string
	AtOnce bool
	// Activate, Retire and Remove are numbers of keys; 0 is none.
	Activate, Retire, Remove int64
}

// TurnKeys decides what is to be done with the keys of a domain at a time. Keys are replaced only
// where we publish them: elsewhere, somebody would have to enter each new one.
func TurnKeys(keys []SigningState, published bool, now time.Time) KeyTurn {
	turn := KeyTurn{}
	var signs, next *SigningState
	used := map[string]bool{}
	for i, k := range keys {
		switch {
		case k.Signs():
			signs = &keys[i]
		case k.ActiveAt == nil:
			next = &keys[i]
		case now.Sub(*k.RetiredAt) >= KeyLag:
			turn.Remove = k.ID
			continue
		}
		used[k.Selector] = true
	}
	free := ""
	for _, s := range selectors {
		if !used[s] {
			free = s
		}
	}
	switch {
	case signs == nil && next == nil:
		turn.Make, turn.AtOnce = selectors[0], true
		if used[selectors[0]] {
			turn.Make = free
		}
	case signs == nil:
		turn.Activate = next.ID
	case !published:
	case next != nil && now.Sub(next.MadeAt) >= KeyLead:
		turn.Activate, turn.Retire = next.ID, signs.ID
	case next == nil && now.Sub(*signs.ActiveAt) >= KeyLife:
		turn.Make = free // none while the one before is published
	}
	return turn
}
