-- name: AddCustomer :one
insert into customers (reseller_id, name, email, contact, phone, postal, language) values ($1, $2, $3, $4, $5, $6, $7)
returning *;

-- name: ChangeCustomer :one
update customers set name = $2, email = $3, contact = $4, phone = $5, postal = $6, language = $7, version = version + 1
where id = $1 returning *;

-- name: LockCustomer :one
-- No row if it was removed meanwhile.
select * from customers where id = $1 and removed_at is null for update;

-- name: LockCustomerForKeyShare :one
-- Nobody removes the customer until whoever adds something of theirs is done. No row if it was
-- removed meanwhile.
select * from customers where id = $1 and removed_at is null for key share;

-- name: CustomerByID :one
select * from customers where id = $1;

-- name: SaveNotes :exec
update customers set notes = $2 where id = $1;

-- name: RemoveCustomer :exec
-- Closed accounts still refer to it; what is personal goes.
with gone as (delete from people where people.customer_id = sqlc.arg(id)::bigint)
update customers set removed_at = now(), name = 'removed customer ' || customers.id, email = null, contact = '',
    phone = '', postal = '', notes = '', version = version + 1 where customers.id = sqlc.arg(id)::bigint;

-- name: FindCustomers :many
-- By number or by name; names are unique for each reseller, so there may be more than one.
select customers.id, customers.name, coalesce(resellers.name, '')::text as reseller from customers
    left join resellers on resellers.id = customers.reseller_id
where customers.removed_at is null
  and (customers.id = sqlc.arg(id)::bigint or lower(customers.name) = lower(sqlc.arg(name)::text))
  and (sqlc.arg(reseller)::bigint = 0 or customers.reseller_id = sqlc.arg(reseller))
  and (sqlc.arg(customer)::bigint = 0 or customers.id = sqlc.arg(customer))
order by (customers.reseller_id is not null), customers.id;

-- name: Customers :many
select customers.id, customers.reseller_id, customers.name, customers.email, customers.contact, customers.phone,
    customers.postal, customers.language, customers.version, customers.created_at,
    coalesce(resellers.name, '')::text as reseller,
    (select count(*) from accounts where accounts.customer_id = customers.id and state <> 'closed')::bigint as accounts
from customers left join resellers on resellers.id = customers.reseller_id
where customers.removed_at is null
  and (lower(customers.name), customers.id) > (sqlc.arg(after_name)::text, sqlc.arg(after_id)::bigint)
  and (sqlc.arg(search)::text = ''
      or lower(customers.name || ' ' || coalesce(customers.email, '')) like '%' || lower(sqlc.arg(search)) || '%')
  and (sqlc.arg(reseller)::bigint = 0 or customers.reseller_id = sqlc.arg(reseller))
  and (not sqlc.arg(own)::boolean or customers.reseller_id is null)
  and (sqlc.arg(customer)::bigint = 0 or customers.id = sqlc.arg(customer))
order by lower(customers.name), customers.id limit sqlc.arg(most);

-- name: CountAccountsOf :one
select count(*) filter (where accounts.state <> 'closed')::bigint as open, count(*)::bigint as ever from accounts
where accounts.customer_id = $1;
