-- Distribution lists: addresses whose messages go to members. Holders of mailboxes sign in themselves.
create table mail_lists (
    id                 bigint generated always as identity primary key,
    account_id         bigint not null references accounts on delete cascade,
    domain_id          bigint not null references domains on delete cascade,
    local              text not null
                       check (local ~ '^[a-z0-9]([a-z0-9._-]*[a-z0-9])?$' and length(local) <= 56),
    name               text not null default '' check (length(name) <= 60),
    posting            text not null check (posting in ('anyone', 'members', 'owners')), -- who sends without asking
    moderated          boolean not null,      -- what others send waits for an owner; otherwise it is refused
    footer             text not null default '' check (length(footer) <= 2000),
    version            bigint not null default 1 check (version > 0),
    added_at           timestamptz not null default now(),
    unique (domain_id, local)
);
create index mail_lists_account on mail_lists (account_id);

create table list_members (
    list_id            bigint not null references mail_lists on delete cascade,
    address            text not null,
    member             boolean not null,      -- gets what is sent to the list
    owner              boolean not null,      -- looks after it
    joined_at          timestamptz not null default now(),
    primary key (list_id, address),
    check (member or owner)
);

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
    where mail_addresses.local not in ('abuse', 'hostmaster', 'postmaster', 'webmaster')
    union all
    select mail_lists.account_id, 'lists'::text, 1::bigint from mail_lists;

alter table mailboxes add filters jsonb not null default '[]'; -- what sorts its messages

-- Holders of mailboxes who are signed in, each to one mailbox and nothing else.
create table mailbox_sessions (
    id                 bigint generated always as identity primary key,
    mailbox_id         bigint not null references mailboxes on delete cascade,
    token_digest       bytea not null unique check (length(token_digest) = 32),
    address            text not null,
    program            text not null,
    started_at         timestamptz not null default now(),
    seen_at            timestamptz not null default now(),
    ends_at            timestamptz not null,
    ends_latest        timestamptz not null
);
create index mailbox_sessions_mailbox on mailbox_sessions (mailbox_id);

alter table settings add mail_days integer not null default 5 -- how long what cannot be delivered waits
    check (mail_days between 1 and 14);

-- What became of messages is listed by when they came, whatever else is asked for.
drop index mail_log_came, mail_log_from_account, mail_log_to_account, mail_log_sender, mail_log_recipient,
    mail_log_trouble;
create index mail_log_came on mail_log (came_at, id);
create index mail_log_from_account on mail_log (from_account, came_at, id) where from_account is not null;
create index mail_log_to_account on mail_log (to_account, came_at, id) where to_account is not null;
create index mail_log_sender on mail_log (sender, came_at, id);
create index mail_log_recipient on mail_log (recipient, came_at, id);
create index mail_log_outcome on mail_log (outcome, came_at, id) where outcome <> 'delivered';
