-- name: AddOperation :one
-- Whose operation it is follows from its account, unless it has none.
insert into operations (kind, subject, account_id, server_id, revision, person_id, actor, part_of, customer_id,
    reseller_id)
select sqlc.arg(kind), sqlc.arg(subject), sqlc.narg(account_id), sqlc.narg(server_id), sqlc.narg(revision),
    sqlc.narg(person_id), sqlc.arg(actor), sqlc.narg(part_of),
    coalesce((select accounts.customer_id from accounts where accounts.id = sqlc.narg(account_id)::bigint),
        sqlc.narg(customer_id)::bigint),
    coalesce((select accounts.reseller_id from accounts where accounts.id = sqlc.narg(account_id)::bigint),
        sqlc.narg(reseller_id)::bigint)
returning *;

-- name: OperationByID :one
select * from operations where id = sqlc.arg(id)
  and (sqlc.arg(reseller)::bigint = 0 or reseller_id = sqlc.arg(reseller))
  and (sqlc.arg(customer)::bigint = 0 or customer_id = sqlc.arg(customer));

-- name: OperationStates :many
select id, state, coalesce(account_id, 0)::bigint as account_id from operations
where id = any(sqlc.arg(ids)::bigint[]) and part_of is null
  and (sqlc.arg(reseller)::bigint = 0 or reseller_id = sqlc.arg(reseller))
  and (sqlc.arg(customer)::bigint = 0 or customer_id = sqlc.arg(customer));

-- name: StepsOf :many
select * from operation_steps where operation_id = any(sqlc.arg(operations)::bigint[]) order by operation_id, position;

-- name: Operations :many
-- But for those that are a part of another.
select * from operations
where operations.id < sqlc.arg(before)::bigint and part_of is null
  and (sqlc.arg(account)::bigint = 0 or account_id = sqlc.arg(account)
      or operations.id in (select operation_id from operation_accounts
      where operation_accounts.account_id = sqlc.arg(account)))
  and (sqlc.arg(server)::bigint = 0 or server_id = sqlc.arg(server))
  and (sqlc.arg(state)::text = '' or state = sqlc.arg(state))
  and created_at >= sqlc.arg(since)::timestamptz
  and (sqlc.arg(reseller)::bigint = 0 or reseller_id = sqlc.arg(reseller))
  and (sqlc.arg(customer)::bigint = 0 or customer_id = sqlc.arg(customer))
order by operations.id desc limit sqlc.arg(most);

-- name: UnfinishedOfAccount :many
-- The operations that an apply of that revision brings about.
select id from operations where account_id = $1 and state in ('waiting', 'running') and revision <= $2 order by id;

-- name: UnfinishedOfServer :many
select id from operations where server_id = $1 and state in ('waiting', 'running') order by id;

-- name: LeaveServer :exec
-- Operations outlive the server they were done on; their subject still names it.
update operations set server_id = null where server_id = $1;

-- name: RelaxDurability :exec
-- What the transaction writes may be lost if the database stops within the next moments.
select set_config('synchronous_commit', 'off', true);

-- name: TouchOperations :exec
update operations set state = 'running', note = sqlc.arg(note), version = version + 1, touched_at = now(),
    started_at = coalesce(started_at, now())
where id = any(sqlc.arg(ids)::bigint[]) and state in ('waiting', 'running');

-- name: SaveSteps :batchexec
-- Of operations that have not ended: what has been cancelled gets no further step.
insert into operation_steps (operation_id, position, name, state, detail, finished_at)
select operations.id, sqlc.arg(position), sqlc.arg(name), sqlc.arg(state)::text, sqlc.arg(detail),
    case when sqlc.arg(state)::text = 'running' then null else now() end
from operations where operations.id = any(sqlc.arg(ids)::bigint[]) and operations.state in ('waiting', 'running')
on conflict (operation_id, name) do update
set state = excluded.state, detail = excluded.detail, finished_at = excluded.finished_at,
    started_at = case when excluded.state = 'running' then now() else operation_steps.started_at end;

-- name: FinishOperations :exec
update operations set state = sqlc.arg(state), failure = sqlc.narg(failure), note = '', version = version + 1,
    touched_at = now(),
    started_at = coalesce(started_at, now()), finished_at = now()
where id = any(sqlc.arg(ids)::bigint[]) and state in ('waiting', 'running');

-- name: FinishSteps :exec
-- Those that are still under way when their operations end.
update operation_steps set state = sqlc.arg(state), finished_at = now()
where operation_id = any(sqlc.arg(ids)::bigint[]) and state = 'running';

-- name: NotifyOperation :exec
select pg_notify('operation', unnest(sqlc.arg(ids)::bigint[])::text);

-- name: StalledOperations :many
-- Operations that nobody has worked on for a while: the process that did was killed. Those of an
-- account without a revision are no applies: whose work they are takes them up.
select * from operations where state in ('waiting', 'running') and (account_id is null or revision is not null)
  and touched_at < now() - make_interval(secs => sqlc.arg(seconds)::float8) order by id limit 500;

-- name: TouchStalledOperations :exec
update operations set touched_at = now() where id = any(sqlc.arg(ids)::bigint[]);

-- name: AddTargets :exec
insert into operation_accounts (operation_id, account_id, revision)
select sqlc.arg(operation)::bigint, unnest(sqlc.arg(accounts)::bigint[]), unnest(sqlc.arg(revisions)::bigint[]);

-- name: Targets :many
select accounts.id, accounts.sign_in_name, servers.label as server,
    (accounts.applied_revision >= operation_accounts.revision or accounts.state = 'closed')::boolean as applied
from operation_accounts join accounts on accounts.id = operation_accounts.account_id
    join servers on servers.id = accounts.server_id
where operation_id = $1 order by servers.label, accounts.id;
