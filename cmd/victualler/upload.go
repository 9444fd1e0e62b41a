package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
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

func uploadCommands() []command {
	return []command{
		{noun: "certificate", verb: "request", args: "DOMAIN",
			short: "Make a key and a signing request for an authority of your own choice", preview: true,
			long: "Prints the request. The key stays here and waits: give what the authority makes of it to " +
				"certificate install.",
			flags: []flagInfo{{name: "names", value: "NAMES",
				usage: "the names it is for, with commas; those of the site by default"},
				{name: "key-type", value: "TYPE", usage: "ecdsa-p256, ecdsa-p384, rsa-2048, rsa-3072 or rsa-4096"},
				{name: "organization", value: "TEXT", usage: "in the subject"},
				{name: "unit", value: "TEXT", usage: "of the organization"},
				{name: "locality", value: "TEXT", usage: "town"},
				{name: "province", value: "TEXT", usage: "province or state"},
				{name: "country", value: "CODE", usage: "two letters"}},
			run: makeRequest},
		{noun: "certificate", verb: "remove-request", args: "DOMAIN NUMBER",
			short: "Forget a signing request and its key", preview: true, flags: []flagInfo{yesFlag},
			run: func(ctx context.Context, c *call) error {
				if _, err := strconv.ParseInt(c.args[1], 10, 64); err != nil {
					return usageError{fmt.Sprintf("%q is no number of a signing request; certificate show lists them",
						c.args[1])}
				}
				path, err := certificateOf(ctx, c)
				if err != nil {
					return err
				}
				if !c.on("preview") {
					if err := c.confirm("Forget the request and its key? What an authority makes of it cannot be " +
						"used any more."); err != nil {
						return err
					}
				}
				return c.removed(ctx, path+"/requests/"+c.args[1], "signing request "+c.args[1])
			}},
		{noun: "certificate", verb: "install", args: "DOMAIN FILE",
			short: "Install a certificate that an authority has given you", preview: true, waits: true,
			long: "FILE is PEM in any order, PKCS #7, or PKCS #12, whose password is asked for. The chain is " +
				"ordered and completed. The key is found automatically where the signing request was made here.",
			flags: []flagInfo{{name: "key", value: "FILE",
				usage: "with the key, PEM, if it is in no other file and not here"},
				{name: "password-stdin", usage: "read the password of the PKCS #12 from standard input"}},
			run: installCertificate},
		{noun: "certificate", verb: "download", args: "DOMAIN",
			short: "Print the certificate that a site shows with those that signed it, without its key",
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
			flags: []flagInfo{{name: "password-stdin",
				usage: "read the password and the code from standard input, a line each"}},
			run: readKey},
		{noun: "certificate", verb: "revoke", args: "DOMAIN",
			short: "Have a certificate revoked; the next one is ordered at once", preview: true, waits: true,
			flags: []flagInfo{{name: "reason", value: "WORD",
				usage: "key-compromise, affiliation-changed, superseded, cessation or unspecified"},
				{name: "serial", value: "NUMBER", usage: "an earlier one; certificate show lists them"}, yesFlag},
			run: revokeCertificate},
	}
}

func makeRequest(ctx context.Context, c *call) error {
	path, err := certificateOf(ctx, c)
	if err != nil {
		return err
	}
	body := api.NewSigningRequest{Names: list(c.value("names")), KeyType: c.value("key-type"),
		Organization: c.value("organization"), Unit: c.value("unit"), Locality: c.value("locality"),
		Province: c.value("province"),
		Country:  strings.ToUpper(c.value("country"))}
	var made api.SigningRequest
	previewed, err := c.change(ctx, http.MethodPost, path+"/requests", body, &made)
	if err != nil || previewed {
		return err
	}
	fmt.Fprintf(c.err, "signing request %d for %s; its key waits here. Install what the authority makes of it: "+
		"victualler certificate install %s FILE\n", made.ID, strings.Join(made.Names, ", "), c.args[0])
	fmt.Fprint(c.out, made.Request)
	return nil
}

func installCertificate(ctx context.Context, c *call) error {
	file, err := os.ReadFile(c.args[1])
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
	in := bufio.NewReader(c.in)
	if c.on("password-stdin") {
		if body.Password, err = readPassword(c, in, ""); err != nil {
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
		if body.Password, err = readPassword(c, in, "Password of "+c.args[1]+": "); err != nil {
			return err
		}
		previewed, err = install()
	}
	if err != nil || previewed {
		return err
	}
	fmt.Fprintf(c.out, "%s, for %s, until %s\n", installed.Issuer, strings.Join(installed.Names, ", "),
		installed.NotAfter.Format(time.DateOnly))
	for _, r := range installed.Remarks {
		fmt.Fprintln(c.out, "note:", r)
	}
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
	in := bufio.NewReader(c.in)
	var proof api.KeyProof
	if proof.Password, err = readPassword(c, in, "Your password: "); err != nil {
		return err
	}
	if !c.on("password-stdin") {
		fmt.Fprint(c.err, "Code of your second factor: ")
	}
	code, err := in.ReadString('\n')
	if err != nil && code == "" {
		return usageError{"a code of your second factor is needed"}
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
	fmt.Fprintf(c.out, "%s has the key and the certificate of %s; only you can read it\n", c.args[1], c.args[0])
	return nil
}

func revokeCertificate(ctx context.Context, c *call) error {
	path, err := certificateOf(ctx, c)
	if err != nil {
		return err
	}
	if !c.on("preview") {
		if err := c.confirm("Have the certificate of " + c.args[0] +
			" revoked? That cannot be taken back."); err != nil {
			return err
		}
	}
	var started api.Started
	previewed, err := c.change(ctx, http.MethodPost, path+"/revocation", api.Revocation{Reason: c.value("reason"),
		Serial: c.value("serial")}, &started)
	if err != nil || previewed {
		return err
	}
	fmt.Fprintln(c.out, "revoked")
	return c.startedIf(ctx, started.Operation)
}
