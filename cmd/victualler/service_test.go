package main

import (
	"bufio"
	"bytes"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/httpapi"
	"victualler/internal/service/servicetest"
	"victualler/internal/store/storetest"
)

func TestMain(m *testing.M) {
	if os.Getenv(asClient) != "" {
		main()
	}
	storetest.Main(m)
}

const operatorPassword = "kittiwake-over-quiet-slipway-41"

// shell is a terminal of the client beside a whole service, of which the
// servers do what they are told at once.
type shell struct {
	*servicetest.Bench
	t   *testing.T
	url string
	// working has the servers wait for requests that are in progress: the bench's queue knows of
	// what a transaction wants done before the transaction is over.
	working sync.RWMutex
}

func newShell(t *testing.T) *shell {
	t.Helper()
	b := servicetest.New(t)
	b.Server("skua")
	b.Server("fulmar", "web", "dns")
	_, err := b.People.AddPerson(t.Context(), b.Operator, api.NewPerson{Name: "maren", Duty: "all",
		Activation: "password", Password: operatorPassword})
	require.NoError(t, err)
	s := &shell{Bench: b, t: t}
	service := httpapi.New(httpapi.Options{Service: b.Service, Log: slog.New(slog.DiscardHandler)})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/progress") {
			s.work() // whoever watches has been told the number, so it is on record
		} else {
			s.working.RLock()
			defer s.working.RUnlock()
		}
		service.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	s.url = server.URL
	t.Setenv("VICTUALLER_SESSION", filepath.Join(t.TempDir(), "session.json"))
	return s
}

// work has the servers do what they were told.
func (s *shell) work() {
	s.working.Lock()
	defer s.working.Unlock()
	s.Work()
}

// run types a line, in which words may be put in single quotes, and what
// the program reads; it returns how it ends and what it prints.
func (s *shell) run(line, in string) (code int, out, errOut string) {
	s.t.Helper()
	var stdout, stderr bytes.Buffer
	code = run(s.t.Context(), inWords(line), piped(in, &stdout, &stderr))
	s.work()
	return code, stdout.String(), stderr.String()
}

// inWords splits a line into words, of which some are in single quotes.
func inWords(line string) []string {
	var args []string
	for n, part := range strings.Split(line, "'") {
		if n%2 == 1 {
			args = append(args, part)
		} else {
			args = append(args, strings.Fields(part)...)
		}
	}
	return args
}

// piped is no terminal: standard input and both outputs are files.
func piped(in string, out, errOut io.Writer) *terminal {
	return &terminal{in: bufio.NewReader(strings.NewReader(in)), out: out, err: errOut, keyboard: -1,
		columns: func() int { return 0 }}
}

// typed is one line of a session: what is typed, how the program ends,
// and what is in what it prints, on both its outputs; what starts with !
// is not.
type typed struct {
	line, in string
	code     int
	says     []string
}

func (s *shell) session(lines ...typed) {
	s.t.Helper()
	for _, l := range lines {
		code, out, errOut := s.run(l.line, l.in)
		text := out + errOut
		assert.Equal(s.t, l.code, code, "%s:\n%s", l.line, text)
		for _, says := range l.says {
			if missing, not := strings.CutPrefix(says, "!"); not {
				assert.NotContains(s.t, text, missing, l.line)
			} else {
				assert.Contains(s.t, text, says, l.line)
			}
		}
		s.t.Logf("$ %s\n%s", l.line, text)
	}
}

func (s *shell) signIn() {
	s.t.Helper()
	s.session(typed{line: "session start " + s.url + " --name maren --password-stdin", in: operatorPassword + "\n"})
}

func TestAccountsByTheClient(t *testing.T) {
	s := newShell(t)
	s.session(
		typed{line: "account list", code: refused, says: []string{"victualler session start ADDRESS"}},
		typed{line: "session start " + s.url + " --name maren --password-stdin", in: "wrong-one\n", code: failed,
			says: []string{"wrong name or password"}},
	)
	s.signIn()
	open := "account open ternferries.example --plan harbour --customer 'Tern Ferries'"
	s.session(
		typed{line: "session show", says: []string{"name\tmaren\nrole\toperator\nlanguage\ten\n", s.url}},
		typed{line: "language change de", says: []string{"you read de from now on"}},
		typed{line: "account show nobody", code: failed, says: []string{`Konto "nobody" gibt es hier nicht`}},
		typed{line: "language change tlh", code: wrongUse, says: []string{`es gibt keine Sprache "tlh"`}},
		typed{line: "language change en", says: []string{"you read en from now on"}},
		typed{line: "session list", says: []string{"127.0.0.1"}},
		typed{line: "account list", says: []string{"victualler account open DOMAIN"}},
		typed{line: "plan add harbour --limits disk=10G,domains=3 --features mail,certificates,dns,logins",
			says: []string{"disk space\tdisk\t10G", "note: mail: is on, but its limits are all 0"}},
		typed{line: "plan add harbour --limits disk=10G", code: failed, says: []string{`a plan "harbour" already`}},
		typed{line: "plan add skiff --like harbour --limits disk=1G"},
		typed{line: "plan list", says: []string{"harbour", "skiff"}},
		typed{line: "plan show skiff", says: []string{"domains\t3", "disk\t1G"}},
		typed{line: "plan compare harbour skiff --differing", says: []string{"disk space", "10G", "!subdomains"}},
		typed{line: open + " --new-customer --email office@ternferries.example --preview",
			says: []string{"would open account ternferries", "nothing was done"}},
		typed{line: "account list", says: []string{"no accounts"}},
		typed{line: open + " --new-customer --email office@ternferries.example",
			says: []string{"opening ternferries.example as ternferries on fulmar", "done in"}},
		typed{line: open, code: failed, says: []string{"hosted here already"}},
		typed{line: "account open bakery.example --plan skiff --customer 'Tern Ferries' --no-wait",
			says: []string{"4\n"}},
		typed{line: "account open x.example --plan harbour --customer Nobody", code: failed,
			says: []string{"add the customer first"}},
		typed{line: "account list", says: []string{"bakery.example\tbakery\tTern Ferries\t\tskiff\tskua\t" +
			"active"}},
		typed{line: "account list --search bak -o csv", says: []string{
			"bakery.example,bakery,Tern Ferries,,skiff,skua,active", "!ternferries.example"}},
		typed{line: "account list -o json --limit 1", says: []string{`"sign_in_name": "bakery"`, `"disk_used": null`}},
		typed{line: "account show ternferries", says: []string{"site in sites/ternferries.example", "plan harbour"}},
		typed{line: "account change ternferries --plan skiff --preview", says: []string{"loses  disk space 10G → 1G"}},
		typed{line: "account change ternferries bakery --plan skiff --yes", says: []string{"nothing changes for it"}},
		typed{line: "account change ternferries --freeze", says: []string{"keeps its present limits"}},
		typed{line: "account change ternferries --unfreeze", says: []string{"follows its plan again"}},
		typed{line: "account handover ternferries", says: []string{"Enter these addresses", "192.0.2.22"}},
		typed{line: "account suspend ternferries --why 'not paid'", says: []string{"done in"}},
		typed{line: "account suspend ternferries --why 'not paid'", code: failed, says: []string{"suspended already"}},
		typed{line: "account list --state suspended", says: []string{"ternferries", "!bakery"}},
		typed{line: "account resume ternferries", says: []string{"done in"}},
		typed{line: "account repair ternferries", says: []string{"done in"}},
		typed{line: "account close bakery", in: "no\n", code: wrongUse, says: []string{"add --yes"}},
		typed{line: "account close bakery --yes --preview", says: []string{"no longer served: bakery.example",
			"deleted for good"}},
		typed{line: "account close bakery --yes"},
		typed{line: "account list", says: []string{"!bakery"}},
		typed{line: "account show bakery", says: []string{"state\tclosed"}},
		typed{line: "exception add ternferries --limit domains=5 --reason 'asked nicely' --preview",
			says: []string{"gains  domains 3 → 5", "nothing was done"}},
		typed{line: "exception add ternferries --limit domains=5 --reason 'asked nicely'"},
		typed{line: "exception list ternferries", says: []string{"asked nicely"}},
		typed{line: "exception remove ternferries --limit domains", says: []string{"loses  domains 5 → 3"}},
		typed{line: "exception list ternferries", says: []string{"!asked nicely"}},
		typed{line: "operation list", says: []string{"maren\tClose account\taccount.close\t\tbakery.example"}},
		typed{line: "operation list -o json --limit 2", says: []string{`"kind": "account.close"`, `"more": true`}},
		typed{line: "operation show 1", says: []string{"Add server", "the agent has its certificate"}},
		typed{line: "operation watch 1", says: []string{"done in"}},
		typed{line: "operation show 99999", code: failed, says: []string{`no operation "99999"`}},
		typed{line: "event list --account ternferries", says: []string{"plan: harbour → skiff", "!bakery"}},
		typed{line: "event export --format csv", says: []string{"at,actor,on behalf of",
			"account.close,account 3 bakery"}},
		typed{line: "plan change skiff --limits disk=2G --preview", says: []string{"disk space: 1G → 2G"}},
		typed{line: "plan change skiff --limits disk=2G --freeze over", says: []string{"1 of 1 accounts"}},
		typed{line: "plan remove skiff --yes", code: failed, says: []string{"1 account"}},
		typed{line: "plan remove harbour --yes"},
		typed{line: "plan list", says: []string{"!harbour"}},
		typed{line: "session end"},
		typed{line: "account list", code: refused},
	)
}

// opened has an account ternferries of the customer Tern Ferries opened,
// on a plan that has what these tests use.
func (s *shell) opened() {
	s.t.Helper()
	s.signIn()
	s.session(
		typed{line: "settings change --name-servers ns1.ternisland.example,ns2.ternisland.example " +
			"--console https://console.ternisland.example"},
		typed{line: "plan add harbour --limits disk=10G,domains=5,subdomains=5,mirrors=5,logins=3 " +
			"--features mail,certificates,dns,logins,dnssec"},
		typed{line: "account open ternferries.example --plan harbour --customer 'Tern Ferries' --new-customer"},
	)
}

func TestSitesByTheClient(t *testing.T) {
	s := newShell(t)
	s.opened()
	key := filepath.Join(t.TempDir(), "key.pub")
	require.NoError(t, os.WriteFile(key, []byte("ssh-ed25519 "+
		"AAAAC3NzaC1lZDI1NTE5AAAAIJHPLmsXLkgvgOA8t0W0Mss1zVcCv8yFzZ0pGkJ3v0bH office@ferries\n"), 0o600))
	password := "storm-petrel-harbour-77\n"
	ours := " ternferries.example"
	s.session(
		typed{line: "domain add ternferries shop.ternferries.example --preview", says: []string{"nothing was done"}},
		typed{line: "domain add ternferries shop.ternferries.example"},
		typed{line: "domain add ternferries ferries.example --mirror-of ternferries.example"},
		typed{line: "domain add ternferries old.example --as redirect " +
			"--target https://ternferries.example/ --code 301"},
		typed{line: "domain add ternferries ferries.example", code: failed,
			says: []string{"is in this account already"}},
		typed{line: "domain list ternferries", says: []string{"shop.ternferries.example", "ferries.example",
			"old.example"}},
		typed{line: "domain show old.example",
			says: []string{"redirect 301 to https://ternferries.example"}},
		typed{line: "domain change old.example --keep-path no"},
		typed{line: "domain remove old.example", code: wrongUse, says: []string{"add --yes"}},
		typed{line: "domain remove old.example --yes"},
		typed{line: "domain list ternferries", says: []string{"!old.example"}},
		typed{line: "site show" + ours, says: []string{"largest_upload"}},
		typed{line: "site change" + ours + " largest_upload=256M --preview", says: []string{"256M",
			"nothing was done"}},
		typed{line: "site change" + ours + " largest_upload=256", code: wrongUse},
		typed{line: "site change" + ours + " largest_upload=256M"},
		typed{line: "site show" + ours, says: []string{"256M"}},
		typed{line: "site change" + ours + " nonsense=1", code: wrongUse, says: []string{"nonsense"}},
		typed{line: "site change" + ours + " --unset largest_upload"},
		typed{line: "site show" + ours, says: []string{"!256M"}},
		typed{line: "template add blog largest_upload=64M --about 'for blogs'"},
		typed{line: "template list", says: []string{"blog", "for blogs"}},
		typed{line: "template show blog", says: []string{"64M"}},
		typed{line: "template change blog largest_upload=32M"},
		typed{line: "domain change shop.ternferries.example --template blog"},
		typed{line: "site show shop.ternferries.example", says: []string{"32M"}},
		typed{line: "template remove blog --yes", code: failed},
		typed{line: "domain change shop.ternferries.example --template -"},
		typed{line: "template remove blog --yes"},
		typed{line: "template show blog", code: failed, says: []string{`no template "blog"`}},
		typed{line: "folder add" + ours + " crew kai --password-stdin", in: password},
		typed{line: "folder list" + ours, says: []string{"crew", "kai"}},
		typed{line: "folder remove" + ours + " crew kai --yes"},
		typed{line: "folder remove" + ours + " crew --yes"},
		typed{line: "folder list" + ours, says: []string{"!crew"}},
		typed{line: "login add ternferries office --folder sites/ternferries.example --password-stdin", in: password},
		typed{line: "login change ternferries office --key " + key},
		typed{line: "login list ternferries", says: []string{"office"}},
		typed{line: "login remove ternferries office --yes"},
		typed{line: "login list ternferries", says: []string{"!office"}},
	)
}

func TestDatabasesByTheClient(t *testing.T) {
	s := newShell(t)
	s.Server("petrel", "database")
	s.Agents.On(3).Set(func(a *servicetest.Agent) {
		a.Health.Programs = []agentlink.ProgramStatus{{Name: "mariadb", Running: true},
			{Name: "postgresql", Running: true}}
	})
	require.NoError(t, s.Fleet.PollServers(t.Context()))
	s.opened()
	password := "storm-petrel-harbour-77\n"
	ours := " ternferries"
	s.session(
		typed{line: "plan change harbour --limits databases=3,database_size=500M --features mail,databases"},
		typed{line: "database list" + ours, says: []string{"no databases", "victualler database add"}},
		typed{line: "database add" + ours + " shop --user app --generate --preview",
			says: []string{"ternferries_shop", "nothing was done"}},
		typed{line: "database add" + ours + " shop --user app --password-stdin", in: password,
			says: []string{"database ternferries_shop on petrel"}},
		typed{line: "database add" + ours + " shop", code: failed, says: []string{"already"}},
		typed{line: "database add" + ours + " notes --engine postgresql --collation de --user pen --generate",
			says: []string{"password of ternferries_pen"}},
		typed{line: "database add" + ours + " log --engine nosuch", code: wrongUse},
		typed{line: "database list" + ours, says: []string{"ternferries_shop", "PostgreSQL", "ternferries_app (all)"}},
		typed{line: "database show" + ours + " shop", says: []string{"new PDO('mysql:host=127.0.1.3;port=3306",
			"--user=ternferries_app"}},
		typed{line: "database show" + ours + " nothing", code: failed, says: []string{"victualler database list"}},
		typed{line: "database change" + ours + " shop --collation utf8mb4_german2_ci"},
		typed{line: "database change" + ours + " shop", code: wrongUse},
		typed{line: "database user add" + ours + " eye --may shop=read --hosts 192.0.2.7 --password-stdin",
			in:   password,
			says: []string{"ternferries_eye"}},
		typed{line: "database user add" + ours + " no --may shop --generate", code: failed, says: []string{"shop=all"}},
		typed{line: "database user list" + ours, says: []string{"ternferries_eye", "ternferries_shop=read",
			"192.0.2.7"}},
		typed{line: "database users list" + ours, says: []string{"ternferries_eye"}},
		typed{line: "database user change" + ours + " eye --may shop=write --hosts -"},
		typed{line: "database user change" + ours + " eye --no-password"},
		typed{line: "database user change" + ours + " eye", code: wrongUse},
		typed{line: "database user list" + ours, says: []string{"ternferries_shop=write", "!192.0.2.7"}},
		typed{line: "database user remove" + ours + " eye --yes"},
		typed{line: "database user", code: wrongUse, says: []string{"victualler database user list|add|change|remove"}},
		typed{line: "database user sing" + ours, code: wrongUse, says: []string{"database user cannot"}},
		typed{line: "database remove" + ours + " shop --yes"},
		typed{line: "database list" + ours, says: []string{"!ternferries_shop", "ternferries_notes"}},
	)
}

func TestZonesByTheClient(t *testing.T) {
	s := newShell(t)
	s.opened()
	file := filepath.Join(t.TempDir(), "zone")
	require.NoError(t, os.WriteFile(file, []byte("$ORIGIN ternferries.example.\n"+
		"@ 3600 IN MX 10 mail.ternferries.example.\nmail IN A 192.0.2.25\n"), 0o600))
	zone := " ternferries.example"
	s.session(
		typed{line: "zone list", says: []string{"ternferries.example\tternferries\there"}},
		typed{line: "zone show" + zone, says: []string{"www", "192.0.2.22"}},
		typed{line: "record add" + zone + " quay A 192.0.2.7 --preview", says: []string{"nothing was done"}},
		typed{line: "record list" + zone, says: []string{"!quay"}},
		typed{line: "record add" + zone + " quay A 192.0.2.7 --ttl 300"},
		typed{line: "record add" + zone + " quay A 192.0.2.300", code: wrongUse, says: []string{"192.0.2.300"}},
		typed{line: "record list" + zone, says: []string{"quay\t300\tA\t2\t\t192.0.2.7"}},
		typed{line: "record change" + zone + " 2 --data 192.0.2.8"},
		typed{line: "zone export" + zone, says: []string{"$ORIGIN ternferries.example.", "192.0.2.8", "!192.0.2.7\n"}},
		typed{line: "record remove" + zone + " 2 --yes"},
		typed{line: "record list" + zone, says: []string{"!quay"}},
		typed{line: "zone import" + zone + " " + file + " --preview", says: []string{"added: 2", "nothing was done"}},
		typed{line: "zone import" + zone + " " + file},
		typed{line: "record list" + zone, says: []string{"192.0.2.25"}},
		typed{line: "zone reset" + zone + " --yes", code: failed, says: []string{"no record of"}},
		typed{line: "record add" + zone + " www A 192.0.2.9"},
		typed{line: "zone reset" + zone + " --yes"},
		typed{line: "record list" + zone, says: []string{"!192.0.2.9\n"}},
		typed{line: "zone change" + zone + " --signed yes"},
		typed{line: "zone list", says: []string{"here\tyes"}},
		typed{line: "zone change" + zone + " --hosted elsewhere"},
		typed{line: "record add" + zone + " quay A 192.0.2.7", code: failed, says: []string{"hosted elsewhere"}},
		typed{line: "zone list --hosted elsewhere", says: []string{"ternferries.example"}},
		typed{line: "zone show nowhere.example", code: failed, says: []string{`no zone "nowhere.example"`}},
	)
}

func TestPeopleByTheClient(t *testing.T) {
	s := newShell(t)
	s.opened()
	password := "storm-petrel-harbour-77\n"
	s.session(
		typed{line: "customer add 'Surf School' --email surf@school.example --contact Ida --phone 0123 --postal " +
			"'Beach 1'"},
		typed{line: "customer list --search surf", says: []string{"Surf School", "!Tern"}},
		typed{line: "customer show 'Surf School'", says: []string{"Ida", "Beach 1"}},
		typed{line: "customer change 'Surf School' --phone 0456"},
		typed{line: "customer show 'Surf School'", says: []string{"0456", "Ida"}},
		typed{line: "notes change 'Surf School'", in: "pays late\n"},
		typed{line: "notes show 'Surf School'", says: []string{"pays late"}},
		typed{line: "customer remove 'Surf School' --yes"},
		typed{line: "customer list", says: []string{"!Surf"}},
		typed{line: "person add ida --customer 'Tern Ferries' --email ida@ferries.example --password-stdin",
			in: password},
		typed{line: "person add ida --customer 'Tern Ferries'", code: failed, says: []string{"in use"}},
		typed{line: "person list --role customer", says: []string{"ida", "!maren"}},
		typed{line: "person show ida", says: []string{"ida@ferries.example"}},
		typed{line: "person change ida --read-only yes", says: []string{"look only"}},
		typed{line: "person password ida --password-stdin", in: "weak\n", code: wrongUse, says: []string{"too weak"}},
		typed{line: "person password ida --generate", says: []string{"new password of ida: "}},
		typed{line: "person link ida --purpose sign-in", says: []string{"https://console.ternisland.example/"}},
		typed{line: "person sign-out ida"},
		typed{line: "person unlock ida --yes", code: failed, says: []string{"ida has no second factor"}},
		typed{line: "session act --customer 'Tern Ferries'", says: []string{"the record names you both"}},
		typed{line: "session show", says: []string{"customer Tern Ferries"}},
		typed{line: "plan list", code: refused, says: []string{"your rights do not include this"}},
		typed{line: "session act --stop"},
		typed{line: "person remove ida --yes"},
		typed{line: "person show ida", code: failed},
		typed{line: "token add backup --scopes accounts.read --until 2027-01-01",
			says: []string{"cannot be looked up again"}},
		typed{line: "token list", says: []string{"backup", "accounts.read"}},
		typed{line: "token remove 1 --yes"},
		typed{line: "token list", says: []string{"!backup"}},
		typed{line: "scope list", says: []string{"accounts.open"}},
		typed{line: "factor show", says: []string{"no"}},
		typed{line: "password check --password-stdin", in: password},
	)
}

func TestResellersByTheClient(t *testing.T) {
	s := newShell(t)
	s.opened()
	s.session(
		typed{line: "reseller add guillemot --title 'Guillemot Studio' --email studio@guillemot.example --limits " +
			"disk=50G"},
		typed{line: "reseller list", says: []string{"guillemot\tGuillemot Studio\tallotted"}},
		typed{line: "reseller show guillemot", says: []string{"disk space", "50G"}},
		typed{line: "reseller change guillemot --limits disk=60G", says: []string{"60G"}},
		typed{line: "reseller change guillemot --title Guillemot -o json", says: []string{`"title": "Guillemot"`}},
		typed{line: "plan add small --reseller guillemot --limits disk=1G,domains=1", code: refused,
			says: []string{"limits.domains: 1 is more than the share of guillemot, 0"}},
		typed{line: "plan add small --reseller guillemot --limits disk=1G"},
		typed{line: "brand change guillemot --title Guillemot --bar #102030"},
		typed{line: "brand show guillemot", says: []string{"#102030"}},
		typed{line: "reseller suspend guillemot --why 'not paid' --accounts stay"},
		typed{line: "reseller list", says: []string{"suspended"}},
		typed{line: "reseller resume guillemot"},
		typed{line: "session act --reseller guillemot"},
		typed{line: "plan list", says: []string{"small", "!harbour"}},
		typed{line: "session act --stop"},
		typed{line: "reseller remove guillemot --yes"},
		typed{line: "reseller show guillemot", code: failed},
		typed{line: "settings change --title 'Tern Island Hosting' --session-minutes 30"},
		typed{line: "settings show", says: []string{"Tern Island Hosting", "30"}},
		typed{line: "settings change --session-minutes 3", code: wrongUse, says: []string{"5"}},
		typed{line: "settings test-mail x@y.example", code: failed},
	)
}

func TestServersAndCertificatesByTheClient(t *testing.T) {
	s := newShell(t)
	s.opened()
	site := " ternferries.example"
	s.session(
		typed{line: "server list", says: []string{"skua", "fulmar"}},
		typed{line: "server show skua", says: []string{"192.0.2.21"}},
		typed{line: "server change skua --closed"},
		typed{line: "server show skua", says: []string{"new accounts\tno"}},
		typed{line: "server change skua --open"},
		typed{line: "server sweep skua"},
		typed{line: "server repair skua"},
		typed{line: "server join petrel --address 10.9.9.9:7677 --roles web", says: []string{"On the server, as root"}},
		typed{line: "server remove petrel --yes"},
		typed{line: "server show petrel", code: failed, says: []string{`no server "petrel"`}},
		typed{line: "authority list"},
		typed{line: "authority remove nobody --yes", code: failed, says: []string{`no authority "nobody"`}},
		typed{line: "certificate list", says: []string{"ternferries.example"}},
		typed{line: "certificate show" + site, says: []string{"automatic"}},
		typed{line: "certificate change" + site + " --mode self-signed"},
		typed{line: "certificate show" + site, says: []string{"self-signed"}},
		typed{line: "certificate request" + site + " --organization 'Tern Ferries' --country GB",
			says: []string{"BEGIN CERTIFICATE REQUEST"}},
		typed{line: "certificate download" + site, code: failed},
		typed{line: "certificate remove-request" + site + " 1 --yes"},
		typed{line: "certificate cancel" + site, code: failed},
		typed{line: "certificate order" + site, code: failed},
	)
}
