-- What sites send goes through the server with the account's mail, where that is not the sites' own.
alter table installation add link_key bytea; -- servers know each other by what is made of it, sealed
alter table accounts add mail_placement text not null default ''; -- why the mail is on its server
alter table account_servers add disk_used bigint check (disk_used >= 0); -- bytes there, at the last sweep; null before
update account_servers set disk_used = accounts.disk_used from accounts
where accounts.id = account_servers.account_id and accounts.server_id = account_servers.server_id;

-- Sign-ins to mailboxes that failed within the last day, as the servers say.
create table mailbox_failures (
    mailbox_id         bigint primary key references mailboxes on delete cascade,
    failures           bigint not null check (failures > 0),
    clients            bigint not null check (clients > 0),  -- from how many addresses
    last_at            timestamptz not null,
    last_from          text not null                         -- empty: one of many
);
