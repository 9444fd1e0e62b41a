-- What runs for accounts is bounded, measured, and told; and doors that others cannot shut.
create table loads ( -- what runs for an account, at the last sweep of its server
    account_id     bigint primary key references accounts on delete cascade,
    server_id      bigint not null references servers on delete cascade,
    measured_at    timestamptz not null default now(),
    processes      bigint not null,
    memory         bigint not null,        -- bytes
    cpu            integer not null,       -- percent of one processor, since the sweep before
    -- What the server has counted so far, to know what comes to it.
    cpu_total      bigint not null,        -- microseconds
    refused_total  bigint not null,
    killed_total   bigint not null,
    waited_total   bigint not null         -- milliseconds
);
create index loads_server on loads (server_id);

create table limits_met ( -- how often limits were met, by hour; hours without have no row
    account_id     bigint not null references accounts on delete cascade,
    hour           timestamptz not null,
    refused        bigint not null,        -- processes that could not be made
    killed         bigint not null,        -- processes that were ended for want of memory
    waited         bigint not null,        -- milliseconds for processor time
    primary key (account_id, hour)
);
create index limits_met_hour on limits_met (hour);

alter table sign_in_failures drop constraint sign_in_failures_failures_check, add check (failures >= 0);

create table known_networks ( -- from where somebody has signed in: not shut out by what others try
    person_id      bigint not null references people on delete cascade,
    network        text not null,          -- an IPv4 address, or an IPv6 network
    last_at        timestamptz not null default now(),
    primary key (person_id, network)
);

-- Plans, shares and frozen terms of before say nothing of these limits: they give what is usual.
insert into plan_limits (plan_id, key, amount)
    select plans.id, usual.key, usual.amount from plans,
        (values ('processes', 100::bigint), ('memory', 1073741824), ('cpu', 100), ('upload_size', 1073741824),
            ('site_connections', 1000), ('visitor_connections', 200)) as usual (key, amount)
    where exists (select from plan_limits where plan_id = plans.id);
insert into share_limits (reseller_id, key, amount)
    select distinct share_limits.reseller_id, usual.key, null::bigint from share_limits,
        (values ('processes'), ('memory'), ('cpu'), ('upload_size'), ('site_connections'), ('visitor_connections'))
        as usual (key);
update accounts set frozen_terms = jsonb_set(frozen_terms, '{limits}', '{"processes": 100, "memory": 1073741824, "cpu": 100,
    "upload_size": 1073741824, "site_connections": 1000, "visitor_connections": 200}' || (frozen_terms -> 'limits'))
where frozen_terms -> 'limits' is not null;

-- Servers have to learn of them: the next sweep applies them.
update accounts set revision = revision + 1, version = version + 1 where state = 'active';
