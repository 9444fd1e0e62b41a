-- name: AddKit :one
insert into kits (name, version, document, digest, size, files, signer) values ($1, $2, $3, $4, $5, $6, $7) returning *;

-- name: AddKitArchive :exec
insert into kit_archives (kit_id, archive) values ($1, $2);

-- name: KitArchive :one
select archive from kit_archives where kit_id = $1;

-- name: Kits :many
select * from kits order by name, added_at;

-- name: KitVersions :many
select * from kits where name = $1 order by added_at;

-- name: KitByID :one
select * from kits where id = $1;

-- name: LockKits :exec
-- Registering, withdrawing and removing take turns; sites that get a kit only read.
select pg_advisory_xact_lock(hashtext('kits'));

-- name: WithdrawKit :exec
update kits set withdrawn = $2 where id = $1;

-- name: RemoveKit :exec
delete from kits where id = $1;

-- name: SitesOfKits :many
-- How many sites have each version, within a scope.
select site_kits.kit_id, count(*) as sites from site_kits join accounts on accounts.id = site_kits.account_id
join customers on customers.id = accounts.customer_id
where sqlc.arg(reseller)::bigint = 0 or customers.reseller_id = sqlc.arg(reseller)::bigint
group by site_kits.kit_id;

-- name: KitOffers :many
select kit_offers.kit, plans.id, plans.name, coalesce(resellers.name, '')::text as reseller, plans.reseller_id
from kit_offers join plans on plans.id = kit_offers.plan_id left join resellers on resellers.id = plans.reseller_id
order by kit_offers.kit, reseller, plans.name;

-- name: OffersOfPlan :many
select kit from kit_offers where plan_id = $1;

-- name: OfferKit :exec
insert into kit_offers (kit, plan_id) values ($1, $2) on conflict do nothing;

-- name: UnofferKit :exec
delete from kit_offers where kit = $1 and plan_id = $2;

-- name: UnofferEverywhere :exec
delete from kit_offers where kit = $1;

-- name: AddSiteKit :one
insert into site_kits (account_id, domain_id, kit_id, state, work, operation_id, apply_id, answers, secrets,
    database_id, database_user_id, replace_files)
values ($1, $2, $3, 'preparing', 'install', $4, $5, $6, $7, $8, $9, $10) returning *;

-- name: SiteKitOfDomain :one
select * from site_kits where domain_id = $1;

-- name: SiteKitByID :one
select * from site_kits where id = $1;

-- name: SiteKitsOfAccount :many
select * from site_kits where account_id = $1 order by id;

-- name: SaveSiteKit :execrows
-- Unless somebody else has been at it meanwhile.
update site_kits set kit_id = $2, state = $3, work = $4, operation_id = $5, apply_id = $6, step = $7, answers = $8,
    secrets = $9, digests = $10, settings_before = $11, failure = $12, next_kit_id = $13, next_answers = $14,
    next_secrets = $15, next_digests = $16, take = sqlc.arg(take)::text[], saved_import = $17, installed_at = $18,
    begun_at = $19,
    version = version + 1
where id = $1 and version = sqlc.arg(seen)::bigint;

-- name: DeleteSiteKit :exec
delete from site_kits where id = $1;

-- name: StalledSiteKits :many
-- Those whose work nobody has been at for a while: the process that was is gone.
select site_kits.id from site_kits join operations on operations.id = site_kits.operation_id
where site_kits.work <> '' and operations.touched_at < now() - make_interval(secs => sqlc.arg(seconds)::float8);
