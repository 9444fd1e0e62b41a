-- Who signs in, how, and what the installation tells them by mail.

alter table people
    add duty text not null default 'all' check (duty in ('all', 'support', 'billing', 'read-only')),
    add reseller_id bigint references resellers on delete cascade, -- the reseller they are of, or whose customer they are of
    add customer_id bigint references customers on delete cascade,
    add email text check (length(email) between 3 and 254 and email like '%_@_%'),
    add language text not null default 'en' check (language in ('en', 'de')),
    add look_only boolean not null default false,
    add must_change boolean not null default false, -- the password, before anything else
    add password_at timestamptz,
    add networks cidr[] not null default '{}', -- from where they may come; empty is from anywhere
    add totp_secret bytea, -- sealed
    add totp_at timestamptz, -- since when it is in use; null while it is being set up
    add totp_step bigint not null default 0, -- of the last code taken, so that none is taken twice
    add version bigint not null default 1 check (version > 0),
    add check (role = 'operator' or duty = 'all'),
    add check ((role = 'customer') = (customer_id is not null)),
    add check (role <> 'operator' or reseller_id is null),
    add check (role <> 'reseller' or reseller_id is not null),
    add check (totp_at is null or totp_secret is not null);
create index people_customer on people (customer_id);
create index people_reseller on people (reseller_id);

create table recovery_codes (
    person_id          bigint not null references people on delete cascade,
    digest             bytea not null check (length(digest) = 32),
    used_at            timestamptz,
    primary key (person_id, digest)
);

alter table sessions
    add ends_latest timestamptz not null default now() + interval '12 hours', -- however much it is used
    add program text not null default '' check (length(program) <= 200), -- what the browser or client calls itself
    add acting_customer_id bigint references customers on delete cascade,
    add acting_reseller_id bigint references resellers on delete cascade,
    add check (acting_customer_id is null or acting_reseller_id is null);

create table tokens (
    id                 bigint generated always as identity primary key,
    person_id          bigint not null references people on delete cascade,
    name               text not null check (length(name) between 1 and 100),
    digest             bytea not null unique check (length(digest) = 32),
    scopes             text[] not null check (cardinality(scopes) > 0),
    networks           cidr[] not null default '{}',
    ends_at            timestamptz,
    used_at            timestamptz,
    used_from          text,
    created_at         timestamptz not null default now(),
    unique (person_id, name)
);

-- One-time links: to set the first or a new password, or to sign in without one.
create table links (
    id                 bigint generated always as identity primary key,
    digest             bytea not null unique check (length(digest) = 32),
    person_id          bigint not null references people on delete cascade,
    purpose            text not null check (purpose in ('password', 'sign-in')),
    made_by            text not null,
    created_at         timestamptz not null default now(),
    ends_at            timestamptz not null,
    used_at            timestamptz
);
create index links_person on links (person_id);

create table settings (
    only_row           boolean primary key default true check (only_row),
    title              text not null default 'Victualler' check (length(title) between 1 and 100),
    console            text not null default '', -- where people reach the console
    name_servers       text[] not null default '{}',
    second_factor      text[] not null default '{}' check (second_factor <@ array['operator', 'reseller', 'customer']),
    session_minutes    integer not null default 60 check (session_minutes between 5 and 720),
    mail_server        text not null default '', -- host:port; empty sends nothing
    mail_security      text not null default 'starttls' check (mail_security in ('tls', 'starttls', 'none')),
    mail_name          text not null default '',
    mail_password      bytea, -- sealed
    sender             text not null default '', -- address
    version            bigint not null default 1 check (version > 0)
);
insert into settings default values;

-- Messages on their way out. The text is sealed, as it may hold a one-time link, and forgotten once sent.
create table mails (
    id                 bigint generated always as identity primary key,
    kind               text not null,
    recipient          text not null,
    message            bytea, -- sealed
    sender             text not null,
    state              text not null default 'waiting' check (state in ('waiting', 'sent', 'failed')),
    failure            text not null default '',
    customer_id        bigint references customers on delete set null,
    reseller_id        bigint references resellers on delete set null,
    created_at         timestamptz not null default now(),
    finished_at        timestamptz,
    check ((state = 'waiting') = (finished_at is null)),
    check ((state = 'waiting') = (message is not null))
);
create index mails_customer on mails (customer_id, id);

-- What was answered may hold what is shown only once: it is sealed.
delete from idempotency;
alter table idempotency drop answer, add answer bytea;
