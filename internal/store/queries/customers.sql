-- name: AddCustomer :one
insert into customers (name, email) values ($1, $2) returning *;

-- name: CustomerByName :one
select * from customers where lower(name) = lower(sqlc.arg(name));

-- name: Customers :many
select customers.*, (select count(*) from accounts where customer_id = customers.id and state <> 'closed') as accounts
from customers where lower(name) > sqlc.arg(after)::text and (sqlc.arg(search)::text = '' or lower(name) like '%' || lower(sqlc.arg(search)) || '%')
order by lower(name) limit sqlc.arg(most);
