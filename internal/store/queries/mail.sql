-- name: MailboxesOfAccount :many
select sqlc.embed(mailboxes), domains.name as domain from mailboxes join domains on domains.id = mailboxes.domain_id
where mailboxes.account_id = $1 order by domains.name, mailboxes.local;

-- name: MailOfDomain :one
-- How many mailboxes and how many further addresses a domain has.
select (select count(*) from mailboxes where mailboxes.domain_id = $1) as mailboxes,
    (select count(*) from mail_addresses where mail_addresses.domain_id = $1) as addresses;

-- name: AddMailbox :one
insert into mailboxes (account_id, domain_id, local, hash, size, forward_to, sends_per_hour)
values ($1, $2, $3, $4, $5, $6, $7) returning *;

-- name: ChangeMailbox :exec
update mailboxes set hash = $2, size = $3, forward_to = $4, sends_per_hour = $5, version = version + 1
where id = $1;

-- name: SetAbsenceReply :exec
update mailboxes set reply_text = $2, reply_subject = $3, reply_from = $4, reply_until = $5 where id = $1;

-- name: RemoveMailbox :exec
delete from mailboxes where id = $1;

-- name: DeleteMailboxes :exec
delete from mailboxes where account_id = $1;

-- name: SetMailServer :exec
update accounts set mail_server_id = $2 where id = $1;

-- name: MailServers :many
-- Those that mail can be placed on, with the number of accounts whose mail they hold.
select sqlc.embed(servers), (select count(*) from accounts where mail_server_id = servers.id) as accounts
from servers where 'mail' = any(roles) and host_name <> '' and state = 'joined' order by label;

-- name: MailDomains :many
-- The domains of an account that get mail, with the name of the server that takes it.
select domains.id, domains.name, servers.host_name from domains
join accounts on accounts.id = domains.account_id join servers on servers.id = accounts.mail_server_id
where domains.account_id = $1 and servers.host_name <> ''
    and (exists (select 1 from mailboxes where mailboxes.domain_id = domains.id)
        or exists (select 1 from mail_addresses where mail_addresses.domain_id = domains.id))
order by domains.name;

-- name: AccountsWithMailOn :many
select id from accounts where mail_server_id = sqlc.arg(server_id)::bigint and state in ('active', 'opening')
order by id;

-- name: MailAddressesOfAccount :many
select sqlc.embed(mail_addresses), domains.name as domain from mail_addresses
join domains on domains.id = mail_addresses.domain_id
where mail_addresses.account_id = $1 order by domains.name, mail_addresses.local;

-- name: AddMailAddress :one
insert into mail_addresses (account_id, domain_id, local, targets) values ($1, $2, $3, $4) returning *;

-- name: ChangeMailAddress :exec
update mail_addresses set targets = $2, version = version + 1 where id = $1;

-- name: RemoveMailAddress :exec
delete from mail_addresses where id = $1;

-- name: DeleteMailAddresses :exec
delete from mail_addresses where account_id = $1;

-- name: SigningKeysOfAccount :many
select * from signing_keys where account_id = $1 order by domain_id, id;

-- name: AddSigningKey :exec
insert into signing_keys (account_id, domain_id, selector, key, record, made_at, active_at)
values ($1, $2, $3, $4, $5, $6, $7);

-- name: ActivateSigningKey :exec
update signing_keys set active_at = $2 where id = $1;

-- name: RetireSigningKey :exec
update signing_keys set retired_at = $2 where id = $1;

-- name: RemoveSigningKey :exec
delete from signing_keys where id = $1;

-- name: DeleteSigningKeys :exec
delete from signing_keys where account_id = $1;

-- name: AccountsWithKeysToTurn :many
-- Accounts with keys whose next step is due: those that sign since before the first time, those that
-- were published before the second, and those that have been retired before the third; and accounts
-- with a domain that gets mail and has no key yet.
select distinct mailboxes.account_id from mailboxes
where not exists (select 1 from signing_keys where signing_keys.domain_id = mailboxes.domain_id)
union
select distinct account_id from signing_keys
where (retired_at is null and active_at < sqlc.arg(made_before)::timestamptz)
    or (active_at is null and made_at < sqlc.arg(published_before)::timestamptz)
    or retired_at < sqlc.arg(retired_before)::timestamptz
order by account_id limit 500;

-- name: SaveReturnKey :exec
update installation set return_key = $1 where return_key is null;

-- name: DomainIsInZoneHere :one
-- Whether the zone that a domain lies in is hosted here.
select coalesce((select zones.hosted = 'here' from zones join domains on domains.id = $1
    where zones.account_id = domains.account_id and (domains.name = zones.name or domains.name like '%.' || zones.name)
    order by length(zones.name) desc limit 1), false)::boolean;
