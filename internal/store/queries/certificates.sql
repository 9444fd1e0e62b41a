-- name: AddAuthority :one
insert into authorities (name, directory, email, root, external_id, external_key, profile, key, url, terms, identities,
    usual, bounds)
values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13) returning *;

-- name: ChangeAuthority :one
update authorities set email = $2, root = $3, profile = $4, bounds = $5, terms = $6, identities = $7, usual = $8,
    version = version + 1 where id = $1 returning *;

-- name: BeginAccountKey :execrows
-- Before the authority is told of it, so that it is not lost; not while another one is on its way.
update authorities set next_key = sqlc.arg(next_key)::bytea, next_key_at = now()
where id = sqlc.arg(id) and next_key is null;

-- name: SettleAccountKey :exec
-- Of the key on its way it is known whether the authority has taken it.
update authorities set key = case when sqlc.arg(taken)::boolean then next_key else key end, next_key = null,
    next_key_at = null, version = version + 1 where id = sqlc.arg(id) and next_key is not null;

-- name: AccountKeysUnsettled :many
-- Whoever began to change the key was cut off.
select * from authorities where next_key_at < now() - interval '2 minutes';

-- name: ClearDefaultAuthority :exec
update authorities set usual = false where usual;

-- name: RemoveAuthority :exec
delete from authorities where id = $1;

-- name: Authorities :many
select authorities.*, (select count(*) from certificates
    where certificates.authority_id = authorities.id and certificates.state = 'in-use')::bigint as certificates
from authorities order by usual desc, name;

-- name: FindAuthority :one
select * from authorities where name = $1;

-- name: AuthorityByID :one
select * from authorities where id = $1;

-- name: DefaultAuthority :one
select * from authorities where usual;

-- name: LimitAuthority :exec
update authorities set limited_until = $2 where id = $1;

-- name: AuthorityUsed :one
select (exists (select from certificates where certificates.authority_id = sqlc.arg(id)::bigint)
    or exists (select from orders where orders.authority_id = sqlc.arg(id)::bigint))::boolean;

-- name: AddSiteCertificates :exec
-- Of the domains of an account that have none yet.
insert into site_certificates (domain_id, due_at) select id, now() from domains
where account_id = $1 and served_as <> 'dns-only' and not waiting on conflict do nothing;

-- name: SiteCertificate :one
select * from site_certificates where domain_id = $1;

-- name: LockSiteCertificate :one
select * from site_certificates where domain_id = $1 for update;

-- name: ChangeSiteCertificate :one
update site_certificates set mode = sqlc.arg(mode), names = sqlc.narg(names), key_type = sqlc.arg(key_type),
    pin_key = sqlc.arg(pin_key), authority_id = sqlc.narg(authority_id), due_at = sqlc.arg(due_at)::timestamptz,
    version = version + 1
where domain_id = sqlc.arg(domain_id) returning *;

-- name: SaveCertificateFailure :exec
update site_certificates set failures = failures + 1, failed_at = coalesce(failed_at, now()), code = sqlc.arg(code),
    problem = sqlc.arg(problem), limited_until = sqlc.narg(limited_until) where domain_id = sqlc.arg(domain_id);

-- name: SaveCertificateIssued :exec
update site_certificates set mode = $2, failures = 0, failed_at = null, code = '', problem = '', told_days = 0,
    limited_until = null, due_at = $3, version = version + case when mode = $2 then 0 else 1 end where domain_id = $1;

-- name: ScheduleCertificate :exec
-- Unless something has come up since it was seen to be due at a moment, for which it is to be
-- looked at before.
update site_certificates set due_at = sqlc.narg(due_at)
where domain_id = sqlc.arg(domain_id) and due_at is not distinct from sqlc.narg(seen)::timestamptz;

-- name: ClaimDueCertificates :many
-- Sites that are due, in accounts that are open, oldest first; those with an order on its way are
-- left alone. Whoever takes them has a while: nobody else takes them meanwhile, and somebody does
-- if they are not heard of again.
update site_certificates set claimed_until = sqlc.arg(until)::timestamptz from (
    select due.domain_id, domains.name from site_certificates due join domains on domains.id = due.domain_id
    join accounts on accounts.id = domains.account_id
    where due.due_at <= sqlc.arg(now)::timestamptz
      and (due.claimed_until is null or due.claimed_until <= sqlc.arg(now)::timestamptz)
      and accounts.state = 'active' and accounts.applied_revision > 0
      and not exists (select from orders
          where orders.domain_id = due.domain_id and orders.state not in ('done', 'failed'))
    order by due.due_at limit sqlc.arg(most) for update of due skip locked) taken
where site_certificates.domain_id = taken.domain_id returning site_certificates.domain_id, taken.name;

-- name: ReleaseCertificate :exec
update site_certificates set claimed_until = null where domain_id = $1;

-- name: AddCertificate :one
insert into certificates (domain_id, authority_id, names, key_type, key, chain, serial, not_before, not_after, renew_at,
    ask_at, revision)
values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12) returning *;

-- name: CertificatesInForce :many
-- What the sites of an account show or are about to show: of each, the newest counts.
select sqlc.embed(certificates), domains.name from certificates join domains on domains.id = certificates.domain_id
where domains.account_id = $1 and certificates.state in ('installing', 'in-use') order by certificates.id;

-- name: CertificatesOfSite :many
-- The one that a site shows, and the one that it is about to show; the newest comes last.
select * from certificates where domain_id = $1 and state in ('installing', 'in-use') order by id;

-- name: RetireCertificates :exec
update certificates set state = 'retired', renew_at = null, ask_at = null
where domain_id = $1 and state in ('installing', 'in-use');

-- name: DropInstalling :exec
-- A newer one takes its place.
update certificates set state = 'retired', renew_at = null, ask_at = null where domain_id = $1 and state = 'installing';

-- name: RevertFailedUpload :exec
-- Sites of which the certificate that somebody brought could not be installed go on as they were
-- before.
update site_certificates set due_at = now(), version = site_certificates.version + 1,
    mode = case when exists (select from certificates used
        where used.domain_id = certificates.domain_id and used.state = 'in-use' and used.authority_id is null) then mode
        else 'automatic' end
from certificates join domains on domains.id = certificates.domain_id
where site_certificates.domain_id = certificates.domain_id and domains.account_id = $1
  and certificates.state = 'installing' and certificates.revision <= $2 and certificates.authority_id is null;

-- name: DropFailedCertificates :exec
-- What a revision could not bring to its server.
update certificates set state = 'retired', renew_at = null, ask_at = null from domains
where domains.id = certificates.domain_id and domains.account_id = $1 and certificates.state = 'installing'
  and certificates.revision <= $2;

-- name: RetireReplacedCertificates :exec
-- Those in whose place others have come, with the revision that is in force now.
update certificates old set state = 'retired', renew_at = null, ask_at = null from certificates fresh
    join domains on domains.id = fresh.domain_id
where domains.account_id = $1 and fresh.state = 'installing' and fresh.revision <= $2
  and old.domain_id = fresh.domain_id and old.state = 'in-use';

-- name: MarkCertificatesInstalled :exec
update certificates set state = 'in-use', installed_at = now() from domains
where domains.id = certificates.domain_id and domains.account_id = $1 and certificates.state = 'installing'
  and certificates.revision <= $2;

-- name: AddOrder :one
insert into orders (domain_id, authority_id, operation_id, names, left_out, key_type, key, ways)
values ($1, $2, $3, $4, $5, $6, $7, $8) returning *;

-- name: OrderByID :one
select * from orders where id = $1;

-- name: UnfinishedOrder :one
select * from orders where domain_id = $1 and state not in ('done', 'failed');

-- name: SaveOrderState :execrows
-- One that came to its end stays there.
update orders set state = $2, url = $3, install_id = $4 where id = $1 and state not in ('done', 'failed');

-- name: StalledOrders :many
-- Orders whose operation nobody has worked on for a while: the process that did was killed.
select orders.id from orders join operations on operations.id = orders.operation_id
where orders.state not in ('done', 'failed')
  and operations.touched_at < now() - make_interval(secs => sqlc.arg(seconds)::float8);

-- name: SaveChallenge :exec
insert into challenges (order_id, name, kind, token, value, url, proof, record, account_id)
values ($1, $2, $3, $4, $5, $6, $7, $8, $9) on conflict do nothing;

-- name: ChallengesOf :many
select * from challenges where order_id = $1 order by id;

-- name: AcceptedChallenge :exec
update challenges set accepted = true where id = $1;

-- name: DeleteChallenges :exec
delete from challenges where order_id = $1;

-- name: ChallengesInZones :many
-- What the zones of an account show for orders on their way.
select record, value from challenges where account_id = sqlc.arg(account_id)::bigint order by id;

-- name: SaveChallengeCheck :exec
update challenges set missing = $2, looked_at = now() where id = $1;

-- name: DomainByID :one
select * from domains where id = $1;

-- name: WebServers :many
select * from servers where 'web' = any(roles) and state = 'joined' order by id;

-- name: ScheduleAllCertificates :exec
-- Of sites that have none of an authority yet.
update site_certificates set due_at = now() where mode = 'automatic' and not exists (
    select from certificates where certificates.domain_id = site_certificates.domain_id
      and certificates.state in ('installing', 'in-use'));

-- name: CertificatesToAskAbout :many
-- Certificates of which the authority is to be asked when to renew them.
select * from certificates where state = 'in-use' and authority_id is not null and ask_at <= $1 order by ask_at
limit 100;

-- name: SaveRenewal :exec
update certificates set renew_at = $2, ask_at = $3, explanation = $4 where id = $1;

-- name: ScheduleCertificateBy :exec
-- Not later than a moment.
update site_certificates set due_at = sqlc.arg(due_at)::timestamptz
where domain_id = sqlc.arg(domain_id) and mode = 'automatic'
  and (due_at is null or due_at > sqlc.arg(due_at)::timestamptz);

-- name: Certificates :many
-- Every site with what it shows, those with the fewest days left first. Sites that should have one
-- and have none yet for all trying come before all others, self-signed ones after: they end at the
-- last second that RFC 3339 can write.
select domains.id as domain_id, domains.name, accounts.id as account_id, accounts.sign_in_name, servers.label as server,
    site_certificates.mode, site_certificates.failures, site_certificates.code,
    site_certificates.problem, coalesce(authorities.name, '')::text as authority,
    coalesce(certificates.names, '{}')::text[] as names,
    exists (select from orders
        where orders.domain_id = domains.id and orders.state not in ('done', 'failed'))::boolean as ordered,
    coalesce(extract(epoch from certificates.not_after)::bigint,
        case when site_certificates.failures > 0 then 0 else 253402300799 end)::bigint as ends
from domains join accounts on accounts.id = domains.account_id join servers on servers.id = accounts.server_id
    join site_certificates on site_certificates.domain_id = domains.id
    left join certificates on certificates.domain_id = domains.id and certificates.state = 'in-use'
    left join authorities on authorities.id = certificates.authority_id
where domains.served_as <> 'dns-only' and accounts.state <> 'closed'
  and (sqlc.arg(account)::bigint = 0 or accounts.id = sqlc.arg(account))
  and (sqlc.arg(domain)::text = '' or domains.name = sqlc.arg(domain))
  and (sqlc.arg(authority)::text = '' or authorities.name = sqlc.arg(authority))
  and (sqlc.arg(reseller)::bigint = 0 or accounts.reseller_id = sqlc.arg(reseller))
  and (sqlc.arg(customer)::bigint = 0 or accounts.customer_id = sqlc.arg(customer))
  and (sqlc.narg(masks)::int[] is null
      or (certificates.id is not null)::int + 2 * (certificates.id is not null
      and certificates.authority_id is null)::int
    + 4 * (domains.id in (select orders.domain_id from orders where orders.state not in ('done', 'failed')))::int
    + 8 * (site_certificates.failures > 0)::int + 16 * (coalesce(certificates.not_after < sqlc.arg(now)::timestamptz,
        false))::int = any(sqlc.narg(masks)::int[]))
  and (sqlc.arg(search)::text = '' or domains.name like '%' || sqlc.arg(search) || '%')
  and (sqlc.narg(ends_before)::timestamptz is null or certificates.not_after < sqlc.narg(ends_before))
  and (coalesce(extract(epoch from certificates.not_after)::bigint,
      case when site_certificates.failures > 0 then 0 else 253402300799 end),
      domains.id) > (sqlc.arg(after_ends)::bigint, sqlc.arg(after_id)::bigint)
order by coalesce(extract(epoch from certificates.not_after)::bigint,
    case when site_certificates.failures > 0 then 0 else 253402300799 end), domains.id limit sqlc.arg(most);

-- name: CertificateBySerial :one
-- Of a site; also one that is in use no longer.
select * from certificates where domain_id = $1 and serial = $2;

-- name: EarlierCertificates :many
-- Those that a site had and uses no longer, the newest first.
select certificates.names, certificates.serial, certificates.state, certificates.not_before, certificates.not_after,
    certificates.chain, coalesce(authorities.name, '')::text as authority
from certificates left join authorities on authorities.id = certificates.authority_id
where certificates.domain_id = $1 and certificates.state in ('retired', 'revoked') order by certificates.id desc
limit $2;

-- name: RevokeCertificate :exec
update certificates set state = 'revoked', renew_at = null, ask_at = null where id = $1;

-- name: KeysOfCertificates :many
-- Those that a site has or had, the newest first.
select key from certificates where domain_id = $1 order by id desc limit 50;

-- name: AddSigningRequest :one
insert into signing_requests (domain_id, names, subject, key_type, key, request) values ($1, $2, $3, $4, $5, $6)
returning *;

-- name: SigningRequests :many
select id, names, subject, key_type, request, created_at from signing_requests where domain_id = $1 order by id;

-- name: SigningRequestsWithKeys :many
select id, key from signing_requests where domain_id = $1 order by id;

-- name: RemoveSigningRequest :execrows
delete from signing_requests where domain_id = $1 and id = $2;

-- name: SaveIntermediate :exec
insert into intermediates (digest, subject, certificate) values ($1, $2, $3) on conflict do nothing;

-- name: IntermediatesOf :many
-- With a subject.
select certificate from intermediates where subject = $1 order by added_at desc limit 10;

-- name: LastOrder :one
-- The last of a site that came to its end.
select * from orders where domain_id = $1 and state = 'done' order by id desc limit 1;

-- name: OrderTimes :many
-- Orders that an authority has taken since a moment, or is about to.
select names, created_at from orders
where authority_id = $1 and created_at > $2 and (url <> '' or state not in ('done', 'failed')) order by created_at;

-- name: LockAuthority :exec
select from authorities where id = $1 for no key update;

-- name: ChallengeZone :one
-- The zone of ours in which a name lies, and whose it is.
select zones.name, zones.account_id, accounts.reseller_id from zones join accounts on accounts.id = zones.account_id
where accounts.state = 'active' and zones.hosted = 'here'
  and (zones.name = sqlc.arg(name)::text or sqlc.arg(name)::text like '%.' || zones.name)
order by length(zones.name) desc limit 1;

-- name: ExpiringCertificates :many
-- Certificates in use that nothing is about to replace and that end before a moment: the site's
-- last try failed, or it does not renew itself.
select certificates.domain_id, certificates.not_before, certificates.not_after, certificates.names,
    certificates.authority_id, domains.name, domains.account_id, site_certificates.told_days, site_certificates.mode,
    site_certificates.problem,
    site_certificates.failures
from certificates join domains on domains.id = certificates.domain_id join accounts on accounts.id = domains.account_id
    join site_certificates on site_certificates.domain_id = domains.id
where certificates.state = 'in-use' and certificates.not_after < sqlc.arg(before)::timestamptz
  and certificates.not_after > now() and accounts.state = 'active'
  and (site_certificates.failures > 0 or certificates.authority_id is null)
order by certificates.not_after limit 500;

-- name: MarkExpiryNoticed :execrows
update site_certificates set told_days = $2 where domain_id = $1 and (told_days = 0 or told_days > $2);

-- name: DeleteOldCertificates :exec
-- Those that are used no longer and ended a month ago.
delete from certificates where state in ('retired', 'revoked') and not_after < now() - interval '30 days';

-- name: DeleteOldOrders :exec
-- Longer than any bound counts, but the last of each site: it says which names were left out.
delete from orders where state in ('done', 'failed') and created_at < now() - interval '40 days'
  and exists (select from orders later
      where later.domain_id = orders.domain_id and later.state = 'done' and later.id > orders.id);

-- name: CertificateOfName :one
-- In use by the site of a domain whose account is open.
select certificates.* from certificates join domains on domains.id = certificates.domain_id
    join accounts on accounts.id = domains.account_id
where domains.name = $1 and certificates.state = 'in-use' and accounts.state = 'active';

-- name: CertificateForHost :one
-- In use for a name that may be below a domain, whose account is open and whose owner is known.
select certificates.* from certificates join domains on domains.id = certificates.domain_id
    join accounts on accounts.id = domains.account_id
where domains.name in (sqlc.arg(host)::text, sqlc.arg(parent)::text) and domains.proved_at is not null
    and certificates.state = 'in-use' and accounts.state = 'active'
    and (certificates.names && array[sqlc.arg(host)::text, '*.' || sqlc.arg(parent)::text])
order by certificates.not_after desc limit 1;

-- name: RefusedOrder :exec
update orders set refused = $2 where id = $1;

-- name: RefusedNames :one
-- Those that could not be proved by the last order of a site, if it came to nothing within a day.
select coalesce((select orders.refused from orders
    where orders.id = (select max(last.id) from orders last
    where last.domain_id = $1 and last.state in ('done', 'failed')) and orders.state = 'failed'
  and orders.created_at > now() - interval '1 day'), '{}')::text[];

-- name: MoveAuthorityAccount :execrows
-- The authority has given the account's key another account; a quicker process has written it down
-- already otherwise.
update authorities set url = sqlc.arg(url), version = version + 1 where id = sqlc.arg(id) and url = sqlc.arg(before);
