-- name: FindDomain :one
select * from domains where account_id = $1 and name = $2;

-- name: DomainByName :one
select domains.*, accounts.server_id, accounts.sign_in_name, accounts.customer_id, accounts.reseller_id,
    accounts.state as account_state
from domains join accounts on accounts.id = domains.account_id where domains.name = $1
order by domains.waiting limit 1;

-- name: ChangeDomain :one
update domains set served_as = sqlc.arg(served_as), counts_as = sqlc.arg(counts_as), root = sqlc.arg(root),
    moved_from = sqlc.arg(moved_from), target = sqlc.arg(target),
    code = sqlc.arg(code), keep_path = sqlc.arg(keep_path), keep_query = sqlc.arg(keep_query),
    mirror_of = sqlc.narg(mirror_of), settings = sqlc.arg(settings),
    template_id = sqlc.narg(template_id), version = version + 1
where id = sqlc.arg(id) returning *;

-- name: FoldersOfAccount :many
select folders.* from folders join domains on domains.id = folders.domain_id where domains.account_id = $1
order by folders.domain_id, folders.path;

-- name: FolderUsersOfAccount :many
select folder_users.* from folder_users join folders on folders.id = folder_users.folder_id
    join domains on domains.id = folders.domain_id
where domains.account_id = $1 order by folder_users.folder_id, folder_users.name;

-- name: SaveFolder :one
insert into folders (domain_id, path, title) values ($1, $2, $3) on conflict (domain_id, path) do update
set title = excluded.title returning *;

-- name: RemoveFolder :execrows
delete from folders where domain_id = $1 and path = $2;

-- name: SaveFolderUser :exec
insert into folder_users (folder_id, name, hash) values ($1, $2, $3) on conflict (folder_id, name) do update
set hash = excluded.hash;

-- name: RemoveFolderUser :execrows
delete from folder_users where folder_id = $1 and name = $2;

-- name: AddTemplate :one
insert into templates (name, reseller_id, about, settings, records) values ($1, $2, $3, $4, $5) returning *;

-- name: ChangeTemplate :one
update templates set about = $2, settings = $3, records = $4, version = version + 1 where id = $1 returning *;

-- name: DetachTemplate :exec
-- By domains that would only follow it were they sites.
update domains set template_id = null where template_id = $1 and served_as <> 'site';

-- name: RemoveTemplate :exec
delete from templates where id = $1;

-- name: Templates :many
-- Of a reseller: theirs and the operator's. 0 is all.
select templates.*, coalesce(resellers.name, '')::text as reseller,
    (select count(*) from domains
        where domains.template_id = templates.id and domains.served_as = 'site')::bigint as sites,
    (select count(*) from plans where plans.template_id = templates.id and plans.removed_at is null)::bigint as plans
from templates left join resellers on resellers.id = templates.reseller_id
where sqlc.arg(reseller)::bigint = 0 or templates.reseller_id is null or templates.reseller_id = sqlc.arg(reseller)
order by resellers.name nulls first, templates.name;

-- name: FindTemplate :one
select templates.*, coalesce(resellers.name, '')::text as reseller
from templates left join resellers on resellers.id = templates.reseller_id
where templates.name = sqlc.arg(name) and coalesce(resellers.name, '') = sqlc.arg(reseller)::text;

-- name: TemplateByID :one
select templates.*, coalesce(resellers.name, '')::text as reseller from templates
    left join resellers on resellers.id = templates.reseller_id where templates.id = $1;

-- name: LockTemplate :one
select * from templates where id = $1 for update;

-- name: LockTemplateForShare :one
-- So that it is not removed while something comes to follow it.
select id from templates where id = $1 for share;

-- name: SitesOfTemplate :many
-- And of domains that are no sites, but follow it with their zones.
select domains.id, domains.account_id, domains.name, domains.served_as, domains.settings, accounts.sign_in_name
from domains join accounts on accounts.id = domains.account_id
where domains.template_id = $1 order by domains.name;

-- name: PlansOfTemplate :many
select plans.name from plans where template_id = $1 and removed_at is null order by plans.name;

-- name: TemplateOfPlan :one
select template_id from plans where id = $1;

-- name: SetPlanTemplate :exec
update plans set template_id = sqlc.narg(template_id) where id = sqlc.arg(id);

-- name: ClearMovedRoots :exec
-- The files are where they were to be moved.
update domains set moved_from = '' where account_id = $1 and moved_from <> '';

-- name: TemplatesOfPlans :many
select plans.id, coalesce(resellers.name, '')::text as reseller, templates.name from plans
    join templates on templates.id = plans.template_id
    left join resellers on resellers.id = templates.reseller_id where plans.id = any(sqlc.arg(ids)::bigint[]);

-- name: RemoveTemplatesOf :exec
delete from templates where reseller_id = $1;

-- name: AccountsOfOwner :many
-- Of a reseller, or of nobody's.
select id from accounts where reseller_id is not distinct from sqlc.narg(reseller)::bigint
  and state in ('opening', 'active') order by id;
