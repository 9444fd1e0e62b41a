package main

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"victualler/internal/api"
)

// The size of a large installation.
const (
	manyResellers = 2_000
	manyPlans     = 300
	manyCustomers = 60_000
	manyAccounts  = 100_000
)

// load fills the database with the records of a large installation. Its server never joins, so
// nothing tries to apply them.
var load = []string{
	`insert into servers (label, address, roles, open, join_secret, join_ends_at) values ('granary', '10.255.0.1:7677', '{web}', false, 'x', now() + interval '10 years')`,
	fmt.Sprintf(
		`insert into resellers (name, title, measure) select 'reseller-' || n, 'Reseller ' || n, case when n %% 2 = 0 then 'used' else 'allotted' end from generate_series(1, %d) n`,
		manyResellers),
	`insert into share_limits (reseller_id, key, amount) select resellers.id, keys.key, 1000000000000 from resellers cross join (select distinct key from plan_limits) keys`,
	// A third of the plans is the operator's, the others belong to resellers.
	fmt.Sprintf(
		`insert into plans (reseller_id, name) select case when n %% 3 = 0 then null else (select id from resellers where name = 'reseller-' || n) end, 'plan-' || n from generate_series(1, %d) n`,
		manyPlans),
	`insert into plan_limits (plan_id, key, amount) select plans.id, keys.key, case keys.key when 'files' then null else 1000 + plans.id end from plans cross join (select distinct key from plan_limits) keys where plans.name like 'plan-%'`,
	fmt.Sprintf(`insert into customers (reseller_id, name, email) select case when n %% 3 = 0 then null else (select id from resellers where name = 'reseller-' || (n %% %d + 1)) end, 'Customer ' || n, 'contact' || n || '@post.example'
		from generate_series(1, %d) n`, manyResellers, manyCustomers),
	fmt.Sprintf(`insert into accounts (sign_in_name, main_domain, customer_id, plan_id, server_id, state, revision, applied_revision, disk_used)
		select 'u' || n, (array['ferry','bakery','surf','lamp','boat','news','studio','loft'])[n %% 8 + 1] || '-' || md5(n::text) || '.example', customers.id,
			(select min(id) from plans where name like 'plan-%%') + (n %% 100) * 3 + 2, (select id from servers where label = 'granary'), 'active', 1, 1, n * 1000
		from generate_series(1, %d) n join customers on customers.name = 'Customer ' || (n %% %d + 1)`, manyAccounts, manyCustomers),
	`insert into domains (account_id, name, registrable, main, root) select id, main_domain, main_domain, true, 'sites/x' from accounts where sign_in_name like 'u%' and server_id = (select id from servers where label = 'granary')`,
	`insert into domains (account_id, name, registrable, root) select id, 'second-' || main_domain, 'second-' || main_domain, 'sites/y' from accounts where id % 3 = 0 and server_id = (select id from servers where label = 'granary')`,
	`insert into exceptions (account_id, limit_key, amount, reason, author) select id, 'disk', 5000000, 'bench', 'bench' from accounts where id % 50 = 0 and server_id = (select id from servers where label = 'granary')`,
	`vacuum analyze`,
}

// lookup is one page that people ask for, and the bare statement that finds the same.
type lookup struct {
	what, path string
	query      url.Values
	sql        string
	args       []any
}

const (
	// The statement finds the page, and then reads its rows.
	rowsSQL = `with page as materialized (select id from accounts where (main_domain, id) > ($1, $2) and state <> 'closed' and ($3 = '' or search like '%' || $3 || '%') order by main_domain, id limit 51)
select * from account_rows where id = any(array(select id from page)) order by main_domain, id`
	// Both sums of one reseller, key by key, as one would write them by hand.
	sumsSQL = `with r as materialized (select id from resellers where name = $1)
select s.key, s.amount, given.allotted, used.amount as used from r join share_limits s on s.reseller_id = r.id
left join (select l.key, sum(case when e.id is not null then e.amount else l.amount end) as allotted from r join accounts a on a.reseller_id = r.id and a.state <> 'closed'
	join plan_limits l on l.plan_id = a.plan_id left join exceptions e on e.account_id = a.id and e.limit_key = l.key and (e.ends_at is null or e.ends_at > now()) group by l.key) given on given.key = s.key
left join (select u.key, sum(u.amount) as amount from r join accounts a on a.reseller_id = r.id and a.state <> 'closed' join usage u on u.account_id = a.id group by u.key) used on used.key = s.key`
)

// records measures lists and searches among many records against the
// bare statements, and shows which indexes these use.
func (b *bench) records(ctx context.Context, say func(string)) (rows []row, explained string, err error) {
	conn, err := pgx.Connect(ctx, b.Postgres.URL)
	if err != nil {
		return nil, "", err
	}
	defer conn.Close(ctx)
	say(fmt.Sprintf("loading %d accounts, %d plans, %d resellers", manyAccounts, manyPlans, manyResellers))
	for _, statement := range load {
		if _, err := conn.Exec(ctx, statement); err != nil {
			return nil, "", fmt.Errorf("%s: %w", statement[:60], err)
		}
	}
	var deepDomain string
	var deepID int64
	if err := conn.QueryRow(ctx,
		`select main_domain, id from accounts where state <> 'closed' order by main_domain, id offset $1 limit 1`,
		manyAccounts*3/4).Scan(&deepDomain, &deepID); err != nil {
		return nil, "", err
	}
	cursor, err := json.Marshal([]any{deepDomain, deepID})
	if err != nil {
		return nil, "", err
	}
	page := func(extra url.Values) url.Values {
		extra.Set("limit", "50")
		return extra
	}
	lookups := []lookup{
		{"first page of the accounts", "/accounts", page(url.Values{}), rowsSQL, []any{"", int64(0), ""}},
		{"deep page of the accounts", "/accounts",
			page(url.Values{"cursor": {base64.RawURLEncoding.EncodeToString(cursor)}}), rowsSQL,
			[]any{deepDomain, deepID, ""}},
		{"search by a part of a domain that few have", "/accounts", page(url.Values{"search": {deepDomain[6:14]}}),
			rowsSQL, []any{"", int64(0), deepDomain[6:14]}},
		{"search by a part of a domain that many have", "/accounts", page(url.Values{"search": {"lamp-"}}), rowsSQL,
			[]any{"", int64(0), "lamp-"}},
		{"a reseller's dashboard", "/resellers/reseller-1000/share", nil, sumsSQL, []any{"reseller-1000"}},
	}
	var text strings.Builder
	for _, l := range lookups {
		say(l.what)
		ours, theirs, err := b.timeLookup(ctx, conn, l)
		if err != nil {
			return nil, "", fmt.Errorf("%s: %w", l.what, err)
		}
		mine, bare := median(ours), median(theirs)
		r := compare(l.what, mine, bare, func(r float64) bool { return r <= 2 }, "at most 2")
		r.ours = fmt.Sprintf("%s (p99 %s)", exact(mine), exact(percentile(ours, 99)))
		r.theirs = fmt.Sprintf("%s (p99 %s)", exact(bare), exact(percentile(theirs, 99)))
		rows = append(rows, r)
		plan, err := explain(ctx, conn, l)
		if err != nil {
			return nil, "", err
		}
		fmt.Fprintf(&text, "%s:\n\n%s\n", l.what, plan)
	}
	return rows, text.String(), nil
}

// lookAt is how often each page is asked for.
const lookAt = 300

func (b *bench) timeLookup(ctx context.Context, conn *pgx.Conn, l lookup) (ours, theirs []time.Duration, err error) {
	for n := range lookAt + 20 { // the first warm up
		begun := time.Now()
		var doc json.RawMessage
		if err := b.Client.Get(ctx, l.path, l.query, &doc); err != nil {
			return nil, nil, err
		}
		took := time.Since(begun)
		begun = time.Now()
		found, err := conn.Query(ctx, l.sql, l.args...)
		if err != nil {
			return nil, nil, err
		}
		for found.Next() {
			if _, err := found.Values(); err != nil {
				return nil, nil, err
			}
		}
		if err := found.Err(); err != nil {
			return nil, nil, err
		}
		bare := time.Since(begun)
		if n >= 20 {
			ours, theirs = append(ours, took), append(theirs, bare)
		}
		if n == 0 {
			var answer struct{ Accounts []api.Account }
			if json.Unmarshal(doc, &answer) == nil && l.path == "/accounts" && len(answer.Accounts) == 0 {
				return nil, nil, fmt.Errorf("nothing found")
			}
		}
	}
	return ours, theirs, nil
}

// explain returns the lines of a plan that name indexes, and refuses a
// plan that reads all accounts.
func explain(ctx context.Context, conn *pgx.Conn, l lookup) (string, error) {
	found, err := conn.Query(ctx, "explain (costs off) "+l.sql,
		append([]any{pgx.QueryExecModeSimpleProtocol}, l.args...)...)
	if err != nil {
		return "", err
	}
	defer found.Close()
	var lines []string
	for found.Next() {
		var line string
		if err := found.Scan(&line); err != nil {
			return "", err
		}
		if strings.Contains(line, "Seq Scan on accounts") || strings.Contains(line, "Seq Scan on domains") {
			return "", fmt.Errorf("it reads everything: %s", line)
		}
		if strings.Contains(line, "Index") || strings.Contains(line, "Bitmap") {
			lines = append(lines, "    "+strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(line), "->")))
		}
	}
	return strings.Join(slices.Compact(lines), "\n") + "\n", found.Err()
}

func percentile(d []time.Duration, p int) time.Duration {
	sorted := slices.Sorted(slices.Values(d))
	return sorted[min(len(sorted)-1, len(sorted)*p/100)]
}

func exact(d time.Duration) string { return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000) }
