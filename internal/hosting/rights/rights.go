// Package rights says who may do what. Every route of the API names one
// permission; every use case is behind a route.
package rights

// Permission names something that can be done.
type Permission string

// The permissions. Public needs no session, and Own only one of any role:
// what it reaches is the caller's own.
const (
	Public         Permission = "public"
	Own            Permission = "own"
	AccountsRead   Permission = "accounts.read"
	AccountsOpen   Permission = "accounts.open"
	AccountsClose  Permission = "accounts.close"
	AccountsRepair Permission = "accounts.repair"
	PlansRead      Permission = "plans.read"
	PlansChange    Permission = "plans.change"
	CustomersRead  Permission = "customers.read"
	CustomersAdd   Permission = "customers.add"
	ServersRead    Permission = "servers.read"
	ServersChange  Permission = "servers.change"
	OperationsRead Permission = "operations.read"
)

// All lists every permission.
var All = []Permission{Public, Own, AccountsRead, AccountsOpen, AccountsClose, AccountsRepair, PlansRead, PlansChange,
	CustomersRead, CustomersAdd, ServersRead, ServersChange, OperationsRead}

// Role is what kind of person somebody is.
type Role string

// The roles.
const (
	Operator Role = "operator"
	Reseller Role = "reseller"
	Customer Role = "customer"
)

// Allows reports whether people of that role have a permission.
func Allows(role Role, p Permission) bool {
	switch {
	case p == Public:
		return true
	case p == Own:
		return role != ""
	}
	return role == Operator
}
