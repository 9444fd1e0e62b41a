-- What homes hold is counted in files, too, and what customers have in the way of their own sites
-- is told as warnings.
alter table accounts add files_used bigint check (files_used >= 0); -- files and directories, at the last sweep

create table warnings (
    account_id         bigint not null references accounts on delete cascade,
    part               text not null,            -- site, login or home
    subject            text not null default '', -- the site's domain, the login's name
    path               text not null default '', -- in the home
    code               text not null,
    message            text not null default '', -- of a program
    since              timestamptz not null default now(),
    primary key (account_id, part, subject, code)
);

create or replace view usage as
    select accounts.id as account_id, 'disk'::text as key, accounts.disk_used as amount from accounts
    union all
    select accounts.id, 'files'::text, accounts.files_used from accounts
    union all
    select domains.account_id, domains.counts_as, 1::bigint from domains
    union all
    select logins.account_id, 'logins'::text, 1::bigint from logins where not logins.main;

-- The limit on files counted nothing before. Where it was left at 0, nobody meant that no file can
-- be written.
update plan_limits set amount = null where key = 'files' and amount = 0;
update share_limits set amount = null where key = 'files' and amount = 0;
update accounts set frozen_terms = jsonb_set(frozen_terms, '{limits,files}', 'null')
where frozen_terms -> 'limits' ->> 'files' = '0';

-- Servers have to learn of that limit: the next sweep applies it.
update accounts set revision = revision + 1, version = version + 1 where state = 'active';
