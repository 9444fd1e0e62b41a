// Package entitlement says what an account may use, from its rows: the terms of its plan, or those
// on which it is frozen; then its exceptions; then what its reseller's share leaves. The core
// (hosting/plans) decides, this package reads.
//
// Whoever lets something grow calls [LockToChange], which locks the reseller and the account, and
// then [Entitlement.Admit]: requests at once cannot pass a limit together. [Load] and [LoadMany]
// are for looking, [LoadTerms] for what servers have to know, which is never what is used.
//
// Sums over a reseller's accounts ([AllottedBy]) are made of the number of accounts on each plan
// and of the few that have terms of their own.
package entitlement
