package authority

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
)

// newOrder is of RFC 8555, section 7.4.
func (a *Authority) newOrder(c *call) *problem {
	if c.account == nil {
		return malformed("an account orders")
	}
	var asked struct {
		Identifiers []identifier `json:"identifiers"`
		Profile     string       `json:"profile"`
		Replaces    string       `json:"replaces"`
	}
	if p := c.read(&asked); p != nil {
		return p
	}
	now := a.options.Now()
	if p := a.tooMany(c.account, now); p != nil {
		return p
	}
	if asked.Profile == "" {
		asked.Profile = slices.Sorted(maps.Keys(a.settings.Lifetimes))[0]
	} else if _, offered := a.settings.Lifetimes[asked.Profile]; !offered {
		return wrong("invalidProfile", http.StatusBadRequest, "there is no profile %q", asked.Profile)
	}
	if len(asked.Identifiers) == 0 || len(asked.Identifiers) > 100 {
		return malformed("an order is for 1 to 100 names")
	}
	var subproblems []subproblem
	seen := map[string]bool{}
	for _, id := range asked.Identifiers {
		if p := checkName(id); p != nil {
			subproblems = append(subproblems, subproblem{Type: p.Type, Detail: p.Detail, Identifier: id})
		}
		if seen[id.Value] {
			return malformed("the name %s is listed twice", id.Value)
		}
		seen[id.Value] = true
	}
	if len(subproblems) > 0 {
		p := malformed("%s", subproblems[0].Detail)
		p.Type, p.Subproblems = subproblems[0].Type, subproblems
		return p
	}
	if asked.Replaces != "" {
		if p := a.mayReplace(c.account, asked.Replaces); p != nil {
			return p
		}
	}
	o := &order{number: a.number(), account: c.account, status: "pending", expires: now.Add(orderLife),
		identifiers: asked.Identifiers, profile: asked.Profile, replaces: asked.Replaces}
	for _, id := range asked.Identifiers {
		o.proofs = append(o.proofs, a.proofOf(c.account, id, now))
	}
	c.account.orders = append(c.account.orders, now)
	a.orders[o.number] = o
	a.settle(o)
	return a.writeOrder(c, o, http.StatusCreated)
}

// tooMany counts an account's orders of the last hour.
func (a *Authority) tooMany(of *account, now time.Time) *problem {
	most := a.settings.OrdersPerHour
	of.orders = slices.DeleteFunc(of.orders, func(t time.Time) bool { return now.Sub(t) > time.Hour })
	if most == 0 || len(of.orders) < most {
		return nil
	}
	wait := a.settings.RetryAfter
	if wait == 0 {
		wait = of.orders[len(of.orders)-most].Add(time.Hour).Sub(now)
	}
	p := wrong("rateLimited", http.StatusTooManyRequests, "too many orders: %d in the last hour, and %d are allowed",
		len(of.orders), most)
	p.retryAfter = strconv.Itoa(int(wait.Seconds()) + 1)
	return p
}

// checkName refuses what no certificate is issued for here.
func checkName(id identifier) *problem {
	if id.Type != "dns" {
		return wrong("unsupportedIdentifier", http.StatusBadRequest, "only names are known here, and no %s", id.Type)
	}
	name := strings.TrimPrefix(id.Value, "*.")
	labels := strings.Split(name, ".")
	rejected := wrong("rejectedIdentifier", http.StatusBadRequest, "no certificate is issued for %q", id.Value)
	if len(labels) < 2 || len(name) > 253 || name != strings.ToLower(name) {
		return rejected
	}
	for _, l := range labels {
		if l == "" || len(l) > 63 || strings.Trim(l, "abcdefghijklmnopqrstuvwxyz0123456789-") != "" ||
			strings.HasPrefix(l, "-") || strings.HasSuffix(l, "-") {
			return rejected
		}
	}
	return nil
}

// mayReplace checks what an order says it replaces (RFC 9773, section 5).
func (a *Authority) mayReplace(by *account, id string) *problem {
	for _, c := range a.issued {
		if certID(c.leaf.AuthorityKeyId, c.leaf.SerialNumber) != id {
			continue
		}
		if c.account != by {
			return denied("the certificate that is to be replaced is another account's")
		}
		for _, o := range a.orders {
			if o.replaces == id && o.status != "invalid" {
				return wrong("alreadyReplaced", http.StatusConflict, "the certificate has been replaced by order %s",
					o.number)
			}
		}
		return nil
	}
	return malformed("there is no certificate %s to be replaced", id)
}

// proofOf finds a proof of the account's that still counts, or begins one.
func (a *Authority) proofOf(of *account, id identifier, now time.Time) *authorization {
	wildcard := strings.HasPrefix(id.Value, "*.")
	name := identifier{"dns", strings.TrimPrefix(id.Value, "*.")}
	for _, p := range a.proofs {
		if !a.settings.Fresh && p.account == of && p.identifier == name && p.wildcard == wildcard &&
			p.status == "valid" && p.expires.After(now) {
			return p
		}
	}
	p := &authorization{number: a.number(), account: of, identifier: name, wildcard: wildcard, status: "pending",
		expires: now.Add(orderLife)}
	kinds := []string{"http-01", "dns-01"}
	if wildcard {
		kinds = []string{"dns-01"}
	}
	for _, kind := range kinds {
		p.challenges = append(p.challenges, &challenge{number: a.number(), kind: kind, token: rand.Text(),
			status: "pending"})
	}
	a.proofs[p.number] = p
	return p
}

// settle works out what has become of an order (RFC 8555, section 7.1.6).
func (a *Authority) settle(o *order) {
	if o.status != "pending" && o.status != "ready" {
		return
	}
	ready := true
	for _, p := range o.proofs {
		switch p.status {
		case "valid":
		case "pending":
			ready = false
		default:
			o.status = "invalid"
			o.failure = denied("the name %s was not proved", p.identifier.Value)
			for _, c := range p.challenges {
				if c.failure != nil {
					o.failure = c.failure
				}
			}
			return
		}
	}
	if ready {
		o.status = "ready"
	} else if o.expires.Before(a.options.Now()) {
		o.status = "invalid"
		o.failure = malformed("the order has expired")
	}
}

func (a *Authority) writeOrder(c *call, o *order, status int) *problem {
	url := a.base + "/order/" + o.number
	doc := map[string]any{"status": o.status, "expires": o.expires.UTC().Format(time.RFC3339),
		"identifiers": o.identifiers, "finalize": url + "/finalize", "profile": o.profile}
	proofs := []string{}
	for _, p := range o.proofs {
		proofs = append(proofs, a.base+"/authorization/"+p.number)
	}
	doc["authorizations"] = proofs
	if o.failure != nil {
		doc["error"] = o.failure
	}
	if o.certificate != nil {
		doc["certificate"] = a.base + "/certificate/" + o.certificate.number()
	}
	if o.replaces != "" {
		doc["replaces"] = o.replaces
	}
	if o.status == "processing" {
		c.w.Header().Set("Retry-After", "1")
	}
	c.w.Header().Set("Location", url)
	writeJSON(c.w, status, doc)
	return nil
}

// mine finds a thing of the account that asks.
func mine[T any](c *call, all map[string]T, owner func(T) *account) (T, *problem) {
	thing, there := all[c.number()]
	if !there || c.account == nil || owner(thing) != c.account {
		var none T
		return none, wrong("malformed", http.StatusNotFound, "there is no such resource of this account")
	}
	return thing, nil
}

func (a *Authority) showOrder(c *call) *problem {
	o, p := mine(c, a.orders, func(o *order) *account { return o.account })
	if p != nil {
		return p
	}
	a.settle(o)
	return a.writeOrder(c, o, http.StatusOK)
}

func (a *Authority) showProof(c *call) *problem {
	proof, p := mine(c, a.proofs, func(p *authorization) *account { return p.account })
	if p != nil {
		return p
	}
	if len(c.payload) > 0 {
		var asked struct {
			Status string `json:"status"`
		}
		if p := c.read(&asked); p != nil {
			return p
		}
		if asked.Status == "deactivated" {
			proof.status = "deactivated"
		}
	}
	challenges := []any{}
	for _, one := range proof.challenges {
		if proof.status == "pending" || one.status != "pending" {
			challenges = append(challenges, a.challengeDoc(one))
		}
	}
	doc := map[string]any{"status": proof.status, "expires": proof.expires.UTC().Format(time.RFC3339),
		"identifier": proof.identifier, "challenges": challenges}
	if proof.wildcard {
		doc["wildcard"] = true
	}
	if proof.status == "pending" {
		c.w.Header().Set("Retry-After", "1")
	}
	writeJSON(c.w, http.StatusOK, doc)
	return nil
}

func (a *Authority) challengeDoc(c *challenge) map[string]any {
	doc := map[string]any{"type": c.kind, "url": a.base + "/challenge/" + c.number, "token": c.token,
		"status": c.status}
	if !c.validated.IsZero() {
		doc["validated"] = c.validated.UTC().Format(time.RFC3339)
	}
	if c.failure != nil {
		doc["error"] = c.failure
	}
	return doc
}

// resume begins the validation of a challenge (RFC 8555, section 7.5.1).
func (a *Authority) resume(c *call) *problem {
	for _, proof := range a.proofs {
		for _, one := range proof.challenges {
			if one.number != c.number() || proof.account != c.account {
				continue
			}
			c.w.Header().Add("Link", "<"+a.base+"/authorization/"+proof.number+`>;rel="up"`)
			if len(c.payload) > 0 && one.status == "pending" && proof.status == "pending" {
				one.status = "processing"
				a.validate(proof, one)
			}
			if one.status == "processing" {
				c.w.Header().Set("Retry-After", "1")
			}
			writeJSON(c.w, http.StatusOK, a.challengeDoc(one))
			return nil
		}
	}
	return wrong("malformed", http.StatusNotFound, "there is no such challenge of this account")
}

// validate looks whether a challenge is met, meanwhile.
func (a *Authority) validate(proof *authorization, one *challenge) {
	unlucky := a.settings.InvalidOnce || slices.Contains(a.settings.Blind, proof.identifier.Value)
	a.settings.InvalidOnce = false
	owner := proof.account
	a.work(func(ctx context.Context, slow time.Duration) {
		pause(ctx, slow)
		var failure *problem
		if unlucky {
			failure = denied("the answer to the challenge was not the one that was expected")
		} else {
			failure = a.checkChallenge(ctx, proof, one, owner)
		}
		a.mu.Lock()
		defer a.mu.Unlock()
		one.validated = a.options.Now()
		if failure != nil {
			one.status, one.failure, proof.status = "invalid", failure, "invalid"
			return
		}
		one.status, proof.status, proof.expires = "valid", "valid", one.validated.Add(proofLife)
	})
}

// finalize is of RFC 8555, section 7.4.
func (a *Authority) finalize(c *call) *problem {
	o, p := mine(c, a.orders, func(o *order) *account { return o.account })
	if p != nil {
		return p
	}
	a.settle(o)
	if o.status != "ready" {
		return wrong("orderNotReady", http.StatusForbidden, "the order is %s", o.status)
	}
	var asked struct {
		Request string `json:"csr"`
	}
	if p := c.read(&asked); p != nil {
		return p
	}
	der, err := base64.RawURLEncoding.DecodeString(asked.Request)
	if err != nil {
		return wrong("badCSR", http.StatusBadRequest, "the signing request is not base64url: %v", err)
	}
	request, err := x509.ParseCertificateRequest(der)
	if err == nil {
		err = request.CheckSignature()
	}
	if err != nil {
		return wrong("badCSR", http.StatusBadRequest, "the signing request: %v", err)
	}
	if p := checkRequest(request, o); p != nil {
		return p
	}
	o.status = "processing"
	life := a.settings.Lifetimes[o.profile]
	a.work(func(ctx context.Context, slow time.Duration) {
		pause(ctx, slow)
		// CAA is looked at again: whoever proved a name some time ago
		// may have forbidden it since (RFC 8659, section 3).
		var failure *problem
		for _, id := range o.identifiers {
			if failure == nil {
				failure = a.mayIssue(ctx, id.Value, "", a.base+"/account/"+o.account.number)
			}
		}
		leaf, err := a.issuer.issue(request, o.identifiers, a.options.Now(), life)
		a.mu.Lock()
		defer a.mu.Unlock()
		if failure == nil && err != nil {
			failure = wrong("serverInternal", http.StatusInternalServerError, "%v", err)
		}
		if failure != nil {
			o.status, o.failure = "invalid", failure
			return
		}
		o.certificate = &certificate{leaf: leaf, account: o.account}
		a.issued[o.certificate.number()] = o.certificate
		o.status = "valid"
	})
	return a.writeOrder(c, o, http.StatusOK)
}

// checkRequest refuses a signing request that is not for the names of
// the order, or whose key is weak or the account's.
func checkRequest(request *x509.CertificateRequest, o *order) *problem {
	bad := func(format string, args ...any) *problem {
		return wrong("badCSR", http.StatusBadRequest, format, args...)
	}
	var wanted []string
	for _, id := range o.identifiers {
		wanted = append(wanted, id.Value)
	}
	names := slices.Clone(request.DNSNames)
	if common := request.Subject.CommonName; common != "" && !slices.Contains(names, common) {
		names = append(names, common)
	}
	slices.Sort(wanted)
	slices.Sort(names)
	if !slices.Equal(wanted, slices.Compact(names)) {
		return bad("the signing request is for %s, and the order for %s", strings.Join(names, ", "),
			strings.Join(wanted, ", "))
	}
	switch key := request.PublicKey.(type) {
	case *ecdsa.PublicKey:
		if key.Curve != elliptic.P256() && key.Curve != elliptic.P384() {
			return bad("the curve of the key is not accepted")
		}
	case *rsa.PublicKey:
		if bits := key.N.BitLen(); bits < 2048 || bits > 4096 {
			return bad("the key has %d bits: 2048 to 4096 are accepted", bits)
		}
	default:
		return bad("keys of this kind are not accepted")
	}
	if equalKeys(request.PublicKey, o.account.key) {
		return bad("the key is the account's own")
	}
	return nil
}

// download is of RFC 8555, section 7.4.2.
func (a *Authority) download(c *call) *problem {
	one, p := mine(c, a.issued, func(o *certificate) *account { return o.account })
	if p != nil {
		return p
	}
	c.w.Header().Set("Content-Type", "application/pem-certificate-chain")
	pem.Encode(c.w, &pem.Block{Type: "CERTIFICATE", Bytes: one.leaf.Raw})
	pem.Encode(c.w, &pem.Block{Type: "CERTIFICATE", Bytes: a.issuer.intermediate.Raw})
	return nil
}

// revoke is of RFC 8555, section 7.6: asked for by the account, by the certificate's key, or by
// whoever has proved all its names.
func (a *Authority) revoke(c *call) *problem {
	var asked struct {
		Certificate string `json:"certificate"`
		Reason      int    `json:"reason"`
	}
	if p := c.read(&asked); p != nil {
		return p
	}
	der, err := base64.RawURLEncoding.DecodeString(asked.Certificate)
	if err != nil {
		return malformed("the certificate is not base64url: %v", err)
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		return malformed("the certificate: %v", err)
	}
	one := a.issued[leaf.SerialNumber.Text(16)]
	if one == nil || !one.leaf.Equal(leaf) {
		return wrong("malformed", http.StatusNotFound, "the certificate was not issued here")
	}
	if c.account == nil && !equalKeys(one.leaf.PublicKey, c.key) || c.account != nil && c.account != one.account {
		return denied("the certificate is somebody else's")
	}
	if !one.revoked.IsZero() {
		return wrong("alreadyRevoked", http.StatusBadRequest, "the certificate was revoked at %s",
			one.revoked.UTC().Format(time.RFC3339))
	}
	if asked.Reason < 0 || asked.Reason > 10 || asked.Reason == 7 {
		return wrong("badRevocationReason", http.StatusBadRequest, "%d is no reason of RFC 5280", asked.Reason)
	}
	one.revoked, one.reason = a.options.Now(), asked.Reason
	c.w.WriteHeader(http.StatusOK)
	return nil
}

// Revoked tells why a certificate was revoked (RFC 5280, section
// 5.3.1); ok is false for one that was not.
func (a *Authority) Revoked(leaf *x509.Certificate) (reason int, ok bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	one := a.issued[leaf.SerialNumber.Text(16)]
	if one == nil || one.revoked.IsZero() {
		return 0, false
	}
	return one.reason, true
}
