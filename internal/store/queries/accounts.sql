-- name: LockDomain :exec
-- Requests about names below one registrable name wait for each other.
select pg_advisory_xact_lock(hashtextextended(sqlc.arg(registrable)::text, 1));

-- name: LockSignInName :exec
-- Requests that want one sign-in name wait for each other.
select pg_advisory_xact_lock(hashtextextended(sqlc.arg(name)::text, 2));

-- name: RelatedDomains :many
-- Those that wait for a proof keep nobody from a name.
select domains.name, domains.account_id from domains where registrable = $1 and not waiting;

-- name: TakenSignInNames :many
select sign_in_name from accounts where state <> 'closed' and sign_in_name like sqlc.arg(stem)::text || '%';

-- name: AddAccount :one
insert into accounts (sign_in_name, main_domain, customer_id, plan_id, server_id, placement)
values ($1, $2, $3, $4, $5, $6) returning *;

-- name: AddDomain :one
insert into domains (account_id, name, registrable, main, root, counts_as, served_as, target, code, keep_path,
    keep_query, mirror_of, template_id, proved_at, proved_by, proof_text, waiting, proof_due_at)
values ($1, $2, $3, $4, $5, $6, sqlc.arg(served_as), sqlc.arg(target), sqlc.arg(code), sqlc.arg(keep_path),
    sqlc.arg(keep_query), sqlc.narg(mirror_of), sqlc.narg(template_id), sqlc.narg(proved_at), sqlc.arg(proved_by),
    sqlc.arg(proof_text), sqlc.arg(waiting), sqlc.narg(proof_due_at)) returning *;

-- name: ClaimDueProofs :many
-- Domains of which DNS is to be asked; nobody else asks meanwhile.
update domains set proof_due_at = sqlc.arg(until)::timestamptz from (
    select due.id from domains due join accounts on accounts.id = due.account_id
    where due.proof_due_at <= sqlc.arg(now)::timestamptz and accounts.state <> 'closed'
    order by due.proof_due_at limit sqlc.arg(most) for update of due skip locked) taken
where domains.id = taken.id returning domains.id;

-- name: DomainClaimed :one
-- Whether others bring the name, one above or one below it, wait for it, or have had it before.
select (exists (select from domains others where others.registrable = sqlc.arg(registrable)
        and others.account_id <> sqlc.arg(account_id)
        and (others.name = sqlc.arg(name)::text or others.name like '%.' || sqlc.arg(name)::text
            or sqlc.arg(name)::text like '%.' || others.name))
    or exists (select from former_domains where former_domains.name = sqlc.arg(name)
        and former_domains.customer_id <> sqlc.arg(customer_id)))::boolean;

-- name: DomainAsked :exec
update domains set proof_asked_at = sqlc.arg(at)::timestamptz, proof_failed = sqlc.arg(failed),
    proof_due_at = sqlc.narg(due)::timestamptz where id = sqlc.arg(id) and proved_at is null;

-- name: DomainProved :one
update domains set proved_at = sqlc.arg(at)::timestamptz, proved_by = sqlc.arg(proved_by), waiting = false,
    proof_due_at = null, proof_failed = '', version = version + 1 where id = sqlc.arg(id) returning *;

-- name: DeleteOldFormerDomains :exec
delete from former_domains where until < now() - interval '2 years';

-- name: RemoveDomain :exec
delete from domains where id = $1;

-- name: LockAccount :one
select * from accounts where id = $1 for update;

-- name: FindAccount :one
-- By sign-in name or by any of its domains; one that is not closed goes first. What is not in the
-- scope is not there.
select accounts.id from accounts
where accounts.id in (
    select a.id from accounts a where a.sign_in_name = sqlc.arg(reference)
    union all select a.id from accounts a where a.main_domain = sqlc.arg(reference)
    union all select d.account_id from domains d where d.name = sqlc.arg(reference))
  and (sqlc.arg(reseller)::bigint = 0 or accounts.reseller_id = sqlc.arg(reseller))
  and (sqlc.arg(customer)::bigint = 0 or accounts.customer_id = sqlc.arg(customer))
order by (state = 'closed'), exists (select from domains d
    where d.account_id = accounts.id and d.name = sqlc.arg(reference) and d.waiting), id desc limit 1;

-- name: AccountInScope :one
select accounts.id from accounts where accounts.id = sqlc.arg(id)
  and (sqlc.arg(reseller)::bigint = 0 or accounts.reseller_id = sqlc.arg(reseller))
  and (sqlc.arg(customer)::bigint = 0 or accounts.customer_id = sqlc.arg(customer));

-- name: Account :one
select * from accounts where id = $1;

-- name: AccountsByID :many
select * from accounts where id = any(sqlc.arg(ids)::bigint[]) order by id;

-- name: AccountsOfCustomer :many
select * from accounts where customer_id = $1 and state <> 'closed' order by id;

-- name: AccountRow :one
select * from account_rows where id = $1;

-- name: AccountPage :many
-- A page in the order of main domain and number; after is the last row's. Of one table alone, it is
-- planned quickly for just what is asked; see Fresh.
select accounts.id from accounts
where (main_domain, accounts.id) > (sqlc.arg(after_domain)::text, sqlc.arg(after_id)::bigint)
  and case sqlc.arg(state)::text
    when '' then state <> 'closed'
    when 'suspended' then state = 'active'
        and (suspended_at is not null or reseller_id in (select resellers.id from resellers where suspended_accounts))
    when 'active' then state = 'active' and suspended_at is null
        and (reseller_id is null or reseller_id not in (select resellers.id from resellers where suspended_accounts))
    else state = sqlc.arg(state) end
  and (sqlc.arg(server)::bigint = 0 or server_id = sqlc.arg(server))
  and (sqlc.arg(plan)::bigint = 0 or plan_id = sqlc.arg(plan))
  and (sqlc.arg(search)::text = '' or search like '%' || sqlc.arg(search) || '%')
  and (sqlc.arg(reseller)::bigint = 0 or reseller_id = sqlc.arg(reseller))
  and (sqlc.arg(customer)::bigint = 0 or customer_id = sqlc.arg(customer))
  and case sqlc.arg(needs)::text
    when 'drift' then accounts.id in (select drifts.account_id from drifts)
    when 'warning' then accounts.id in (select warnings.account_id from warnings where warnings.code <> 'not-proved')
    when 'disk' then accounts.id in (select nearly_full_accounts.id from nearly_full_accounts)
    else true end
order by main_domain, accounts.id limit sqlc.arg(most);

-- name: AccountRows :many
select * from account_rows where id = any(sqlc.arg(ids)::bigint[]) order by main_domain, id;

-- name: DomainsOfAccount :many
select * from domains where account_id = $1 order by main desc, name;

-- name: AccountsOnServer :many
-- Those that have their home or anything else there, with the revision that is in force there.
select accounts.id, accounts.revision, accounts.applied_revision, accounts.state, accounts.sign_in_name,
    account_servers.revision as there, coalesce(account_servers.disk_used, 0)::bigint as used,
    coalesce(accounts.mail_server_id <> accounts.server_id, false)::boolean as on_two_servers
from account_servers join accounts on accounts.id = account_servers.account_id where account_servers.server_id = $1;

-- name: SetAccountState :one
update accounts set state = $2, revision = revision + 1, version = version + 1 where id = $1 returning *;

-- name: BumpRevisions :many
-- What these accounts are to hold on their servers has changed.
update accounts set revision = revision + 1, version = version + 1
where id = any(sqlc.arg(ids)::bigint[]) and state in ('opening', 'active') returning id, revision;

-- name: SetPlanOfAccount :exec
update accounts set plan_id = $2, version = version + 1 where id = $1;

-- name: SetFrozenTerms :exec
update accounts set frozen_terms = $2, frozen_at = case when $2::jsonb is null then null else now() end,
    version = version + 1 where id = $1;

-- name: SuspendAccount :exec
update accounts set suspended_at = case when sqlc.narg(by)::text is null then null else now() end,
    suspended_by = sqlc.narg(by), suspended_role = sqlc.narg(role),
    suspended_why = sqlc.narg(why) where id = sqlc.arg(id);

-- name: DeleteDomains :exec
delete from domains where account_id = $1;

-- name: MarkAccountApplied :one
-- Never lowers what was applied; opening ends when its revision is there.
update accounts set applied_revision = greatest(applied_revision, sqlc.arg(revision)::bigint), version = version + 1,
    state = case when sqlc.arg(revision)::bigint < revision then state when state = 'opening' then 'active'
        when state = 'closing' then 'closed' else state end,
    closed_at = case when sqlc.arg(revision)::bigint >= revision and state = 'closing' then now() else closed_at end
where id = sqlc.arg(id) and sqlc.arg(revision)::bigint >= applied_revision returning *;

-- name: SaveUsage :exec
-- What an account holds on a server; it counts together with what it holds on others.
with here as (
    update account_servers set disk_used = sqlc.arg(bytes)::bigint
    where account_servers.account_id = sqlc.arg(id) and account_servers.server_id = sqlc.arg(server)
        and account_servers.disk_used is distinct from sqlc.arg(bytes)
), everywhere as (
    select sqlc.arg(bytes)::bigint + coalesce(sum(other.disk_used), 0)::bigint as bytes from account_servers other
    where other.account_id = sqlc.arg(id) and other.server_id <> sqlc.arg(server)
)
update accounts set disk_used = everywhere.bytes, files_used = coalesce(sqlc.narg(files), accounts.files_used)
from everywhere where accounts.id = sqlc.arg(id) and (accounts.disk_used is distinct from everywhere.bytes
    or accounts.files_used is distinct from coalesce(sqlc.narg(files), accounts.files_used));

-- name: DiskUsedByServer :many
select server_id, coalesce(disk_used, 0)::bigint as bytes from account_servers where account_id = $1;

-- name: LockAccounts :many
-- In the order of their numbers, so that nobody waits in a circle.
select * from accounts where id = any(sqlc.arg(ids)::bigint[]) order by id for update;

-- name: DomainPage :many
-- A page in the order of names and numbers; after is the last row's. Several accounts can have a name
-- for which all but one of them wait.
select sqlc.embed(domains), accounts.sign_in_name, servers.label as server,
    coalesce(mirrored.name, '')::text as mirrored, coalesce(templates.name, '')::text as template,
    coalesce(resellers.name, '')::text as template_reseller,
    (select count(*) from folders where folders.domain_id = domains.id)::bigint as folders,
    (select count(*) from jsonb_object_keys(domains.settings))::bigint as own
from domains join accounts on accounts.id = domains.account_id join servers on servers.id = accounts.server_id
    left join domains mirrored on mirrored.id = domains.mirror_of
    left join templates on templates.id = domains.template_id
    left join resellers on resellers.id = templates.reseller_id
where (domains.name, domains.id) > (sqlc.arg(after_name)::text, sqlc.arg(after_id)::bigint)
  and accounts.state <> 'closed'
  and (sqlc.arg(name)::text = '' or domains.name = sqlc.arg(name))
  and (sqlc.arg(search)::text = '' or domains.name like '%' || sqlc.arg(search) || '%')
  and (sqlc.arg(served_as)::text = '' or domains.served_as = sqlc.arg(served_as))
  and (domains.waiting or not sqlc.arg(waiting)::boolean)
  and (sqlc.arg(account)::bigint = 0 or domains.account_id = sqlc.arg(account))
  and (sqlc.arg(reseller)::bigint = 0 or accounts.reseller_id = sqlc.arg(reseller))
  and (sqlc.arg(customer)::bigint = 0 or accounts.customer_id = sqlc.arg(customer))
order by domains.name, domains.id limit sqlc.arg(most);

-- name: SetCustomerOfAccount :exec
update accounts set customer_id = $2, version = version + 1 where id = $1;
