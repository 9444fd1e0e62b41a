-- What holders of mailboxes have the service ask of other people's servers is bounded, too, and they are no people of the
-- service. What has been counted until now is forgotten within the hour anyway.
drop table probe_limits;
create table probe_limits (
    subject            text primary key,          -- person 17, mailbox info@ternferries.example
    used_until         timestamptz not null
);
