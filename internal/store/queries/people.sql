-- name: PersonByName :one
select * from people where name = $1;

-- name: PersonByID :one
select * from people where id = $1;

-- name: LockPerson :one
select * from people where id = $1 for update;

-- name: FindPerson :one
select * from people where name = sqlc.arg(name)
  and (sqlc.arg(reseller)::bigint = 0 or people.reseller_id = sqlc.arg(reseller))
  and (sqlc.arg(customer)::bigint = 0 or people.customer_id = sqlc.arg(customer));

-- name: People :many
select people.id, people.name, people.role, people.duty, people.email, people.language, people.read_only,
    people.must_change, (people.password_hash <> '')::boolean as has_password,
    (people.totp_at is not null)::boolean as has_totp, people.networks, people.version, people.created_at,
    coalesce(customers.name, '')::text as customer, people.customer_id, coalesce(resellers.name, '')::text as reseller,
    coalesce((select max(seen_at) from sessions where sessions.person_id = people.id), 'epoch')::timestamptz as seen_at
from people left join customers on customers.id = people.customer_id
    left join resellers on resellers.id = people.reseller_id
where people.name > sqlc.arg(after)::text
  and (sqlc.arg(role)::text = '' or people.role = sqlc.arg(role))
  and (sqlc.arg(search)::text = '' or people.name like '%' || lower(sqlc.arg(search)) || '%'
      or lower(people.email) like '%' || lower(sqlc.arg(search)) || '%')
  and (sqlc.arg(of_customer)::bigint = 0 or people.customer_id = sqlc.arg(of_customer))
  and (sqlc.arg(one)::bigint = 0 or people.id = sqlc.arg(one))
  and (sqlc.arg(reseller)::bigint = 0 or people.reseller_id = sqlc.arg(reseller))
  and (sqlc.arg(customer)::bigint = 0 or people.customer_id = sqlc.arg(customer))
order by people.name limit sqlc.arg(most);

-- name: CountOperators :one
select count(*) from people where role = 'operator' and duty = 'all';

-- name: OperatorsWithMail :many
-- Those whose duty is all of it.
select * from people where role = 'operator' and duty = 'all' and email is not null order by name;

-- name: LockPeople :exec
lock table people in share row exclusive mode;

-- name: AddPerson :one
insert into people (name, role, duty, password_hash, reseller_id, customer_id, email, language, read_only, must_change,
    networks, password_at)
values (sqlc.arg(name), sqlc.arg(role), sqlc.arg(duty), sqlc.arg(password_hash), sqlc.narg(reseller_id),
    sqlc.narg(customer_id), sqlc.narg(email), sqlc.arg(language), sqlc.arg(read_only), sqlc.arg(must_change),
    sqlc.arg(networks)::cidr[], case when sqlc.arg(password_hash) = '' then null else now() end) returning *;

-- name: ChangePerson :one
update people set duty = sqlc.arg(duty), email = sqlc.narg(email), language = sqlc.arg(language),
    read_only = sqlc.arg(read_only), networks = sqlc.arg(networks)::cidr[], version = version + 1
where id = sqlc.arg(id) returning *;

-- name: SetLanguage :exec
update people set language = $2 where id = $1;

-- name: RemovePerson :exec
delete from people where id = $1;

-- name: SetPassword :exec
update people set password_hash = sqlc.arg(password_hash), must_change = sqlc.arg(must_change), password_at = now(),
    version = version + 1 where id = sqlc.arg(id);

-- name: StartTOTP :exec
update people set totp_secret = $2, totp_at = null, totp_step = 0 where id = $1;

-- name: SaveTOTP :exec
update people set totp_at = coalesce(totp_at, now()), totp_step = $2 where id = $1;

-- name: UseTOTPStep :execrows
-- A code counts once, and none that is older than the last.
update people set totp_step = sqlc.arg(step) where id = sqlc.arg(id) and totp_step < sqlc.arg(step);

-- name: DeleteTOTP :exec
update people set totp_secret = null, totp_at = null, totp_step = 0 where id = $1;

-- name: DeleteRecoveryCodes :exec
delete from recovery_codes where person_id = $1;

-- name: AddRecoveryCodes :exec
insert into recovery_codes (person_id, digest) select sqlc.arg(person)::bigint, unnest(sqlc.arg(digests)::bytea[]);

-- name: UseRecoveryCode :execrows
update recovery_codes set used_at = now() where person_id = $1 and digest = $2 and used_at is null;

-- name: RecoveryCodesLeft :one
select count(*) from recovery_codes where person_id = $1 and used_at is null;

-- name: EndSessionsOf :exec
-- All of a person's sessions but one.
delete from sessions where person_id = sqlc.arg(person) and id <> sqlc.arg(but)::bigint;

-- name: AddSession :one
insert into sessions (token_digest, person_id, address, program, ends_at, ends_latest) values ($1, $2, $3, $4, $5, $6)
returning *;

-- name: SessionByToken :one
select sqlc.embed(sessions), sqlc.embed(people),
    (people.role = any(settings.second_factor) and people.totp_at is null)::boolean as wants_totp,
    settings.session_minutes,
    coalesce(mine.id, 0)::bigint as reseller_id, coalesce(mine.name, '')::text as reseller,
    coalesce(mine.suspended_why, '')::text as suspended_why,
    coalesce(acting_customer.name, '')::text as acting_customer,
    coalesce(acting_customer.reseller_id, 0)::bigint as acting_customer_reseller,
    coalesce(acting_reseller.name, '')::text as acting_reseller
from sessions join people on people.id = sessions.person_id cross join settings
    left join resellers mine on mine.id = people.reseller_id and people.role = 'reseller'
    left join customers acting_customer on acting_customer.id = sessions.acting_customer_id
    left join resellers acting_reseller on acting_reseller.id = sessions.acting_reseller_id
where token_digest = $1 and ends_at > now();

-- name: TouchSession :exec
update sessions set seen_at = now(), ends_at = $2 where id = $1;

-- name: ActAs :exec
update sessions set acting_customer_id = $2, acting_reseller_id = $3 where id = $1;

-- name: EndSession :execrows
delete from sessions where id = sqlc.arg(id) and person_id = sqlc.arg(person);

-- name: SessionsOf :many
select * from sessions where person_id = $1 and ends_at > now() order by seen_at desc;

-- name: DeleteOldSessions :exec
delete from sessions where ends_at < now();

-- name: AddToken :one
insert into tokens (person_id, name, digest, scopes, networks, ends_at)
values (sqlc.arg(person_id), sqlc.arg(name), sqlc.arg(digest), sqlc.arg(scopes), sqlc.arg(networks)::cidr[],
    sqlc.narg(ends_at)) returning *;

-- name: TokenByDigest :one
select sqlc.embed(tokens), sqlc.embed(people),
    coalesce(mine.id, 0)::bigint as reseller_id, coalesce(mine.name, '')::text as reseller,
    coalesce(mine.suspended_why, '')::text as suspended_why
from tokens join people on people.id = tokens.person_id
    left join resellers mine on mine.id = people.reseller_id and people.role = 'reseller'
where tokens.digest = $1 and (tokens.ends_at is null or tokens.ends_at > now());

-- name: TouchToken :exec
update tokens set used_at = now(), used_from = $2 where id = $1;

-- name: TokensOf :many
select tokens.id, tokens.name, tokens.scopes, tokens.networks, tokens.ends_at, tokens.used_at, tokens.used_from,
    tokens.created_at from tokens where person_id = $1 order by name;

-- name: RemoveToken :one
delete from tokens where id = sqlc.arg(id) and person_id = sqlc.arg(person) returning *;

-- name: AddLink :exec
insert into links (digest, person_id, purpose, made_by, ends_at) values ($1, $2, $3, $4, $5);

-- name: LinkByDigest :one
select links.id, links.purpose, links.made_by, links.ends_at, sqlc.embed(people) from links
    join people on people.id = links.person_id
where digest = $1 and used_at is null and ends_at > now();

-- name: UseLink :execrows
-- Once; of two at the same time, one.
update links set used_at = now() where id = $1 and used_at is null and ends_at > now();

-- name: DeleteLinksOf :exec
delete from links where person_id = $1 and purpose = $2;

-- name: DeleteOldLinks :exec
delete from links where ends_at < now() - interval '7 days';

-- name: CountSignIn :one
-- Counts a try as failed until it has succeeded, in one step, so that many at
-- once count like many in a row. No row comes back while the wait after earlier
-- failures lasts; such a try is not counted.
insert into sign_in_failures as f (subject, failures, last_at) values (sqlc.arg(subject), 1, now())
on conflict (subject) do update
set last_at = now(), failures = case when f.last_at < now() - interval '1 hour' then 1 else f.failures + 1 end
where f.failures < sqlc.arg(free)::integer
   or f.last_at + make_interval(secs => least(power(2, least(f.failures - sqlc.arg(free)::integer, 20)),
       sqlc.arg(longest)::float8)) <= now()
returning failures;

-- name: SignInFailures :one
select * from sign_in_failures where subject = $1;

-- name: UncountSignIn :exec
update sign_in_failures set failures = greatest(failures - 1, 0) where subject = $1;

-- name: DeleteSignInFailures :exec
delete from sign_in_failures where subject = $1;

-- name: KnownNetwork :one
-- Whether the person of a name has signed in from a network in the last three months.
select exists (select from known_networks join people on people.id = known_networks.person_id
    where people.name = sqlc.arg(name) and network = sqlc.arg(network) and last_at > now() - interval '90 days');

-- name: SaveKnownNetwork :exec
insert into known_networks (person_id, network) values ($1, $2)
on conflict (person_id, network) do update set last_at = now();

-- name: DeleteOldSignInFailures :exec
delete from sign_in_failures where last_at < now() - interval '1 day';

-- name: CountProbe :execrows
-- Counts a question, unless that many are used up: then no row is written.
insert into probe_limits as limits (subject, used_until) values (sqlc.arg(subject), sqlc.arg(next)::timestamptz)
on conflict (subject) do update
    set used_until = greatest(limits.used_until, sqlc.arg(now)::timestamptz)
        + (sqlc.arg(next)::timestamptz - sqlc.arg(now)::timestamptz)
    where greatest(limits.used_until, sqlc.arg(now)::timestamptz)
        + (sqlc.arg(next)::timestamptz - sqlc.arg(now)::timestamptz) <= sqlc.arg(latest)::timestamptz;

-- name: ProbesUsedUntil :one
select used_until from probe_limits where subject = $1;

-- name: DeleteOldProbeLimits :exec
delete from probe_limits where used_until < now() - interval '1 hour';
