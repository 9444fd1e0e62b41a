package main

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/refusal"
)

var revocationReasons = []string{"key-compromise", "affiliation-changed", "superseded", "cessation", "unspecified"}

func uploadCommands() []command {
	return []command{
		{noun: "certificate", verb: "request", args: "DOMAIN",
			short: "Make a key and a signing request for an authority of your own choice", preview: true,
			long: "Prints the request. The key stays here and waits: give what the authority makes of it to " +
				"certificate install.",
			flags: []flagInfo{inAccountFlag, {name: "names", value: "NAMES",
				usage: "the names it is for, with commas; those of the site by default"},
				{name: "key-type", value: "TYPE", usage: orList(keyTypes), values: keyTypes},
				{name: "organization", value: "TEXT", usage: "in the subject"},
				{name: "unit", value: "TEXT", usage: "of the organization"},
				{name: "locality", value: "TEXT", usage: "town"},
				{name: "province", value: "TEXT", usage: "province or state"},
				{name: "country", value: "CODE", usage: "two letters"}},
			run: makeRequest},
		{noun: "certificate", verb: "remove-request", args: "DOMAIN NUMBER",
			short: "Forget a signing request and its key", preview: true, flags: []flagInfo{inAccountFlag, yesFlag},
			run: func(ctx context.Context, c *call) error {
				if _, err := strconv.ParseInt(c.args[1], 10, 64); err != nil {
					return usageError{fmt.Sprintf("%q is no number of a signing request; certificate show lists them",
						c.args[1])}
				}
				path, err := certificateOf(ctx, c)
				if err != nil {
					return err
				}
				if err := c.confirm(ctx, "Forget the request and its key? What an authority makes of it cannot be "+
					"used any more."); err != nil {
					return err
				}
				return c.remove(ctx, path+"/requests/"+c.args[1], "signing request "+c.args[1])
			}},
		{noun: "certificate", verb: "install", args: "DOMAIN FILE",
			short: "Install a certificate that an authority has given you", preview: true, waits: true,
			long: "FILE is PEM in any order, PKCS #7, or PKCS #12, whose password is asked for. The chain is " +
				"ordered and completed. The key is found automatically where the signing request was made here.",
			flags: []flagInfo{inAccountFlag, {name: "key", value: "FILE",
				usage: "with the key, PEM, if it is in no other file and not here"},
				{name: "password-stdin", usage: "read the password of the PKCS #12 from standard input"}},
			run: installCertificate},
		{noun: "certificate", verb: "download", args: "DOMAIN",
			short: "Print the certificate that a site shows with those that signed it, without its key", stream: true,
			flags: []flagInfo{inAccountFlag},
			run: func(ctx context.Context, c *call) error {
				path, err := certificateOf(ctx, c)
				if err != nil {
					return err
				}
				var text api.CertificateText
				if err := c.client.Get(ctx, path+"/chain", nil, &text); err != nil {
					return err
				}
				fmt.Fprint(c.out, text.Chain)
				return nil
			}},
		{noun: "certificate", verb: "key", args: "DOMAIN FILE",
			short: "Write the certificate with its key into a new file, as the customer whose it is",
			long:  "Asks for your password and a code of your second factor. That the key was given is recorded.",
			flags: []flagInfo{inAccountFlag, {name: "password-stdin",
				usage: "read the password and the code from standard input, a line each"}},
			run: readKey},
		{noun: "certificate", verb: "revoke", args: "DOMAIN",
			short: "Have a certificate revoked; the next one is ordered at once", preview: true, waits: true,
			flags: []flagInfo{inAccountFlag, {name: "reason", value: "WORD", usage: orList(revocationReasons),
				values: revocationReasons},
				{name: "serial", value: "NUMBER", usage: "an earlier one; certificate show lists them"}, yesFlag},
			run: revokeCertificate},
	}
}

func makeRequest(ctx context.Context, c *call) error {
	path, err := certificateOf(ctx, c)
	if err != nil {
		return err
	}
	body := api.NewSigningRequest{Names: words(c.value("names")), KeyType: c.value("key-type"),
		Organization: c.value("organization"), Unit: c.value("unit"), Locality: c.value("locality"),
		Province: c.value("province"),
		Country:  strings.ToUpper(c.value("country"))}
	var made api.SigningRequest
	previewed, err := c.change(ctx, http.MethodPost, path+"/requests", body, &made)
	if err != nil || previewed {
		return err
	}
	c.note(fmt.Sprintf("signing request %d for %s; its key waits here. Install what the authority makes of it: "+
		"victualler certificate install %s FILE", made.ID, strings.Join(made.Names, ", "), c.args[0]))
	c.say("%s", strings.TrimRight(made.Request, "\n"))
	return nil
}

func installCertificate(ctx context.Context, c *call) error {
	file, err := readFile(c.args[1])
	if err != nil {
		return err
	}
	body := api.UploadedCertificate{Certificate: string(file)}
	if !bytes.Contains(file, []byte("-----BEGIN")) {
		body.Certificate = base64.StdEncoding.EncodeToString(file)
	}
	if body.Key, err = textOf(c.value("key")); err != nil {
		return err
	}
	if c.on("password-stdin") {
		if body.Password, err = c.readPassword(ctx, ""); err != nil {
			return err
		}
	}
	path, err := certificateOf(ctx, c)
	if err != nil {
		return err
	}
	var installed api.InstalledCertificate
	install := func() (bool, error) { return c.change(ctx, http.MethodPost, path+"/install", body, &installed) }
	previewed, err := install()
	if needsPassword(err) && body.Password == "" {
		if body.Password, err = c.readPassword(ctx, "Password of "+c.args[1]+": "); err != nil {
			return err
		}
		previewed, err = install()
	}
	if err != nil || previewed {
		return err
	}
	c.say("%s, for %s, until %s", installed.Issuer, strings.Join(installed.Names, ", "),
		installed.NotAfter.Format(time.DateOnly))
	return c.startedIf(ctx, installed.Operation)
}

// needsPassword reports whether a refusal is about a password that is needed.
func needsPassword(err error) bool {
	var refused *api.Problem
	return errors.As(err, &refused) && slices.ContainsFunc(refused.Errors, func(f refusal.Field) bool {
		return f.Name == "password"
	})
}

func readKey(ctx context.Context, c *call) error {
	path, err := certificateOf(ctx, c)
	if err != nil {
		return err
	}
	// Before anything is asked for: a file that is there is not written over.
	file, err := os.OpenFile(c.args[1], os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return usageError{fmt.Sprintf("%s is there already; name a new file", c.args[1])}
	}
	if err != nil {
		return err
	}
	written := false
	defer func() {
		file.Close()
		if !written {
			os.Remove(c.args[1])
		}
	}()
	var proof api.KeyProof
	if proof.Password, err = c.readPassword(ctx, "Your password: "); err != nil {
		return err
	}
	prompt := "Code of your second factor: "
	if c.on("password-stdin") {
		prompt = ""
	}
	code, err := c.term.line(ctx, prompt)
	if errors.Is(err, io.EOF) {
		err = usageError{"a code of your second factor is needed"}
	}
	if err != nil {
		return err
	}
	proof.Code = strings.TrimSpace(code)
	var with api.CertificateWithKey
	if err := c.client.Post(ctx, path+"/key", proof, &with); err != nil {
		return err
	}
	if _, err := file.WriteString(with.Key + with.Chain); err != nil {
		return err
	}
	written = true
	c.say("%s has the key and the certificate of %s; only you can read it", c.args[1], c.args[0])
	return nil
}

func revokeCertificate(ctx context.Context, c *call) error {
	path, err := certificateOf(ctx, c)
	if err != nil {
		return err
	}
	if err := c.confirm(ctx, "Revoke the certificate of "+c.args[0]+"? That cannot be undone."); err != nil {
		return err
	}
	var started api.Started
	previewed, err := c.change(ctx, http.MethodPost, path+"/revocation", api.Revocation{Reason: c.value("reason"),
		Serial: c.value("serial")}, &started)
	if err != nil || previewed {
		return err
	}
	c.say("revoked")
	return c.startedIf(ctx, started.Operation)
}
