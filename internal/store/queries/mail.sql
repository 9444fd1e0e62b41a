-- name: MailboxesOfAccount :many
select sqlc.embed(mailboxes), domains.name as domain from mailboxes join domains on domains.id = mailboxes.domain_id
where mailboxes.account_id = $1 order by domains.name, mailboxes.local;

-- name: MailOfDomain :one
-- How many mailboxes, further addresses and lists a domain has.
select (select count(*) from mailboxes where mailboxes.domain_id = $1) as mailboxes,
    (select count(*) from mail_addresses where mail_addresses.domain_id = $1) as addresses,
    (select count(*) from mail_lists where mail_lists.domain_id = $1) as lists;

-- name: AddMailbox :one
insert into mailboxes (account_id, domain_id, local, hash, size, forward_to, sends_per_hour)
values ($1, $2, $3, $4, $5, $6, $7) returning *;

-- name: ChangeMailbox :exec
update mailboxes set hash = $2, size = $3, forward_to = $4, sends_per_hour = $5, junk_above = $6, version = version + 1
where id = $1;

-- name: SetAbsenceReply :exec
update mailboxes set reply_text = $2, reply_subject = $3, reply_from = $4, reply_until = $5 where id = $1;

-- name: SetMailboxFilters :exec
update mailboxes set filters = $2 where id = $1;

-- name: MailboxAt :one
-- The mailbox with an address, for whoever signs in to it.
select sqlc.embed(mailboxes), domains.name as domain, accounts.sign_in_name, accounts.customer_id,
    coalesce(accounts.reseller_id, 0)::bigint as reseller_id, account_rows.suspended
from mailboxes join domains on domains.id = mailboxes.domain_id
join accounts on accounts.id = mailboxes.account_id join account_rows on account_rows.id = accounts.id
where mailboxes.local = sqlc.arg(local)::text and domains.name = sqlc.arg(domain)::text and accounts.state = 'active';

-- name: AddMailboxSession :exec
insert into mailbox_sessions (mailbox_id, token_digest, address, program, ends_at, ends_latest)
values ($1, $2, $3, $4, $5, $6);

-- name: MailboxSession :one
select sqlc.embed(mailbox_sessions), mailboxes.local, domains.name as domain, accounts.sign_in_name,
    accounts.customer_id, coalesce(accounts.reseller_id, 0)::bigint as reseller_id, account_rows.suspended
from mailbox_sessions join mailboxes on mailboxes.id = mailbox_sessions.mailbox_id
join domains on domains.id = mailboxes.domain_id join accounts on accounts.id = mailboxes.account_id
join account_rows on account_rows.id = accounts.id
where mailbox_sessions.token_digest = $1 and mailbox_sessions.ends_at > now() and accounts.state = 'active';

-- name: TouchMailboxSession :exec
update mailbox_sessions set seen_at = now(), ends_at = $2 where id = $1;

-- name: EndMailboxSession :exec
delete from mailbox_sessions where id = $1;

-- name: EndMailboxSessions :exec
-- Ends those of a mailbox, besides one.
delete from mailbox_sessions where mailbox_id = $1 and id <> $2;

-- name: TidyMailboxSessions :exec
delete from mailbox_sessions where ends_at <= now();

-- name: RemoveMailbox :exec
delete from mailboxes where id = $1;

-- name: DeleteMailboxes :exec
delete from mailboxes where account_id = $1;

-- name: SetMailServer :exec
update accounts set mail_server_id = $2, mail_placement = $3 where id = $1;

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
        or exists (select 1 from mail_addresses where mail_addresses.domain_id = domains.id)
        or exists (select 1 from mail_lists where mail_lists.domain_id = domains.id))
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

-- name: MailListsOfAccount :many
select sqlc.embed(mail_lists), domains.name as domain from mail_lists
join domains on domains.id = mail_lists.domain_id
where mail_lists.account_id = $1 order by domains.name, mail_lists.local;

-- name: ListMembersOfAccount :many
select list_members.* from list_members join mail_lists on mail_lists.id = list_members.list_id
where mail_lists.account_id = $1 order by list_members.list_id, list_members.address;

-- name: AddMailList :one
insert into mail_lists (account_id, domain_id, local, name, posting, moderated, footer)
values ($1, $2, $3, $4, $5, $6, $7) returning *;

-- name: ChangeMailList :exec
update mail_lists set name = $2, posting = $3, moderated = $4, footer = $5, version = version + 1 where id = $1;

-- name: RemoveMailList :exec
delete from mail_lists where id = $1;

-- name: DeleteMailLists :exec
delete from mail_lists where account_id = $1;

-- name: SetListMembers :exec
-- Adds members or owners, or makes those that are there both. Who becomes a member again has joined anew:
-- the code that let them leave is used up.
insert into list_members (list_id, address, member, owner)
select sqlc.arg(list_id)::bigint, address, sqlc.arg(member)::boolean, sqlc.arg(owner)::boolean
from unnest(sqlc.arg(addresses)::text[]) as address
on conflict (list_id, address) do update set member = list_members.member or excluded.member,
    owner = list_members.owner or excluded.owner,
    joined_at = case when excluded.member and not list_members.member then now() else list_members.joined_at end;

-- name: RemoveListMembers :execrows
-- Takes them out as members; owners stay owners.
delete from list_members where list_id = sqlc.arg(list_id)::bigint and member and not owner
    and address = any(sqlc.arg(addresses)::text[]);

-- name: EndMembershipOfOwners :execrows
update list_members set member = false where list_id = sqlc.arg(list_id)::bigint and member and owner
    and address = any(sqlc.arg(addresses)::text[]);

-- name: ForgetListMember :exec
-- Takes an address out of a list, as a member and as an owner.
delete from list_members where list_id = $1 and address = $2;

-- name: RemoveMereOwners :exec
delete from list_members where list_id = $1 and owner and not member;

-- name: EndOwnershipOfMembers :exec
update list_members set owner = false where list_id = $1 and owner and member;

-- name: MailListAt :one
-- The list with an address, and its account.
select mail_lists.id, mail_lists.account_id, mail_lists.name, accounts.sign_in_name from mail_lists
join domains on domains.id = mail_lists.domain_id join accounts on accounts.id = mail_lists.account_id
where mail_lists.local = sqlc.arg(local)::text and domains.name = sqlc.arg(domain)::text and accounts.state = 'active';

-- name: MailSuspension :one
select * from mail_suspensions where account_id = $1;

-- name: MailSuspensions :many
select * from mail_suspensions where account_id = any(sqlc.arg(accounts)::bigint[]);

-- name: SuspendMail :exec
insert into mail_suspensions (account_id, sending, receiving, why, by, role) values ($1, $2, $3, $4, $5, $6)
on conflict (account_id) do update set sending = excluded.sending, receiving = excluded.receiving, why = excluded.why,
    by = excluded.by, role = excluded.role, at = now();

-- name: ResumeMail :exec
delete from mail_suspensions where account_id = $1;

-- name: ProgramPasswordsOfAccount :many
select program_passwords.* from program_passwords join mailboxes on mailboxes.id = program_passwords.mailbox_id
where mailboxes.account_id = $1 order by program_passwords.id;

-- name: AddProgramPassword :exec
insert into program_passwords (mailbox_id, name, key, hash) values ($1, $2, $3, $4);

-- name: RemoveProgramPassword :execrows
delete from program_passwords where mailbox_id = $1 and name = $2;

-- name: SaveLinkKey :exec
update installation set link_key = $1 where link_key is null;

-- name: MailboxFailuresTold :many
-- The mailboxes that a server tells of, with what was known before.
select mailboxes.id, mailboxes.account_id, (mailboxes.local || '@' || domains.name)::text as address,
    coalesce(mailbox_failures.failures, 0)::bigint as before
from domains join mailboxes on mailboxes.domain_id = domains.id
join accounts on accounts.id = mailboxes.account_id and accounts.mail_server_id = sqlc.arg(server)::bigint
left join mailbox_failures on mailbox_failures.mailbox_id = mailboxes.id
where domains.name = any(sqlc.arg(domains)::text[])
    and mailboxes.local || '@' || domains.name = any(sqlc.arg(addresses)::text[]);

-- name: DeleteOtherMailboxFailures :exec
delete from mailbox_failures using mailboxes, accounts where mailboxes.id = mailbox_failures.mailbox_id
    and accounts.id = mailboxes.account_id and accounts.mail_server_id = sqlc.arg(server)::bigint
    and mailbox_failures.mailbox_id <> all(sqlc.arg(told)::bigint[]);

-- name: SaveMailboxFailures :exec
insert into mailbox_failures (mailbox_id, failures, clients, last_at, last_from)
select unnest(sqlc.arg(mailboxes)::bigint[]), unnest(sqlc.arg(failures)::bigint[]),
    unnest(sqlc.arg(clients)::bigint[]), unnest(sqlc.arg(last_at)::timestamptz[]), unnest(sqlc.arg(last_from)::text[])
on conflict (mailbox_id) do update set failures = excluded.failures, clients = excluded.clients,
    last_at = excluded.last_at, last_from = excluded.last_from where mailbox_failures.failures <> excluded.failures
    or mailbox_failures.last_at <> excluded.last_at;

-- name: MailboxFailuresOfAccount :many
select mailbox_failures.*, mailboxes.local, domains.name as domain from mailbox_failures
join mailboxes on mailboxes.id = mailbox_failures.mailbox_id join domains on domains.id = mailboxes.domain_id
where mailboxes.account_id = $1 order by domains.name, mailboxes.local;
