-- How full and how busy each server was at the beginning of each hour, for plots over time.
create table server_hours (
    server_id          bigint not null references servers on delete cascade,
    hour               timestamptz not null,
    disk_used          bigint not null check (disk_used >= 0), -- bytes, on the file system of the homes
    disk_total         bigint not null check (disk_total >= 0),
    load               real not null,
    primary key (server_id, hour)
);

-- Accounts that have hardly any disk space left. Most are ruled out by their plan alone, without
-- looking at their exceptions.
create view nearly_full_accounts as
select rows.id, rows.main_domain from account_rows rows
where rows.disk_used >= 0.95 * rows.disk_limit and rows.disk_limit > 0 and rows.state <> 'closed' and rows.id in (
    select accounts.id from accounts
    left join plan_limits on plan_limits.plan_id = accounts.plan_id and plan_limits.key = 'disk'
    where accounts.disk_used > 0 and (accounts.disk_used >= 0.95 * plan_limits.amount
        or accounts.frozen_terms is not null
        or accounts.id in (select exceptions.account_id from exceptions where exceptions.limit_key = 'disk')));

-- Work that somebody cancels has not failed.
alter table operations drop constraint operations_state_check, drop constraint operations_check,
    drop constraint operations_check1;
alter table operations
    add constraint operations_state check (state in ('waiting', 'running', 'done', 'failed', 'cancelled')),
    add constraint operations_failure check ((failure is not null) = (state in ('failed', 'cancelled'))),
    add constraint operations_finished
        check ((finished_at is not null) = (state in ('done', 'failed', 'cancelled')));
alter table operation_steps drop constraint operation_steps_state_check;
alter table operation_steps
    add constraint operation_steps_state check (state in ('running', 'done', 'failed', 'cancelled'));
