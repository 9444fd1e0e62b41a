// Package mail drives Postfix and Dovecot: their configuration, which all accounts share, and the
// tables of domains, addresses and mailboxes, which they ask while they run. Nothing is reloaded
// for a mailbox, and mail works while the agent does not.
package mail

import (
	"cmp"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	_ "modernc.org/sqlite" // the driver that database/sql is to find

	"victualler/internal/agent/maillog"
	"victualler/internal/agent/schema"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/mail"
	"victualler/internal/mailflow/definition"
	"victualler/internal/manifest"
	"victualler/internal/render"
)

// Tables are the rows by which Postfix, Dovecot and victualler-mail know what accounts have. Each
// has a file of its own, so that Postfix, which strangers speak to, can read neither the hashes of
// passwords nor the keys that messages are signed with. Make one with [OpenTables].
//
// All are in SQLite's rollback mode: who reads needs no right to write. If the agent is killed
// while it writes, who reads is refused until it has started again: mail waits so long.
type Tables struct {
	// Log knows what has become of messages; what it knows of an account goes with it.
	Log *maillog.Log
	// Postfix has the queue, from which messages of accounts that are closed go. It is to be set.
	Postfix *Postfix

	routes, signIns, flow *sql.DB

	mu sync.Mutex // one writer at a time

	heldMu sync.Mutex
	// held are the accounts with rows as they were at heldAt.
	held   map[int64]bool
	heldAt time.Time
}

// heldFor is how long it is remembered which accounts have rows: a sweep asks for each account, of
// which most have no mail.
const heldFor = time.Second

// holds reports whether there are rows of an account.
func (t *Tables) holds(ctx context.Context, account int64) (bool, error) {
	t.heldMu.Lock()
	defer t.heldMu.Unlock()
	if time.Since(t.heldAt) < heldFor {
		return t.held[account], nil
	}
	held := map[int64]bool{}
	for _, p := range t.parts(manifest.Manifest{}) {
		for _, table := range p.tables {
			found, err := p.db.QueryContext(ctx, "select distinct account from "+table.name)
			if err != nil {
				return false, err
			}
			for found.Next() {
				var number int64
				if err := found.Scan(&number); err != nil {
					return false, errors.Join(err, found.Close())
				}
				held[number] = true
			}
			if err := errors.Join(found.Err(), found.Close()); err != nil {
				return false, err
			}
		}
	}
	t.held, t.heldAt = held, time.Now()
	return held[account], nil
}

// schemas of the two files. One that has landed is not changed while programs run: they would
// refuse to read on until they are reloaded.
const (
	routesSchema = `
create table if not exists domains (name text primary key, account integer not null,
	deferred integer not null default 0) without rowid;
create index if not exists domains_account on domains (account);
create table if not exists mailboxes (address text primary key, account integer not null) without rowid;
create index if not exists mailboxes_account on mailboxes (account);
create table if not exists addresses (address text not null, target text not null, account integer not null,
	primary key (address, target)) without rowid;
create index if not exists addresses_account on addresses (account);`
	signInsSchema = `
create table if not exists mailboxes (address text primary key, account integer not null, hash text not null,
	uid integer not null, gid integer not null, home text not null, quota_rule text not null,
	junk_above integer not null default 0, language text not null default '') without rowid;
create index if not exists mailboxes_account on mailboxes (account);
create table if not exists passwords (address text not null, key text not null, hash text not null,
	account integer not null, primary key (address, key)) without rowid;
create index if not exists passwords_account on passwords (account);
create table if not exists filters (address text primary key, name text not null, id text not null,
	script text not null, account integer not null) without rowid;
create index if not exists filters_account on filters (account);`
)

// OpenTables opens the tables, and makes them where there are none; stateDir is where the log of
// messages is kept.
func OpenTables(ctx context.Context, stateDir string, log *slog.Logger) (*Tables, error) {
	if err := os.MkdirAll(filepath.Dir(render.MailRoutes), 0o711); err != nil {
		return nil, err
	}
	postfix, err := user.LookupGroup("postfix")
	if err != nil {
		return nil, err
	}
	gid, err := strconv.Atoi(postfix.Gid)
	if err != nil {
		return nil, err
	}
	flowUser, flowGroup, err := flowNumbers(ctx)
	if err != nil {
		return nil, err
	}
	t := &Tables{}
	if t.Log, err = maillog.Open(ctx, filepath.Join(stateDir, "messages.db"), int64(flowUser), log); err != nil {
		return nil, err
	}
	if t.routes, err = open(ctx, render.MailRoutes, routesSchema, 0o640, gid); err != nil {
		return nil, err
	}
	if err := schema.AddColumn(ctx, t.routes, "domains", "deferred", "integer not null default 0"); err != nil {
		return nil, errors.Join(err, t.routes.Close())
	}
	if t.signIns, err = open(ctx, render.MailSignIns, signInsSchema, 0o600, 0); err != nil {
		return nil, errors.Join(err, t.routes.Close())
	}
	// Dovecot reads the table once more after its next reload, which comes with the configuration
	// that asks for the column.
	if err := errors.Join(
		schema.AddColumn(ctx, t.signIns, "mailboxes", "junk_above", "integer not null default 0"),
		schema.AddColumn(ctx, t.signIns, "mailboxes", "language", "text not null default ''")); err != nil {
		return nil, errors.Join(err, t.routes.Close(), t.signIns.Close())
	}
	if t.flow, err = open(ctx, definition.TableFile, definition.Schema, 0o640, flowGroup); err != nil {
		return nil, errors.Join(err, t.routes.Close(), t.signIns.Close())
	}
	if err := schema.AddColumn(ctx, t.flow, "mailboxes", "junk_above", "integer not null default 0"); err != nil {
		return nil, errors.Join(err, t.routes.Close(), t.signIns.Close(), t.flow.Close())
	}
	return t, nil
}

// flowNumbers are those of the user of victualler-mail, which is made where there is none, and of
// its group.
func flowNumbers(ctx context.Context) (uid, gid int, err error) {
	found, err := user.Lookup(definition.User)
	if err != nil {
		out, err := exec.CommandContext(ctx, "useradd", "--system", "--user-group", "--no-create-home",
			"--home-dir", "/nonexistent", "--shell", "/usr/sbin/nologin", definition.User).CombinedOutput()
		if err != nil {
			return 0, 0, fmt.Errorf("make the user %s: %w: %s", definition.User, err, out)
		}
		if found, err = user.Lookup(definition.User); err != nil {
			return 0, 0, err
		}
	}
	return numbersOf(found)
}

func numbersOf(u *user.User) (uid, gid int, err error) {
	uid, err1 := strconv.Atoi(u.Uid)
	gid, err2 := strconv.Atoi(u.Gid)
	return uid, gid, errors.Join(err1, err2)
}

func open(ctx context.Context, path, schema string, mode os.FileMode, gid int) (*sql.DB, error) {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, mode) // before anybody writes to it
	if err != nil {
		return nil, err
	}
	if err := errors.Join(file.Chown(0, gid), file.Chmod(mode), file.Close()); err != nil {
		return nil, err
	}
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(5000)&_pragma=journal_mode(delete)"+
		"&_pragma=synchronous(full)&_pragma=secure_delete(on)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(2)
	if _, err := db.ExecContext(ctx, schema); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", path, err), db.Close())
	}
	return db, nil
}

// Name implements agent.Content.
func (*Tables) Name() string { return "mailboxes" }

// Concerns implements agent.Content.
func (*Tables) Concerns(m manifest.Manifest) bool { return m.HasMail() }

// table is one of the tables, with the columns that an account's rows have beside its number.
type table struct {
	name    string
	columns []string
	// key is how many of the columns, from the first, identify a row.
	key int
}

var (
	routesTables = []table{{"domains", []string{"name", "deferred"}, 1}, {"mailboxes", []string{"address"}, 1},
		{"addresses", []string{"address", "target"}, 2}}
	signInsTables = []table{{"mailboxes", []string{"address", "hash", "uid", "gid", "home", "quota_rule",
		"junk_above", "language"}, 1}, {"passwords", []string{"address", "key", "hash"}, 2},
		{"filters", []string{"address", "name", "id", "script"}, 1}}
	flowTables = []table{{"accounts", []string{"name", "hourly", "bounce_share", "silent"}, 1},
		{"mailboxes", []string{"address", "hourly", "junk_above"}, 1}, {"senders", []string{"address", "mailbox"}, 2},
		{"forwards", []string{"address", "target"}, 2}, {"domains", []string{"name", "place"}, 1},
		{"replies", []string{"address", "subject", "text", "starts", "ends"}, 1},
		{"homes", []string{"name", "home"}, 1}, {"keys", []string{"domain", "selector", "key"}, 1},
		{"lists", []string{"address", "name", "posting", "moderated", "footer", "language"}, 1},
		{"list_members", []string{"list", "address", "member", "owner", "joined"}, 2}}
)

// row is a row's values as text, in the order of the table's columns.
type row []string

func (r row) id(t table) string { return strings.Join(r[:t.key], " ") }

// wantedRoutes and wantedSignIns are the rows that a manifest asks for, by the table's name.
func wantedRoutes(m manifest.Manifest) map[string][]row {
	rows := map[string][]row{}
	if !m.HasMail() {
		return rows
	}
	for _, d := range m.Mail.Domains {
		rows["domains"] = append(rows["domains"], row{d.String(), oneIf(m.Mail.Deferred)})
	}
	for _, b := range m.Mail.Mailboxes {
		rows["mailboxes"] = append(rows["mailboxes"], row{b.Address})
		// It leads to itself, as Postfix would ask for the domain's catch-all otherwise
		// (virtual(5)).
		rows["addresses"] = append(rows["addresses"], row{b.Address, b.Address})
		for _, copy := range b.Copies {
			rows["addresses"] = append(rows["addresses"], row{b.Address, copy})
		}
		if len(b.Forwards) > 0 || b.Reply != nil {
			rows["addresses"] = append(rows["addresses"], row{b.Address, definition.ForwardRecipient(b.Address)})
		}
	}
	for _, a := range m.Mail.Addresses {
		address := strings.TrimPrefix(a.Address, mail.CatchAll)
		for _, target := range a.Targets {
			rows["addresses"] = append(rows["addresses"], row{address, target})
		}
		if len(a.Forwards) > 0 {
			rows["addresses"] = append(rows["addresses"], row{address, definition.ForwardRecipient(a.Address)})
		}
	}
	for _, l := range m.Mail.Lists {
		for _, address := range []string{l.Address, mail.RequestAddress(l.Address)} {
			rows["addresses"] = append(rows["addresses"], row{address, definition.ForwardRecipient(address)})
		}
	}
	return rows
}

// seconds is a time as Unix has it; 0 is none.
func seconds(t *time.Time) string {
	if t == nil {
		return "0"
	}
	return strconv.FormatInt(t.Unix(), 10)
}

// oneIf is how a yes or no is written.
func oneIf(is bool) string {
	if is {
		return "1"
	}
	return "0"
}

// wantedFlow are the rows that victualler-mail decides by.
func wantedFlow(m manifest.Manifest) map[string][]row {
	rows := map[string][]row{}
	if !m.HasMail() {
		return rows
	}
	bound := func(n *int64) string {
		if n == nil {
			return strconv.Itoa(definition.Unlimited)
		}
		return strconv.FormatInt(*n, 10)
	}
	rows["accounts"] = []row{{m.SignInName, bound(m.Mail.Hourly), bound(m.Mail.BounceShare), oneIf(m.Mail.Silent)}}
	if m.Mail.Home != nil {
		rows["homes"] = []row{{m.SignInName, hex.EncodeToString(m.Mail.Home)}}
	}
	for n, d := range m.Mail.Senders {
		rows["domains"] = append(rows["domains"], row{d.String(), strconv.Itoa(n)})
	}
	for _, b := range m.Mail.Mailboxes {
		rows["mailboxes"] = append(rows["mailboxes"], row{b.Address, bound(b.Hourly),
			strconv.Itoa(b.JunkAbove)})
		rows["senders"] = append(rows["senders"], row{b.Address, b.Address})
		for _, target := range b.Forwards {
			rows["forwards"] = append(rows["forwards"], row{b.Address, target})
		}
		if r := b.Reply; r != nil {
			rows["replies"] = append(rows["replies"], row{b.Address, r.Subject, r.Text, seconds(r.From),
				seconds(r.Until)})
		}
	}
	for _, a := range m.Mail.Addresses {
		for _, target := range a.Targets {
			rows["senders"] = append(rows["senders"], row{strings.TrimPrefix(a.Address, mail.CatchAll), target})
		}
		for _, target := range a.Forwards {
			rows["forwards"] = append(rows["forwards"], row{a.Address, target})
		}
	}
	for _, l := range m.Mail.Lists {
		rows["lists"] = append(rows["lists"], row{l.Address, l.Name, string(l.Posting), oneIf(l.Moderated), l.Footer,
			m.Mail.Language})
		for _, one := range l.Members {
			rows["list_members"] = append(rows["list_members"], row{l.Address, one.Address, oneIf(one.Member),
				oneIf(one.Owner), strconv.FormatInt(one.Joined, 10)})
		}
	}
	for _, k := range m.Mail.Keys {
		rows["keys"] = append(rows["keys"], row{k.Domain.String(), k.Selector, string(k.Key)})
	}
	return rows
}

func wantedSignIns(m manifest.Manifest) map[string][]row {
	rows := map[string][]row{}
	if !m.HasMail() {
		return rows
	}
	uid := strconv.Itoa(m.MailUID())
	for _, b := range m.Mail.Mailboxes {
		local, domain, _ := strings.Cut(b.Address, "@")
		size := "*:storage=0" // unlimited
		if b.Size != nil {
			size = fmt.Sprintf("*:bytes=%d", max(*b.Size, 1))
		}
		rows["mailboxes"] = append(rows["mailboxes"], row{b.Address, b.Hash, uid, uid,
			filepath.Join(m.MailPath(), domain, local), size, strconv.Itoa(b.JunkAbove),
			m.Mail.Language})
		if script := mail.Sieve(b.Filters); script != "" {
			sum := sha256.Sum256([]byte(script))
			rows["filters"] = append(rows["filters"], row{b.Address, render.FilterName, hex.EncodeToString(sum[:8]),
				script})
		}
		for _, p := range b.Programs {
			rows["passwords"] = append(rows["passwords"], row{b.Address, p.Key, p.Hash})
		}
	}
	return rows
}

// rowsOf reads the rows of an account.
func rowsOf(ctx context.Context, q interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}, t table, account int64) ([]row, error) {
	found, err := q.QueryContext(ctx, "select "+strings.Join(t.columns, ", ")+" from "+t.name+" where account = ?",
		account)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	var list []row
	for found.Next() {
		values := make(row, len(t.columns))
		into := make([]any, len(values))
		for i := range values {
			into[i] = &values[i]
		}
		if err := found.Scan(into...); err != nil {
			return nil, err
		}
		list = append(list, values)
	}
	return list, found.Err()
}

// differences between rows that are there and rows that are wanted: those to be removed, and those
// to be written.
func differences(t table, have, want []row) (gone, set []row) {
	wanted := map[string]row{}
	for _, r := range want {
		wanted[r.id(t)] = r
	}
	there := map[string]row{}
	for _, r := range have {
		there[r.id(t)] = r
		if wanted[r.id(t)] == nil {
			gone = append(gone, r)
		}
	}
	for _, id := range slices.Sorted(maps.Keys(wanted)) {
		if r := wanted[id]; !slices.Equal(r, there[id]) {
			set = append(set, r)
		}
	}
	return gone, set
}

// Check implements agent.Content.
func (t *Tables) Check(ctx context.Context, m manifest.Manifest) ([]agentlink.Drift, error) {
	if !m.HasMail() {
		if holds, err := t.holds(ctx, m.AccountID); err != nil || !holds {
			return nil, err
		}
	}
	var drifts []agentlink.Drift
	for _, part := range t.parts(m) {
		for _, table := range part.tables {
			have, err := rowsOf(ctx, part.db, table, m.AccountID)
			if err != nil {
				return nil, err
			}
			gone, set := differences(table, have, part.want[table.name])
			for _, r := range gone {
				if slices.ContainsFunc(set, func(s row) bool { return s.id(table) == r.id(table) }) {
					continue
				}
				drifts = append(drifts, agentlink.Drift{Part: t.Name(), Subject: r.id(table),
					Detail: language.New("should not be there").Encode()})
			}
			for _, r := range set {
				detail := language.New("is missing")
				if slices.ContainsFunc(have, func(h row) bool { return h.id(table) == r.id(table) }) {
					detail = language.New("has been changed")
				}
				drifts = append(drifts, agentlink.Drift{Part: t.Name(), Subject: r.id(table), Detail: detail.Encode()})
			}
		}
	}
	// What is missing in several files is told once.
	slices.SortFunc(drifts, func(a, b agentlink.Drift) int {
		return cmp.Or(cmp.Compare(a.Subject, b.Subject), cmp.Compare(a.Detail, b.Detail))
	})
	return slices.CompactFunc(drifts, func(a, b agentlink.Drift) bool {
		return a.Subject == b.Subject && a.Detail == b.Detail
	}), nil
}

// part is one of the files with what a manifest wants of it.
type part struct {
	db     *sql.DB
	tables []table
	want   map[string][]row
}

// parts are in the order in which they are written: who can sign in, and what is passed on, is
// there before mail is taken for them.
func (t *Tables) parts(m manifest.Manifest) []part {
	return []part{{t.signIns, signInsTables, wantedSignIns(m)}, {t.flow, flowTables, wantedFlow(m)},
		{t.routes, routesTables, wantedRoutes(m)}}
}

// Ensure implements agent.Content.
func (t *Tables) Ensure(ctx context.Context, m manifest.Manifest) (language.Text, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	before := map[string][]row{}
	for _, table := range signInsTables {
		found, err := rowsOf(ctx, t.signIns, table, m.AccountID)
		if err != nil {
			return language.Text{}, err
		}
		before[table.name] = found
	}
	changed := 0
	for _, p := range t.parts(m) {
		n, err := p.write(ctx, m.AccountID)
		if err != nil {
			return language.Text{}, err
		}
		changed += n
	}
	endSessions(ctx, shutOut(before, wantedSignIns(m)))
	switch {
	case !m.HasMail():
		return language.New("removed"), nil
	case changed == 0:
		return language.New("as they should be"), nil
	}
	return language.New("mailboxes: %d, further addresses: %d", len(m.Mail.Mailboxes), len(m.Mail.Addresses)), nil
}

// shutOut lists mailboxes whose password was another one before, which are no more, or of which a
// program is no longer let in.
func shutOut(before, now map[string][]row) []string {
	var list []string
	for _, b := range before["mailboxes"] {
		at := slices.IndexFunc(now["mailboxes"], func(n row) bool { return n[0] == b[0] })
		if at < 0 || now["mailboxes"][at][1] != b[1] {
			list = append(list, b[0])
		}
	}
	for _, b := range before["passwords"] {
		if !slices.Contains(list, b[0]) &&
			!slices.ContainsFunc(now["passwords"], func(n row) bool { return slices.Equal(n, b) }) {
			list = append(list, b[0])
		}
	}
	return list
}

// write sets an account's rows in one transaction, and returns how many differed.
func (p part) write(ctx context.Context, account int64) (int, error) {
	tx, err := p.db.BeginTx(ctx, nil)
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	changed := 0
	for _, t := range p.tables {
		have, err := rowsOf(ctx, tx, t, account)
		if err != nil {
			return 0, err
		}
		gone, set := differences(t, have, p.want[t.name])
		for _, r := range gone {
			if _, err := tx.ExecContext(ctx, "delete from "+t.name+" where "+
				strings.Join(t.columns[:t.key], " = ? and ")+" = ?", args(r[:t.key])...); err != nil {
				return 0, err
			}
		}
		for _, r := range set {
			// A name that was another account's is this one's now: the service has decided so.
			if _, err := tx.ExecContext(ctx, "insert or replace into "+t.name+" ("+strings.Join(t.columns, ", ")+
				", account) values ("+strings.Repeat("?, ", len(r))+"?)", append(args(r), account)...); err != nil {
				return 0, err
			}
		}
		changed += len(gone) + len(set)
	}
	if changed == 0 {
		return 0, nil
	}
	return changed, tx.Commit()
}

func args(r row) []any {
	list := make([]any, len(r))
	for i, v := range r {
		list[i] = v
	}
	return list
}

// Forget implements agent.Content: the messages of mailboxes that are no more go. Those of an
// account that is closed go with its directory; what it has sent and waits goes as well.
func (t *Tables) Forget(ctx context.Context, m, last manifest.Manifest) error {
	if !last.HasMail() {
		return nil
	}
	if !m.HasMail() {
		var domains []string
		for _, d := range slices.Concat(last.Mail.Domains, last.Mail.Senders) {
			domains = append(domains, d.String())
		}
		if m.Closed {
			if err := t.Postfix.removeFrom(ctx, domains); err != nil {
				return err
			}
		}
		return t.Log.Forget(ctx, domains)
	}
	root, err := os.OpenRoot(m.MailPath())
	if err != nil {
		return err
	}
	defer root.Close()
	for _, b := range last.Mail.Mailboxes {
		if slices.ContainsFunc(m.Mail.Mailboxes, func(o manifest.Mailbox) bool { return o.Address == b.Address }) {
			continue
		}
		local, domain, _ := strings.Cut(b.Address, "@")
		if err := root.RemoveAll(filepath.Join(domain, local)); err != nil {
			return err
		}
	}
	return nil
}

// endSessions ends the sessions of mailboxes that are no more, or whose password is another one. It
// does not matter where there are none.
func endSessions(ctx context.Context, addresses []string) {
	for _, address := range addresses {
		_ = exec.CommandContext(ctx, "doveadm", "kick", address).Run()
	}
}
