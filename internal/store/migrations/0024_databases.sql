-- Databases of accounts, their users, and what these may do.

-- All databases of an account in one engine are on one server, and so are their users.
create table account_engines (
    account_id         bigint not null references accounts on delete cascade,
    engine             text not null check (engine in ('mariadb', 'postgresql')),
    server_id          bigint not null references servers,
    placement          text not null,         -- why there
    primary key (account_id, engine)
);
create index account_engines_server on account_engines (server_id, engine);

-- Names begin with the account's sign-in name, so none is there twice; and not in two engines
-- either, so that a name alone says which is meant.
create table databases (
    id                 bigint generated always as identity primary key,
    account_id         bigint not null references accounts on delete cascade,
    engine             text not null check (engine in ('mariadb', 'postgresql')),
    name               text not null unique check (name ~ '^[a-z][a-z0-9]*_[a-z0-9_]+$' and length(name) <= 58),
    charset            text not null,
    collation_name     text not null,
    size               bigint check (size >= 0), -- in bytes, on disk; null: not measured yet
    growth             text not null default '' check (growth in ('', 'stopped', 'closed')),
    version            bigint not null default 1 check (version > 0),
    added_at           timestamptz not null default now()
);
create index databases_account on databases (account_id);

create table database_users (
    id                 bigint generated always as identity primary key,
    account_id         bigint not null references accounts on delete cascade,
    engine             text not null check (engine in ('mariadb', 'postgresql')),
    name               text not null unique check (name ~ '^[a-z][a-z0-9]*_[a-z0-9_]+$' and length(name) <= 58),
    verifier           bytea,                 -- what the engine checks the password with, sealed; null: none
    hosts              text[] not null default '{}', -- networks to connect from, beside the server itself
    version            bigint not null default 1 check (version > 0),
    added_at           timestamptz not null default now()
);
create index database_users_account on database_users (account_id);

create table database_levels (
    database_id        bigint not null references databases on delete cascade,
    user_id            bigint not null references database_users on delete cascade,
    level              text not null check (level in ('read', 'write', 'all')),
    primary key (database_id, user_id)
);
create index database_levels_user on database_levels (user_id);

-- What customers were told last of how full their databases are.
create table database_notices (
    account_id         bigint primary key references accounts on delete cascade,
    percent            integer not null check (percent in (80, 95, 100)),
    at                 timestamptz not null default now()
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
    select mail_lists.account_id, 'lists'::text, 1::bigint from mail_lists
    union all
    select databases.account_id, 'databases'::text, 1::bigint from databases
    union all
    select databases.account_id, 'database_size'::text, databases.size from databases where databases.size is not null;

-- Plans, shares and frozen terms of before say nothing of this limit: it is unlimited.
insert into plan_limits (plan_id, key, amount)
    select plans.id, 'database_size', null from plans where exists (select from plan_limits where plan_id = plans.id);
insert into share_limits (reseller_id, key, amount)
    select distinct share_limits.reseller_id, 'database_size', null::bigint from share_limits;
update accounts set frozen_terms = jsonb_set(frozen_terms, '{limits}',
    '{"database_size": null}' || (frozen_terms -> 'limits'))
where frozen_terms -> 'limits' is not null;
