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
