-- name: LockDomain :exec
-- Requests about names below one registrable name wait for each other.
select pg_advisory_xact_lock(hashtextextended(sqlc.arg(registrable)::text, 1));

-- name: RelatedDomains :many
select domains.name, domains.account_id from domains where registrable = $1;

-- name: TakenSignInNames :many
select sign_in_name from accounts where state <> 'closed' and sign_in_name like sqlc.arg(stem)::text || '%';

-- name: AddAccount :one
insert into accounts (sign_in_name, main_domain, customer_id, plan_id, server_id, placement) values ($1, $2, $3, $4, $5, $6) returning *;

-- name: AddDomain :one
insert into domains (account_id, name, registrable, main, root) values ($1, $2, $3, $4, $5) returning *;

-- name: LockAccount :one
select * from accounts where id = $1 for update;

-- name: FindAccount :one
-- By number, by sign-in name or by any of its domains; one that is not closed goes first.
select accounts.id from accounts
where (accounts.id::text = sqlc.arg(reference)::text
   or accounts.sign_in_name = sqlc.arg(reference)
   or accounts.main_domain = sqlc.arg(reference)
   or accounts.id in (select account_id from domains where name = sqlc.arg(reference)))
order by (state = 'closed'), id desc limit 1;

-- name: AccountByID :one
select sqlc.embed(accounts), customers.name as customer, plans.name as plan, servers.label as server,
    (select amount from plan_limits where plan_limits.plan_id = accounts.plan_id and key = 'disk') as disk_limit,
    (select count(*) from drifts where drifts.account_id = accounts.id) as drifts
from accounts
join customers on customers.id = accounts.customer_id
join plans on plans.id = accounts.plan_id
join servers on servers.id = accounts.server_id
where accounts.id = $1;

-- name: Accounts :many
-- Pages in the order of main domain and number; after is the last row's.
select sqlc.embed(accounts), customers.name as customer, plans.name as plan, servers.label as server,
    (select amount from plan_limits where plan_limits.plan_id = accounts.plan_id and key = 'disk') as disk_limit,
    (select count(*) from drifts where drifts.account_id = accounts.id) as drifts
from accounts
join customers on customers.id = accounts.customer_id
join plans on plans.id = accounts.plan_id
join servers on servers.id = accounts.server_id
where (accounts.main_domain, accounts.id) > (sqlc.arg(after_domain)::text, sqlc.arg(after_id)::bigint)
  and case when sqlc.arg(state)::text = '' then accounts.state <> 'closed' else accounts.state = sqlc.arg(state) end
  and (sqlc.arg(server)::text = '' or servers.label = sqlc.arg(server))
  and (sqlc.arg(plan)::text = '' or plans.name = sqlc.arg(plan))
  and (sqlc.arg(search)::text = ''
    or accounts.main_domain like '%' || sqlc.arg(search) || '%'
    or accounts.sign_in_name like '%' || sqlc.arg(search) || '%'
    or lower(customers.name) like '%' || sqlc.arg(search) || '%'
    or accounts.id in (select account_id from domains where domains.name like '%' || sqlc.arg(search) || '%'))
order by accounts.main_domain, accounts.id limit sqlc.arg(most);

-- name: DomainsOfAccount :many
select * from domains where account_id = $1 order by main desc, name;

-- name: DisksOfServer :many
select id, revision, applied_revision, state, sign_in_name from accounts where server_id = $1 and state <> 'closed';

-- name: WantAccount :one
update accounts set state = $2, revision = revision + 1, version = version + 1 where id = $1 returning *;

-- name: ForgetDomains :exec
delete from domains where account_id = $1;

-- name: AccountApplied :one
-- Never lowers what was applied; opening ends when its revision is there.
update accounts set applied_revision = greatest(applied_revision, sqlc.arg(revision)::bigint), version = version + 1,
    state = case when sqlc.arg(revision)::bigint < revision then state when state = 'opening' then 'active' when state = 'closing' then 'closed' else state end,
    closed_at = case when sqlc.arg(revision)::bigint >= revision and state = 'closing' then now() else closed_at end
where id = sqlc.arg(id) and sqlc.arg(revision)::bigint >= applied_revision returning *;

-- name: Measured :exec
update accounts set disk_used = $2 where id = $1 and disk_used is distinct from $2;
