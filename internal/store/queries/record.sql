-- name: AddEvent :exec
insert into events (person_id, actor, address, request, action, subject, before, after) values ($1, $2, $3, $4, $5, $6, $7, $8);

-- name: BeginIdempotent :execrows
-- Waits while another request with the same key is under way.
insert into idempotency (person_id, key, digest) values ($1, $2, $3) on conflict do nothing;

-- name: IdempotentAnswer :one
select digest, answer from idempotency where person_id = $1 and key = $2;

-- name: KeepIdempotentAnswer :exec
update idempotency set answer = $3 where person_id = $1 and key = $2;

-- name: ForgetIdempotency :exec
delete from idempotency where created_at < now() - interval '1 day';

-- name: Installation :one
select * from installation;

-- name: AddInstallation :execrows
insert into installation (authority, authority_key) values ($1, $2) on conflict do nothing;
