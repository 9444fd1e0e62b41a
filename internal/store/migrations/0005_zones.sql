-- Name service: zones with records that people add, name servers, and accounts on more than one server.

-- What an account has on which server: its home on one, its zones on the primary name server.
create table account_servers (
    account_id         bigint not null references accounts on delete cascade,
    server_id          bigint not null references servers,
    revision           bigint not null default 0, -- of the manifest that is in force there
    digest             bytea not null default '', -- of that manifest without its revision; empty asks for another apply
    primary key (account_id, server_id)
);
create index account_servers_server on account_servers (server_id);
insert into account_servers (account_id, server_id, revision) select id, server_id, applied_revision from accounts where state <> 'closed';

create table zones (
    id                 bigint generated always as identity primary key,
    account_id         bigint not null references accounts on delete cascade,
    name               text not null unique check (name = lower(name) and length(name) between 3 and 249),
    name_service       text not null check (name_service in ('here', 'elsewhere')),
    dnssec             boolean not null default false,
    version            bigint not null default 1 check (version > 0),
    created_at         timestamptz not null default now(),
    check (not dnssec or name_service = 'here')
);
create index zones_account on zones (account_id);
insert into zones (account_id, name, name_service)
    select account_id, name, 'elsewhere' from domains where not exists (
        select from domains above where above.account_id = domains.account_id and domains.name like '%.' || above.name);

create table records (
    id                 bigint generated always as identity primary key,
    zone_id            bigint not null references zones on delete cascade,
    name               text not null, -- relative to the zone; @ is the zone itself
    type               text not null,
    ttl                bigint not null check (ttl between 60 and 604800), -- seconds
    data               text not null check (length(data) <= 32768),
    added_at           timestamptz not null default now()
);
create unique index records_once on records (zone_id, name, type, md5(data));

-- What a template adds to every zone of the sites that follow it, as it was typed.
alter table templates add records jsonb not null default '[]';

-- Names under which a reseller's customers see the name servers; empty is the installation's.
alter table resellers add name_servers text[] not null default '{}';

alter table servers
    add addresses text[] not null default '{}', -- that the world reaches; empty is the agent's
    add told text not null default '';          -- digest of what it holds for all accounts together

alter table installation add transfer_key bytea; -- of the name servers' transfers, sealed
