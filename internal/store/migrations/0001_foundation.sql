-- What every installation has: people, plans, customers, servers, accounts,
-- domains, work in progress and the record of who did what.

create table installation (
    only_row           boolean primary key default true check (only_row),
    authority          bytea not null, -- certificate of the agents' authority, DER
    authority_key      bytea not null, -- its key, sealed
    created_at         timestamptz not null default now()
);

create table people (
    id                 bigint generated always as identity primary key,
    name               text not null check (name ~ '^[a-z0-9][a-z0-9._@-]{1,99}$'),
    role               text not null check (role in ('operator', 'reseller', 'customer')),
    password_hash      text not null,
    created_at         timestamptz not null default now(),
    unique (name)
);

create table sessions (
    id                 bigint generated always as identity primary key,
    token_digest       bytea not null unique check (length(token_digest) = 32),
    person_id          bigint not null references people on delete cascade,
    address            text not null,
    created_at         timestamptz not null default now(),
    seen_at            timestamptz not null default now(),
    ends_at            timestamptz not null
);
create index sessions_person on sessions (person_id);

-- Failed sign-ins, by name and by address, for the growing wait.
create table sign_in_failures (
    subject            text primary key,
    failures           integer not null check (failures > 0),
    last_at            timestamptz not null
);

create table plans (
    id                 bigint generated always as identity primary key,
    name               text not null unique check (name ~ '^[a-z][a-z0-9]*(-[a-z0-9]+)*$' and length(name) between 2 and 40),
    version            bigint not null default 1 check (version > 0),
    created_at         timestamptz not null default now()
);

create table plan_limits (
    plan_id            bigint not null references plans on delete cascade,
    key                text not null,
    amount             bigint check (amount >= 0), -- null is unlimited
    primary key (plan_id, key)
);

create table plan_features (
    plan_id            bigint not null references plans on delete cascade,
    feature            text not null,
    primary key (plan_id, feature)
);

create table customers (
    id                 bigint generated always as identity primary key,
    name               text not null check (length(name) between 1 and 200 and name = btrim(name)),
    email              text check (length(email) between 3 and 254 and email like '%_@_%'),
    version            bigint not null default 1 check (version > 0),
    created_at         timestamptz not null default now()
);
create unique index customers_name on customers (lower(name));

create table servers (
    id                 bigint generated always as identity primary key,
    label              text not null unique check (label ~ '^[a-z][a-z0-9-]{0,30}$'),
    address            text not null unique, -- host and port of the agent
    roles              text[] not null check (roles <@ array['web', 'mail', 'database', 'dns'] and cardinality(roles) > 0),
    open               boolean not null default true,
    state              text not null default 'joining' check (state in ('joining', 'joined')),
    join_secret        bytea, -- sealed; gone once joined
    join_ends_at       timestamptz,
    reachable          boolean not null default false,
    status             jsonb, -- what the agent said last
    status_at          timestamptz,
    swept_at           timestamptz,
    version            bigint not null default 1 check (version > 0),
    created_at         timestamptz not null default now(),
    check ((state = 'joining') = (join_secret is not null and join_ends_at is not null))
);

create table accounts (
    id                 bigint generated always as identity primary key,
    sign_in_name       text not null check (sign_in_name ~ '^[a-z][a-z0-9]{1,15}$'),
    main_domain        text not null,
    customer_id        bigint not null references customers,
    plan_id            bigint not null references plans,
    server_id          bigint not null references servers,
    state              text not null default 'opening' check (state in ('opening', 'active', 'closing', 'closed')),
    revision           bigint not null default 1 check (revision > 0),
    applied_revision   bigint not null default 0 check (applied_revision between 0 and revision),
    disk_used          bigint check (disk_used >= 0), -- bytes, as measured by the last sweep
    placement          text not null default '', -- why this server, in words
    version            bigint not null default 1 check (version > 0),
    opened_at          timestamptz not null default now(),
    closed_at          timestamptz,
    check ((state = 'closed') = (closed_at is not null))
);
-- A name is free again only when every trace of its account is gone.
create unique index accounts_sign_in_name on accounts (sign_in_name) where state <> 'closed';
create index accounts_server on accounts (server_id) where state <> 'closed';
create index accounts_customer on accounts (customer_id);
create index accounts_plan on accounts (plan_id);
create index accounts_main_domain on accounts (main_domain, id) where state <> 'closed';

create table domains (
    id                 bigint generated always as identity primary key,
    account_id         bigint not null references accounts,
    name               text not null unique check (name = lower(name) and length(name) between 3 and 249),
    registrable        text not null,
    served_as          text not null default 'site' check (served_as in ('site', 'mirror', 'redirect', 'dns-only')),
    main               boolean not null default false,
    root               text not null,
    added_at           timestamptz not null default now()
);
create unique index domains_main on domains (account_id) where main;
create index domains_account on domains (account_id);
create index domains_registrable on domains (registrable);

create table drifts (
    id                 bigint generated always as identity primary key,
    server_id          bigint not null references servers on delete cascade,
    account_id         bigint references accounts on delete cascade, -- null: nobody's
    part               text not null,
    subject            text not null,
    what               text not null,
    diff               text not null default '',
    found_at           timestamptz not null default now()
);
create index drifts_server on drifts (server_id);
create index drifts_account on drifts (account_id);

create table operations (
    id                 bigint generated always as identity primary key,
    kind               text not null,
    subject            text not null, -- what it works on, in words that stay
    account_id         bigint references accounts,
    server_id          bigint references servers,
    revision           bigint, -- of the account, that it brings about
    person_id          bigint references people on delete set null,
    actor              text not null,
    state              text not null default 'waiting' check (state in ('waiting', 'running', 'done', 'failed')),
    failure            text check ((failure is not null) = (state = 'failed')),
    note               text not null default '', -- what is going on while it waits or tries again
    version            bigint not null default 1,
    created_at         timestamptz not null default now(),
    started_at         timestamptz,
    finished_at        timestamptz check ((finished_at is not null) = (state in ('done', 'failed'))),
    touched_at         timestamptz not null default now()
);
create index operations_account on operations (account_id, id);
create index operations_unfinished on operations (touched_at) where state in ('waiting', 'running');

create table operation_steps (
    operation_id       bigint not null references operations on delete cascade,
    position           integer not null,
    name               text not null,
    state              text not null check (state in ('running', 'done', 'failed')),
    detail             text not null default '',
    started_at         timestamptz not null default now(),
    finished_at        timestamptz,
    primary key (operation_id, name)
);

-- What a request with an Idempotency-Key led to, kept for a day.
create table idempotency (
    person_id          bigint not null references people on delete cascade,
    key                text not null check (length(key) between 1 and 255),
    digest             bytea not null, -- of method, path and body
    answer             jsonb,
    created_at         timestamptz not null default now(),
    primary key (person_id, key)
);
create index idempotency_created on idempotency (created_at);

create table events (
    id                 bigint generated always as identity primary key,
    at                 timestamptz not null default now(),
    person_id          bigint,
    actor              text not null,
    address            text not null,
    request            text not null,
    action             text not null,
    subject            text not null,
    before             jsonb,
    after              jsonb
);
create index events_subject on events (subject, id);

create function events_stay() returns trigger language plpgsql as $$
begin
    raise exception 'events are never changed or deleted';
end $$;
create trigger events_stay before update or delete or truncate on events execute function events_stay();
