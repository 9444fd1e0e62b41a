-- name: MailLogChange :one
-- Locks the server, so that two do not write down the same.
select mail_log_change from servers where id = $1 for update;

-- name: SaveMailLogChange :exec
update servers set mail_log_change = $2 where id = $1;

-- name: AccountsOfDomains :many
select name, account_id from domains where name = any(sqlc.arg(names)::text[]) and proved_at is not null;

-- name: SaveDeliveries :exec
insert into mail_log (server_id, number, queue, came_at, at, sender, recipient, delivered_to, message_id, size, client,
    sign_in, outcome, code, relay, reply, tries, score, folder, from_account, to_account)
select sqlc.arg(server_id)::bigint, unnest(sqlc.arg(numbers)::bigint[]), unnest(sqlc.arg(queues)::text[]),
    unnest(sqlc.arg(came)::timestamptz[]), unnest(sqlc.arg(happened)::timestamptz[]),
    unnest(sqlc.arg(senders)::text[]), unnest(sqlc.arg(recipients)::text[]),
    unnest(sqlc.arg(led_to)::text[]), unnest(sqlc.arg(message_ids)::text[]),
    unnest(sqlc.arg(sizes)::bigint[]), unnest(sqlc.arg(clients)::text[]),
    unnest(sqlc.arg(sign_ins)::text[]), unnest(sqlc.arg(outcomes)::text[]),
    unnest(sqlc.arg(codes)::text[]), unnest(sqlc.arg(relays)::text[]), unnest(sqlc.arg(replies)::text[]),
    unnest(sqlc.arg(tries)::bigint[]),
    unnest(sqlc.arg(scores)::text[]), unnest(sqlc.arg(folders)::text[]),
    nullif(unnest(sqlc.arg(from_accounts)::bigint[]), 0),
    nullif(unnest(sqlc.arg(to_accounts)::bigint[]), 0)
on conflict (server_id, number) do update set at = excluded.at, outcome = excluded.outcome, code = excluded.code,
    relay = excluded.relay, reply = excluded.reply, tries = excluded.tries, score = excluded.score,
    folder = excluded.folder;

-- name: TidyMailLog :execrows
delete from mail_log where id in (select old.id from mail_log old where old.came_at < $1 limit 20000);

-- name: DeleteMailLog :exec
delete from mail_log where from_account = sqlc.arg(account)::bigint or to_account = sqlc.arg(account)::bigint;

-- name: Messages :many
-- What became of all messages, the newest first.
select sqlc.embed(mail_log), servers.label, coalesce(sent.sign_in_name, '')::text as from_name,
    coalesce(got.sign_in_name, '')::text as to_name
from mail_log join servers on servers.id = mail_log.server_id
left join accounts sent on sent.id = mail_log.from_account left join accounts got on got.id = mail_log.to_account
where mail_log.id in (
    select m.id from mail_log m where true
        and (sqlc.arg(sender)::text = '' or m.sender = sqlc.arg(sender))
        and (sqlc.arg(recipient)::text = '' or m.recipient = sqlc.arg(recipient))
        and (sqlc.arg(message_id)::text = '' or m.message_id = sqlc.arg(message_id))
        and (sqlc.arg(outcome)::text = '' or m.outcome = sqlc.arg(outcome))
        and (sqlc.narg(since)::timestamptz is null or m.came_at >= sqlc.narg(since))
        and (m.came_at, m.id) < (sqlc.arg(before_at)::timestamptz, sqlc.arg(before)::bigint)
        order by m.came_at desc, m.id desc limit sqlc.arg(most)
) order by mail_log.came_at desc, mail_log.id desc;

-- name: MessagesOfAccounts :many
-- What became of the messages of accounts, the newest first.
select sqlc.embed(mail_log), servers.label, coalesce(sent.sign_in_name, '')::text as from_name,
    coalesce(got.sign_in_name, '')::text as to_name
from mail_log join servers on servers.id = mail_log.server_id
left join accounts sent on sent.id = mail_log.from_account left join accounts got on got.id = mail_log.to_account
where mail_log.id in (
    select of_one.id from unnest(sqlc.arg(accounts)::bigint[]) as of_accounts (account) cross join lateral (
        (select m.id, m.came_at from mail_log m where m.from_account = of_accounts.account
            and (sqlc.arg(sender)::text = '' or m.sender = sqlc.arg(sender))
            and (sqlc.arg(recipient)::text = '' or m.recipient = sqlc.arg(recipient))
            and (sqlc.arg(message_id)::text = '' or m.message_id = sqlc.arg(message_id))
            and (sqlc.arg(outcome)::text = '' or m.outcome = sqlc.arg(outcome))
            and (sqlc.narg(since)::timestamptz is null or m.came_at >= sqlc.narg(since))
            and (m.came_at, m.id) < (sqlc.arg(before_at)::timestamptz, sqlc.arg(before)::bigint)
            order by m.came_at desc, m.id desc limit sqlc.arg(most))
        union
        (select m.id, m.came_at from mail_log m where m.to_account = of_accounts.account
            and (sqlc.arg(sender)::text = '' or m.sender = sqlc.arg(sender))
            and (sqlc.arg(recipient)::text = '' or m.recipient = sqlc.arg(recipient))
            and (sqlc.arg(message_id)::text = '' or m.message_id = sqlc.arg(message_id))
            and (sqlc.arg(outcome)::text = '' or m.outcome = sqlc.arg(outcome))
            and (sqlc.narg(since)::timestamptz is null or m.came_at >= sqlc.narg(since))
            and (m.came_at, m.id) < (sqlc.arg(before_at)::timestamptz, sqlc.arg(before)::bigint)
            order by m.came_at desc, m.id desc limit sqlc.arg(most))
    ) of_one order by of_one.came_at desc, of_one.id desc limit sqlc.arg(most)
) order by mail_log.came_at desc, mail_log.id desc;

-- name: MessagesOfMailbox :many
-- What became of the messages that the holder of a mailbox has sent, and of those to it, the newest
-- first.
select sqlc.embed(mail_log), servers.label, coalesce(sent.sign_in_name, '')::text as from_name,
    coalesce(got.sign_in_name, '')::text as to_name
from mail_log join servers on servers.id = mail_log.server_id
left join accounts sent on sent.id = mail_log.from_account left join accounts got on got.id = mail_log.to_account
where mail_log.id in (
    select either.id from (
        (select m.id, m.came_at from mail_log m where m.from_account = sqlc.arg(account)::bigint
            and lower(m.sign_in) = sqlc.arg(address)::text
            and (m.came_at, m.id) < (sqlc.arg(before_at)::timestamptz, sqlc.arg(before)::bigint)
            order by m.came_at desc, m.id desc limit sqlc.arg(most))
        union
        (select m.id, m.came_at from mail_log m where m.to_account = sqlc.arg(account)::bigint
            and (m.recipient = sqlc.arg(address)::text or m.delivered_to = sqlc.arg(address)::text)
            and (m.came_at, m.id) < (sqlc.arg(before_at)::timestamptz, sqlc.arg(before)::bigint)
            order by m.came_at desc, m.id desc limit sqlc.arg(most))
    ) either order by either.came_at desc, either.id desc limit sqlc.arg(most)
) order by mail_log.came_at desc, mail_log.id desc;

-- name: AccountsInScope :many
select id from accounts where (sqlc.arg(reseller)::bigint = 0 or reseller_id = sqlc.arg(reseller))
    and (sqlc.arg(customer)::bigint = 0 or customer_id = sqlc.arg(customer)) and state <> 'closed'
order by id;

-- name: Message :one
select sqlc.embed(mail_log), servers.label, coalesce(sent.sign_in_name, '')::text as from_name,
    coalesce(got.sign_in_name, '')::text as to_name
from mail_log join servers on servers.id = mail_log.server_id
left join accounts sent on sent.id = mail_log.from_account left join accounts got on got.id = mail_log.to_account
where mail_log.id = $1;

-- name: AddMailStop :execrows
insert into mail_stops (account_id, server_id, at, sent, failed)
select accounts.id, sqlc.arg(server_id)::bigint, sqlc.arg(at)::timestamptz, sqlc.arg(sent)::bigint,
    sqlc.arg(failed)::bigint
from accounts where accounts.id = sqlc.arg(account)::bigint and accounts.mail_server_id = sqlc.arg(server_id)::bigint
on conflict do nothing;

-- name: EndOtherMailStops :exec
delete from mail_stops where server_id = $1 and account_id <> all(sqlc.arg(stopped)::bigint[]);

-- name: MailStop :one
select * from mail_stops where account_id = $1;

-- name: MailStopsOn :many
select * from mail_stops where server_id = $1;

-- name: DeleteMailStop :exec
delete from mail_stops where account_id = $1;

-- name: FailuresOfAccount :many
select sender, recipient, reply from mail_log where from_account = sqlc.arg(account)::bigint and outcome = 'failed'
order by came_at desc, id desc limit sqlc.arg(most);

-- name: SendingByAccount :many
-- What became of what accounts have sent since a time, those of which most came back first.
select accounts.sign_in_name, accounts.main_domain, coalesce(servers.label, '')::text as server,
    count(*) filter (where mail_log.outcome = 'delivered') as delivered,
    count(*) filter (where mail_log.outcome = 'failed') as failed,
    count(*) filter (where mail_log.outcome = 'waiting') as waiting,
    exists (select 1 from mail_stops where mail_stops.account_id = accounts.id) as stopped
from mail_log join accounts on accounts.id = mail_log.from_account
left join servers on servers.id = accounts.mail_server_id
where mail_log.came_at > sqlc.arg(since) and mail_log.to_account is null
group by accounts.id, servers.label order by failed desc, waiting desc, delivered desc limit sqlc.arg(most);

-- name: SendingByDestination :many
-- What became of what accounts have sent to others' domains since a time, with the last reply of those
-- that did not take it.
select split_part(coalesce(nullif(delivered_to, ''), recipient), '@', 2)::text as destination,
    count(*) filter (where outcome = 'delivered') as delivered, count(*) filter (where outcome = 'failed') as failed,
    count(*) filter (where outcome = 'waiting') as waiting,
    coalesce((array_agg(reply order by at desc) filter (where outcome in ('failed', 'waiting')))[1], '')::text as reply
from mail_log where came_at > sqlc.arg(since) and from_account is not null and to_account is null
group by 1 order by failed desc, waiting desc, delivered desc limit sqlc.arg(most);
