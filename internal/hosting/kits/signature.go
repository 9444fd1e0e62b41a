package kits

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"encoding/pem"
	"hash"
	"strings"

	"golang.org/x/crypto/blake2b"
	"golang.org/x/crypto/ssh"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/refusal"
)

// Key is a public key that archives of kits may be signed with.
type Key struct {
	// Kind is KeyMinisign or KeySSH, Text the key as it is written there.
	Kind, Text string
	// ID is how people tell it from others: minisign's number, or SSH's fingerprint.
	ID string

	minisign ed25519.PublicKey
	number   [8]byte
	ssh      ssh.PublicKey
}

// The kinds of keys.
const (
	KeyMinisign = "minisign"
	KeySSH      = "ssh"
)

// SignatureNamespace is what signatures of SSH keys say that they are for (PROTOCOL.sshsig): one
// that somebody gave for something else counts for nothing here.
const SignatureNamespace = "kit"

// ParseKey reads a public key: the line of minisign's that begins with RW, or a line of
// authorized_keys.
func ParseKey(text string) (Key, error) {
	text = strings.TrimSpace(text)
	if strings.HasPrefix(text, "untrusted comment:") { // the whole file of minisign
		_, text, _ = strings.Cut(text, "\n")
		text = strings.TrimSpace(text)
	}
	if raw, err := base64.StdEncoding.DecodeString(text); err == nil && len(raw) == 42 && string(raw[:2]) == "Ed" {
		k := Key{Kind: KeyMinisign, Text: text, minisign: ed25519.PublicKey(raw[10:])}
		copy(k.number[:], raw[2:10])
		reversed := k.number // it is written as a number, with its last byte first
		for i, b := range k.number {
			reversed[7-i] = b
		}
		k.ID = strings.ToUpper(hex.EncodeToString(reversed[:]))
		return k, nil
	}
	public, comment, options, rest, err := ssh.ParseAuthorizedKey([]byte(text))
	if err != nil || len(options) > 0 || len(bytes.TrimSpace(rest)) > 0 {
		return Key{}, language.Errorf("is neither a public key of minisign nor one line of an SSH public key")
	}
	if !keyTypes[public.Type()] {
		return Key{}, language.Errorf("keys of type %s are not taken; use ed25519", public.Type())
	}
	line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(public)))
	if comment != "" && checkLine(comment, 100, false) == nil {
		line += " " + comment
	}
	return Key{Kind: KeySSH, Text: line, ID: ssh.FingerprintSHA256(public), ssh: public}, nil
}

// keyTypes are the types of SSH keys whose signatures are taken.
var keyTypes = map[string]bool{ssh.KeyAlgoED25519: true, ssh.KeyAlgoRSA: true, ssh.KeyAlgoECDSA256: true,
	ssh.KeyAlgoECDSA384: true, ssh.KeyAlgoECDSA521: true, ssh.KeyAlgoSKED25519: true, ssh.KeyAlgoSKECDSA256: true}

// Verify finds the key that an archive was signed with among those that are trusted.
//
// Refusals: InvalidInput, NotAllowed.
func Verify(archive []byte, signature string, trusted []Key) (Key, error) {
	if block, _ := pem.Decode([]byte(signature)); block != nil && block.Type == "SSH SIGNATURE" {
		return verifySSH(archive, block.Bytes, trusted)
	}
	return verifyMinisign(archive, signature, trusted)
}

func notTrusted(id string) error {
	return refusal.New(refusal.NotAllowed, "it is signed with the key %s, which is none of those that are trusted here",
		id).On("signature")
}

func badSignature() error {
	return refusal.New(refusal.NotAllowed, "the signature is not of this archive: it was changed, or another one was "+
		"signed").On("signature")
}

func unreadable() error {
	return refusal.Input("signature", "is no signature of minisign (.minisig) and none of ssh-keygen -Y sign (.sig)")
}

// verifyMinisign checks a signature as minisign(1) writes it: two comments, a signature of the
// contents (of their BLAKE2b-512 where the algorithm is “ED”), and one of that and the comment.
func verifyMinisign(archive []byte, text string, trusted []Key) (Key, error) {
	lines := strings.Split(strings.TrimSpace(strings.ReplaceAll(text, "\r\n", "\n")), "\n")
	if len(lines) != 4 || !strings.HasPrefix(lines[0], "untrusted comment:") ||
		!strings.HasPrefix(lines[2], "trusted comment: ") {
		return Key{}, unreadable()
	}
	sig, err := base64.StdEncoding.DecodeString(lines[1])
	global, failed := base64.StdEncoding.DecodeString(lines[3])
	if err != nil || failed != nil || len(sig) != 74 || len(global) != ed25519.SignatureSize {
		return Key{}, unreadable()
	}
	signed := archive
	switch string(sig[:2]) {
	case "ED":
		sum := blake2b.Sum512(archive)
		signed = sum[:]
	case "Ed":
	default:
		return Key{}, unreadable()
	}
	for _, k := range trusted {
		if k.Kind != KeyMinisign || !bytes.Equal(k.number[:], sig[2:10]) {
			continue
		}
		comment := strings.TrimPrefix(lines[2], "trusted comment: ")
		if !ed25519.Verify(k.minisign, signed, sig[10:]) ||
			!ed25519.Verify(k.minisign, append(bytes.Clone(sig[10:]), comment...), global) {
			return Key{}, badSignature()
		}
		return k, nil
	}
	number := bytes.Clone(sig[2:10])
	for i, j := 0, len(number)-1; i < j; i, j = i+1, j-1 {
		number[i], number[j] = number[j], number[i]
	}
	return Key{}, notTrusted(strings.ToUpper(hex.EncodeToString(number)))
}

// sshSignature is a signature of OpenSSH, behind its six letters SSHSIG (PROTOCOL.sshsig, section
// 2).
type sshSignature struct {
	Version   uint32
	PublicKey string
	Namespace string
	Reserved  string
	Hash      string
	Signature string
}

// sshSigned is what is signed (PROTOCOL.sshsig, section 3).
type sshSigned struct {
	Namespace string
	Reserved  string
	Hash      string
	Sum       string
}

const sshMagic = "SSHSIG"

func verifySSH(archive, blob []byte, trusted []Key) (Key, error) {
	rest, ours := bytes.CutPrefix(blob, []byte(sshMagic))
	var s sshSignature
	if !ours || ssh.Unmarshal(rest, &s) != nil || s.Version != 1 {
		return Key{}, unreadable()
	}
	public, err := ssh.ParsePublicKey([]byte(s.PublicKey))
	var sig ssh.Signature
	if err != nil || ssh.Unmarshal([]byte(s.Signature), &sig) != nil {
		return Key{}, unreadable()
	}
	if s.Namespace != SignatureNamespace {
		return Key{}, refusal.New(refusal.NotAllowed, "the signature is for %q; sign with ssh-keygen -Y sign -n %s",
			s.Namespace, SignatureNamespace).On("signature")
	}
	var sum hash.Hash
	switch s.Hash {
	case "sha256":
		sum = sha256.New()
	case "sha512":
		sum = sha512.New()
	default:
		return Key{}, unreadable()
	}
	sum.Write(archive)
	if sig.Format == ssh.KeyAlgoRSA { // which means SHA-1, and is not allowed there either
		return Key{}, badSignature()
	}
	for _, k := range trusted {
		if k.Kind != KeySSH || !bytes.Equal(k.ssh.Marshal(), public.Marshal()) {
			continue
		}
		message := append([]byte(sshMagic), ssh.Marshal(sshSigned{s.Namespace, s.Reserved, s.Hash,
			string(sum.Sum(nil))})...)
		if k.ssh.Verify(message, &sig) != nil {
			return Key{}, badSignature()
		}
		return k, nil
	}
	return Key{}, notTrusted(ssh.FingerprintSHA256(public))
}
