-- Imports whose file comes from the account's home, until it is there.
create table receiving_imports (
    account_id         bigint not null references accounts on delete cascade,
    import             text not null,         -- as the agent that keeps it calls it
    alive_at           timestamptz not null default now(), -- when somebody was at it last
    primary key (account_id, import)
);
