package maillog

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"slices"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the driver that database/sql is to find

	"victualler/internal/agent/follow"
	"victualler/internal/agent/schema"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/mail"
	"victualler/internal/mailflow/definition"
)

const (
	// kept is how long rows stay here: the service asks for them every few seconds.
	kept = 3 * 24 * time.Hour
	// pageRows is how many rows are told at once.
	pageRows = 1000
	// longest bounds texts that others have written, in bytes.
	longest = 1000
)

// Log keeps what has become of messages. Make one with [Open].
type Log struct {
	db  *sql.DB
	log *slog.Logger
	now func() time.Time
	// FlowUser is the number of the user that victualler-mail runs as.
	flowUser int64
	// Whose is the account that has sent a message, from the mailbox whose holder signed in, or the
	// sender of one that a site has handed over; 0 is none. Failed is told of accounts of which
	// messages came back. Both are nil where nobody wants to know, and set before [Log.Run].
	Whose  func(ctx context.Context, signIn, sender string) (int64, error)
	Failed func(ctx context.Context, accounts []int64) error
	// tidied is when old rows were last removed.
	tidied time.Time
}

// Delivery is a row.
type Delivery = agentlink.Delivery

const tables = `
create table if not exists messages (queue text primary key, came integer not null, sender text not null default '',
	message_id text not null default '', size integer not null default 0, client text not null default '',
	sign_in text not null default '', local integer not null default 0) without rowid;
create table if not exists deliveries (id integer primary key autoincrement, change integer not null, queue text not null,
	came integer not null, at integer not null, sender text not null, recipient text not null, delivered_to text not null,
	message_id text not null, size integer not null, client text not null, sign_in text not null, local integer not null,
	outcome text not null, code text not null, relay text not null, reply text not null, tries integer not null,
	account integer not null default 0);
create unique index if not exists deliveries_change on deliveries (change);
create unique index if not exists deliveries_message on deliveries (queue, recipient, delivered_to) where queue <> '';
create index if not exists deliveries_at on deliveries (at);
create index if not exists deliveries_account on deliveries (account, at) where account <> 0;
create table if not exists folders (session text primary key, folder text not null, at integer not null) without rowid;
create table if not exists folder_state (inode integer not null, offset integer not null);
create table if not exists state (inode integer not null, offset integer not null, change integer not null);`

// byFlow marks messages that victualler-mail has handed over: a forward, or those of a site. Others
// that came on the server itself have 1.
const byFlow = 2

// Open opens the rows at a path, and makes them where there are none.
func Open(ctx context.Context, path string, flowUser int64, log *slog.Logger) (*Log, error) {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := file.Close(); err != nil {
		return nil, err
	}
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(5000)&_pragma=journal_mode(wal)"+
		"&_pragma=synchronous(normal)&_pragma=secure_delete(on)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(2)
	l := &Log{db: db, log: log, now: time.Now, flowUser: flowUser}
	// Numbers begin with the time: where rows were lost, the next ones have greater numbers still.
	begin := l.now().UnixMilli()
	if _, err = db.ExecContext(ctx, tables+failureTables); err == nil {
		err = errors.Join(schema.AddColumn(ctx, db, "messages", "score", "text not null default ''"),
			schema.AddColumn(ctx, db, "deliveries", "score", "text not null default ''"),
			schema.AddColumn(ctx, db, "deliveries", "session", "text not null default ''"),
			schema.AddColumn(ctx, db, "deliveries", "folder", "text not null default ''"))
	}
	if err == nil {
		_, err = db.ExecContext(ctx, `create index if not exists deliveries_session on deliveries (session)
			where session <> '';
			insert into folder_state select 0, 0 where not exists (select 1 from folder_state)`)
	}
	if err == nil {
		_, err = db.ExecContext(ctx, `insert into state select 0, 0, ?1 where not exists (select 1 from state);
			insert into sqlite_sequence (name, seq) select 'deliveries', ?1
				where not exists (select 1 from sqlite_sequence where name = 'deliveries')`, begin)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", path, err), db.Close())
	}
	return l, nil
}

// Close closes the rows.
func (l *Log) Close() error { return l.db.Close() }

// Run reads along Postfix's log until the context ends.
func (l *Log) Run(ctx context.Context, source string, reopen func(context.Context) error) error {
	reading := follow.Log{Source: source, Reopen: reopen, Now: l.now,
		Take: func(lines []byte, at follow.Position) error { return l.take(ctx, lines, at) }}
	if err := l.db.QueryRowContext(ctx, "select inode, offset from state").Scan(&reading.Position.Inode,
		&reading.Position.Offset); err != nil {
		return err
	}
	reading.Run(ctx, func(err error) { l.log.Warn("mail log", "reason", err) })
	return nil
}

// RunFolders reads along Dovecot's log, which says in which folders messages were put, until the
// context ends.
func (l *Log) RunFolders(ctx context.Context, source string, reopen func(context.Context) error) error {
	reading := follow.Log{Source: source, Reopen: reopen, Now: l.now,
		Take: func(lines []byte, at follow.Position) error { return l.takeFolders(ctx, lines, at) }}
	if err := l.db.QueryRowContext(ctx, "select inode, offset from folder_state").Scan(&reading.Position.Inode,
		&reading.Position.Offset); err != nil {
		return err
	}
	reading.Run(ctx, func(err error) { l.log.Warn("log of mailboxes", "reason", err) })
	return nil
}

// takeFolders writes down in which folders messages were put. Which messages they are is told by
// the other log, a moment earlier or later.
func (l *Log) takeFolders(ctx context.Context, lines []byte, at follow.Position) error {
	tx, err := l.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for octets := range bytes.Lines(lines) {
		text := strings.TrimRight(string(octets), "\r\n")
		name, folder, is := parseFiled(text)
		if !is {
			if err := l.countFailure(ctx, tx, text); err != nil {
				return err
			}
			continue
		}
		if _, err := tx.ExecContext(ctx, "insert or replace into folders (session, folder, at) values (?, ?, ?)", name,
			cut(folder), l.now().UnixMilli()); err != nil {
			return err
		}
		var change int64
		if err := tx.QueryRowContext(ctx, "update state set change = change + 1 returning "+
			"change").Scan(&change); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "update deliveries set folder = ?, change = ? where session = ?", cut(folder),
			change, name); err != nil {
			return err
		}
	}
	if _, err := tx.ExecContext(ctx, "update folder_state set inode = ?, offset = ?", int64(at.Inode),
		at.Offset); err != nil {
		return err
	}
	return tx.Commit()
}

// take writes down what lines tell, and how far the log has been read: both or nothing.
func (l *Log) take(ctx context.Context, lines []byte, at follow.Position) error {
	now := l.now()
	tx, err := l.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	var failed []int64
	for octets := range bytes.Lines(lines) {
		text := strings.TrimRight(string(octets), "\r\n")
		e, is := parse(text, now)
		if !is {
			if err := l.countFailure(ctx, tx, text); err != nil {
				return err
			}
			continue
		}
		account, err := l.write(ctx, tx, e)
		if err != nil {
			return err
		}
		if account != 0 && e.outcome == Failed && !slices.Contains(failed, account) {
			failed = append(failed, account)
		}
	}
	if _, err := tx.ExecContext(ctx, "update state set inode = ?, offset = ?", int64(at.Inode), at.Offset); err != nil {
		return err
	}
	if now.Sub(l.tidied) > time.Hour {
		l.tidied = now
		before := now.Add(-kept).UnixMilli()
		for _, table := range []string{"deliveries where at", "messages where came", "folders where at"} {
			if _, err := tx.ExecContext(ctx, "delete from "+table+" < ?", before); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, "delete from failures where hour < ?",
			now.Add(-failuresKept).Unix()/3600); err != nil {
			return err
		}
	}
	if err := tx.Commit(); err != nil || len(failed) == 0 || l.Failed == nil {
		return err
	}
	return l.Failed(ctx, failed)
}

// Outgoing counts what an account has sent since a time that has arrived, and that came back.
func (l *Log) Outgoing(ctx context.Context, account int64, since time.Time) (arrived, failed int64, err error) {
	err = l.db.QueryRowContext(ctx, `select coalesce(sum(outcome = 'delivered'), 0), coalesce(sum(outcome = 'failed'), 0)
		from deliveries where account = ? and at > ?`, account, since.UnixMilli()).Scan(&arrived, &failed)
	return arrived, failed, err
}

// write writes down what one line tells, and returns the account that has sent the message.
func (l *Log) write(ctx context.Context, tx *sql.Tx, e entry) (account int64, err error) {
	at := e.at.UnixMilli()
	if e.queue != "" && e.outcome == "" {
		if e.removed {
			_, err := tx.ExecContext(ctx, "delete from messages where queue = ?", e.queue)
			return 0, err
		}
		local := 0
		if e.user >= 0 {
			local = 1
			if e.user == l.flowUser {
				local = byFlow
			}
		}
		_, err := tx.ExecContext(ctx, `insert into messages (queue, came, sender, message_id, size, client, sign_in, local,
			score) values (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9) on conflict (queue) do update set
			sender = iif(?3 <> '', ?3, sender), message_id = iif(?4 <> '', ?4, message_id), size = max(?5, size),
			client = iif(?6 <> '', ?6, client), sign_in = iif(?7 <> '', ?7, sign_in), local = max(?8, local),
			score = iif(?9 <> '', ?9, score)`,
			e.queue, at, cut(e.sender), cut(e.messageID), e.size, cut(e.client), cut(e.signIn), local, cut(e.score))
		return 0, err
	}
	m := struct {
		came, size, local                        int64
		sender, messageID, client, signIn, score string
	}{came: at}
	err = tx.QueryRowContext(ctx, "select came, sender, message_id, size, client, sign_in, local, score "+
		"from messages where queue = ?", e.queue).Scan(&m.came, &m.sender, &m.messageID, &m.size, &m.client, &m.signIn,
		&m.local, &m.score)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return 0, err
	}
	if e.outcome == Refused {
		m.sender, m.client = e.sender, e.client
		if e.signIn != "" {
			m.signIn = e.signIn
		}
	}
	recipient, deliveredTo, outcome := e.recipient, "", e.outcome
	if e.original != "" && !strings.EqualFold(e.original, e.recipient) {
		recipient, deliveredTo = e.original, e.recipient
	}
	if strings.HasSuffix(e.recipient, "@"+definition.ForwardDomain) && outcome == Delivered {
		if outcome = Forwarded; mail.IsKept(e.reply) {
			outcome = Kept
		}
	}
	if l.Whose != nil && e.outcome != Refused && (m.signIn != "" || m.local == byFlow) {
		if account, err = l.Whose(ctx, m.signIn, m.sender); err != nil {
			return 0, err
		}
	}
	name, folder := "", ""
	if found := session.FindStringSubmatch(e.reply); found != nil {
		name = found[1]
		err := tx.QueryRowContext(ctx, "select folder from folders where session = ?", name).Scan(&folder)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return 0, err
		}
	}
	var change int64
	if err := tx.QueryRowContext(ctx, "update state set change = change + 1 returning "+
		"change").Scan(&change); err != nil {
		return 0, err
	}
	_, err = tx.ExecContext(ctx, `insert into deliveries (change, queue, came, at, sender, recipient, delivered_to,
			message_id, size, client, sign_in, local, outcome, code, relay, reply, tries, account, score, session, folder)
		values (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 1, ?, ?, ?, ?)
		on conflict (queue, recipient, delivered_to) where queue <> '' do update set change = excluded.change,
			at = excluded.at, outcome = excluded.outcome, code = excluded.code, relay = excluded.relay,
			reply = excluded.reply, tries = tries + 1, session = excluded.session, folder = excluded.folder`,
		change, e.queue, m.came, at, cut(m.sender), cut(strings.ToLower(recipient)), cut(strings.ToLower(deliveredTo)),
		cut(m.messageID), m.size, cut(m.client), cut(m.signIn), m.local, string(outcome), e.code,
		cut(e.relay), cut(e.reply), account, m.score, name, folder)
	return account, err
}

// cut shortens what others have written.
func cut(text string) string { return strings.ToValidUTF8(text[:min(len(text), longest)], "?") }

// Since returns what has changed after a change.
func (l *Log) Since(ctx context.Context, after int64) (agentlink.MailLogPage, error) {
	page := agentlink.MailLogPage{Deliveries: []Delivery{}}
	rows, err := l.db.QueryContext(ctx, `select id, change, queue, came, at, sender, recipient, delivered_to, message_id,
		size, client, sign_in, local, outcome, code, relay, reply, tries, score, folder from deliveries where change > ? order by change
		limit ?`, after, pageRows+1)
	if err != nil {
		return page, err
	}
	defer rows.Close()
	for rows.Next() {
		var d Delivery
		var came, at, local int64
		if err := rows.Scan(&d.ID, &d.Change, &d.Queue, &came, &at, &d.Sender, &d.Recipient, &d.DeliveredTo,
			&d.MessageID,
			&d.Size, &d.Client, &d.SignIn, &local, &d.Outcome, &d.Code, &d.Relay, &d.Reply, &d.Tries,
			&d.Score, &d.Folder); err != nil {
			return page, err
		}
		d.Came, d.At, d.Local = time.UnixMilli(came).UTC(), time.UnixMilli(at).UTC(), local > 0
		page.Deliveries = append(page.Deliveries, d)
	}
	if len(page.Deliveries) > pageRows {
		page.Deliveries, page.More = page.Deliveries[:pageRows], true
	}
	return page, rows.Err()
}

// Forget removes what is known of messages to and from domains.
func (l *Log) Forget(ctx context.Context, domains []string) error {
	for _, d := range domains {
		for _, column := range []string{"recipient", "delivered_to", "sender", "sign_in"} {
			if _, err := l.db.ExecContext(ctx, "delete from deliveries where "+column+" like ?", "%@"+d); err != nil {
				return err
			}
		}
		if _, err := l.db.ExecContext(ctx, "delete from failures where mailbox like ?", "%@"+d); err != nil {
			return err
		}
		if _, err := l.db.ExecContext(ctx, "delete from messages where sender like ?1 or sign_in like ?1",
			"%@"+d); err != nil {
			return err
		}
	}
	// What was deleted is in the log of changes still.
	_, err := l.db.ExecContext(ctx, "pragma wal_checkpoint(truncate)")
	return err
}
