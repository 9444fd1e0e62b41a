-- Whose a domain is: DNS shows it, or an operator says so.
alter table settings
    add domain_proof text not null default 'off' check (domain_proof in ('off', 'warn', 'require'));

alter table domains
    add proved_at      timestamptz,            -- null: nothing has shown yet that it is theirs
    add proved_by      text not null default '' check (proved_by in ('', 'record', 'address', 'operator', 'above')),
    add proof_text     text not null default '', -- what the TXT record is to say
    add waiting        boolean not null default false, -- it is served, and keeps others from it, only when it is proved
    add proof_due_at   timestamptz,            -- when DNS is asked next; null: never
    add proof_asked_at timestamptz,
    add proof_failed   text not null default ''; -- why it did not count, when it was asked last
update domains set proved_at = added_at, proved_by = 'operator';
-- A name is one account's, but for those who only say that it is theirs.
alter table domains drop constraint domains_name_key;
create unique index domains_name on domains (name) where not waiting;
create unique index domains_of_account on domains (account_id, name);
create index domains_waiting on domains (name) where waiting;
create index domains_proof_due on domains (proof_due_at) where proof_due_at is not null;

-- Sign-in names are proposed by what they begin with.
create index accounts_sign_in_stem on accounts (sign_in_name text_pattern_ops) where state <> 'closed';

-- Whose names were: that one of them leads here still does not make it the next one's.
create table former_domains (
    name               text not null,
    customer_id        bigint not null references customers on delete cascade,
    until              timestamptz not null default now(),
    primary key (name, customer_id)
);
create index former_domains_until on former_domains (until);
create function keep_former_domain() returns trigger language plpgsql as $$
begin
    if not old.waiting then
        insert into former_domains (name, customer_id)
            select old.name, customer_id from accounts where id = old.account_id
            on conflict (name, customer_id) do update set until = now();
    end if;
    return null;
end $$;
create trigger keep_former_domain after delete on domains for each row execute function keep_former_domain();
