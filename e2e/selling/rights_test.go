package selling

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
)

// stated says, for each permission that a route can name, which kinds
// of people have it. It is written down here once more, and not taken
// from the code: a right that is given by mistake fails here.
var stated = map[string]string{
	"public":              "everybody",
	"own":                 "signed in",
	"personal":            "in person",
	"mailbox.own":         "holder",
	"accounts.read":       "all support billing read-only reseller customer customer-viewer",
	"accounts.open":       "all support billing reseller",
	"accounts.change":     "all support billing reseller",
	"accounts.suspend":    "all support billing reseller",
	"accounts.close":      "all support billing reseller",
	"accounts.repair":     "all support reseller",
	"exceptions.change":   "all support reseller",
	"domains.change":      "all support reseller customer",
	"zones.change":        "all support reseller customer",
	"logins.change":       "all support reseller customer",
	"mail.change":         "all support reseller customer",
	"databases.change":    "all support reseller customer",
	"databases.contents":  "all support reseller customer",
	"kits.read":           "all support read-only reseller",
	"kits.offer":          "all reseller",
	"kits.register":       "all",
	"kits.install":        "all support reseller customer",
	"messages.read":       "all support read-only reseller customer customer-viewer",
	"queue.change":        "all support reseller customer",
	"sending.release":     "all support reseller",
	"certificates.change": "all support reseller customer",
	"authorities.read":    "all support read-only",
	"authorities.change":  "all",
	"templates.read":      "all support read-only reseller",
	"templates.change":    "all reseller",
	"plans.read":          "all support billing read-only reseller",
	"plans.change":        "all reseller",
	"customers.read":      "all support billing read-only reseller customer customer-viewer",
	"customers.change":    "all support billing reseller",
	"customers.notes":     "all support read-only reseller",
	"notes.change":        "all support reseller",
	"resellers.read":      "all support read-only reseller",
	"resellers.change":    "all",
	"brand.change":        "all reseller",
	"people.read":         "all support read-only reseller customer customer-viewer",
	"people.change":       "all support reseller customer",
	"people.act_as":       "all support reseller",
	"servers.read":        "all read-only",
	"servers.change":      "all",
	"operations.read":     "all support billing read-only reseller customer customer-viewer",
	"events.read":         "all support read-only reseller customer customer-viewer",
	"settings.read":       "all read-only",
	"settings.change":     "all",
}

// tenant is somebody with objects of their own.
type tenant struct {
	mark, reseller, plan, person string
	customer, folder             int64
	account                      api.Account
	operation                    int64
}

// visitor is somebody who tries every route.
type visitor struct {
	name string
	// kind is how stated calls them, "" a stranger; reaches lists the marks of whom they may see.
	kind     string
	reaches  []string
	client   *client.Client
	inPerson bool
	// suspended people get nowhere at all.
	suspended bool
}

// walkers sets the stage: two customers of the operator's, one each of two resellers, and everybody
// who could want something of them.
func walkers(t *testing.T) (tenants []tenant, visitors []visitor) {
	i := e2e.Shared(t)
	ctx := context.Background()
	share := plans.Limits{}
	for _, info := range plans.AllLimits {
		share[info.Key] = plans.Unlimited
	}
	share[plans.BounceShare] = plans.Of(100)
	limits := plans.Limits{plans.Disk: plans.Of(50 * plans.MiB), plans.Files: plans.Of(5000),
		plans.Domains: plans.Of(5), plans.PHPWorkers: plans.Of(1)}
	post := func(path string, body, out any) {
		t.Helper()
		require.NoError(t, i.Client.Post(ctx, path, body, out))
	}
	for _, name := range []string{"walka", "walkb", "walkc"} {
		post("/resellers", api.NewReseller{Name: name, Title: "Reseller " + name, Limits: share,
			Features: plans.Features{"mail": true, "api": true}}, nil)
		post("/templates", api.NewTemplate{Name: "boat", Reseller: name,
			Settings: map[string]any{"compression": false}}, nil)
		post("/plans", api.NewPlan{Name: "boat", Reseller: name, Limits: limits, Features: plans.Features{"api": true}},
			nil)
	}
	post("/plans", api.NewPlan{Name: "walk-boat", Limits: limits, Features: plans.Features{"api": true}}, nil)
	for _, x := range []struct{ mark, reseller, plan string }{{"walkh1", "", "walk-boat"}, {"walkh2", "", "walk-boat"},
		{"walka1", "walka", "walka.boat"}, {"walkb1", "walkb", "walkb.boat"}} {
		opening, o := e2e.Open(t, api.OpenAccount{Domain: x.mark + ".example", Plan: x.plan, Reseller: x.reseller,
			Customer: "Customer " + x.mark, NewCustomer: true, CustomerEmail: x.mark + "@post.example",
			Server: "skua", SignInName: x.mark, Activation: "password", Password: e2e.Password})
		require.Equal(t, "done", o.State, o.Failure)
		customer := opening.Account.CustomerID
		require.NoError(t,
			i.Client.Do(ctx, client.Call{Method: http.MethodPut, Path: fmt.Sprintf("/customers/%d/notes", customer),
				Body: api.Notes{Notes: "staffnote " + x.mark}}, nil))
		var protected api.FolderChanged
		post(fmt.Sprintf("/accounts/%d/domains/%s.example/folders", opening.Account.ID, x.mark),
			api.NewFolder{Path: "crew", Users: []api.NewFolderUser{{Name: "anna", Password: e2e.Password}}}, &protected)
		tenants = append(tenants, tenant{folder: protected.Folder.ID, mark: x.mark, reseller: x.reseller, plan: x.plan,
			person: x.mark, customer: customer, account: opening.Account, operation: opening.Operation})
	}
	everything := []string{"walkh1", "walkh2", "walka1", "walkb1"}
	person := func(p api.NewPerson) *client.Client {
		t.Helper()
		p.Activation, p.Password = "password", e2e.Password
		post("/people", p, nil)
		return e2e.SignedIn(t, p.Name)
	}
	visitors = []visitor{
		{name: "stranger", client: &client.Client{Base: i.Address()}},
		{name: "operator", kind: "all", reaches: everything, client: person(api.NewPerson{Name: "walk-all"}),
			inPerson: true},
		{name: "support", kind: "support", reaches: everything,
			client: person(api.NewPerson{Name: "walk-support", Duty: "support"}), inPerson: true},
		{name: "billing", kind: "billing", reaches: everything,
			client: person(api.NewPerson{Name: "walk-billing", Duty: "billing"}), inPerson: true},
		{name: "read-only", kind: "read-only", reaches: everything,
			client: person(api.NewPerson{Name: "walk-read-only", Duty: "read-only"}), inPerson: true},
		{name: "reseller a", kind: "reseller", reaches: []string{"walka1"},
			client: person(api.NewPerson{Name: "walk-ra", Reseller: "walka"}), inPerson: true},
		{name: "reseller b", kind: "reseller", reaches: []string{"walkb1"},
			client: person(api.NewPerson{Name: "walk-rb", Reseller: "walkb"}), inPerson: true},
		{name: "customer h1", kind: "customer", reaches: []string{"walkh1"}, client: e2e.SignedIn(t, "walkh1"),
			inPerson: true},
		{name: "customer h2", kind: "customer", reaches: []string{"walkh2"}, client: e2e.SignedIn(t, "walkh2"),
			inPerson: true},
		{name: "customer a1", kind: "customer", reaches: []string{"walka1"}, client: e2e.SignedIn(t, "walka1"),
			inPerson: true},
		{name: "read-only customer h1", kind: "customer-viewer", reaches: []string{"walkh1"},
			client:   person(api.NewPerson{Name: "walk-look", Customer: tenants[0].customer, ReadOnly: true}),
			inPerson: true},
	}
	suspended := visitor{name: "suspended reseller", suspended: true,
		client: person(api.NewPerson{Name: "walk-rc", Reseller: "walkc"})}
	post("/resellers/walkc/suspend", api.SuspendReseller{Why: "unpaid since March", Accounts: "stay"}, nil)
	acting := e2e.SignedIn(t, "walk-all")
	require.NoError(t,
		acting.Do(ctx, client.Call{Method: http.MethodPut, Path: "/session/acting",
			Body: api.ActAs{Customer: tenants[0].customer}}, nil))
	actingReseller := e2e.SignedIn(t, "walk-all")
	require.NoError(t, actingReseller.Do(ctx, client.Call{Method: http.MethodPut, Path: "/session/acting",
		Body: api.ActAs{Reseller: "walka"}}, nil))
	return tenants, append(visitors, suspended,
		visitor{name: "operator acting as customer h1", kind: "customer", reaches: []string{"walkh1"}, client: acting},
		visitor{name: "operator acting as reseller a", kind: "reseller", reaches: []string{"walka1"},
			client: actingReseller})
}

// described is what the description says of one route.
type described struct {
	OperationID string `json:"operationId"`
	Permission  string `json:"x-permission"`
	Parameters  []struct {
		Name, In string
	}
}

func (d described) previews() bool {
	return slices.ContainsFunc(d.Parameters, func(p struct{ Name, In string }) bool { return p.Name == "preview" })
}

func routes(t *testing.T) map[string]map[string]described {
	t.Helper()
	response, err := http.Get(e2e.Inst.Address() + "/api/v1/openapi.json")
	require.NoError(t, err)
	defer response.Body.Close()
	var description struct {
		OpenAPI string
		Paths   map[string]map[string]described
	}
	require.NoError(t, json.NewDecoder(response.Body).Decode(&description))
	require.Equal(t, "3.1.0", description.OpenAPI)
	return description.Paths
}

// bodies are sound requests for the routes that take one, so that
// nothing but rights can be in the way.
func bodies(x tenant) map[string]any {
	word := "slow-heron-under-lantern-77"
	return map[string]any{
		"open-account": api.OpenAccount{Domain: "never-opened.example", Plan: x.plan, Reseller: x.reseller,
			Customer: fmt.Sprint(x.customer)},
		"close-account":            api.CloseAccount{SignInName: x.account.SignInName},
		"suspend-account":          api.Suspend{Why: "a walk"},
		"add-program-password":     api.NewProgramPassword{Name: "telephone"},
		"suspend-mail":             api.SuspendMail{Sending: true, Why: "a walk"},
		"freeze-account":           api.Freeze{Frozen: true},
		"give-account":             api.NewOwner{Customer: fmt.Sprint(x.customer)},
		"add-domain":               api.NewDomain{Domain: "second-" + x.mark + ".example"},
		"prove-domain":             api.ProofRequest{},
		"change-domain":            api.DomainChange{Settings: map[string]any{"compression": false}},
		"protect-folder":           api.NewFolder{Path: "below/deck"},
		"let-in":                   api.FolderPassword{Password: e2e.Password},
		"add-login":                api.NewLogin{Name: "walk"},
		"change-login":             api.LoginChange{Password: new(string)},
		"add-database":             api.NewDatabase{Name: "walk"},
		"change-database":          api.DatabaseChange{Charset: new(string)},
		"add-database-user":        api.NewDatabaseUser{Name: "walk"},
		"execute-statement":        api.NewStatement{Statement: "SELECT 1"},
		"add-import":               api.NewImport{Name: "walk.sql", Size: 1},
		"start-import":             api.StartImport{},
		"change-database-user":     api.DatabaseUserChange{Password: new(string)},
		"register-kit":             []byte("no archive"),
		"change-kit":               api.KitChange{},
		"install-kit":              api.NewSiteKit{Kit: "nothing", Replace: true},
		"update-kit":               api.SiteKitUpdate{},
		"plan-kit-update":          api.SiteKitUpdate{},
		"add-mailbox":              api.NewMailbox{Address: "walk"},
		"add-mailboxes":            api.NewMailboxes{Mailboxes: []api.NewMailbox{{Address: "walk"}}},
		"change-mailbox":           api.MailboxChange{Password: new(string)},
		"add-mail-address":         api.NewMailAddress{Address: "walk", Targets: []string{"walk@harbourmail.test"}},
		"change-mail-address":      api.MailAddressChange{Targets: []string{"walk@harbourmail.test"}},
		"add-distribution-list":    api.NewDistributionList{Address: "walk", Owners: []string{"walk@harbourmail.test"}},
		"change-distribution-list": api.DistributionListChange{},
		"change-members":           api.ListMemberChange{Add: []string{"walk@harbourmail.test"}},
		"change-held-post":         api.HeldPostChange{Do: "drop"},
		"change-own-mailbox":       api.OwnMailboxChange{},
		"add-own-password":         api.NewProgramPassword{Name: "telephone"},
		"change-queue":             api.QueueChange{Server: "skua", Messages: []string{"4aaaaaaaa1"}, Do: "retry"},
		"change-zone":              api.ZoneChange{Hosted: "elsewhere"},
		"add-record":               api.NewRecord{Name: "walk", Type: "A", Data: "192.0.2.1"},
		"change-record":            map[string]int{"ttl": 60},
		"reset-zone":               api.ZoneReset{},
		"import-zone":              api.ZoneImport{Text: "walk IN A 192.0.2.1"},
		"ask-authority":            api.AuthorityQuestion{Directory: "https://127.0.0.1:1/directory"},
		"add-authority":            api.NewAuthority{Name: "never-added", Directory: "https://127.0.0.1:1/directory"},
		"change-authority":         api.AuthorityChange{Usual: true},
		"change-certificate":       map[string]string{"key_type": "rsa-2048"},
		"rehearse-certificate":     api.RehearsalQuestion{},
		"order-certificate":        api.CertificateOrder{},
		"install-certificate":      api.UploadedCertificate{Certificate: "never"},
		"make-signing-request":     api.NewSigningRequest{},
		"take-certificate-key":     api.KeyProof{Password: "x", Code: "000000"},
		"revoke-certificate":       api.Revocation{},
		"set-name-servers":         api.NameServers{Names: []string{}},
		"add-template":             api.NewTemplate{Name: "never-added", Reseller: x.reseller},
		"change-template":          api.TemplateChange{Settings: map[string]any{"hsts": 60}},
		"set-exception":            map[string]any{"limit": "disk", "amount": 1 << 20, "reason": "a walk"},
		"add-plan": api.NewPlan{Name: "never-added", Reseller: x.reseller,
			Limits: plans.Limits{plans.Domains: plans.Of(1)}},
		"change-plan":           api.PlanChange{Limits: plans.Limits{plans.Domains: plans.Of(4)}},
		"shift-accounts":        api.Shift{Accounts: []string{fmt.Sprint(x.account.ID)}},
		"add-customer":          api.NewCustomer{Name: "Never Added " + x.mark, Reseller: x.reseller},
		"change-customer":       map[string]string{"phone": "1"},
		"keep-notes":            api.Notes{Notes: "changed"},
		"add-reseller":          api.NewReseller{Name: "never-added", Title: "Never", Limits: plans.Limits{}},
		"change-reseller":       api.ResellerChange{Title: "Changed"},
		"suspend-reseller":      api.SuspendReseller{Why: "a walk", Accounts: "stay"},
		"keep-brand":            api.Brand{Title: "Changed"},
		"continue-import":       []byte("x"),
		"keep-logo":             []byte(`<svg xmlns="http://www.w3.org/2000/svg"/>`),
		"add-person":            api.NewPerson{Name: "never-added", Customer: x.customer},
		"change-person":         map[string]string{"language": "de"},
		"give-password":         api.NewPassword{Password: word},
		"add-link":              api.NewLink{Purpose: "sign-in"},
		"join-server":           api.NewServer{Label: "never", Address: "10.255.255.9", Roles: []string{"web"}},
		"change-server":         map[string]bool{"open": true},
		"change-settings":       map[string]int{"session_minutes": 61},
		"test-mail":             api.MailTest{To: "a@b.example"},
		"check-password":        api.PasswordCheck{Password: "x"},
		"change-password":       api.PasswordChange{Present: e2e.Password, New: word},
		"confirm-second-factor": api.Code{Code: "000000"},
		"renew-recovery-codes":  api.Proof{Password: e2e.Password},
		"drop-second-factor":    api.Proof{Password: e2e.Password},
		"add-token":             api.NewToken{Name: "never", Scopes: []string{"accounts.read"}},
		"start-session":         api.SignIn{Name: "walk-nobody-here", Password: "x"},
		"check-link":            api.LinkCheck{Link: "none"},
		"start-session-by-link": api.LinkSignIn{Link: "none"},
		"forgotten-password":    api.Forgotten{Name: "walk-nobody-here"},
		"act-as":                api.ActAs{Customer: x.customer},
	}
}

// notWalked change the visitor's own session; they are looked at by themselves.
var notWalked = []string{"end-session", "act-as", "stop-acting", "start-session", "start-session-by-link",
	"forgotten-password", "choose-language", "start-mailbox-session", "end-mailbox-session", "leave-list"}

// refers lists routes that name somebody's objects in the request and not in the path.
var refers = []string{"open-account", "add-person"}

// onlyAsk lists routes that take a body and change nothing, and those that turn to an engine of
// databases, which alone would know what they change: here they find no database.
var onlyAsk = []string{"test-mail", "check-password", "check-link", "ask-authority", "rehearse-certificate",
	"take-certificate-key", "execute-statement", "stop-statement", "add-import", "continue-import", "start-import",
	"stop-import", "remove-import", "plan-kit-update"}

// others are answers that sound requests get all the same, because of
// what they ask for and not of who asks.
var others = map[string][]int{
	"check-link":        {http.StatusGone},
	"ask-authority":     {http.StatusUnprocessableEntity}, // nobody is there
	"add-authority":     {http.StatusUnprocessableEntity},
	"change-authority":  {http.StatusNotFound}, // nobody's
	"remove-authority":  {http.StatusNotFound},
	"order-certificate": {http.StatusForbidden}, // without the feature

	"cancel-certificate-order": {http.StatusForbidden},
	"make-signing-request":     {http.StatusForbidden},
	"remove-signing-request":   {http.StatusForbidden},
	"install-certificate":      {http.StatusUnprocessableEntity}, // it is none
	"download-certificate":     {http.StatusConflict},            // its server has made one
	"take-certificate-key":     {http.StatusForbidden, http.StatusConflict},
	"revoke-certificate":       {http.StatusForbidden},
	"test-mail":                {http.StatusBadGateway},
	"rehearse-mail":            {http.StatusConflict}, // it has no mail
	"resume-account":           {http.StatusConflict},
	"resume-mail":              {http.StatusConflict},
	"resume-reseller":          {http.StatusConflict},
	"remove-plan":              {http.StatusConflict},
	"remove-customer":          {http.StatusConflict},
	"remove-reseller":          {http.StatusConflict},
	"remove-server":            {http.StatusConflict},
	"add-link":                 {http.StatusConflict}, // there is no console's address in the settings
	"mail-handover":            {http.StatusBadGateway},
	"drop-second-factor-of":    {http.StatusConflict},
	"confirm-second-factor":    {http.StatusConflict},
	"renew-recovery-codes":     {http.StatusConflict},
	"drop-second-factor":       {http.StatusConflict},
	"remove-exception":         {http.StatusNotFound},
	"remove-domain":            {http.StatusConflict},  // the main one
	"give-account":             {http.StatusConflict},  // it is theirs already
	"prove-domain":             {http.StatusConflict},  // an operator has brought it
	"add-login":                {http.StatusForbidden}, // without the feature
	"remove-login":             {http.StatusConflict},  // the own one
	"add-database":             {http.StatusForbidden}, // without the feature
	"change-database":          {http.StatusNotFound},  // nobody's
	"remove-database":          {http.StatusNotFound},
	"add-database-user":        {http.StatusForbidden}, // without the feature
	"change-database-user":     {http.StatusNotFound},  // nobody's
	"remove-database-user":     {http.StatusNotFound},
	"list-tables":              {http.StatusNotFound},
	"show-table":               {http.StatusNotFound},
	"list-rows":                {http.StatusNotFound},
	"execute-statement":        {http.StatusNotFound},
	"list-running":             {http.StatusNotFound},
	"list-slow":                {http.StatusNotFound},
	"stop-statement":           {http.StatusNotFound},
	"export-database":          {http.StatusNotFound},
	"add-import":               {http.StatusNotFound},
	"show-import":              {http.StatusNotFound},
	"continue-import":          {http.StatusNotFound},
	"look-at-import":           {http.StatusNotFound},
	"start-import":             {http.StatusNotFound},
	"stop-import":              {http.StatusNotFound},
	"remove-import":            {http.StatusNotFound},
	"register-kit":             {http.StatusUnprocessableEntity}, // it is none
	"show-kit":                 {http.StatusNotFound},            // nobody's
	"change-kit":               {http.StatusNotFound},
	"remove-kit":               {http.StatusNotFound},
	"install-kit":              {http.StatusNotFound}, // it is not offered
	"update-kit":               {http.StatusNotFound}, // there is none
	"plan-kit-update":          {http.StatusNotFound},
	"remove-site-kit":          {http.StatusNotFound},
	"add-mailbox":              {http.StatusForbidden}, // without the feature
	"add-mailboxes":            {http.StatusForbidden}, // without the feature
	"change-mailbox":           {http.StatusNotFound},  // nobody's
	"remove-mailbox":           {http.StatusNotFound},
	"add-program-password":     {http.StatusNotFound},
	"take-profile":             {http.StatusNotFound},
	"remove-program-password":  {http.StatusNotFound},
	"add-mail-address":         {http.StatusForbidden}, // without the feature
	"change-mail-address":      {http.StatusNotFound},  // nobody's
	"remove-mail-address":      {http.StatusNotFound},
	"add-distribution-list":    {http.StatusForbidden}, // without the feature
	"change-distribution-list": {http.StatusNotFound},  // nobody's
	"remove-distribution-list": {http.StatusNotFound},
	"list-members":             {http.StatusNotFound},
	"change-members":           {http.StatusNotFound},
	"list-held-posts":          {http.StatusNotFound},
	"change-held-post":         {http.StatusNotFound},
	"show-message":             {http.StatusNotFound}, // nobody's
	"change-queue":             {http.StatusNotFound}, // it is no mail server
	"release-sending":          {http.StatusConflict}, // it sends
	"add-record":               {http.StatusConflict}, // its DNS is hosted elsewhere
	"reset-zone":               {http.StatusConflict},
	"import-zone":              {http.StatusConflict},
	"change-record":            {http.StatusNotFound}, // nobody's
	"remove-record":            {http.StatusNotFound},
	"remove-token":             {http.StatusNotFound}, // nobody's
	"end-other-session":        {http.StatusNotFound},
	"show-logo":                {http.StatusNotFound},
	"give-password":            {http.StatusConflict}, // one's own
	"remove-person":            {http.StatusConflict}, // oneself
}

// TestEveryRouteForEverybody walks all routes as everybody, with objects of everybody. Any answer
// but the stated one fails, and so does a route without a stated permission, or one that changes
// something and for which there is no request here.
func TestEveryRouteForEverybody(t *testing.T) {
	tenants, visitors := walkers(t)
	before := e2e.Snapshot(t)
	count := 0
	for path, methods := range routes(t) {
		for method, route := range methods {
			who, known := stated[route.Permission]
			if !assert.True(t, known, "%s %s: the permission %q is stated nowhere", method, path, route.Permission) ||
				slices.Contains(notWalked, route.OperationID) {
				continue
			}
			method = strings.ToUpper(method)
			if method != http.MethodGet && !slices.Contains(onlyAsk, route.OperationID) {
				require.True(t, route.previews(), "%s changes something and has no preview", route.OperationID)
			}
			for _, x := range tenants {
				if (strings.Contains(path, "{reseller}") || strings.Contains(path, "{template}")) && x.reseller == "" {
					continue
				}
				for _, v := range visitors {
					count++
					walk(t, method, path, route, who, x, v)
				}
				if !named(path, route) {
					break // nobody's objects
				}
			}
		}
	}
	t.Logf("%d requests", count)
	assert.Greater(t, count, 2000)
	assert.Equal(t, before, e2e.Snapshot(t), "a walk with previews changes nothing")
}

// walk makes one request and holds its answer against what is stated.
func walk(t *testing.T, method, path string, route described, who string, x tenant, v visitor) {
	t.Helper()
	status, kind, body := ask(t, method, path, route, x, v)
	label := fmt.Sprintf("%s as %s, objects of %s: %d %s %s", route.OperationID, v.name, x.mark, status, kind,
		body[:min(len(body), 300)])
	// who only has their own customer
	mine := !named(path, route) || slices.Contains(v.reaches, x.mark) || route.OperationID == "add-person" &&
		v.kind == "customer"
	switch {
	case who == "everybody":
		assert.NotContains(t, []int{401, 403}, status, label)
		return
	case who == "holder", v.kind == "" && !v.suspended: // people's sessions are none of mailboxes
		assert.Equal(t, 401, status, label)
		return
	case v.suspended:
		assert.Equal(t, 403, status, label)
		assert.Equal(t, "suspended", kind, label)
		return
	case who == "signed in":
	case who == "in person":
		if !v.inPerson {
			assert.Equal(t, 403, status, label)
			return
		}
	case !slices.Contains(strings.Fields(who), v.kind):
		assert.Equal(t, 403, status, label)
		assert.Equal(t, "not-allowed", kind, label)
		return
	}
	if !mine {
		assert.Equal(t, 404, status, label)
		assert.Equal(t, "not-found", kind, label)
	} else if !slices.Contains(others[route.OperationID], status) {
		assert.Contains(t, []int{200, 201, 202, 204}, status, label)
	}
	// Whatever comes back, nothing of anybody else is in it, and no
	// note of staff where a customer reads.
	for _, other := range []string{"walkh1", "walkh2", "walka1", "walkb1"} {
		if other != x.mark && !slices.Contains(v.reaches, other) {
			assert.NotContains(t, body, other, label)
		}
	}
	if v.kind == "customer" || v.kind == "customer-viewer" {
		assert.NotContains(t, body, "staffnote", label)
	}
}

// named reports whether a request names somebody's objects.
func named(path string, route described) bool {
	rest := strings.NewReplacer("{number}", "", "{kind}", "", "{server}", "", "{authority}", "", "{request}", "",
		"{what}", "", "{key}", "", "{kit}", "", "{version}", "", "{digest}", "").Replace(path)
	return strings.Contains(rest, "{") || slices.Contains(refers, route.OperationID)
}

// ask makes the request with a sound body.
func ask(t *testing.T, method, path string, route described, x tenant, v visitor) (status int, kind, text string) {
	t.Helper()
	address := strings.NewReplacer("{account}", fmt.Sprint(x.account.ID), "{customer}", fmt.Sprint(x.customer),
		"{reseller}", x.reseller, "{plan}", x.plan, "{person}", x.person,
		"{operation}", fmt.Sprint(x.operation), "{server}", "skua", "{authority}", "nowhere", "{domain}",
		x.mark+".example", "{login}", x.mark, "{mailbox}", "nobody", "{database}", "nobody", "{address}", "nobody",
		"{list}", "nobody", "{post}", "nothing", "{kit}", "nothing", "{version}", "1.0", "{digest}", strings.Repeat("0",
			64),
		"{program}", "telephone",
		"{message}", "999999999", "{import}", "nothing", "{id}", "999999999",
		"{zone}", x.mark+".example", "{record}", "999999999", "{request}",
		"999999999", "{folder}", fmt.Sprint(x.folder), "{user}", "anna", "{template}", x.reseller+".boat", "{number}",
		"999999999", "{kind}", "not-found", "{what}", "limits", "{key}", "disk").Replace(path)
	query := url.Values{}
	if route.previews() {
		query.Set("preview", "true")
	}
	switch route.OperationID {
	case "check-domain":
		query.Set("domain", "free-for-all.example")
	case "show-table", "list-rows":
		query.Set("table", "walk")
	case "trace-mail-address":
		query.Set("address", "walk@harbourmail.test")
	case "rehearse-mail":
		query.Set("domain", x.mark+".example")
	case "trace-name":
		query.Set("name", "free-for-all.example")
	case "check-sign-in-name":
		query.Set("name", "freeforall")
	case "compare-plans":
		query["plan"] = []string{x.plan, x.plan}
		if !slices.Contains(v.reaches, x.mark) {
			query["plan"] = []string{"boat", "boat"} // a reseller's own
		}
	}
	var reader io.Reader
	media := "application/json"
	if body, has := bodies(x)[route.OperationID]; has {
		raw, is := body.([]byte)
		if is {
			media = "application/octet-stream"
		} else {
			var err error
			raw, err = json.Marshal(body)
			require.NoError(t, err)
		}
		reader = bytes.NewReader(raw)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, method, v.client.Base+address+"?"+query.Encode(), reader)
	require.NoError(t, err)
	if reader != nil {
		request.Header.Set("Content-Type", media)
	}
	if v.client.Token != "" {
		request.Header.Set("Authorization", "Bearer "+v.client.Token)
	}
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	var raw []byte
	if route.OperationID == "watch-changes" && response.StatusCode == http.StatusOK {
		raw = make([]byte, 1<<10) // it does not end
		n, err := response.Body.Read(raw)
		require.NoError(t, err)
		raw = raw[:n]
	} else {
		raw, err = io.ReadAll(io.LimitReader(response.Body, 1<<20))
		require.NoError(t, err)
	}
	var problem api.Problem
	if response.StatusCode >= 400 {
		require.NoError(t, json.Unmarshal(raw, &problem), "%s %s: %s", method, address, raw)
	}
	return response.StatusCode, strings.TrimPrefix(problem.Type, api.ProblemBase), string(raw)
}
