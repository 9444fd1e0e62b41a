package people

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"regexp"
	"strings"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/notices"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/passwords"
	"victualler/internal/service/notify"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// firstOperator is the name of the operator made at the first start.
const firstOperator = "operator"

// EnsureOperator makes the first operator if there is none, and returns the
// name and the password, which can be shown only now.
//
// Locks: operators.
func (s *Service) EnsureOperator(ctx context.Context) (name, password string, made bool, err error) {
	err = s.Store.InTx(ctx, func(tx store.Tx) error {
		if err := usecase.LockPeople(ctx, tx); err != nil {
			return err
		}
		operators, err := tx.CountOperators(ctx)
		if err != nil || operators > 0 {
			return err
		}
		name, password, made = firstOperator, passwords.Generate(16), true
		person, err := tx.AddPerson(ctx, db.AddPersonParams{Name: name, Role: string(rights.Operator),
			Duty: string(rights.All), PasswordHash: passwords.Hash(password),
			Language: "en", Networks: []netip.Prefix{}})
		if err != nil {
			return err
		}
		return usecase.Record(ctx, tx, usecase.System(), "person.add", usecase.AboutPerson(person), nil,
			recordOfPerson(person))
	})
	return name, password, made, err
}

// ResetOperator gives an operator a new password, takes the second factor and the bounds of
// networks away, and ends their sessions. It is for whoever has the machine, not for the API.
//
// Refusals: MailFailed, WrongState.
func (s *Service) ResetOperator(ctx context.Context, name string) (password string, err error) {
	password = passwords.Generate(16)
	hash := passwords.Hash(password)
	err = s.Store.InTx(ctx, func(tx store.Tx) error {
		person, err := tx.PersonByName(ctx, name)
		if store.None(err) || err == nil && person.Role != string(rights.Operator) {
			return fmt.Errorf("there is no operator %q", name)
		}
		if err != nil {
			return err
		}
		if person.TotpAt != nil {
			if err := s.clearSecondFactor(ctx, tx, usecase.System(), person); err != nil {
				return err
			}
		}
		if len(person.Networks) > 0 {
			if _, err := tx.ChangePerson(ctx, db.ChangePersonParams{ID: person.ID, Duty: person.Duty,
				Email: person.Email, Language: person.Language, Networks: []netip.Prefix{}}); err != nil {
				return err
			}
		}
		return s.setPassword(ctx, tx, usecase.System(), person, hash, false, 0)
	})
	return password, err
}

// personRecord is a person as events hold it.
type personRecord struct {
	Name     string   `json:"name"`
	Role     string   `json:"role"`
	Duty     string   `json:"duty"`
	Email    string   `json:"email,omitempty"`
	Language string   `json:"language"`
	ReadOnly bool     `json:"read_only"`
	Networks []string `json:"networks"`
}

func recordOfPerson(p db.Person) personRecord {
	r := personRecord{Name: p.Name, Role: p.Role, Duty: p.Duty, Language: p.Language, ReadOnly: p.ReadOnly,
		Networks: networkTexts(p.Networks)}
	if p.Email != nil {
		r.Email = *p.Email
	}
	return r
}

// parseNetworks reads addresses and networks (RFC 4632, RFC 4291).
func parseNetworks(texts []string) ([]netip.Prefix, error) {
	list := []netip.Prefix{}
	for _, text := range texts {
		text = strings.TrimSpace(text)
		network, err := netip.ParsePrefix(text)
		if address, addressErr := netip.ParseAddr(text); addressErr == nil {
			network, err = netip.PrefixFrom(address.Unmap(), address.Unmap().BitLen()), nil
		}
		if err != nil {
			return nil, refusal.Input("networks", "%q is neither an address nor a network; write 192.0.2.7 or "+
				"192.0.2.0/24", text)
		}
		list = append(list, network.Masked())
	}
	return list, nil
}

func networkTexts(networks []netip.Prefix) []string {
	texts := []string{}
	for _, n := range networks {
		if n.IsSingleIP() {
			texts = append(texts, n.Addr().String())
		} else {
			texts = append(texts, n.String())
		}
	}
	return texts
}

var personName = regexp.MustCompile(`^[a-z0-9][a-z0-9._@-]{1,99}$`)

// AddPerson lets somebody sign in.
//
// Refusals: InvalidInput, MailFailed, NameTaken, NotAllowed, NotFound, WeakPassword, WrongState.
// Locks: the customer (shared), the reseller (shared).
func (s *Service) AddPerson(ctx context.Context, a usecase.Actor, in api.NewPerson) (api.Person, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Person, error) {
		person, err := s.AddPersonTx(ctx, tx, a, in)
		if err != nil {
			return api.Person{}, err
		}
		return personIn(ctx, tx.Queries, person.ID)
	})
}

// AddPersonTx adds a person in a transaction of the caller's, with the rights the caller may
// give. Errors name the field of [api.NewPerson].
//
// Refusals: InvalidInput, MailFailed, NameTaken, NotAllowed, NotFound, WeakPassword, WrongState.
// Locks: the customer (shared), the reseller (shared).
func (s *Service) AddPersonTx(ctx context.Context, tx store.Tx, a usecase.Actor, in api.NewPerson) (db.Person, error) {
	none := db.Person{}
	p := db.AddPersonParams{Name: strings.ToLower(strings.TrimSpace(in.Name)), Duty: in.Duty, Language: in.Language,
		ReadOnly: in.ReadOnly, MustChange: in.MustChange}
	if !personName.MatchString(p.Name) {
		return none, refusal.Input("name", "a sign-in name has 2 to 100 lower-case letters, digits, dots, hyphens "+
			"and underscores, or is a mail address")
	}
	role, err := s.assignPerson(ctx, tx, a, in, &p)
	if err != nil {
		return none, err
	}
	if !a.MayManage(role) {
		return none, refusal.New(refusal.NotAllowed, "your rights do not include sign-ins of the role %s; ask an "+
			"operator", role)
	}
	p.Role = string(role)
	if p.Duty == "" {
		p.Duty = string(rights.All)
	}
	if role != rights.Operator && p.Duty != string(rights.All) {
		return none, refusal.Input("duty", "only operators have duties")
	}
	p.Language = cmp.Or(p.Language, language.English)
	if err := language.Check(p.Language); err != nil {
		return db.Person{}, refusal.Input("language", "%s", err)
	}
	if p.Email, err = usecase.MailAddress("email", in.Email); err != nil {
		return none, err
	}
	if p.Networks, err = parseNetworks(in.Networks); err != nil {
		return none, err
	}
	if err := checkBeyond(a, p.Name, rights.Subject{Role: role, Duty: rights.Duty(p.Duty), ReadOnly: p.ReadOnly},
		p.Networks); err != nil {
		return none, err
	}
	switch in.Activation {
	case "password":
		if err := CheckNewPassword("password", in.Password, p.Name, in.Email); err != nil {
			return none, err
		}
		p.PasswordHash = passwords.Hash(in.Password)
	case "link":
		if p.Email == nil {
			return none, refusal.Input("email", "where should the link be mailed to? give an address, or activate in "+
				"another way")
		}
	}
	person, err := tx.AddPerson(ctx, p)
	if store.ViolatedConstraint(err) == "people_name_key" {
		return none, refusal.New(refusal.NameTaken, "the sign-in name %q is in use; choose another", p.Name).On("name")
	}
	if err != nil {
		return none, err
	}
	a.Summarize("let %s sign in as %s", p.Name, role)
	if err := usecase.Record(ctx, tx, a, "person.add", usecase.AboutPerson(person), nil,
		recordOfPerson(person)); err != nil {
		return none, err
	}
	if in.Activation == "link" {
		_, err = s.addLink(ctx, tx, a, person, "password", true)
	}
	return person, err
}

// assignPerson decides whose person it is.
func (s *Service) assignPerson(ctx context.Context, tx store.Tx, a usecase.Actor, in api.NewPerson,
	p *db.AddPersonParams) (rights.Role, error) {
	role := rights.Role(in.Role)
	if a.Role == rights.Customer {
		in.Customer = a.CustomerID
	}
	switch {
	case in.Customer != 0:
		number, err := usecase.FindCustomer(ctx, tx.Queries, a, fmt.Sprint(in.Customer), nil)
		if err != nil {
			return "", err
		}
		row, err := usecase.LockCustomerForKeyShare(ctx, tx, number)
		if err != nil {
			return "", err
		}
		p.CustomerID, p.ResellerID = &row.ID, row.ResellerID
		if in.Language == "" {
			p.Language = row.Language
		}
		if role == "" {
			role = rights.Customer
		}
	case in.Reseller != "" || a.Role == rights.Reseller:
		_, owner, err := usecase.ResellerFor(ctx, tx.Queries, a, in.Reseller)
		if err != nil {
			return "", err
		}
		if err := usecase.LockResellerForKeyShare(ctx, tx, owner); err != nil {
			return "", err
		}
		p.ResellerID = owner
		if role == "" {
			role = rights.Reseller
		}
	case role == "":
		role = rights.Operator
	}
	fits := map[rights.Role]bool{
		rights.Operator: p.CustomerID == nil && p.ResellerID == nil,
		rights.Reseller: p.CustomerID == nil && p.ResellerID != nil,
		rights.Customer: p.CustomerID != nil,
	}
	if !fits[role] {
		return "", refusal.Input("role", "a customer's person needs the customer, a reseller's the reseller, and an "+
			"operator neither")
	}
	return role, nil
}

// findPerson finds somebody whom the actor may see.
func findPerson(ctx context.Context, q *db.Queries, a usecase.Actor, name string) (db.Person, error) {
	p := db.FindPersonParams{Name: strings.ToLower(strings.TrimSpace(name))}
	p.Reseller, p.Customer = a.Scope()
	row, err := q.FindPerson(ctx, p)
	if store.None(err) {
		return row, usecase.NotFound("person", name)
	}
	return row, err
}

// changePerson changes somebody whose sign-in the actor may look after.
func changePerson[T any](ctx context.Context, s *Service, a usecase.Actor, name string,
	fn func(store.Tx, db.Person) (T, error)) (T, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (T, error) {
		var none T
		row, err := findPerson(ctx, tx.Queries, a, name)
		if err != nil {
			return none, err
		}
		if !a.MayManage(rights.Role(row.Role)) {
			return none, refusal.New(refusal.NotAllowed, "your rights do not include sign-ins of the role %s; ask an "+
				"operator", row.Role)
		}
		if row.Role == string(rights.Operator) {
			if err := usecase.LockPeople(ctx, tx); err != nil { // so that the last one is not lost
				return none, err
			}
		}
		if row, err = usecase.LockPerson(ctx, tx, row.ID); err != nil {
			return none, err
		}
		return fn(tx, row)
	})
}

// checkOperatorRemains refuses a change after which nobody could look after the installation.
func checkOperatorRemains(ctx context.Context, tx store.Tx) error {
	left, err := tx.CountOperators(ctx)
	if err == nil && left == 0 {
		err = refusal.New(refusal.InUse, "that is the last operator with all duties; make another one first")
	}
	return err
}

func personIn(ctx context.Context, q *db.Queries, number int64) (api.Person, error) {
	rows, err := q.People(ctx, db.PeopleParams{One: number, Most: 1})
	if err != nil || len(rows) == 0 {
		return api.Person{}, err
	}
	return personView(rows[0]), nil
}

func personView(row db.PeopleRow) api.Person {
	p := api.Person{Name: row.Name, Role: row.Role, Duty: row.Duty, Reseller: row.Reseller, Customer: row.Customer,
		CustomerID: usecase.OrZero(row.CustomerID), Language: row.Language,
		ReadOnly: row.ReadOnly, MustChange: row.MustChange, Password: row.HasPassword, SecondFactor: row.HasTotp,
		Networks: networkTexts(row.Networks),
		Since:    row.CreatedAt, Version: row.Version}
	if row.Email != nil {
		p.Email = *row.Email
	}
	if row.SeenAt.Unix() > 0 {
		p.SeenAt = &row.SeenAt
	}
	return p
}

// Person returns somebody who can sign in.
//
// Refusals: NotFound.
func (s *Service) Person(ctx context.Context, a usecase.Actor, name string) (api.Person, error) {
	row, err := findPerson(ctx, s.Store.Queries, a, name)
	if err != nil {
		return api.Person{}, err
	}
	return personIn(ctx, s.Store.Queries, row.ID)
}

// PersonFilter narrows a list of people; empty fields do not.
type PersonFilter struct {
	Search, Role, Customer, Reseller string
}

// People returns a page of those who can sign in, in the order of their names.
//
// Refusals: InvalidInput, NotFound.
func (s *Service) People(ctx context.Context, a usecase.Actor, f PersonFilter, next string, most int) (api.PersonPage,
	error) {
	page := api.PersonPage{People: []api.Person{}}
	p := db.PeopleParams{Role: f.Role, Search: usecase.EscapeLike(strings.TrimSpace(f.Search)), Most: int32(most + 1)}
	p.Reseller, p.Customer = a.Scope()
	if f.Customer != "" {
		number, err := usecase.FindCustomer(ctx, s.Store.Queries, a, f.Customer, nil)
		if err != nil {
			return page, err
		}
		p.OfCustomer = number
	}
	if f.Reseller != "" {
		row, err := usecase.FindReseller(ctx, s.Store.Queries, a, f.Reseller)
		if err != nil {
			return page, err
		}
		p.Reseller = row.ID
	}
	if err := usecase.ReadCursor(next, &p.After); err != nil {
		return page, err
	}
	rows, err := s.Store.Fresh().People(ctx, p)
	if err != nil {
		return page, err
	}
	if len(rows) > most {
		rows = rows[:most]
		page.Next = usecase.Cursor(rows[most-1].Name)
	}
	for _, row := range rows {
		page.People = append(page.People, personView(row))
	}
	return page, nil
}

// ChangePerson changes somebody's sign-in. Version is the one the caller has seen, or 0.
//
// Refusals: Changed, InUse, InvalidInput, NotAllowed, NotFound.
// Locks: operators, the person.
func (s *Service) ChangePerson(ctx context.Context, a usecase.Actor, name string, version int64,
	in api.PersonChange) (api.Person, error) {
	return changePerson(ctx, s, a, name, func(tx store.Tx, row db.Person) (api.Person, error) {
		none := api.Person{}
		if err := usecase.CheckVersion(row.Name, version, row.Version); err != nil {
			return none, err
		}
		if err := checkBeyondPerson(a, row); err != nil {
			return none, err
		}
		p := db.ChangePersonParams{ID: row.ID, Duty: row.Duty, Email: row.Email, Language: row.Language,
			ReadOnly: row.ReadOnly, Networks: row.Networks}
		if in.Duty != nil {
			if row.Role != string(rights.Operator) && *in.Duty != string(rights.All) {
				return none, refusal.Input("duty", "only operators have duties")
			}
			p.Duty = *in.Duty
		}
		if in.Language != nil {
			p.Language = *in.Language
			if err := language.Check(p.Language); err != nil {
				return none, refusal.Input("language", "%s", err)
			}
		}
		if in.ReadOnly != nil {
			if *in.ReadOnly && row.ID == a.PersonID {
				return none, refusal.Input("read_only", "you cannot take the right to change anything from yourself")
			}
			p.ReadOnly = *in.ReadOnly
		}
		var err error
		if in.Email != nil {
			if p.Email, err = usecase.MailAddress("email", *in.Email); err != nil {
				return none, err
			}
		}
		if in.Networks != nil {
			if p.Networks, err = parseNetworks(*in.Networks); err != nil {
				return none, err
			}
			if row.ID == a.PersonID && !allowedFrom(p.Networks, a.Address) {
				return none, refusal.Input("networks", "you come from %s, which is in none of these networks: you "+
					"would lock yourself out", a.Address)
			}
		}
		if err := checkBeyond(a, row.Name, rights.Subject{Role: rights.Role(row.Role), Duty: rights.Duty(p.Duty),
			ReadOnly: p.ReadOnly}, p.Networks); err != nil {
			return none, err
		}
		after, err := tx.ChangePerson(ctx, p)
		if err != nil {
			return none, err
		}
		if row.Email != nil && (after.Email == nil || *after.Email != *row.Email) { // whoever reads the old one's mail
			if err := tx.DeleteLinksOf(ctx, db.DeleteLinksOfParams{PersonID: row.ID, Purpose: "password"}); err != nil {
				return none, err
			}
			if err := tx.DeleteLinksOf(ctx, db.DeleteLinksOfParams{PersonID: row.ID, Purpose: "sign-in"}); err != nil {
				return none, err
			}
		}
		if err := checkOperatorRemains(ctx, tx); err != nil {
			return none, err
		}
		a.Summarize("change the sign-in of %s", row.Name)
		if err := usecase.Record(ctx, tx, a, "person.change", usecase.AboutPerson(row), recordOfPerson(row),
			recordOfPerson(after)); err != nil {
			return none, err
		}
		return personIn(ctx, tx.Queries, row.ID)
	})
}

// RemovePerson lets somebody sign in no longer; their sessions and tokens end at once.
//
// Refusals: InUse, NotAllowed, NotFound.
// Locks: operators, the person.
func (s *Service) RemovePerson(ctx context.Context, a usecase.Actor, name string) error {
	_, err := changePerson(ctx, s, a, name, func(tx store.Tx, row db.Person) (struct{}, error) {
		if row.ID == a.PersonID {
			return struct{}{}, refusal.New(refusal.InUse, "you cannot remove yourself; somebody else can")
		}
		if err := tx.RemovePerson(ctx, row.ID); err != nil {
			return struct{}{}, err
		}
		if err := checkOperatorRemains(ctx, tx); err != nil {
			return struct{}{}, err
		}
		a.Summarize("remove the sign-in of %s; sessions and tokens end", row.Name)
		return struct{}{}, usecase.Record(ctx, tx, a, "person.remove", usecase.AboutPerson(row), recordOfPerson(row),
			nil)
	})
	return err
}

// ResetPassword gives somebody else a new password and ends their sessions.
//
// Refusals: MailFailed, NotAllowed, NotFound, WeakPassword, WrongState.
// Locks: operators, the person.
func (s *Service) ResetPassword(ctx context.Context, a usecase.Actor, name string, in api.NewPassword) error {
	hash := passwords.Hash(in.Password)
	_, err := changePerson(ctx, s, a, name, func(tx store.Tx, row db.Person) (struct{}, error) {
		if row.ID == a.PersonID {
			return struct{}{}, refusal.New(refusal.WrongState, "change your own password where you are asked for the "+
				"present one")
		}
		if err := checkBeyondPerson(a, row); err != nil {
			return struct{}{}, err
		}
		if err := CheckNewPassword("password", in.Password, identityWords(row)...); err != nil {
			return struct{}{}, err
		}
		a.Summarize("give %s a new password and end all their sessions", row.Name)
		return struct{}{}, s.setPassword(ctx, tx, a, row, hash, in.MustChange, 0)
	})
	return err
}

// EndSessionsOf ends all sessions of somebody else.
//
// Refusals: NotAllowed, NotFound.
// Locks: operators, the person.
func (s *Service) EndSessionsOf(ctx context.Context, a usecase.Actor, name string) error {
	_, err := changePerson(ctx, s, a, name, func(tx store.Tx, row db.Person) (struct{}, error) {
		if err := tx.EndSessionsOf(ctx, db.EndSessionsOfParams{Person: row.ID, But: a.SessionID}); err != nil {
			return struct{}{}, err
		}
		a.Summarize("end all sessions of %s", row.Name)
		return struct{}{}, usecase.Record(ctx, tx, a, "session.end_all", usecase.AboutPerson(row), nil, nil)
	})
	return err
}

// DropSecondFactorOf switches somebody else's second factor off, for
// the day when authenticator and recovery codes are lost.
//
// Refusals: MailFailed, NotAllowed, NotFound, WrongState.
// Locks: operators, the person.
func (s *Service) DropSecondFactorOf(ctx context.Context, a usecase.Actor, name string) error {
	_, err := changePerson(ctx, s, a, name, func(tx store.Tx, row db.Person) (struct{}, error) {
		if row.ID == a.PersonID {
			return struct{}{}, refusal.New(refusal.WrongState, "switch your own second factor off where you are "+
				"asked for the password")
		}
		if err := checkBeyondPerson(a, row); err != nil {
			return struct{}{}, err
		}
		a.Summarize("switch the second factor of %s off", row.Name)
		return struct{}{}, s.clearSecondFactor(ctx, tx, a, row)
	})
	return err
}

// How long links work.
const (
	passwordLinkLife = 48 * time.Hour
	signInLinkLife   = 15 * time.Minute
)

// AddLink makes a one-time link for somebody else.
//
// Refusals: MailFailed, NotAllowed, NotFound, WrongState.
// Locks: operators, the person.
func (s *Service) AddLink(ctx context.Context, a usecase.Actor, name string, in api.NewLink) (api.Link, error) {
	return changePerson(ctx, s, a, name, func(tx store.Tx, row db.Person) (api.Link, error) {
		if row.ID == a.PersonID {
			return api.Link{}, refusal.New(refusal.WrongState, "a link to sign in as yourself is of no use to you")
		}
		if err := checkBeyondPerson(a, row); err != nil {
			return api.Link{}, err
		}
		a.Summarize("make a link for %s", row.Name)
		return s.addLink(ctx, tx, a, row, in.Purpose, in.Mail)
	})
}

func (s *Service) addLink(ctx context.Context, tx store.Tx, a usecase.Actor, person db.Person, purpose string,
	byMail bool) (api.Link, error) {
	settings, err := tx.Settings(ctx)
	if err != nil {
		return api.Link{}, err
	}
	if settings.Console == "" {
		return api.Link{}, refusal.New(refusal.WrongState, "the settings do not say where people reach the console, "+
			"so that no link can be made").Help(refusal.Remedy{By: refusal.Operator,
			Do:      language.New("set the console's address"),
			Command: "settings change --console ADDRESS"})
	}
	life := passwordLinkLife
	if purpose == "sign-in" {
		life = signInLinkLife
	}
	secret := NewSecret()
	ends := s.Now().Add(life).UTC().Truncate(time.Second)
	if err := tx.DeleteLinksOf(ctx, db.DeleteLinksOfParams{PersonID: person.ID, Purpose: purpose}); err != nil {
		// the newest counts
		return api.Link{}, err
	}
	if err := tx.AddLink(ctx, db.AddLinkParams{Digest: Digest(secret), PersonID: person.ID, Purpose: purpose,
		MadeBy: a.Name, EndsAt: ends}); err != nil {
		return api.Link{}, err
	}
	// behind #: it is not sent to servers, nor written into their logs
	out := api.Link{URL: usecase.Link(settings, "/link#%s", secret), EndsAt: ends}
	if byMail {
		if person.Email == nil {
			return api.Link{}, refusal.New(refusal.WrongState, "%s has no mail address; give them one, or hand the "+
				"link over yourself", person.Name)
		}
		from, senderName, senderAt, err := s.notify.SenderFor(ctx, tx.Queries, person.ResellerID)
		if err != nil {
			return api.Link{}, err
		}
		l := notify.OutboundMail{Kind: "link to sign in", To: *person.Email, Language: person.Language,
			Customer: person.CustomerID, Reseller: person.ResellerID, SenderName: senderName, SenderAt: senderAt}
		switch {
		case purpose == "sign-in":
			l.Notice = notices.SignIn(person.Language, from, person.Name, out.URL, ends)
		case person.PasswordHash == "":
			l.Kind, l.Notice = "activation", notices.Activation(person.Language, from, person.Name, out.URL, ends)
		default:
			l.Kind, l.Notice = "new password", notices.NewPassword(person.Language, from, person.Name, out.URL, ends)
		}
		if err := s.notify.QueueMail(ctx, tx, l); err != nil {
			return api.Link{}, err
		}
		out.URL, out.Mailed = "", *person.Email
	}
	return out, usecase.Record(ctx, tx, a, "person.link", usecase.AboutPerson(person), nil,
		map[string]any{"purpose": purpose, "mailed": out.Mailed, "ends_at": ends})
}

func linkEnded() error {
	return refusal.New(refusal.LinkEnded,
		"this link was used already, has ended, or was replaced by a newer one; ask for another")
}

// CheckLink tells what a link is for, without using it.
//
// Refusals: LinkEnded.
func (s *Service) CheckLink(ctx context.Context, secret string) (api.LinkPurpose, error) {
	row, err := s.Store.LinkByDigest(ctx, Digest(secret))
	if store.None(err) {
		return api.LinkPurpose{}, linkEnded()
	}
	return api.LinkPurpose{Name: row.Person.Name, Purpose: row.Purpose, EndsAt: row.EndsAt}, err
}

// SignInByLink uses a one-time link: sets a password if it is for that, and starts a session. The
// second factor is asked for all the same. A link of which the rest does not fit stays good.
//
// Refusals: InvalidInput, LinkEnded, MailFailed, NeedsCode, NotSignedIn, Suspended, TooManyTries,
// WeakPassword, WrongSignIn.
// Locks: the person.
func (s *Service) SignInByLink(ctx context.Context, a usecase.Actor, in api.LinkSignIn) (api.Session, error) {
	row, err := s.Store.LinkByDigest(ctx, Digest(in.Link))
	if store.None(err) || err == nil && !allowedFrom(row.Person.Networks, a.Address) {
		return api.Session{}, linkEnded()
	}
	if err != nil {
		return api.Session{}, err
	}
	if err := s.Throttle(ctx, row.Person.Name, a.Address); err != nil { // the code could be guessed
		return api.Session{}, err
	}
	hash := ""
	if row.Purpose == "password" {
		if err := CheckNewPassword("password", in.Password, identityWords(row.Person)...); err != nil {
			return api.Session{}, err
		}
		hash = passwords.Hash(in.Password)
	}
	// The code is checked before the link is used up, and taken with it.
	session, err := s.startSessionWith(ctx, a, row.Person, in.Code, in.Language,
		func(tx store.Tx, a usecase.Actor) error {
			used, err := tx.UseLink(ctx, row.ID)
			if err != nil {
				return err
			}
			if used == 0 {
				return linkEnded()
			}
			if hash != "" {
				return s.setPassword(ctx, tx, a, row.Person, hash, false, 0)
			}
			return usecase.Record(ctx, tx, a, "person.link_used", usecase.AboutPerson(row.Person), nil,
				map[string]string{"made_by": row.MadeBy})
		})
	return session, err
}

// RequestPasswordReset has a link for a new password mailed to whoever
// has that name, and an address. The answer is the same for every name,
// and takes as long: what is to be done is done later.
//
// Refusals: TooManyTries.
func (s *Service) RequestPasswordReset(ctx context.Context, a usecase.Actor, in api.Forgotten) error {
	name := strings.ToLower(strings.TrimSpace(in.Name))
	if err := s.Throttle(ctx, "forgotten "+name, a.Address); err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		return s.Queue.MailPasswordReset(ctx, tx, name, a.Address, a.Request)
	})
}

// MailPasswordReset mails a link for a new password, if there is somebody to mail it to.
//
// Refusals: MailFailed, WrongState.
func (s *Service) MailPasswordReset(ctx context.Context, name, address, request string) error {
	return s.Store.InTx(ctx, func(tx store.Tx) error {
		person, err := tx.PersonByName(ctx, name)
		if store.None(err) || err == nil && person.Email == nil {
			return nil
		}
		if err != nil {
			return err
		}
		_, err = s.addLink(ctx, tx, usecase.Actor{Name: "somebody", Address: address, Request: request}, person,
			"password", true)
		if refusal.As(err) != nil {
			s.Log.Warn("no link for a forgotten password", "name", name, "reason", err)
			return nil
		}
		return err
	})
}
