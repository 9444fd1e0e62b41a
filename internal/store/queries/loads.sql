-- name: LoadsOnServer :many
select * from loads where server_id = $1;

-- name: SaveLoads :exec
insert into loads (account_id, server_id, measured_at, processes, memory, cpu, cpu_total, refused_total, killed_total,
    waited_total)
select unnest(sqlc.arg(ids)::bigint[]), sqlc.arg(server)::bigint, sqlc.arg(at)::timestamptz,
    unnest(sqlc.arg(processes)::bigint[]), unnest(sqlc.arg(memory)::bigint[]), unnest(sqlc.arg(cpu)::integer[]),
    unnest(sqlc.arg(cpu_total)::bigint[]),
    unnest(sqlc.arg(refused)::bigint[]), unnest(sqlc.arg(killed)::bigint[]), unnest(sqlc.arg(waited)::bigint[])
on conflict (account_id) do update set server_id = excluded.server_id, measured_at = excluded.measured_at,
    processes = excluded.processes, memory = excluded.memory, cpu = excluded.cpu, cpu_total = excluded.cpu_total,
    refused_total = excluded.refused_total, killed_total = excluded.killed_total, waited_total = excluded.waited_total;

-- name: DeleteOtherLoads :exec
-- Of accounts of which the server tells nothing, nothing has run since it was started.
delete from loads where server_id = sqlc.arg(server) and account_id <> all(sqlc.arg(ids)::bigint[]);

-- name: AddLimitsMet :exec
insert into limits_met (account_id, hour, refused, killed, waited)
select unnest(sqlc.arg(ids)::bigint[]), date_trunc('hour', now()), unnest(sqlc.arg(refused)::bigint[]),
    unnest(sqlc.arg(killed)::bigint[]), unnest(sqlc.arg(waited)::bigint[])
on conflict (account_id, hour) do update set refused = limits_met.refused + excluded.refused,
    killed = limits_met.killed + excluded.killed, waited = limits_met.waited + excluded.waited;

-- name: DeleteOldLimitsMet :exec
delete from limits_met where hour < now() - interval '8 days';

-- name: LoadOfAccount :many
-- At most one row.
select * from loads where account_id = $1;

-- name: LimitsMet :one
-- In the last day.
select coalesce(sum(refused), 0)::bigint as refused, coalesce(sum(killed), 0)::bigint as killed,
    coalesce(sum(waited), 0)::bigint as waited, coalesce(min(hour), now())::timestamptz as since
from limits_met where account_id = $1 and hour > now() - interval '1 day';

-- name: HungriestAccounts :many
-- Those that run most on a server, with how often they met their limits in the last day.
select accounts.id, accounts.sign_in_name, accounts.main_domain, loads.processes, loads.memory, loads.cpu,
    loads.measured_at, coalesce(met.refused, 0)::bigint as refused, coalesce(met.killed, 0)::bigint as killed,
    coalesce(met.waited, 0)::bigint as waited
from loads join accounts on accounts.id = loads.account_id
left join (select account_id, sum(refused) as refused, sum(killed) as killed, sum(waited) as waited from limits_met
    where hour > now() - interval '1 day' group by account_id) as met on met.account_id = loads.account_id
where loads.server_id = sqlc.arg(server) and (loads.processes > 0 or met.account_id is not null)
order by case sqlc.arg(sort)::text when 'memory' then loads.memory when 'processes' then loads.processes
    else loads.cpu end desc, loads.memory desc, accounts.id
limit sqlc.arg(most);
