-- Mail: addresses beside those of mailboxes, what mailboxes pass on and may send, and the keys that
-- messages are signed with.
create table mail_addresses (
    id                 bigint generated always as identity primary key,
    account_id         bigint not null references accounts on delete cascade,
    domain_id          bigint not null references domains on delete cascade,
    local              text not null
                       check (local = '*' or local ~ '^[a-z0-9]([a-z0-9._-]*[a-z0-9])?$' and length(local) <= 64),
    targets            text[] not null check (cardinality(targets) > 0), -- addresses, of the account's or others
    version            bigint not null default 1 check (version > 0),
    added_at           timestamptz not null default now(),
    unique (domain_id, local)
);
create index mail_addresses_account on mail_addresses (account_id);

alter table mailboxes add forward_to text[] not null default '{}';                -- addresses that get its mail, too
alter table mailboxes add sends_per_hour bigint check (sends_per_hour > 0);       -- null: as many as the account may
alter table mailboxes add reply_text text;                                        -- told to whoever writes; null: nothing
alter table mailboxes add reply_subject text not null default '';                 -- empty: that of the message
alter table mailboxes add reply_from timestamptz;                                 -- null: always
alter table mailboxes add reply_until timestamptz;

create table signing_keys (
    id                 bigint generated always as identity primary key,
    account_id         bigint not null references accounts on delete cascade,
    domain_id          bigint not null references domains on delete cascade,
    selector           text not null,
    key                bytea not null,        -- the private half, sealed
    record             text not null,         -- the text that publishes the public half
    made_at            timestamptz not null,
    active_at          timestamptz,           -- when it began to sign; null: it is published, for the next one
    retired_at         timestamptz,           -- when it ceased to; it is still published for what is under way
    unique (domain_id, selector)
);
create index signing_keys_account on signing_keys (account_id);

alter table installation add return_key bytea; -- of senders of what is passed on, sealed

create or replace view usage as
    select accounts.id as account_id, 'disk'::text as key, accounts.disk_used as amount from accounts
    union all
    select accounts.id, 'files'::text, accounts.files_used from accounts
    union all
    select domains.account_id, domains.counts_as, 1::bigint from domains
    union all
    select logins.account_id, 'logins'::text, 1::bigint from logins where not logins.main
    union all
    select mailboxes.account_id, 'mailboxes'::text, 1::bigint from mailboxes
    union all
    -- Those that every domain has (RFC 2142) are pointed somewhere, and do not count.
    select mail_addresses.account_id, 'addresses'::text, 1::bigint from mail_addresses
    where mail_addresses.local not in ('abuse', 'hostmaster', 'postmaster', 'webmaster');

-- What has become of messages, a row for each recipient, from the logs of the mail servers.
create table mail_log (
    id                 bigint generated always as identity primary key,
    server_id          bigint not null references servers on delete cascade,
    number             bigint not null,       -- the server's own, which stays the same
    queue              text not null,         -- the message's name in the server's queue
    came_at            timestamptz not null,
    at                 timestamptz not null,  -- when the last thing happened
    sender             text not null,
    recipient          text not null,
    delivered_to       text not null,
    message_id         text not null,
    size               bigint not null,
    client             text not null,
    sign_in            text not null,
    outcome            text not null check (outcome in ('delivered', 'forwarded', 'waiting', 'failed', 'refused')),
    code               text not null,
    relay              text not null,
    reply              text not null,
    tries              bigint not null,
    from_account       bigint references accounts on delete cascade, -- whose message it is; null: from outside
    to_account         bigint references accounts on delete cascade, -- who gets it; null: somebody outside
    unique (server_id, number)
);
create index mail_log_came on mail_log (came_at);
create index mail_log_from_account on mail_log (from_account, id) where from_account is not null;
create index mail_log_to_account on mail_log (to_account, id) where to_account is not null;
create index mail_log_sender on mail_log (sender, id);
create index mail_log_recipient on mail_log (recipient, id);
create index mail_log_message on mail_log (message_id) where message_id <> '';
create index mail_log_trouble on mail_log (id) where outcome in ('waiting', 'failed');
alter table servers add mail_log_change bigint not null default 0; -- up to which change its log is known

-- Accounts that are stopped from sending, as too much of it came back.
create table mail_stops (
    account_id         bigint primary key references accounts on delete cascade,
    server_id          bigint not null references servers on delete cascade,
    at                 timestamptz not null,
    sent               bigint not null,       -- to how many recipients it had sent within a day
    failed             bigint not null        -- how many of those came back
);
