-- Mail: the name by which a server greets others, where the mail of an account is, and its mailboxes.
alter table servers add host_name text not null default '' check (host_name = lower(host_name));
create unique index servers_host_name on servers (host_name) where host_name <> '';

alter table accounts add mail_server_id bigint references servers; -- null: it has had no mailbox yet
create index accounts_mail_server on accounts (mail_server_id) where mail_server_id is not null;

create table mailboxes (
    id                 bigint generated always as identity primary key,
    account_id         bigint not null references accounts on delete cascade,
    domain_id          bigint not null references domains on delete cascade,
    local              text not null check (local ~ '^[a-z0-9]([a-z0-9._-]*[a-z0-9])?$' and length(local) <= 64),
    hash               bytea,                    -- of the password, sealed; null lets nobody in
    size               bigint check (size > 0),  -- the most it may hold, in bytes; null is what the account may give one
    version            bigint not null default 1 check (version > 0),
    added_at           timestamptz not null default now(),
    unique (domain_id, local)
);
create index mailboxes_account on mailboxes (account_id);

create or replace view usage as
    select accounts.id as account_id, 'disk'::text as key, accounts.disk_used as amount from accounts
    union all
    select accounts.id, 'files'::text, accounts.files_used from accounts
    union all
    select domains.account_id, domains.counts_as, 1::bigint from domains
    union all
    select logins.account_id, 'logins'::text, 1::bigint from logins where not logins.main
    union all
    select mailboxes.account_id, 'mailboxes'::text, 1::bigint from mailboxes;
