package maillog

import (
	"context"
	"database/sql"
	"regexp"
	"strconv"
	"strings"
	"time"

	"victualler/internal/agentlink"
)

// Sign-ins that fail are told of by both logs: by Dovecot's for whoever reads mail, by Postfix's
// for whoever sends it.
var (
	failedReading = regexp.MustCompile(`^(\w{3} [ \d]\d \d\d:\d\d:\d\d) [\w-]+-login: Info: .*\(auth failed, (\d+) attempts ` +
		`in \d+ secs\): user=<([^>]*)>.*, rip=([0-9a-fA-F.:]+), `)
	failedSending = regexp.MustCompile(`^(\w{3} [ \d]\d \d\d:\d\d:\d\d) \S+ postfix/[\w-]+/smtpd\[\d+\]: warning: ` +
		`[^\[]*\[([0-9a-fA-F.:]+)\]: SASL \S+ authentication failed: .*, sasl_username=(\S+)$`)
)

// lostDovecot says that nobody has looked at the password: Dovecot was just reading its
// configuration.
const lostDovecot = " authentication failed: Connection lost to authentication server"

// failure is one or more sign-ins that failed.
type failure struct {
	at              time.Time
	mailbox, client string
	n               int64
}

// parseFailure reads a line of either log; false is for one that tells of no sign-in that failed.
func parseFailure(text string, now time.Time) (failure, bool) {
	if found := failedReading.FindStringSubmatch(text); found != nil {
		n, err := strconv.ParseInt(found[2], 10, 32)
		return failure{timeOf(found[1], now), strings.ToLower(found[3]), found[4], n}, err == nil && n > 0
	}
	if found := failedSending.FindStringSubmatch(text); found != nil && !strings.Contains(text, lostDovecot) {
		return failure{timeOf(found[1], now), strings.ToLower(found[3]), found[2], 1}, true
	}
	return failure{}, false
}

const failureTables = `
create table if not exists failures (mailbox text not null, hour integer not null, client text not null,
	n integer not null, at integer not null, primary key (mailbox, hour, client)) without rowid;
create index if not exists failures_hour on failures (hour);`

const (
	// failuresKept is the time of which sign-ins that failed are counted.
	failuresKept = 24 * time.Hour
	// mostClients is from how many addresses it is counted one by one, for a mailbox and an hour.
	mostClients = 100
	// mostGuessed is of how many mailboxes it is told.
	mostGuessed = 1000
)

// countFailure counts a line that tells of sign-ins that failed. Names that no mailbox has are not
// counted: anybody can make up any number of them.
func (l *Log) countFailure(ctx context.Context, tx *sql.Tx, text string) error {
	f, is := parseFailure(text, l.now())
	if !is || l.Whose == nil {
		return nil
	}
	if account, err := l.Whose(ctx, f.mailbox, ""); err != nil || account == 0 {
		return err
	}
	hour := f.at.Unix() / 3600
	var clients int
	if err := tx.QueryRowContext(ctx, "select count(*) from failures where mailbox = ? and hour = ? and client <> ?",
		f.mailbox, hour, f.client).Scan(&clients); err != nil {
		return err
	}
	client := f.client
	if clients >= mostClients {
		client = "" // all others
	}
	_, err := tx.ExecContext(ctx, `insert into failures (mailbox, hour, client, n, at) values (?1, ?2, ?3, ?4, ?5)
		on conflict do update set n = n + ?4, at = max(at, ?5)`, f.mailbox, hour, client, f.n, f.at.UnixMilli())
	return err
}

// Failures counts the sign-ins of the last day that failed, for the mailboxes with most of them.
func (l *Log) Failures(ctx context.Context) ([]agentlink.SignInFailures, error) {
	rows, err := l.db.QueryContext(ctx, `select mailbox, sum(n), count(distinct client), max(at),
			(select client from failures newest where newest.mailbox = failures.mailbox order by at desc limit 1)
		from failures where hour > ? group by mailbox order by sum(n) desc, mailbox limit ?`,
		l.now().Add(-failuresKept).Unix()/3600, mostGuessed)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []agentlink.SignInFailures{}
	for rows.Next() {
		var f agentlink.SignInFailures
		var at int64
		if err := rows.Scan(&f.Mailbox, &f.Count, &f.Clients, &at, &f.LastFrom); err != nil {
			return nil, err
		}
		f.LastAt = time.UnixMilli(at).UTC()
		list = append(list, f)
	}
	return list, rows.Err()
}
