-- name: AddPlan :one
insert into plans (reseller_id, name) values ($1, $2) returning *;

-- name: RenamePlan :one
update plans set name = $2, version = version + 1 where id = $1 returning *;

-- name: LockPlan :one
-- No row if it was removed meanwhile.
select * from plans where id = $1 and removed_at is null for update;

-- name: LockPlanForShare :one
-- The plan stays as it is until whoever opens accounts on it is done. No row if it was removed
-- meanwhile.
select * from plans where id = $1 and removed_at is null for share;

-- name: RemovePlan :exec
-- Closed accounts still refer to it.
update plans set removed_at = now(), template_id = null where id = $1;

-- name: SavePlanLimits :exec
insert into plan_limits (plan_id, key, amount)
    select sqlc.arg(plan)::bigint, unnest(sqlc.arg(keys)::text[]), nullif(unnest(sqlc.arg(amounts)::bigint[]), -1)
on conflict (plan_id, key) do update set amount = excluded.amount;

-- name: DeletePlanFeatures :exec
delete from plan_features where plan_id = $1;

-- name: AddPlanFeatures :exec
insert into plan_features (plan_id, feature) select sqlc.arg(plan)::bigint, unnest(sqlc.arg(features)::text[]);

-- name: PlanByID :one
select plans.*, coalesce(resellers.name, '')::text as reseller from plans
    left join resellers on resellers.id = plans.reseller_id where plans.id = $1;

-- name: FindPlan :one
-- The plan of that name of one reseller, or of the operator's where the reseller is "".
select plans.*, coalesce(resellers.name, '')::text as reseller from plans
    left join resellers on resellers.id = plans.reseller_id
where plans.removed_at is null and plans.name = sqlc.arg(name)
  and coalesce(resellers.name, '') = sqlc.arg(reseller)::text;

-- name: Plans :many
select plans.*, coalesce(resellers.name, '')::text as reseller,
    (select count(*) from accounts where accounts.plan_id = plans.id and accounts.state <> 'closed')::bigint as accounts
from plans left join resellers on resellers.id = plans.reseller_id
where plans.removed_at is null
  and (coalesce(resellers.name, ''), plans.name) > (sqlc.arg(after_reseller)::text, sqlc.arg(after_name)::text)
  and (sqlc.arg(scope)::bigint = 0 and not sqlc.arg(own)::boolean or plans.reseller_id = sqlc.arg(scope)
      or sqlc.arg(own) and plans.reseller_id is null)
  and (sqlc.arg(search)::text = ''
      or lower(concat_ws('.', resellers.name, plans.name)) like '%' || lower(sqlc.arg(search)) || '%')
order by coalesce(resellers.name, ''), plans.name limit sqlc.arg(most);

-- name: PlansOfReseller :many
select * from plans where reseller_id = $1 and removed_at is null order by name;

-- name: PlanLimits :many
select * from plan_limits where plan_id = any(sqlc.arg(plans)::bigint[]);

-- name: PlanFeatures :many
select * from plan_features where plan_id = any(sqlc.arg(plans)::bigint[]);

-- name: AccountsOnPlan :many
select id, sign_in_name, main_domain, state, frozen_terms, reseller_id from accounts
where plan_id = $1 and state <> 'closed' order by main_domain, id;

-- name: AddException :one
insert into exceptions (account_id, limit_key, amount, feature, switched_on, reason, author, ends_at)
values ($1, $2, $3, $4, $5, $6, $7, $8) returning *;

-- name: RemoveException :one
delete from exceptions where account_id = sqlc.arg(account)
  and (limit_key = sqlc.narg(limit_key)::text or feature = sqlc.narg(feature)::text) returning *;

-- name: ExceptionsOf :many
select * from exceptions where account_id = any(sqlc.arg(accounts)::bigint[]) order by account_id, limit_key, feature;

-- name: EndedExceptions :many
delete from exceptions where ends_at <= now() returning *;

-- name: UsageOf :many
select account_id::bigint as account_id, key::text as key, sum(amount)::bigint as amount from usage
where account_id = any(sqlc.arg(accounts)::bigint[]) and amount is not null group by account_id, key;
