-- name: NeedsAttention :many
-- What may need somebody, within the actor's scope: how many of each kind, and some by name.
with reached as (
    select accounts.id, accounts.main_domain from accounts
    where accounts.state <> 'closed'
      and (sqlc.arg(reseller)::bigint = 0 or accounts.reseller_id = sqlc.arg(reseller))
      and (sqlc.arg(customer)::bigint = 0 or accounts.customer_id = sqlc.arg(customer))
), sites as (
    select domains.id, domains.name, site_certificates.failures from site_certificates
    join domains on domains.id = site_certificates.domain_id
    where domains.account_id in (select reached.id from reached) and domains.served_as <> 'dns-only'
      and (site_certificates.failures > 0 or site_certificates.mode <> 'automatic')
), recent as (
    select operations.id, operations.kind, operations.subject, operations.state, operations.created_at
    from operations where operations.part_of is null and operations.created_at > now() - interval '1 day'
      and (operations.state = 'failed' or operations.state in ('waiting', 'running')
          and operations.created_at < now() - interval '10 minutes')
      and (sqlc.arg(reseller)::bigint = 0 or operations.reseller_id = sqlc.arg(reseller))
      and (sqlc.arg(customer)::bigint = 0 or operations.customer_id = sqlc.arg(customer))
)
select 'certificates-failing'::text as kind, count(*) as cases,
    coalesce((array_agg(sites.name order by sites.name))[1:5], '{}')::text[] as worst
    from sites where sites.failures > 0
union all
select 'certificates-ending', count(*), coalesce((array_agg(sites.name order by certificates.not_after))[1:5], '{}')
    from sites join certificates on certificates.domain_id = sites.id and certificates.state = 'in-use'
    where sites.failures = 0 and certificates.not_after < sqlc.arg(ends_before)::timestamptz
union all
select 'operations-stuck', count(*), coalesce((array_agg(recent.subject order by recent.id))[1:5], '{}')
    from recent where recent.state <> 'failed'
union all
select 'operations-failed', count(*), coalesce((array_agg(recent.subject order by recent.id desc))[1:5], '{}')
    from recent where recent.state = 'failed'
union all
select 'accounts-drifting', count(distinct reached.id),
    coalesce((array_agg(distinct reached.main_domain))[1:5], '{}')
    from reached join drifts on drifts.account_id = reached.id
union all
select 'accounts-full', count(*),
    coalesce((array_agg(nearly_full.main_domain order by nearly_full.main_domain))[1:5], '{}')
    from nearly_full_accounts nearly_full where nearly_full.id in (select reached.id from reached)
union all
select 'accounts-warned', count(distinct reached.id), coalesce((array_agg(distinct reached.main_domain))[1:5], '{}')
    from reached join warnings on warnings.account_id = reached.id where warnings.code <> 'not-proved'
union all
select 'sending-stopped', count(*), coalesce((array_agg(reached.main_domain order by mail_stops.at))[1:5], '{}')
    from reached join mail_stops on mail_stops.account_id = reached.id
union all
select 'domains-waiting', count(*), coalesce((array_agg(domains.name order by domains.name))[1:5], '{}')
    from domains where domains.waiting and domains.account_id in (select reached.id from reached);

-- name: AccountsByDay :many
-- How many accounts there are, and by day how many were opened and closed lately.
select date_trunc('day', accounts.opened_at, 'UTC')::timestamptz as day, count(*) as opened, 0::bigint as closed
from accounts
where accounts.opened_at >= sqlc.arg(since)::timestamptz
  and (sqlc.arg(reseller)::bigint = 0 or accounts.reseller_id = sqlc.arg(reseller))
  and (sqlc.arg(customer)::bigint = 0 or accounts.customer_id = sqlc.arg(customer))
group by 1
union all
select date_trunc('day', accounts.closed_at, 'UTC')::timestamptz, 0::bigint, count(*) from accounts
where accounts.closed_at >= sqlc.arg(since)::timestamptz
  and (sqlc.arg(reseller)::bigint = 0 or accounts.reseller_id = sqlc.arg(reseller))
  and (sqlc.arg(customer)::bigint = 0 or accounts.customer_id = sqlc.arg(customer))
group by 1;

-- name: OpenAccounts :one
select count(*) from accounts where state <> 'closed'
  and (sqlc.arg(reseller)::bigint = 0 or reseller_id = sqlc.arg(reseller))
  and (sqlc.arg(customer)::bigint = 0 or customer_id = sqlc.arg(customer));

-- name: OperationsByHour :many
select date_trunc('hour', created_at)::timestamptz as hour, count(*) filter (where state <> 'failed') as well,
    count(*) filter (where state = 'failed') as failed
from operations
where part_of is null and created_at >= sqlc.arg(since)::timestamptz
  and (sqlc.arg(reseller)::bigint = 0 or reseller_id = sqlc.arg(reseller))
  and (sqlc.arg(customer)::bigint = 0 or customer_id = sqlc.arg(customer))
group by 1;

-- name: AddServerHour :exec
-- The first answer in an hour counts.
insert into server_hours (server_id, hour, disk_used, disk_total, load)
values (sqlc.arg(server), date_trunc('hour', now()), sqlc.arg(disk_used), sqlc.arg(disk_total), sqlc.arg(load))
on conflict do nothing;

-- name: ServerHours :many
select servers.label, server_hours.hour, server_hours.disk_used, server_hours.disk_total, server_hours.load
from server_hours join servers on servers.id = server_hours.server_id
where server_hours.hour >= sqlc.arg(since)::timestamptz order by servers.label, server_hours.hour;

-- name: DeleteOldServerHours :exec
delete from server_hours where hour < now() - interval '90 days';
