-- name: AddServer :one
insert into servers (label, address, roles, open, join_secret, join_ends_at, addresses, host_name)
values ($1, $2, $3, $4, $5, $6, sqlc.arg(addresses)::text[], sqlc.arg(host_name)) returning *;

-- name: ServerByLabel :one
select * from servers where label = $1;

-- name: ServerByID :one
select * from servers where id = $1;

-- name: LockServer :one
select * from servers where id = $1 for update;

-- name: Servers :many
select sqlc.embed(servers),
    (select count(*) from accounts where server_id = servers.id and state <> 'closed') as accounts,
    (select count(*) from drifts where drifts.server_id = servers.id) as drifts
from servers order by label;

-- name: MarkServerJoined :execrows
update servers set state = 'joined', join_secret = null, join_ends_at = null, version = version + 1
where id = $1 and state = 'joining';

-- name: ChangeServer :one
update servers set open = $2, addresses = $3, host_name = $4, spam_filter = $5, version = version + 1
where id = $1 returning *;

-- name: RemoveServer :exec
delete from servers where id = $1;

-- name: SaveServerStatus :exec
update servers set reachable = true, status = $2, status_at = now() where id = $1;

-- name: MarkServerUnreachable :exec
update servers set reachable = false where id = $1 and reachable;

-- name: MarkServerSwept :exec
update servers set swept_at = now() where id = $1;

-- name: DeleteDrifts :exec
delete from drifts where server_id = $1;

-- name: AddDrift :exec
insert into drifts (server_id, account_id, part, subject, detail, diff) values ($1, $2, $3, $4, $5, $6);

-- name: DriftsOfServer :many
select drifts.*, accounts.sign_in_name from drifts left join accounts on accounts.id = drifts.account_id
where drifts.server_id = $1 order by drifts.id limit 1000;

-- name: DriftsOfAccount :many
select * from drifts where account_id = $1 order by id;

-- name: DeleteOtherWarnings :exec
-- Of accounts, all warnings but some: the arrays have a place for each of those.
delete from warnings where account_id = any(sqlc.arg(accounts)::bigint[])
  and (account_id, part, subject, path, code) not in (select unnest(sqlc.arg(ids)::bigint[]),
      unnest(sqlc.arg(parts)::text[]), unnest(sqlc.arg(subjects)::text[]), unnest(sqlc.arg(paths)::text[]),
      unnest(sqlc.arg(codes)::text[]));

-- name: AddWarnings :exec
-- Those that are there keep the moment since when they are.
insert into warnings (account_id, part, subject, path, code, message)
select unnest(sqlc.arg(ids)::bigint[]), unnest(sqlc.arg(parts)::text[]), unnest(sqlc.arg(subjects)::text[]),
    unnest(sqlc.arg(paths)::text[]), unnest(sqlc.arg(codes)::text[]), unnest(sqlc.arg(messages)::text[])
on conflict do nothing;

-- name: WarningsOfAccount :many
select * from warnings where account_id = $1 order by part, subject, code;

-- name: DeleteDriftsOfAccount :exec
delete from drifts where account_id = $1;
