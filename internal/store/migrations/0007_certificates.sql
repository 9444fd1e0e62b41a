-- Certificates: authorities, what each site is to have, orders, and the certificates themselves.

create table authorities (
    id                 bigint generated always as identity primary key,
    name               text not null unique check (name ~ '^[a-z][a-z0-9-]{0,30}$'),
    directory          text not null,
    email              text not null default '',
    root               text not null default '', -- PEM, trusted for the connection beside the machine's list
    external_id        text not null default '',
    external_key       bytea,                    -- sealed
    profile            text not null default '',
    key                bytea not null,           -- of the account there, sealed
    url                text not null,            -- of the account there
    terms              text not null default '', -- URL of those that were agreed to
    identities         text[] not null default '{}', -- by which CAA records know it
    usual              boolean not null default false,
    limited_until      timestamptz,              -- it has said that it is asked too often
    version            bigint not null default 1 check (version > 0),
    created_at         timestamptz not null default now()
);
create unique index authorities_usual on authorities (usual) where usual;

-- Certificates of sites, with their keys.
create table certificates (
    id                 bigint generated always as identity primary key,
    domain_id          bigint not null references domains on delete cascade,
    authority_id       bigint references authorities, -- null for one that was uploaded
    names              text[] not null,
    key_type           text not null,
    key                bytea not null,           -- sealed
    chain              text not null,            -- PEM, the site's own first
    serial             text not null,
    not_before         timestamptz not null,
    not_after          timestamptz not null,
    renew_at           timestamptz,              -- null for one that does not renew itself
    ask_at             timestamptz,              -- when the authority is asked again when to renew
    explanation        text not null default '', -- URL, where the authority says why
    state              text not null default 'installing' check (state in ('installing', 'in-use', 'retired', 'revoked')),
    revision           bigint not null,          -- of the account, that brings it to its server
    created_at         timestamptz not null default now(),
    installed_at       timestamptz
);
create index certificates_domain on certificates (domain_id);
create unique index certificates_once on certificates (domain_id, state) where state in ('installing', 'in-use');

-- What a site is to have, and how the last try went.
create table site_certificates (
    domain_id          bigint primary key references domains on delete cascade,
    mode               text not null default 'automatic' check (mode in ('automatic', 'uploaded', 'self-signed')),
    names              text[],                   -- chosen; null is every name of the site that would pass
    key_type           text not null default 'ecdsa-p256',
    authority_id       bigint references authorities on delete set null, -- null is the usual one
    next_at            timestamptz,              -- of the next try; null for none
    failures           integer not null default 0,
    failed_at          timestamptz,              -- of the first failure in a row
    code               text not null default '', -- of the last failure
    problem            text not null default '',
    told_days          integer not null default 0, -- at how many days left people were told of failures
    version            bigint not null default 1 check (version > 0)
);
create index site_certificates_next on site_certificates (next_at) where next_at is not null;
insert into site_certificates (domain_id, next_at) select id, now() from domains where served_as <> 'dns-only';

create table orders (
    id                 bigint generated always as identity primary key,
    domain_id          bigint not null references domains on delete cascade,
    authority_id       bigint not null references authorities,
    operation_id       bigint not null references operations,
    names              text[] not null,
    left_out           jsonb not null default '[]', -- names that would fail, with their reasons
    key_type           text not null,
    key                bytea not null,           -- sealed
    url                text not null default '', -- at the authority; empty before it has taken the order
    state              text not null default 'new' check (state in ('new', 'proving', 'finalizing', 'installing', 'done', 'failed')),
    install_id         bigint references operations, -- that brings the certificate to its server
    created_at         timestamptz not null default now()
);
create unique index orders_once on orders (domain_id) where state in ('new', 'proving', 'finalizing', 'installing');
create index orders_authority on orders (authority_id, created_at);

create table challenges (
    id                 bigint generated always as identity primary key,
    order_id           bigint not null references orders on delete cascade,
    name               text not null,            -- that is proved, without *.
    kind               text not null check (kind in ('http-01', 'dns-01')),
    token              text not null,
    value              text not null,
    url                text not null,
    proof              text not null,            -- URL of the authority's demand
    accepted           boolean not null default false,
    unique (order_id, url)
);
