-- name: PersonByName :one
select * from people where name = $1;

-- name: CountOperators :one
select count(*) from people where role = 'operator';

-- name: AddPerson :one
insert into people (name, role, password_hash) values ($1, $2, $3) returning *;

-- name: SetPassword :execrows
update people set password_hash = $2 where name = $1;

-- name: EndSessionsOf :exec
delete from sessions using people where people.id = sessions.person_id and people.name = $1;

-- name: AddSession :one
insert into sessions (token_digest, person_id, address, ends_at) values ($1, $2, $3, $4) returning *;

-- name: SessionByToken :one
select sessions.id, sessions.ends_at, sessions.seen_at, people.id as person_id, people.name, people.role
from sessions join people on people.id = sessions.person_id
where token_digest = $1 and ends_at > now();

-- name: TouchSession :exec
update sessions set seen_at = now(), ends_at = $2 where id = $1;

-- name: EndSession :exec
delete from sessions where id = $1;

-- name: EndOldSessions :exec
delete from sessions where ends_at < now();

-- name: CountSignIn :one
-- Counts a try as failed until it has succeeded, in one step, so that many at
-- once count like many in a row. No row comes back while the wait after earlier
-- failures lasts; such a try is not counted.
insert into sign_in_failures as f (subject, failures, last_at) values (sqlc.arg(subject), 1, now())
on conflict (subject) do update set last_at = now(), failures = case when f.last_at < now() - interval '1 hour' then 1 else f.failures + 1 end
where f.failures < sqlc.arg(free)::integer
   or f.last_at + make_interval(secs => least(power(2, least(f.failures - sqlc.arg(free)::integer, 20)), sqlc.arg(longest)::float8)) <= now()
returning failures;

-- name: SignInFailures :one
select * from sign_in_failures where subject = $1;

-- name: UncountSignIn :exec
update sign_in_failures set failures = greatest(failures - 1, 1) where subject = $1;

-- name: ForgetSignInFailures :exec
delete from sign_in_failures where subject = $1;

-- name: ForgetOldSignInFailures :exec
delete from sign_in_failures where last_at < now() - interval '1 day';
