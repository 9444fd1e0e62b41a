package mailflow

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"net/textproto"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"victualler/internal/hosting/mail"
	"victualler/internal/mailflow/definition"
)

// List is a list with the account that it is of.
type List struct {
	mail.List
	// Language is what its owners are told in.
	Language string
	Account  Account
}

// Member is a member of a list, or one of its owners, or both.
type Member struct {
	Address       string
	Member, Owner bool
	// Joined is when the member joined, in seconds of Unix.
	Joined int64
}

// List finds a list by its address.
func (t *Tables) List(ctx context.Context, address string) (List, error) {
	return remember(t, "list "+address, func() (l List, err error) {
		var posting string
		err = t.db.QueryRowContext(ctx, "select l.address, l.name, l.posting, l.moderated, l.footer, l.language, "+
			accountColumns+" from lists l join accounts a on a.account = l.account where l.address = ?", address).
			Scan(append([]any{&l.Address, &l.Name, &posting, &l.Moderated, &l.Footer, &l.Language},
				l.Account.into()...)...)
		l.Posting = mail.Posting(posting)
		return l, err
	})
}

// Members are those of a list and its owners.
func (t *Tables) Members(ctx context.Context, list string) ([]Member, error) {
	rows, err := t.db.QueryContext(ctx,
		"select address, member, owner, joined from list_members where list = ? order by address", list)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Member
	for rows.Next() {
		var m Member
		if err := rows.Scan(&m.Address, &m.Member, &m.Owner, &m.Joined); err != nil {
			return nil, err
		}
		all = append(all, m)
	}
	return all, rows.Err()
}

// leaveMemory is how long it is known who has left a list by a message. Until then, the service has
// taken the member out of the list.
const leaveMemory = 60 * 24 * time.Hour

// leftSubject names a membership that has ended, for [Flow.Left].
func leftSubject(account int64, code string) string { return fmt.Sprintf("%d/%s", account, code) }

// leaveCode is what lets a member leave.
func (f *Flow) leaveCode(list List, m Member) string {
	return mail.LeaveCode(f.config.Load().ReturnKey, list.Address, m.Address, m.Joined)
}

// stayed are members who have not left meanwhile.
func (f *Flow) stayed(list List, members []Member) []Member {
	left := f.Left.Used()
	return slices.DeleteFunc(slices.Clone(members), func(m Member) bool {
		return !m.Member || len(left) > 0 && left[leftSubject(list.Account.ID, f.leaveCode(list, m))] > 0
	})
}

// listed is what is to be done for the address of a list.
type listed struct {
	list List
	// request says that the message is for the owners.
	request bool
	// approved is the message's name if an owner has approved it.
	approved string
}

// findList finds the list of the recipient's local part; nil where it is none's.
func (f *Flow) findList(ctx context.Context, local string) (*listed, error) {
	parts := strings.Split(local, "=")
	address := forwardAddress(strings.Join(parts[:min(2, len(parts))], "="))
	found := &listed{}
	if list := mail.ListOfRequest(address); list != "" && len(parts) == 2 {
		l, err := f.Tables.List(ctx, list)
		if err == nil {
			return &listed{list: l, request: true}, nil
		}
		if !errors.Is(err, ErrNone) {
			return nil, err
		}
	}
	var err error
	if found.list, err = f.Tables.List(ctx, address); errors.Is(err, ErrNone) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	if len(parts) == 4 {
		if mail.ApprovalCode(f.config.Load().ReturnKey, address, parts[2]) != parts[3] {
			return nil, nil
		}
		found.approved = parts[2]
	}
	return found, nil
}

// approvedRecipient leads a message to a list past the question who has sent it.
func (f *Flow) approvedRecipient(list, post string) string {
	local, domain, _ := strings.Cut(list, "@")
	return local + "=" + domain + "=" + post + "=" + mail.ApprovalCode(f.config.Load().ReturnKey, list, post) + "@" +
		definition.ForwardDomain
}

// passList does what is to be done with a message to a list or its owners.
func (f *Flow) passList(ctx context.Context, to listed, sender string, message *os.File,
	header textproto.MIMEHeader) error {
	members, err := f.Tables.Members(ctx, to.list.Address)
	if err != nil {
		return err
	}
	if to.request {
		return f.request(ctx, to.list, members, sender, message, header)
	}
	if to.approved == "" {
		spam := f.isSpam(header, 0)
		verdict, err := to.list.Decide(sender, header, spam, rolesOf(members))
		if err != nil {
			return err
		}
		switch verdict {
		case mail.IgnorePost:
			return reply(250, 2, 0, 0, mail.IgnoredAnswer)
		case mail.RefusePost:
			return reply(550, 5, 7, 2, postingRefusal(to.list.Posting, spam))
		case mail.HoldPost:
			if err := f.holdForModeration(ctx, to.list, members, sender, message, header); err != nil {
				return err
			}
			return reply(250, 2, 0, 0, mail.HeldAnswer)
		}
	}
	return f.distribute(ctx, to.list, f.stayed(to.list, members), message)
}

// postingRefusal says what a list does not take.
func postingRefusal(posting mail.Posting, spam bool) string {
	switch {
	case spam:
		return "this list takes nothing that looks like spam"
	case posting == mail.OwnersPost:
		return "this list takes messages of its owners alone"
	case posting == mail.MembersPost:
		return "this list takes messages of its members alone"
	}
	return "this list takes messages that name their author"
}

// rolesOf reports of addresses whether they are members, and whether they are owners.
func rolesOf(members []Member) func(address string) (member, owner bool, err error) {
	return func(address string) (member, owner bool, err error) {
		at := slices.IndexFunc(members, func(m Member) bool { return strings.EqualFold(m.Address, address) })
		return at >= 0 && members[at].Member, at >= 0 && members[at].Owner, nil
	}
}

// listAt finds the list that a recipient is.
func (f *Flow) listAt(ctx context.Context, recipient string) (List, error) {
	local, domain, _ := strings.Cut(strings.ToLower(strings.Trim(recipient, "<>")), "@")
	local, _, _ = strings.Cut(local, mail.Separator)
	return f.Tables.List(ctx, local+"@"+domain)
}

// toLists reports whether lists alone get a message.
func (f *Flow) toLists(recipients []string) bool {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	return !slices.ContainsFunc(recipients, func(to string) bool {
		_, err := f.listAt(ctx, to)
		return err != nil
	})
}

// refusedByLists refuses a message while whoever brings it still waits for the answer, if lists
// alone are to get it and none of them takes it: nobody is sent a failure then for what somebody
// else has sent in their name. What cannot be found out is decided later.
func (f *Flow) refusedByLists(e envelope, header []field, spam bool) *textproto.Error {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	fields := textproto.MIMEHeader{}
	for _, h := range header {
		fields.Add(h.Name, unfold(h.Value))
	}
	var refused *textproto.Error
	for _, to := range e.recipients {
		list, err := f.listAt(ctx, to)
		if err != nil {
			return nil
		}
		members, err := f.Tables.Members(ctx, list.Address)
		if err != nil {
			return nil
		}
		if verdict, err := list.Decide(e.sender, fields, spam, rolesOf(members)); err != nil ||
			verdict != mail.RefusePost {
			return nil
		}
		refused = &textproto.Error{Code: 550, Msg: "5.7.2 " + postingRefusal(list.Posting, spam)}
	}
	return refused
}

// distribute puts a copy for each member into the queue. Who has got one is written down until all
// have: when it is interrupted, those that are missing alone get one.
func (f *Flow) distribute(ctx context.Context, list List, members []Member, message *os.File) error {
	if _, err := message.Seek(0, io.SeekStart); err != nil {
		return err
	}
	in := bufio.NewReader(message)
	header, err := readHeader(in)
	if err != nil {
		return reply(554, 5, 6, 0, "the header of the message cannot be read: "+err.Error())
	}
	body, err := io.ReadAll(io.LimitReader(in, mail.LargestListText+1))
	if err != nil {
		return err
	}
	if !mail.FitsList(int64(len(body)), len(members)) {
		return reply(554, 5, 3, 4, fmt.Sprintf("the message is too large for a list with %d members", len(members)))
	}
	done, err := f.openProgress(list.Address, header, body)
	if err != nil {
		return err
	}
	defer done.close()
	if !done.counted {
		outside := int64(0)
		for _, m := range members {
			owns, err := f.Tables.SignsFor(ctx, list.Account.ID, m.Address)
			if err != nil {
				return err
			}
			if !owns {
				outside++
			}
		}
		if outside > 0 {
			over, err := f.takePassed(list.Account, outside)
			switch {
			case err != nil:
				return err
			case over != nil && over.Wait == 0:
				return reply(554, 5, 7, 1, fmt.Sprintf("the list has %d members elsewhere, and its account may "+
					"send to %d "+
					"recipients within an hour", outside, over.Most))
			case over != nil:
				return reply(450, 4, 7, 1, "as much as the account may pass on within an hour has been passed on")
			}
		}
		if err := done.add(countedMark); err != nil {
			return err
		}
	}
	all, ctx := errgroup.WithContext(ctx)
	all.SetLimit(8)
	for _, m := range members {
		if done.has(memberMark(m)) {
			continue
		}
		all.Go(func() error {
			if err := f.sendCopy(ctx, list, m, header, body); err != nil {
				return err
			}
			return done.add(memberMark(m))
		})
	}
	if err := all.Wait(); err != nil {
		return err
	}
	return done.end()
}

// sendCopy puts one member's copy into the queue.
func (f *Flow) sendCopy(ctx context.Context, list List, m Member, header []field, body []byte) error {
	config := f.config.Load()
	fields := make([]mail.HeaderField, len(header))
	for n, h := range header {
		fields[n] = mail.HeaderField(h)
	}
	var unknown error
	c := mail.Copy{List: list.List, LeaveCode: f.leaveCode(list, m),
		Own: func(address string) bool {
			owns, err := f.Tables.SignsFor(ctx, list.Account.ID, address)
			unknown = errors.Join(unknown, err)
			return owns
		}}
	if config.Leave != "" {
		c.Leave = config.Leave + list.Address + "/" + c.LeaveCode
	}
	content, text, err := c.Body(fields, body)
	if err != nil {
		return err
	}
	var out []field
	for _, h := range append(c.Header(fields), content...) {
		out = append(out, field(h))
	}
	from := c.From(fields)
	if unknown != nil {
		return unknown
	}
	// What cannot be delivered comes back to the owners' address, where it is left aside: the log
	// tells of it.
	return f.injectSigned(ctx, from, mail.RequestAddress(list.Address), []string{m.Address}, out, text)
}

// progress is who has got a copy of a message.
type progress struct {
	mu      sync.Mutex
	file    *os.File
	done    map[string]bool
	counted bool
}

// countedMark is the line that says that the copies have been counted.
const countedMark = "."

// openProgress opens what is known of a message. Each message in the queue is another, as Postfix
// has written its name into it.
func (f *Flow) openProgress(list string, header []field, body []byte) (*progress, error) {
	sum := sha256.New()
	fmt.Fprintf(sum, "%s\n%q\n", list, header)
	sum.Write(body)
	dir := filepath.Join(f.Scratch, "lists")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	file, err := os.OpenFile(filepath.Join(dir, hex.EncodeToString(sum.Sum(nil))),
		os.O_CREATE|os.O_RDWR|os.O_APPEND, 0o600)
	if err != nil {
		return nil, err
	}
	text, err := io.ReadAll(file)
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	p := &progress{file: file, done: map[string]bool{}}
	for line := range strings.Lines(string(text)) {
		if address, whole := strings.CutSuffix(line, "\n"); whole {
			p.done[address] = true
		}
	}
	p.counted = p.done[countedMark]
	return p, nil
}

func (p *progress) has(what string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.done[what]
}

func (p *progress) add(what string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.done[what] = true
	_, err := p.file.WriteString(what + "\n")
	return err
}

// memberMark stands for a member in what is written down: if that is left lying, it names nobody.
func memberMark(m Member) string {
	sum := sha256.Sum256([]byte(m.Address))
	return hex.EncodeToString(sum[:16])
}

// end forgets it all: everybody has got a copy.
func (p *progress) end() error { return os.Remove(p.file.Name()) }

func (p *progress) close() { _ = p.file.Close() }

// tidyLists removes what was left of messages that have gone long ago.
func (f *Flow) tidyLists() error {
	for _, pattern := range []string{"lists/*", "held/*.new"} {
		found, err := filepath.Glob(filepath.Join(f.Scratch, pattern))
		if err != nil {
			return err
		}
		for _, path := range found {
			info, err := os.Stat(path)
			if err == nil && f.Tally.Now().Sub(info.ModTime()) > heldFor {
				err = os.Remove(path)
			}
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
	}
	return nil
}

// request does what a message to the owners of a list asks for, or passes it on to them.
func (f *Flow) request(ctx context.Context, list List, members []Member, sender string, message *os.File,
	header textproto.MIMEHeader) error {
	subject, err := new(mime.WordDecoder).DecodeHeader(header.Get("Subject"))
	if err != nil {
		subject = header.Get("Subject")
	}
	if asked, ok := mail.ParseListRequest(subject); ok {
		switch asked.Do {
		case "leave":
			return f.leave(list, members, asked.Code)
		case "approve":
			err = f.Approve(ctx, list.Address, asked.Code)
		case "drop":
			err = f.Drop(list.Address, asked.Code)
		}
		if errors.Is(err, fs.ErrNotExist) {
			return reply(550, 5, 7, 1, "no such message to this list waits any more")
		}
		return err
	}
	if auto := header.Get("Auto-Submitted"); sender == "" || auto != "" && !strings.EqualFold(auto, "no") {
		return reply(250, 2, 0, 0, mail.IgnoredAnswer)
	}
	owners := ownersOf(members)
	if len(owners) == 0 {
		return reply(550, 5, 1, 1, "this list has no owner")
	}
	return f.passOn(ctx, Forward{Address: mail.RequestAddress(list.Address), Targets: owners, Account: list.Account},
		sender, message)
}

// leave takes the member out of a list whom a code is of. A code of nobody is refused.
func (f *Flow) leave(list List, members []Member, code string) error {
	if !slices.ContainsFunc(members, func(m Member) bool { return m.Member && f.leaveCode(list, m) == code }) {
		return reply(550, 5, 7, 1, "this is no member's code; it may have left already")
	}
	subject := leftSubject(list.Account.ID, code)
	if f.Left.Used()[subject] > 0 {
		return nil
	}
	_, err := f.Left.Take(1, Bound{subject, definition.Unlimited})
	return err
}

// Leaves are the members who have left lists by a message.
func (f *Flow) Leaves() []definition.Leave {
	list := []definition.Leave{}
	for subject := range f.Left.Used() {
		before, code, _ := strings.Cut(subject, "/")
		if account, err := strconv.ParseInt(before, 10, 64); err == nil {
			list = append(list, definition.Leave{Account: account, Code: code})
		}
	}
	return list
}
