-- name: AddReseller :one
insert into resellers (name, title, email, measure) values ($1, $2, $3, $4) returning *;

-- name: ChangeReseller :one
update resellers set title = $2, email = $3, measure = $4, version = version + 1 where id = $1 returning *;

-- name: LockReseller :one
-- No row if it was removed meanwhile.
select * from resellers where id = $1 and removed_at is null for update;

-- name: LockResellerForKeyShare :one
-- Nobody removes the reseller until whoever adds something of theirs is done. No row if it was
-- removed meanwhile.
select id from resellers where id = $1 and removed_at is null for key share;

-- name: ResellerByID :one
select * from resellers where id = $1;

-- name: FindReseller :one
select * from resellers where removed_at is null and name = sqlc.arg(name)
  and (sqlc.arg(scope)::bigint = 0 or id = sqlc.arg(scope));

-- name: Resellers :many
select sqlc.embed(resellers),
    (select count(*) from accounts where accounts.reseller_id = resellers.id and state <> 'closed')::bigint as accounts,
    (select count(*) from customers
        where customers.reseller_id = resellers.id and customers.removed_at is null)::bigint as customers,
    (select count(*) from plans where plans.reseller_id = resellers.id and plans.removed_at is null)::bigint as plans
from resellers
where removed_at is null and name > sqlc.arg(after)::text and (sqlc.arg(scope)::bigint = 0 or id = sqlc.arg(scope))
  and (sqlc.arg(search)::text = '' or lower(name || ' ' || title) like '%' || lower(sqlc.arg(search)) || '%')
order by name limit sqlc.arg(most);

-- name: RemoveReseller :exec
-- Closed accounts still refer to it; whoever signs in for it goes.
with gone as (delete from people where people.reseller_id = sqlc.arg(id)::bigint)
update resellers set removed_at = now() where resellers.id = sqlc.arg(id)::bigint;

-- name: SaveShareLimits :exec
insert into share_limits (reseller_id, key, amount)
    select sqlc.arg(reseller)::bigint, unnest(sqlc.arg(keys)::text[]), nullif(unnest(sqlc.arg(amounts)::bigint[]), -1)
on conflict (reseller_id, key) do update set amount = excluded.amount;

-- name: DeleteShareFeatures :exec
delete from share_features where reseller_id = $1;

-- name: AddShareFeatures :exec
insert into share_features (reseller_id, feature) select sqlc.arg(reseller)::bigint, unnest(sqlc.arg(features)::text[]);

-- name: ShareLimits :many
select * from share_limits where reseller_id = any(sqlc.arg(resellers)::bigint[]);

-- name: ShareFeatures :many
select * from share_features where reseller_id = any(sqlc.arg(resellers)::bigint[]);

-- name: PlainHoldings :many
-- How many accounts have just what their plan gives, for each plan.
select plan_id, count(*)::bigint as accounts from accounts
where reseller_id = sqlc.arg(reseller) and state <> 'closed' and id <> sqlc.arg(without)::bigint
  and frozen_terms is null
  and not exists (select from exceptions where exceptions.account_id = accounts.id)
group by plan_id;

-- name: OtherHoldings :many
-- The accounts that are held or have exceptions.
select id, plan_id, frozen_terms from accounts
where reseller_id = sqlc.arg(reseller) and state <> 'closed' and id <> sqlc.arg(without)::bigint
  and (frozen_terms is not null or exists (select from exceptions where exceptions.account_id = accounts.id));

-- name: UsageOfReseller :many
select usage.key::text as key, sum(usage.amount)::bigint as amount from accounts
    join usage on usage.account_id = accounts.id
where accounts.reseller_id = sqlc.arg(reseller) and accounts.state <> 'closed'
  and accounts.id <> sqlc.arg(without)::bigint and usage.amount is not null group by usage.key;

-- name: AccountsOfReseller :many
select id, sign_in_name, main_domain, state from accounts where reseller_id = $1 and state <> 'closed'
order by main_domain, id;

-- name: SuspendReseller :one
update resellers set suspended_at = case when sqlc.narg(by)::text is null then null else now() end,
    suspended_by = sqlc.narg(by), suspended_why = sqlc.narg(why),
    suspended_accounts = sqlc.arg(with_accounts), version = version + 1 where id = sqlc.arg(id) returning *;

-- name: SaveBrand :one
update resellers set brand = $2, version = version + 1 where id = $1 returning *;

-- name: SaveLogo :one
update resellers set logo = $2, logo_type = $3, version = version + 1 where id = $1 returning *;

-- name: ResellersOf :many
select distinct reseller_id::bigint as reseller_id from accounts
where accounts.id = any(sqlc.arg(ids)::bigint[]) and reseller_id is not null order by reseller_id;

-- name: LockResellers :exec
select resellers.id from resellers where resellers.id = any(sqlc.arg(ids)::bigint[]) order by resellers.id for update;

-- name: CountAccountsOfReseller :one
select count(*) from accounts where reseller_id = $1 and state <> 'closed';
