-- Kits: starter content that sites begin with.

create table kits (
    id                 bigint generated always as identity primary key,
    name               text not null check (name ~ '^[a-z][a-z0-9-]{1,38}[a-z0-9]$'),
    version            text not null check (version ~ '^[0-9]+(\.[0-9]+){0,3}$'),
    document           jsonb not null,        -- kit.json
    digest             text not null,         -- of document and files
    size               bigint not null check (size >= 0), -- of the files, in bytes
    files              integer not null check (files > 0),
    signer             text not null default '', -- the key that the archive was signed with; empty: not signed
    withdrawn          boolean not null default false, -- no site gets it any more
    added_at           timestamptz not null default now(),
    unique (name, version)
);

-- The files, apart from the rest, which lists read.
create table kit_archives (
    kit_id             bigint primary key references kits on delete cascade,
    archive            bytea not null
);
alter table kit_archives alter column archive set storage external; -- it is packed already

-- The plans whose accounts are offered a kit, by the kit's name.
create table kit_offers (
    kit                text not null,
    plan_id            bigint not null references plans on delete cascade,
    primary key (kit, plan_id)
);
create index kit_offers_plan on kit_offers (plan_id);

-- The kit of a site, and the work that is under way with it.
create table site_kits (
    id                 bigint generated always as identity primary key,
    account_id         bigint not null references accounts on delete cascade,
    domain_id          bigint unique references domains on delete set null, -- null: the domain is gone, and this goes next
    kit_id             bigint not null references kits,
    state              text not null check (state in ('preparing', 'staging', 'running', 'placing', 'checking', 'settling',
        'installed', 'copying', 'patching', 'applying', 'updating', 'leaving', 'clearing', 'undoing')),
    work               text not null check (work in ('', 'install', 'update', 'remove')),
    operation_id       bigint references operations, -- of the work, or of the last one
    apply_id           bigint references operations, -- what servers are told as a part of it
    step               integer not null default 0,   -- the steps that are done
    answers            jsonb not null,
    secrets            bytea not null,        -- by name, sealed; the database user's password among them
    digests            jsonb not null default '{}', -- of the files as they were written, by path
    settings_before    jsonb not null default '{}', -- of the site, for those that the kit has set; null: none
    database_id        bigint references databases on delete set null,
    database_user_id   bigint references database_users on delete set null,
    failure            text not null default '', -- why the work is being undone
    -- What an update leads to; null while there is none.
    next_kit_id        bigint references kits,
    next_answers       jsonb,
    next_secrets       bytea,
    next_digests       jsonb,
    take               text[] not null default '{}', -- changed files in whose place the kit's come
    replace_files      boolean not null default false, -- those that are in the site before it gets the kit
    saved_import       text not null default '', -- the copy of the database, on its server
    version            bigint not null default 1 check (version > 0),
    added_at           timestamptz not null default now(),
    begun_at           timestamptz not null default now(), -- the work that is under way
    installed_at       timestamptz
);
create index site_kits_account on site_kits (account_id);
create index site_kits_kit on site_kits (kit_id);

alter table settings add column kit_keys text[] not null default '{}'; -- public keys that kits are signed with
