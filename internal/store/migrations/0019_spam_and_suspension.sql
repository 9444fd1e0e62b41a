-- What is known of a message beside what became of it, and how much spam is borne. Scores are in
-- tenths of a point.
alter table settings
    add junk_above integer not null default 60 check (junk_above between 10 and 1000),     -- goes to Junk
    add refuse_above integer not null default 150 check (refuse_above between 10 and 1000), -- is not taken
    add greylisting boolean not null default false,   -- what is suspicious is to be sent once more
    add blocklists text[] not null default '{}',      -- zones of DNS that name addresses nothing is taken from
    add forbidden_attachments text[] not null default '{bat,cmd,com,cpl,exe,hta,jar,js,jse,lnk,msi,pif,ps1,scr,vbe,vbs,wsf}',
    add virus_scanner text not null default '',       -- a path or host:port; empty is none
    add check (refuse_above >= junk_above);

alter table servers add spam_filter boolean not null default true;

alter table mailboxes add junk_above integer check (junk_above between 10 and 1000); -- null: as in the settings

alter table mail_log add score text not null default '';  -- of the spam filter, with the rules that count most
alter table mail_log add folder text not null default ''; -- where in the mailbox, other than the inbox

-- Accounts whose mail is suspended by itself, while their sites go on.
create table mail_suspensions (
    account_id         bigint primary key references accounts on delete cascade,
    sending            boolean not null,      -- nothing is sent or passed on
    receiving          boolean not null,      -- whoever writes is told to try again later
    why                text not null,
    by                 text not null,
    role               text not null,         -- of whoever did it: a reseller cannot lift what an operator did
    at                 timestamptz not null default now(),
    check (sending or receiving)
);

create or replace view account_rows as
select accounts.id, accounts.sign_in_name, accounts.main_domain, accounts.customer_id, accounts.plan_id,
    accounts.server_id, accounts.reseller_id, accounts.state, accounts.revision, accounts.applied_revision,
    accounts.disk_used, accounts.placement, accounts.version, accounts.opened_at, accounts.closed_at,
    accounts.frozen_at, accounts.search,
    (accounts.state = 'active'
        and (accounts.suspended_at is not null or coalesce(resellers.suspended_accounts, false)))::boolean as suspended,
    coalesce(accounts.suspended_at, case when resellers.suspended_accounts then resellers.suspended_at end)
        as suspended_at,
    coalesce(accounts.suspended_by, case when resellers.suspended_accounts then resellers.suspended_by end, '')::text
        as suspended_by,
    coalesce(accounts.suspended_why, case when resellers.suspended_accounts then resellers.suspended_why end, '')::text
        as suspended_why,
    customers.name as customer, plans.name as plan, coalesce(sellers.name, '')::text as plan_reseller,
    servers.label as server, coalesce(resellers.name, '')::text as reseller,
    case when disk.account_id is not null then disk.amount
         when accounts.frozen_terms is not null then (accounts.frozen_terms -> 'limits' ->> 'disk')::bigint
         else plan_limits.amount end::bigint as disk_limit,
    (select count(*) from drifts where drifts.account_id = accounts.id)::bigint as drifts,
    (select count(*) from exceptions where exceptions.account_id = accounts.id
        and (exceptions.ends_at is null or exceptions.ends_at > now()))::bigint as exceptions,
    coalesce((select case when sending and receiving then 'all' when sending then 'sending' else 'receiving' end
        from mail_suspensions where mail_suspensions.account_id = accounts.id), '')::text as mail_state
from accounts
join customers on customers.id = accounts.customer_id
join plans on plans.id = accounts.plan_id
join servers on servers.id = accounts.server_id
left join resellers on resellers.id = accounts.reseller_id
left join resellers sellers on sellers.id = plans.reseller_id
left join plan_limits on plan_limits.plan_id = accounts.plan_id and plan_limits.key = 'disk'
left join exceptions disk on disk.account_id = accounts.id and disk.limit_key = 'disk'
    and (disk.ends_at is null or disk.ends_at > now());

-- Passwords of a mailbox that are for one program each.
create table program_passwords (
    id                 bigint generated always as identity primary key,
    mailbox_id         bigint not null references mailboxes on delete cascade,
    name               text not null check (length(name) between 1 and 60), -- what it is for, in the holder's words
    key                text not null,         -- with what the password begins: that is how it is found
    hash               bytea not null,        -- of all of it, sealed
    added_at           timestamptz not null default now(),
    unique (mailbox_id, name),
    unique (mailbox_id, key)
);
