package mail

import (
	"net/netip"
	"slices"
	"strings"

	"victualler/internal/hosting/language"
)

// Outside is what the world sees of a domain's mail.
type Outside struct {
	Domain string
	// Server is the name by which the mail server greets others, and Addresses those that it sends
	// from.
	Server    string
	Addresses []netip.Addr
	// MX are the names that take the domain's mail.
	MX Asked
	// SPF is what the domain's policy says of each address (RFC 7208, section 2.6).
	SPF map[netip.Addr]string
	// Selector and Key are what messages are signed with, as it should be published; Published is
	// what is there.
	Selector, Key string
	Published     Asked
	// DMARC are the texts at _dmarc below the domain.
	DMARC Asked
	// Names are those that lead back from each address, and Leads where the server's name leads.
	Names map[netip.Addr]Asked
	Leads []netip.Addr
	// TLS says what is wrong with the certificate on port 25; empty is nothing.
	TLS string
	// Announced are the texts at _mta-sts below the domain, and Policy is what it then says.
	Announced Asked
	Policy    Asked
}

// Asked is an answer, or why there is none.
type Asked struct {
	Data   []string
	Failed string
}

// Finding is one thing that others look at before they take mail.
type Finding struct {
	// Check is which one: mx, spf, dkim, dmarc, reverse, helo, tls or policy.
	Check string
	Right bool
	Says  language.Text
	// Do is what helps; empty for nothing.
	Do language.Text
}

// Findings judges what was seen, in the order in which it matters.
func (o Outside) Findings() []Finding {
	list := []Finding{o.mx(), o.spf(), o.dkim(), o.dmarc(), o.helo()}
	for _, a := range o.Addresses {
		list = append(list, o.reverse(a))
	}
	list = append(list, o.tls())
	if slices.ContainsFunc(o.Announced.Data, func(text string) bool { return strings.HasPrefix(text, "v=STSv1") }) {
		list = append(list, o.policy())
	}
	return list
}

func right(check string, says language.Text) Finding {
	return Finding{Check: check, Right: true, Says: says}
}

func wrong(check string, says, do language.Text) Finding {
	return Finding{Check: check, Says: says, Do: do}
}

func unanswered(check, what, reason string) Finding {
	return wrong(check, language.New("public DNS does not say anything about %s: %s", what, reason),
		language.New("see whether the name servers of the domain answer"))
}

func (o Outside) mx() Finding {
	switch {
	case o.MX.Failed != "":
		return unanswered("mx", o.Domain, o.MX.Failed)
	case slices.Contains(o.MX.Data, o.Server):
		return right("mx", language.New("mail for %s comes to %s", o.Domain, o.Server))
	case len(o.MX.Data) == 0:
		return wrong("mx", language.New("nothing says who takes mail for %s", o.Domain),
			language.New("enter for %s: MX 10 %s.", o.Domain, o.Server))
	}
	return wrong("mx", language.New("mail for %s goes to %s, and not here", o.Domain, strings.Join(o.MX.Data, ", ")),
		language.New("if it should come here, enter for %s: MX 10 %s.", o.Domain, o.Server))
}

func (o Outside) spf() Finding {
	for _, a := range o.Addresses {
		switch result := o.SPF[a]; result {
		case "pass":
		case "none":
			return wrong("spf", language.New("%s does not say who may send its mail", o.Domain),
				language.New("enter for %s: TXT \"v=spf1 a:%s ~all\"", o.Domain, o.Server))
		case "permerror":
			return wrong("spf", language.New("what %s says about who may send its mail cannot be understood", o.Domain),
				language.New("see that it has one text that begins with v=spf1, and that this is whole"))
		case "temperror":
			return unanswered("spf", o.Domain, "SPF")
		default:
			return wrong("spf", language.New("%s does not say that %s may send its mail (%s)", o.Domain, a, result),
				language.New("add to the text of %s that begins with v=spf1: a:%s", o.Domain, o.Server))
		}
	}
	return right("spf", language.New("%s says that %s may send its mail", o.Domain, o.Server))
}

func (o Outside) dkim() Finding {
	at := o.Selector + "._domainkey." + o.Domain
	switch {
	case o.Selector == "":
		return wrong("dkim", language.New("messages of %s are not signed yet", o.Domain),
			language.New("wait a minute: it gets its key with its first mailbox"))
	case o.Published.Failed != "":
		return unanswered("dkim", at, o.Published.Failed)
	case slices.Contains(o.Published.Data, o.Key):
		return right("dkim", language.New("the key that messages are signed with is published at %s", at))
	case len(o.Published.Data) == 0:
		return wrong("dkim", language.New("the key that messages are signed with is not published"),
			language.New("enter for %s: TXT \"%s\"", at, o.Key))
	}
	return wrong("dkim", language.New("another key is published at %s than the one that messages are signed with", at),
		language.New("enter for %s: TXT \"%s\"", at, o.Key))
}

func (o Outside) dmarc() Finding {
	at := "_dmarc." + o.Domain
	found := slices.DeleteFunc(slices.Clone(o.DMARC.Data), func(text string) bool {
		return !strings.HasPrefix(strings.ReplaceAll(text, " ", ""), "v=DMARC1")
	})
	switch {
	case o.DMARC.Failed != "":
		return unanswered("dmarc", at, o.DMARC.Failed)
	case len(found) == 1:
		return right("dmarc", language.New("%s says what is to be done with messages that are not from there: %s",
			o.Domain, found[0]))
	case len(found) > 1:
		return wrong("dmarc", language.New("%s has several texts that begin with v=DMARC1, so none counts", at),
			language.New("leave one of them"))
	}
	return wrong("dmarc", language.New("%s does not say what is to be done with messages that are not from there",
		o.Domain), language.New("enter for %s: TXT \"v=DMARC1; p=none\"", at))
}

func (o Outside) helo() Finding {
	for _, a := range o.Addresses {
		if !slices.Contains(o.Leads, a) {
			return wrong("helo", language.New("the server greets others as %s, which does not lead to %s", o.Server, a),
				language.New("enter for %s the address %s", o.Server, a))
		}
	}
	return right("helo", language.New("the name by which the server greets others, %s, leads to it", o.Server))
}

func (o Outside) reverse(a netip.Addr) Finding {
	found := o.Names[a]
	switch {
	case slices.Contains(found.Data, o.Server):
		return right("reverse", language.New("%s leads back to %s", a, o.Server))
	case len(found.Data) == 0:
		return wrong("reverse", language.New("%s has no name, so many servers refuse what comes from it", a),
			language.New("have whoever has given you the address name it %s (PTR)", o.Server))
	}
	return wrong("reverse", language.New("%s is called %s, and not %s", a, strings.Join(found.Data, ", "), o.Server),
		language.New("have whoever has given you the address name it %s (PTR)", o.Server))
}

func (o Outside) tls() Finding {
	if o.TLS == "" {
		return right("tls", language.New("others deliver to %s with TLS, and can see that it is the right one",
			o.Server))
	}
	return wrong("tls", language.New("others cannot see that %s is the right server: %s", o.Server, o.TLS),
		language.New("have a site here with the name %s, or a certificate for all names above it: the server shows "+
			"its certificate", o.Server))
}

func (o Outside) policy() Finding {
	if o.Policy.Failed != "" {
		return wrong("policy", language.New("%s announces a policy for TLS that cannot be read: %s", o.Domain,
			o.Policy.Failed), language.New("see that the certificate of %s is for mta-sts.%s as "+
			"well", o.Domain, o.Domain))
	}
	if !slices.Contains(o.Policy.Data, "mx: "+o.Server) {
		return wrong("policy", language.New("the policy for TLS of %s does not name %s", o.Domain, o.Server),
			language.New("have it say: mx: %s", o.Server))
	}
	return right("policy", language.New("%s asks others to deliver with TLS alone, to %s", o.Domain, o.Server))
}
