-- name: LoginsOfAccount :many
select * from logins where account_id = $1 order by main desc, name;

-- name: KeysOfAccount :many
select login_keys.* from login_keys join logins on logins.id = login_keys.login_id where logins.account_id = $1
order by login_keys.id;

-- name: AddLogin :one
insert into logins (account_id, name, main, folder, hash) values ($1, $2, $3, $4, $5) returning *;

-- name: ChangeLogin :exec
update logins set folder = $2, hash = $3, version = version + 1 where id = $1;

-- name: RemoveLogin :exec
delete from logins where id = $1;

-- name: AddLoginKey :exec
insert into login_keys (login_id, line, comment, fingerprint) values ($1, $2, $3, $4);

-- name: RemoveLoginKey :execrows
delete from login_keys where login_id = $1 and fingerprint = $2;

-- name: DeleteLogins :exec
delete from logins where account_id = $1;
