-- name: NameServers :many
-- The first is the primary.
select * from servers where 'dns' = any(roles) and state = 'joined' order by id;

-- name: ServersOfAccount :many
select * from account_servers where account_id = $1 order by server_id;

-- name: AddAccountServer :exec
-- Before a server is told of an account, so that a sweep knows of it.
insert into account_servers (account_id, server_id) values ($1, $2) on conflict do nothing;

-- name: MarkServerApplied :exec
update account_servers set revision = greatest(revision, sqlc.arg(revision)), digest = sqlc.arg(digest)
where account_id = sqlc.arg(account_id) and server_id = sqlc.arg(server_id);

-- name: ClearAppliedDigests :exec
update account_servers set digest = '' where account_id = $1;

-- name: RemoveAccountServer :exec
delete from account_servers where account_id = $1 and server_id = $2;

-- name: SaveServerDigest :exec
update servers set told = $2 where id = $1 and told <> $2;

-- name: SaveTransferKey :exec
update installation set transfer_key = $1 where transfer_key is null;

-- name: ZonesOfAccount :many
select * from zones where account_id = $1 order by name;

-- name: AddZone :one
insert into zones (account_id, name, hosted) values ($1, $2, $3) returning *;

-- name: RemoveZone :exec
delete from zones where id = $1;

-- name: DeleteZones :exec
delete from zones where account_id = $1;

-- name: ChangeZone :one
update zones set hosted = $2, dnssec = $3, version = version + 1 where id = $1 returning *;

-- name: FindZone :one
select zones.*, accounts.sign_in_name from zones join accounts on accounts.id = zones.account_id
where zones.name = sqlc.arg(name)
  and (sqlc.arg(reseller)::bigint = 0 or accounts.reseller_id = sqlc.arg(reseller))
  and (sqlc.arg(customer)::bigint = 0 or accounts.customer_id = sqlc.arg(customer));

-- name: ZonePage :many
select zones.*, accounts.sign_in_name, (select count(*) from records where zone_id = zones.id) as records from zones
    join accounts on accounts.id = zones.account_id
where zones.name > sqlc.arg(after)::text and accounts.state <> 'closed'
  and (sqlc.arg(search)::text = '' or zones.name like '%' || sqlc.arg(search) || '%')
  and (sqlc.arg(hosted)::text = '' or zones.hosted = sqlc.arg(hosted))
  and (sqlc.arg(account)::bigint = 0 or zones.account_id = sqlc.arg(account))
  and (sqlc.arg(reseller)::bigint = 0 or accounts.reseller_id = sqlc.arg(reseller))
  and (sqlc.arg(customer)::bigint = 0 or accounts.customer_id = sqlc.arg(customer))
order by zones.name limit sqlc.arg(most);

-- name: RecordsOfAccount :many
select records.* from records join zones on zones.id = records.zone_id where zones.account_id = $1 order by records.id;

-- name: AddRecord :one
insert into records (zone_id, name, type, ttl, data) values ($1, $2, $3, $4, $5) returning *;

-- name: ChangeRecord :exec
update records set name = $2, type = $3, ttl = $4, data = $5 where id = $1;

-- name: RemoveRecords :exec
delete from records where zone_id = sqlc.arg(zone_id) and id = any(sqlc.arg(ids)::bigint[]);

-- name: AccountsWithZonesHere :many
-- Those of a reseller, or with 0 all whose reseller has no name servers of their own.
select distinct accounts.id from zones join accounts on accounts.id = zones.account_id
    left join resellers on resellers.id = accounts.reseller_id
where zones.hosted = 'here' and accounts.state in ('opening', 'active')
  and case when sqlc.arg(reseller)::bigint = 0 then coalesce(cardinality(resellers.name_servers), 0) = 0
      else accounts.reseller_id = sqlc.arg(reseller) end
order by accounts.id;

-- name: NameServersOfReseller :one
select name_servers from resellers where id = $1;

-- name: SetNameServersOfReseller :exec
update resellers set name_servers = $2 where id = $1;

-- name: AccountsRedirectedTo :many
-- Those whose zones have addresses of a server in them, by their home or by the names of the name
-- servers.
select distinct accounts.id from zones join accounts on accounts.id = zones.account_id, servers
where servers.id = $1 and zones.hosted = 'here' and accounts.state in ('opening', 'active')
  and (accounts.server_id = servers.id or 'dns' = any(servers.roles))
order by accounts.id;
