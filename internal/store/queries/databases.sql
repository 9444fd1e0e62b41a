-- name: EnginesOfAccount :many
select account_engines.engine, account_engines.placement, sqlc.embed(servers) from account_engines
join servers on servers.id = account_engines.server_id where account_engines.account_id = $1
order by account_engines.engine;

-- name: PlaceEngine :exec
insert into account_engines (account_id, engine, server_id, placement) values ($1, $2, $3, $4);

-- name: DatabaseServers :many
-- Those that databases can be placed on, with the number of accounts that have some there.
select sqlc.embed(servers),
    (select count(*) from account_engines where server_id = servers.id and engine = sqlc.arg(engine)) as accounts
from servers where 'database' = any(roles) and state = 'joined'
    and coalesce(status->'programs', '[]') @> jsonb_build_array(jsonb_build_object('name', sqlc.arg(engine)::text))
order by label;

-- name: DatabasesOfAccount :many
select * from databases where account_id = $1 order by name;

-- name: DatabaseUsersOfAccount :many
select * from database_users where account_id = $1 order by name;

-- name: DatabaseLevelsOfAccount :many
select database_levels.* from database_levels join databases on databases.id = database_levels.database_id
where databases.account_id = $1 order by database_id, user_id;

-- name: AddDatabase :one
insert into databases (account_id, engine, name, charset, collation_name) values ($1, $2, $3, $4, $5) returning *;

-- name: ChangeDatabase :exec
update databases set charset = $2, collation_name = $3, version = version + 1 where id = $1;

-- name: RemoveDatabase :exec
delete from databases where id = $1;

-- name: AddDatabaseUser :one
insert into database_users (account_id, engine, name, verifier, hosts)
values ($1, $2, $3, $4, sqlc.arg(hosts)::text[]) returning *;

-- name: ChangeDatabaseUser :exec
update database_users set verifier = $2, hosts = sqlc.arg(hosts)::text[], version = version + 1 where id = $1;

-- name: RemoveDatabaseUser :exec
delete from database_users where id = $1;

-- name: SetDatabaseLevel :exec
insert into database_levels (database_id, user_id, level) values ($1, $2, $3)
on conflict (database_id, user_id) do update set level = excluded.level;

-- name: RemoveDatabaseLevel :exec
delete from database_levels where database_id = $1 and user_id = $2;

-- name: DeleteDatabases :exec
delete from databases where account_id = $1;

-- name: DeleteDatabaseUsers :exec
delete from database_users where account_id = $1;

-- name: DeleteEngines :exec
delete from account_engines where account_id = $1;

-- name: SaveDatabaseSizes :exec
-- As a server has measured them: the arrays have a place for each.
update databases set size = measured.size, growth = measured.growth
from (select unnest(sqlc.arg(names)::text[]) as name, unnest(sqlc.arg(sizes)::bigint[]) as size,
    unnest(sqlc.arg(growths)::text[]) as growth) measured
where databases.name = measured.name and exists (select 1 from account_engines
        where account_engines.account_id = databases.account_id and account_engines.engine = databases.engine
            and account_engines.server_id = sqlc.arg(server))
    and (databases.size is distinct from measured.size or databases.growth <> measured.growth);

-- name: DatabasesUsed :one
-- What all databases of an account hold, and what its customer was told last.
select coalesce(sum(databases.size), 0)::bigint as used, coalesce(max(database_notices.percent), 0)::integer as told
from databases left join database_notices on database_notices.account_id = databases.account_id
where databases.account_id = $1;

-- name: SaveDatabaseNotice :exec
insert into database_notices (account_id, percent) values ($1, $2)
on conflict (account_id) do update set percent = excluded.percent, at = now();

-- name: DeleteDatabaseNotice :exec
delete from database_notices where account_id = $1;

-- name: DatabasesStopped :one
-- Whether databases of an account are kept from growing, the worst of it; none where they are not.
select databases.growth, coalesce(database_notices.at, now())::timestamptz as since
from databases left join database_notices on database_notices.account_id = databases.account_id
where databases.account_id = $1 and databases.growth <> '' order by databases.growth limit 1;

-- name: DatabaseByID :one
select * from databases where id = $1;

-- name: DatabaseUserByID :one
select * from database_users where id = $1;

-- name: ReceiveImport :exec
insert into receiving_imports (account_id, import) values ($1, $2);

-- name: StillReceiving :exec
update receiving_imports set alive_at = now() where account_id = $1 and import = $2;

-- name: ImportReceived :exec
delete from receiving_imports where account_id = $1 and import = $2;

-- name: StalledImports :many
-- Those that nobody has been at for a while: the process that was is gone.
select account_id, import from receiving_imports
where alive_at < now() - make_interval(secs => sqlc.arg(seconds)::float8);

-- name: AllDatabases :many
-- The biggest first; those not measured yet are last.
select databases.id, databases.name, databases.engine, databases.size, databases.growth, databases.added_at,
    accounts.id as account_id, accounts.sign_in_name, accounts.state, customers.name as customer,
    servers.label as server, coalesce(databases.size, -1)::bigint as order_size
from databases join accounts on accounts.id = databases.account_id
    join customers on customers.id = accounts.customer_id
    join account_engines on account_engines.account_id = databases.account_id
        and account_engines.engine = databases.engine
    join servers on servers.id = account_engines.server_id
where accounts.state <> 'closed'
  and (sqlc.arg(reseller)::bigint = 0 or accounts.reseller_id = sqlc.arg(reseller))
  and (sqlc.arg(customer)::bigint = 0 or accounts.customer_id = sqlc.arg(customer))
  and (sqlc.arg(server)::text = '' or servers.label = sqlc.arg(server))
  and (sqlc.arg(engine)::text = '' or databases.engine = sqlc.arg(engine))
  and (not sqlc.arg(limited)::boolean or databases.growth <> '')
  and (sqlc.arg(search)::text = '' or databases.name like '%' || sqlc.arg(search) || '%')
  and (coalesce(databases.size, -1), databases.id) < (sqlc.arg(before_size)::bigint, sqlc.arg(before_id)::bigint)
order by coalesce(databases.size, -1) desc, databases.id desc limit sqlc.arg(most);

-- name: EngineCounts :many
-- What accounts have in the engines of servers, in bytes as measured last.
select account_engines.server_id, account_engines.engine,
    count(distinct databases.account_id)::bigint as accounts, count(databases.id)::bigint as databases,
    coalesce(sum(databases.size), 0)::bigint as size,
    count(distinct databases.account_id) filter (where databases.growth <> '')::bigint as limited
from account_engines left join databases on databases.account_id = account_engines.account_id
    and databases.engine = account_engines.engine
group by account_engines.server_id, account_engines.engine;
