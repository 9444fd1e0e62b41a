-- Certificates that somebody brings, names that are proved in other ways than over HTTP, and what keeps orders within an authority's bounds.

-- Keys for which somebody has another authority sign; each waits for its certificate.
create table signing_requests (
    id                 bigint generated always as identity primary key,
    domain_id          bigint not null references domains on delete cascade,
    names              text[] not null,
    subject            text not null default '', -- in words
    key_type           text not null,
    key                bytea not null,           -- sealed
    request            text not null,            -- PEM
    created_at         timestamptz not null default now()
);
create index signing_requests_domain on signing_requests (domain_id);

-- Certificates of authorities that were part of chains which somebody we trust has vouched for: they complete others.
create table intermediates (
    digest             bytea primary key,        -- SHA-256 of the certificate
    subject            bytea not null,
    certificate        bytea not null,           -- DER
    added_at           timestamptz not null default now()
);
create index intermediates_subject on intermediates (subject);

alter table site_certificates
    add column pin_key boolean not null default false, -- the next certificate has the key of this one
    -- Under the zone for challenges; what is there proves the site's names for good, so nobody else ever gets the same.
    add column challenge_label text not null default replace(gen_random_uuid()::text, '-', '') unique;

alter table orders
    add column ways jsonb not null default '{}', -- of each name, how it is proved; over HTTP where nothing is said
    add column refused text[] not null default '{}'; -- names that the authority could not prove

alter table challenges
    add column account_id bigint references accounts on delete cascade, -- whose zone shows the record; null for none of ours
    add column record text not null default '',  -- where the record stands, complete
    add column missing text[] not null default '{}', -- name servers that do not show it yet
    add column looked_at timestamptz;
update challenges set record = '_acme-challenge.' || challenges.name, account_id = domains.account_id from orders join domains on domains.id = orders.domain_id
    where orders.id = challenges.order_id and challenges.kind = 'dns-01';

alter table authorities
    add column next_key bytea, -- sealed; the account is being given it
    add column next_key_at timestamptz,
    add column bounds jsonb not null default '[]'; -- how much it lets be ordered

alter table settings
    add column challenge_zone text not null default ''; -- a name in a zone of ours, under which domains elsewhere have their names proved
