-- name: MailboxesOfAccount :many
select sqlc.embed(mailboxes), domains.name as domain from mailboxes join domains on domains.id = mailboxes.domain_id
where mailboxes.account_id = $1 order by domains.name, mailboxes.local;

-- name: MailboxesOfDomain :one
select count(*) from mailboxes where domain_id = $1;

-- name: AddMailbox :one
insert into mailboxes (account_id, domain_id, local, hash, size) values ($1, $2, $3, $4, $5) returning *;

-- name: ChangeMailbox :exec
update mailboxes set hash = $2, size = $3, version = version + 1 where id = $1;

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

-- name: MailExchanges :many
-- The domains of an account that have mailboxes, with the name of the server that takes their mail.
select distinct domains.name, servers.host_name from mailboxes join domains on domains.id = mailboxes.domain_id
join accounts on accounts.id = mailboxes.account_id join servers on servers.id = accounts.mail_server_id
where mailboxes.account_id = $1 and servers.host_name <> '' order by domains.name;

-- name: AccountsWithMailOn :many
select id from accounts where mail_server_id = sqlc.arg(server_id)::bigint and state in ('active', 'opening')
order by id;
