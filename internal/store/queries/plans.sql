-- name: AddPlan :one
insert into plans (name) values ($1) returning *;

-- name: AddPlanLimit :exec
insert into plan_limits (plan_id, key, amount) values ($1, $2, $3);

-- name: AddPlanFeature :exec
insert into plan_features (plan_id, feature) values ($1, $2);

-- name: PlanByName :one
select * from plans where name = $1;

-- name: Plans :many
select plans.*, (select count(*) from accounts where plan_id = plans.id and state <> 'closed') as accounts
from plans where name > sqlc.arg(after) order by name limit sqlc.arg(most);

-- name: PlanLimits :many
select * from plan_limits where plan_id = any(sqlc.arg(plans)::bigint[]);

-- name: PlanFeatures :many
select * from plan_features where plan_id = any(sqlc.arg(plans)::bigint[]);
