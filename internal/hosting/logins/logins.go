// Package logins decides about sign-ins for file transfer: their names,
// folders, keys and passwords.
package logins

import (
	"crypto/rsa"
	"encoding/base64"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"victualler/internal/hosting/names"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/sites"
)

// Login is one sign-in for file transfer.
type Login struct {
	// Name is the account's sign-in name, or that with a hyphen and a suffix.
	Name string `json:"name"`
	// Folder is what it sees, below the home; empty is the whole home.
	Folder string `json:"folder,omitempty"`
	// Hash is of the password, as crypt(5) knows it; empty lets nobody in by password.
	Hash string `json:"hash,omitempty"`
	// Keys are public keys as a line of authorized_keys has them: type and blob.
	Keys []string `json:"keys,omitempty"`
}

var (
	suffix = regexp.MustCompile(`^[a-z][a-z0-9]{0,14}$`)
	hash   = regexp.MustCompile(`^\$2[aby]\$[0-9]{2}\$[./A-Za-z0-9]{53}$`)
)

// Name returns the name of a further login of an account.
func Name(signIn, typed string) (string, error) {
	typed = strings.ToLower(strings.TrimSpace(typed))
	rest := strings.TrimPrefix(typed, signIn+"-")
	if !suffix.MatchString(rest) {
		return "", refusal.Input("name", "what follows %s- has 1 to 15 lower-case letters and digits, and "+
			"begins with a letter", signIn)
	}
	return signIn + "-" + rest, nil
}

// CheckFolder refuses what cannot be the folder of a login. Root's
// directories of a home are nobody's to write.
func CheckFolder(folder string) error {
	if folder == "" {
		return nil
	}
	if err := sites.CheckRoot(folder); err != nil {
		return refusal.Input("folder", "%s", refusal.As(err).Detail)
	}
	return nil
}

// Check refuses a login that must not reach a server.
func (l Login) Check(signIn string) error {
	if l.Name == signIn {
		if err := names.CheckSignIn(signIn); err != nil {
			return err
		}
		if l.Folder != "" {
			return fmt.Errorf("login %s: the account's own sign-in sees the whole home", l.Name)
		}
	} else if name, err := Name(signIn, l.Name); err != nil || name != l.Name {
		return fmt.Errorf("login %q is none of %s", l.Name, signIn)
	}
	if err := CheckFolder(l.Folder); err != nil {
		return err
	}
	if l.Hash != "" && !hash.MatchString(l.Hash) {
		return fmt.Errorf("login %s: the password's hash cannot be read", l.Name)
	}
	for _, k := range l.Keys {
		key, err := ParseKey(k)
		if err != nil {
			return fmt.Errorf("login %s: %w", l.Name, err)
		}
		if key.Line != k {
			return fmt.Errorf("login %s: the key is not in its final form", l.Name)
		}
	}
	return nil
}

// Key is a public key.
type Key struct {
	// Line is type and blob, with a blank between them.
	Line string
	// Comment is what stood behind them; whose key it is.
	Comment string
	// Fingerprint is that of RFC 4716's successor in use: SHA256 and base 64.
	Fingerprint string
}

// leastRSA is how many bits an RSA key has at least (NIST SP 800-131A).
const leastRSA = 2048

// ParseKey reads a public key as people paste it: the line of a file that ends in .pub.
func ParseKey(typed string) (Key, error) {
	text := strings.TrimSpace(typed)
	wrong := func(format string, args ...any) (Key, error) { return Key{}, refusal.Input("key", format, args...) }
	switch {
	case strings.Contains(text, "PRIVATE KEY"):
		return wrong("this is a private key: keep it to yourself, and make another pair, as it has been shown; what " +
			"is needed is the line of the file that ends in .pub")
	case len(text) > 16<<10 || strings.ContainsAny(text, "\n\r"):
		return wrong("a public key is one line")
	}
	public, comment, options, _, err := ssh.ParseAuthorizedKey([]byte(text))
	if err != nil {
		return wrong("this is no public key; paste the line of the file that ends in .pub, such as “ssh-ed25519 " +
			"AAAA… name”")
	}
	if len(options) > 0 {
		return wrong("options before a key (%s) are not taken; paste the key alone", strings.Join(options, ","))
	}
	if !slices.Contains([]string{ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521,
		ssh.KeyAlgoRSA, ssh.KeyAlgoSKED25519, ssh.KeyAlgoSKECDSA256}, public.Type()) {
		return wrong("keys of the type %s are not taken any more; make one of the type ed25519", public.Type())
	}
	if crypto, is := public.(ssh.CryptoPublicKey); is {
		if rsaKey, is := crypto.CryptoPublicKey().(*rsa.PublicKey); is && rsaKey.N.BitLen() < leastRSA {
			return wrong("an RSA key of %d bits is too short; %d is the least, ed25519 is better", rsaKey.N.BitLen(),
				leastRSA)
		}
	}
	return Key{Line: public.Type() + " " + base64.StdEncoding.EncodeToString(public.Marshal()),
		Comment: strings.TrimSpace(comment), Fingerprint: ssh.FingerprintSHA256(public)}, nil
}
