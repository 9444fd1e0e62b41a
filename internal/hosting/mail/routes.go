package mail

import (
	"slices"
	"strings"
)

// Book is what an account's addresses lead to. Addresses are local@domain in their final form.
type Book struct {
	// Domains are those that the account gets mail for.
	Domains []string
	// Mailboxes are the addresses of mailboxes, each with the addresses that its messages are
	// passed on to as well.
	Mailboxes map[string][]string
	// Addresses lead to other addresses; *@domain to those of whatever nobody else gets.
	Addresses map[string][]string
	// Lists are the addresses of lists.
	Lists []string
}

// Hop is what an address is.
type Hop string

// Hops of a message.
const (
	// ToMailbox stores the message.
	ToMailbox Hop = "mailbox"
	// ToOthers leads to other addresses.
	ToOthers Hop = "address"
	// ToCatchAll is an address that is none; the domain's catch-all gets it.
	ToCatchAll Hop = "catch_all"
	// ToRole is a role address (RFC 2142) that nobody has pointed anywhere.
	ToRole Hop = "role"
	// ToWithout leads to the address without what follows a plus (RFC 5233).
	ToWithout Hop = "sub_address"
	// ToList passes the message on to the members of a list, ToListOwners to its owners.
	ToList       Hop = "list"
	ToListOwners Hop = "list_owners"
	// ToOutside leaves the account.
	ToOutside Hop = "outside"
	// Nowhere: there is no such address.
	Nowhere Hop = "nowhere"
	// Loop: the message has been here before.
	Loop Hop = "loop"
)

// Path is what becomes of a message to an address.
type Path struct {
	Address string
	Hop     Hop
	// Next are the addresses that it goes on to, besides being stored.
	Next []Path
}

// Owns reports whether an address is of a domain of the account.
func (b Book) Owns(address string) bool {
	_, domain, _ := strings.Cut(address, "@")
	return slices.Contains(b.Domains, domain)
}

// Path follows an address to where its messages end.
func (b Book) Path(address string) Path { return b.path(strings.ToLower(address), nil) }

func (b Book) path(address string, before []string) Path {
	p := Path{Address: address}
	next := func(hop Hop, targets ...string) Path {
		p.Hop = hop
		for _, target := range targets {
			p.Next = append(p.Next, b.path(target, append(slices.Clone(before), address)))
		}
		return p
	}
	local, domain, _ := strings.Cut(address, "@")
	forwards, isMailbox := b.Mailboxes[address]
	targets, isAddress := b.Addresses[address]
	switch {
	case slices.Contains(before, address):
		p.Hop = Loop
		return p
	case !b.Owns(address):
		return next(ToOutside)
	case isMailbox:
		return next(ToMailbox, forwards...)
	case isAddress:
		return next(ToOthers, targets...)
	case slices.Contains(b.Lists, address):
		return next(ToList)
	case slices.Contains(b.Lists, ListOfRequest(address)):
		return next(ToListOwners)
	}
	if before, _, has := strings.Cut(local, Separator); has && before != "" {
		return next(ToWithout, before+"@"+domain)
	}
	if IsRole(local) {
		return next(ToRole, b.roleTarget(domain)...)
	}
	if targets, has := b.Addresses[CatchAll+"@"+domain]; has {
		return next(ToCatchAll, targets...)
	}
	return next(Nowhere)
}

// roleTarget is where the role addresses of a domain lead which nobody has pointed anywhere: to the
// first mailbox of the domain, else to the first of the account, else to wherever an address of
// the domain leads.
func (b Book) roleTarget(domain string) []string {
	var own, all []string
	for address := range b.Mailboxes {
		all = append(all, address)
		if strings.HasSuffix(address, "@"+domain) {
			own = append(own, address)
		}
	}
	for _, list := range [][]string{own, all} {
		if len(list) > 0 {
			return []string{slices.Min(list)}
		}
	}
	var others []string
	for address := range b.Addresses {
		if local, of, _ := strings.Cut(address, "@"); of == domain && !IsRole(local) {
			others = append(others, address)
		}
	}
	if len(others) == 0 {
		return nil
	}
	return b.Addresses[slices.Min(others)]
}

// Ends are where a message ends: the mailboxes that store it and the addresses outside that it is
// passed on to, each once and sorted.
func (p Path) Ends() (mailboxes, outside []string) {
	p.walk(func(at Path) {
		switch at.Hop {
		case ToMailbox:
			mailboxes = append(mailboxes, at.Address)
		case ToOutside:
			outside = append(outside, at.Address)
		}
	})
	slices.Sort(mailboxes)
	slices.Sort(outside)
	return slices.Compact(mailboxes), slices.Compact(outside)
}

// Stops are where a message goes from an address before anything else is asked: the mailboxes and
// lists, and the addresses outside, without those to which the mailboxes pass it on in turn.
func (p Path) Stops() (mailboxes, outside []string) {
	for _, next := range p.Next {
		switch next.Hop {
		case ToMailbox, ToList, ToListOwners:
			mailboxes = append(mailboxes, next.Address)
		case ToOutside:
			outside = append(outside, next.Address)
		default:
			boxes, others := next.Stops()
			mailboxes, outside = append(mailboxes, boxes...), append(outside, others...)
		}
	}
	slices.Sort(mailboxes)
	slices.Sort(outside)
	return slices.Compact(mailboxes), slices.Compact(outside)
}

// Faults are the hops at which a message is stuck: loops, and addresses that are none.
func (p Path) Faults() []Path {
	var list []Path
	p.walk(func(at Path) {
		if at.Hop == Loop || at.Hop == Nowhere || at.Hop == ToRole && len(at.Next) == 0 {
			list = append(list, at)
		}
	})
	return list
}

func (p Path) walk(visit func(Path)) {
	visit(p)
	for _, next := range p.Next {
		next.walk(visit)
	}
}
