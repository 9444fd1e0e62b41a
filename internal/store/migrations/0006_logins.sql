-- Sign-ins for file transfer: every account's own, and further ones, which are counted.
create table logins (
    id                 bigint generated always as identity primary key,
    account_id         bigint not null references accounts on delete cascade,
    name               text not null check (name ~ '^[a-z][a-z0-9]{1,15}(-[a-z][a-z0-9]{0,14})?$'),
    main               boolean not null default false, -- the account's own
    folder             text not null default '' check (length(folder) <= 512), -- below the home; empty is the whole home
    hash               text not null default '', -- of the password; empty lets nobody in by password
    version            bigint not null default 1 check (version > 0),
    added_at           timestamptz not null default now(),
    unique (account_id, name),
    check (not main or folder = '')
);
create unique index logins_main on logins (account_id) where main;

create table login_keys (
    id                 bigint generated always as identity primary key,
    login_id           bigint not null references logins on delete cascade,
    line               text not null check (length(line) between 20 and 16384), -- type and blob
    comment            text not null default '' check (length(comment) <= 200),
    fingerprint        text not null,
    added_at           timestamptz not null default now(),
    unique (login_id, fingerprint)
);

insert into logins (account_id, name, main) select id, sign_in_name, true from accounts where state <> 'closed';

create or replace view usage as
    select accounts.id as account_id, 'disk'::text as key, accounts.disk_used as amount from accounts
    union all
    select domains.account_id, domains.counts_as, 1::bigint from domains
    union all
    select logins.account_id, 'logins'::text, 1::bigint from logins where not logins.main;

-- Servers have to learn of the logins of accounts that are there: the next sweep applies them.
update accounts set revision = revision + 1, version = version + 1 where state = 'active';
