-- name: AddEvent :exec
-- Whose event it is follows from its account, unless it has none.
insert into events (person_id, actor, on_behalf, address, request, action, subject, before, after, account_id,
    customer_id, reseller_id)
select sqlc.narg(person_id), sqlc.arg(actor), sqlc.narg(on_behalf), sqlc.arg(address), sqlc.arg(request),
    sqlc.arg(action), sqlc.arg(subject), sqlc.narg(before), sqlc.narg(after), sqlc.narg(account_id),
    coalesce((select accounts.customer_id from accounts where accounts.id = sqlc.narg(account_id)::bigint),
        sqlc.narg(customer_id)::bigint),
    coalesce((select accounts.reseller_id from accounts where accounts.id = sqlc.narg(account_id)::bigint),
        sqlc.narg(reseller_id)::bigint);

-- name: Events :many
-- Newest first, with whose person the actor is.
select events.id, at, actor, on_behalf, address, request, action, subject, before, after,
    coalesce(people.customer_id, 0)::bigint as actor_customer, coalesce(people.reseller_id, 0)::bigint as actor_reseller
from events left join people on people.id = events.person_id
where events.id < sqlc.arg(before_id)::bigint
  and (sqlc.arg(account)::bigint = 0 or events.account_id = sqlc.arg(account))
  and (sqlc.arg(actor)::text = '' or lower(actor) = lower(sqlc.arg(actor)))
  and (sqlc.arg(action)::text = '' or action = sqlc.arg(action) or action like sqlc.arg(action) || '.%')
  and (sqlc.arg(search)::text = '' or search like '%' || lower(sqlc.arg(search)) || '%')
  and (sqlc.narg(since)::timestamptz is null or at >= sqlc.narg(since))
  and (sqlc.narg(until)::timestamptz is null or at < sqlc.narg(until))
  and (sqlc.arg(reseller)::bigint = 0 or events.reseller_id = sqlc.arg(reseller))
  and (sqlc.arg(customer)::bigint = 0 or events.customer_id = sqlc.arg(customer))
order by events.id desc limit sqlc.arg(most);

-- name: LastEvent :one
select coalesce(max(id), 0)::bigint from events;

-- name: EventsAfter :many
-- What was recorded lately after an event, without who did it. Transactions end in another order
-- than they get their numbers, so whoever follows asks for some that came before, too.
select id, action, coalesce(account_id, 0)::bigint as account_id from events
where id > sqlc.arg(after)::bigint and at > now() - interval '20 seconds'
  and (sqlc.arg(reseller)::bigint = 0 or reseller_id = sqlc.arg(reseller))
  and (sqlc.arg(customer)::bigint = 0 or customer_id = sqlc.arg(customer))
order by id limit 1000;

-- name: ClaimIdempotencyKey :execrows
-- Waits while another request with the same key is under way.
insert into idempotency (person_id, key, digest) values ($1, $2, $3) on conflict do nothing;

-- name: IdempotentAnswer :one
select digest, answer from idempotency where person_id = $1 and key = $2;

-- name: SaveIdempotentAnswer :exec
update idempotency set answer = $3 where person_id = $1 and key = $2;

-- name: DeleteOldIdempotencyKeys :exec
delete from idempotency where created_at < now() - interval '1 day';

-- name: Installation :one
select * from installation;

-- name: AddInstallation :execrows
insert into installation (authority, authority_key) values ($1, $2) on conflict do nothing;

-- name: Settings :one
select * from settings;

-- name: LockSettings :one
select * from settings for update;

-- name: SaveSettings :one
update settings set title = $1, console = $2, name_servers = $3, second_factor = $4, session_minutes = $5,
    mail_server = $6, mail_security = $7, mail_name = $8, mail_password = $9, sender = $10, challenge_zone = $11,
    domain_proof = $12, junk_above = $13, refuse_above = $14, greylisting = $15, blocklists = $16,
    forbidden_attachments = $17, virus_scanner = $18, mail_days = $19, kit_keys = $20,
    version = version + 1 returning *;

-- name: AddMail :one
insert into mails (kind, recipient, sender, message, customer_id, reseller_id) values ($1, $2, $3, $4, $5, $6)
returning id;

-- name: ClaimMail :one
-- Whoever has claimed a message has it for some minutes; after that it is taken for left by a
-- killed process.
update mails set claimed_until = now() + interval '5 minutes'
where id = $1 and state = 'waiting' and (claimed_until is null or claimed_until < now()) returning *;

-- name: FinishMail :exec
update mails set state = $2, failure = $3, message = null, claimed_until = null, finished_at = now() where id = $1;

-- name: DelayMail :exec
update mails set failure = $2, claimed_until = null where id = $1;

-- name: MailsOfCustomer :many
select id, kind, recipient, state, failure, created_at, finished_at from mails where customer_id = $1 order by id desc
limit 20;
