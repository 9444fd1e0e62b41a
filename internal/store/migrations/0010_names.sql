-- Columns get the names that the rest of the product uses, and what the next version needs.

alter table zones rename column name_service to hosted; -- here or elsewhere
alter table accounts rename column held to frozen_terms; -- limits and features of the time when it was frozen, with the plan's name
alter table accounts rename column held_at to frozen_at;
alter table account_rows rename column held_at to frozen_at;
alter table people rename column look_only to read_only; -- may look and change nothing
alter table drifts rename column what to detail; -- in words

-- A message is sent outside of any transaction: whoever sends it has it until then.
alter table mails add column claimed_until timestamptz;

-- What people have the service ask of other people's servers is bounded, whichever process they ask. The bound is kept
-- as the moment up to which their questions are used up.
create table probe_limits (
    person_id          bigint primary key references people on delete cascade,
    used_until         timestamptz not null
);

-- When a site is to be looked at, and until when somebody is at it, are two things.
alter table site_certificates rename column next_at to due_at; -- when it is looked at whether to order; null for never
alter table site_certificates add column claimed_until timestamptz;

-- What a certificate order has servers do is a part of it; people see one operation.
alter table operations add column part_of bigint references operations on delete cascade;
