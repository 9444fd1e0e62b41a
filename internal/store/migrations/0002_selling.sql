-- What is sold, by whom and to whom: resellers with their shares and brands, plans of
-- their own, exceptions, held accounts, suspensions, and how things are found among many.

create extension if not exists pg_trgm;

create table resellers (
    id                 bigint generated always as identity primary key,
    name               text not null check (name ~ '^[a-z][a-z0-9]*(-[a-z0-9]+)*$' and length(name) between 2 and 40),
    title              text not null check (length(title) between 1 and 200),
    email              text check (length(email) between 3 and 254 and email like '%_@_%'),
    measure            text not null default 'allotted' check (measure in ('allotted', 'used')),
    suspended_at       timestamptz,
    suspended_by       text,
    suspended_why      text,
    suspended_accounts boolean not null default false, -- whether their accounts are suspended with them
    brand              jsonb not null default '{}', -- title, footer, colours, sender
    logo               bytea check (length(logo) <= 262144),
    logo_type          text check (logo_type in ('image/png', 'image/svg+xml', 'image/webp')),
    removed_at         timestamptz, -- what closed accounts refer to stays on record, out of sight
    version            bigint not null default 1 check (version > 0),
    created_at         timestamptz not null default now(),
    check ((suspended_at is null) = (suspended_by is null) and (suspended_at is null) = (suspended_why is null)),
    check (suspended_at is not null or not suspended_accounts),
    check ((logo is null) = (logo_type is null))
);
create unique index resellers_name on resellers (name) where removed_at is null;
create index resellers_search on resellers using gin ((lower(name || ' ' || title)) gin_trgm_ops);

create table share_limits (
    reseller_id        bigint not null references resellers on delete cascade,
    key                text not null,
    amount             bigint check (amount >= 0), -- null is unlimited
    primary key (reseller_id, key)
);

create table share_features (
    reseller_id        bigint not null references resellers on delete cascade,
    feature            text not null,
    primary key (reseller_id, feature)
);

-- A plan without a reseller is the operator's.
alter table plans add reseller_id bigint references resellers, add removed_at timestamptz;
alter table plans drop constraint plans_name_key;
create unique index plans_name on plans (reseller_id, name) nulls not distinct where removed_at is null;

alter table customers
    add reseller_id bigint references resellers,
    add contact text not null default '' check (length(contact) <= 200), -- who to ask for
    add phone text not null default '' check (length(phone) <= 60),
    add postal text not null default '' check (length(postal) <= 1000),
    add language text not null default 'en' check (language in ('en', 'de')),
    add notes text not null default '' check (length(notes) <= 20000), -- staff's own; never for the customer
    add removed_at timestamptz;
drop index customers_name;
create unique index customers_name on customers (reseller_id, lower(name)) nulls not distinct where removed_at is null;
create index customers_order on customers (lower(name), id);
create index customers_of_reseller on customers (reseller_id, lower(name), id);
create index customers_search on customers using gin ((lower(name || ' ' || coalesce(email, ''))) gin_trgm_ops);

alter table accounts
    add reseller_id bigint references resellers, -- the customer's, kept here for sums and lists
    add held jsonb, -- limits and features of the time when it was held, with the plan's name
    add held_at timestamptz,
    add suspended_at timestamptz,
    add suspended_by text,
    add suspended_role text, -- of whoever did it: a reseller cannot lift what an operator did
    add suspended_why text,
    add search text not null default '', -- what a list is searched by; kept by triggers
    add check ((held is null) = (held_at is null)),
    add check ((suspended_at is null) = (suspended_by is null) and (suspended_at is null) = (suspended_role is null) and (suspended_at is null) = (suspended_why is null));
create index accounts_reseller on accounts (reseller_id, main_domain, id) where state <> 'closed';
create index accounts_of_customer on accounts (customer_id, main_domain, id) where state <> 'closed';
create index accounts_named on accounts (sign_in_name);
create index accounts_domain on accounts (main_domain, id);
create index accounts_search on accounts using gin (search gin_trgm_ops);
drop index accounts_customer;

-- What the domain counts as: one of the limits.
alter table domains add counts_as text not null default 'domains' check (counts_as in ('domains', 'subdomains', 'mirrors'));

create function account_search(account bigint, sign_in_name text, main_domain text, customer bigint) returns text language sql stable as $$
    select lower(concat_ws(' ', sign_in_name, main_domain,
        (select string_agg(domains.name, ' ') from domains where domains.account_id = account and domains.name <> main_domain),
        (select customers.name from customers where customers.id = customer)))
$$;
create function accounts_keep() returns trigger language plpgsql as $$
begin
    new.search = account_search(new.id, new.sign_in_name, new.main_domain, new.customer_id);
    new.reseller_id = (select reseller_id from customers where customers.id = new.customer_id);
    return new;
end $$;
create trigger accounts_keep before insert or update of sign_in_name, main_domain, customer_id, reseller_id, search on accounts
    for each row execute function accounts_keep();
create function domains_search() returns trigger language plpgsql as $$
begin
    -- A main domain is in its account's search by the account itself.
    if not coalesce(new.main, old.main) then
        update accounts set search = '' where id = coalesce(new.account_id, old.account_id);
    end if;
    return null;
end $$;
create trigger domains_search after insert or update of name or delete on domains for each row execute function domains_search();
create function customers_search() returns trigger language plpgsql as $$
begin
    update accounts set search = '' where customer_id = new.id;
    return null;
end $$;
create trigger customers_search after update of name, reseller_id on customers for each row execute function customers_search();
update accounts set search = '';

-- A limit or feature set by hand on one account.
create table exceptions (
    id                 bigint generated always as identity primary key,
    account_id         bigint not null references accounts on delete cascade,
    limit_key          text,
    amount             bigint check (amount >= 0), -- null is unlimited
    feature            text,
    switched_on        boolean,
    reason             text not null check (length(reason) between 1 and 500),
    author             text not null,
    set_at             timestamptz not null default now(),
    ends_at            timestamptz,
    check ((limit_key is null) <> (feature is null)),
    check ((feature is null) = (switched_on is null) and (limit_key is not null or amount is null)),
    unique (account_id, limit_key),
    unique (account_id, feature)
);
create index exceptions_ends on exceptions (ends_at) where ends_at is not null;

-- What is counted, one row for each thing or measurement (null where it was not measured yet); whoever counts
-- something adds it here. Only without conditions of their own do the parts use their indexes for few accounts.
create view usage as
    select accounts.id as account_id, 'disk'::text as key, accounts.disk_used as amount from accounts
    union all
    select domains.account_id, domains.counts_as, 1::bigint from domains;

-- Work that spans many accounts.
create table operation_accounts (
    operation_id       bigint not null references operations on delete cascade,
    account_id         bigint not null references accounts,
    revision           bigint not null, -- that it brings about
    primary key (operation_id, account_id)
);

-- Who may see an operation or an event, besides operators.
alter table operations
    add customer_id bigint references customers on delete set null,
    add reseller_id bigint references resellers on delete set null;
update operations set customer_id = accounts.customer_id from accounts where accounts.id = operations.account_id;
create index operations_customer on operations (customer_id, id);
create index operations_reseller on operations (reseller_id, id);

alter table events
    add on_behalf text, -- as whom the actor acted
    add account_id bigint,
    add customer_id bigint,
    add reseller_id bigint,
    add search text generated always as (lower(actor || ' ' || coalesce(on_behalf, '') || ' ' || action || ' ' || subject || ' ' || address)) stored;
create index events_account on events (account_id, id);
create index events_customer on events (customer_id, id);
create index events_reseller on events (reseller_id, id);
create index events_at on events (at, id);
create index events_actor on events (lower(actor), id);
create index events_search on events using gin (search gin_trgm_ops);

-- An account as lists show it.
create view account_rows as
select accounts.id, accounts.sign_in_name, accounts.main_domain, accounts.customer_id, accounts.plan_id, accounts.server_id, accounts.reseller_id,
    accounts.state, accounts.revision, accounts.applied_revision, accounts.disk_used, accounts.placement, accounts.version, accounts.opened_at, accounts.closed_at,
    accounts.held_at, accounts.search,
    (accounts.state = 'active' and (accounts.suspended_at is not null or coalesce(resellers.suspended_accounts, false)))::boolean as suspended,
    coalesce(accounts.suspended_at, case when resellers.suspended_accounts then resellers.suspended_at end) as suspended_at,
    coalesce(accounts.suspended_by, case when resellers.suspended_accounts then resellers.suspended_by end, '')::text as suspended_by,
    coalesce(accounts.suspended_why, case when resellers.suspended_accounts then resellers.suspended_why end, '')::text as suspended_why,
    customers.name as customer, plans.name as plan, coalesce(sellers.name, '')::text as plan_reseller, servers.label as server, coalesce(resellers.name, '')::text as reseller,
    case when disk.account_id is not null then disk.amount
         when accounts.held is not null then (accounts.held -> 'limits' ->> 'disk')::bigint
         else plan_limits.amount end::bigint as disk_limit,
    (select count(*) from drifts where drifts.account_id = accounts.id)::bigint as drifts,
    (select count(*) from exceptions where exceptions.account_id = accounts.id and (exceptions.ends_at is null or exceptions.ends_at > now()))::bigint as exceptions
from accounts
join customers on customers.id = accounts.customer_id
join plans on plans.id = accounts.plan_id
join servers on servers.id = accounts.server_id
left join resellers on resellers.id = accounts.reseller_id
left join resellers sellers on sellers.id = plans.reseller_id
left join plan_limits on plan_limits.plan_id = accounts.plan_id and plan_limits.key = 'disk'
left join exceptions disk on disk.account_id = accounts.id and disk.limit_key = 'disk' and (disk.ends_at is null or disk.ends_at > now());
