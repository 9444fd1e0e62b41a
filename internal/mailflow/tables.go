package mailflow

import (
	"context"
	"crypto/rsa"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"
	_ "modernc.org/sqlite" // the driver that database/sql is to find

	"victualler/internal/hosting/mail"
)

// ErrNone says that the tables have no such row.
var ErrNone = errors.New("there is no such row")

// Account is what an account may send.
type Account struct {
	ID   int64
	Name string
	// Hourly is to how many recipients within an hour, or Unlimited.
	Hourly int64
	// BounceShare is how many percent may come back, or Unlimited.
	BounceShare int64
	// Silent accounts send nothing.
	Silent bool
	// Stopped accounts send nothing until somebody has looked: too much of what they sent came
	// back.
	Stopped bool
}

// Mailbox is what the holder of a mailbox may send.
type Mailbox struct {
	Address string
	Hourly  int64
	Account Account
}

// Key signs the messages of a domain.
type Key struct {
	Domain, Selector string
	Private          *rsa.PrivateKey
}

// Tables reads what accounts have. What was read is remembered as long as nobody writes: SQLite
// counts changes in the file's header.
type Tables struct {
	// head is the beginning of the file, as it is at each moment.
	head []byte
	db   *sql.DB

	mu      sync.Mutex
	counter uint32
	memory  map[string]any
}

// OpenTables opens the table file.
func OpenTables(path string) (*Tables, error) {
	head, err := headOf(path)
	if err != nil {
		return nil, err
	}
	db, err := sql.Open("sqlite", "file:"+path+"?mode=ro&_pragma=busy_timeout(5000)&_pragma=query_only(on)")
	if err != nil {
		return nil, errors.Join(err, unix.Munmap(head))
	}
	db.SetMaxOpenConns(4)
	return &Tables{head: head, db: db, memory: map[string]any{}}, nil
}

// headOf maps the beginning of a file, which is read for each decision.
func headOf(path string) ([]byte, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	if info, err := file.Stat(); err != nil || info.Size() < headSize {
		return nil, errors.Join(err, fmt.Errorf("%s is no table file", path))
	}
	return unix.Mmap(int(file.Fd()), 0, headSize, unix.PROT_READ, unix.MAP_SHARED)
}

// headSize is the size of the header of a file of SQLite's.
const headSize = 100

// Close closes the tables, which nobody reads any more.
func (t *Tables) Close() error { return errors.Join(t.db.Close(), unix.Munmap(t.head)) }

// changes is the file's counter of changes (SQLite's file format, section 1.3.7).
func (t *Tables) changes() uint32 {
	return binary.BigEndian.Uint32(t.head[24:28])
}

// mostRemembered bounds the memory: beyond it, everything is forgotten.
const mostRemembered = 20_000

// remember returns what is remembered under a name, or asks for it. ErrNone is remembered, too.
func remember[T any](t *Tables, name string, ask func() (T, error)) (T, error) {
	type answer struct {
		value T
		err   error
	}
	counter := t.changes()
	t.mu.Lock()
	if counter != t.counter || len(t.memory) > mostRemembered {
		t.counter = counter
		clear(t.memory)
	}
	known, has := t.memory[name].(answer)
	t.mu.Unlock()
	if has {
		return known.value, known.err
	}
	value, err := ask()
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNone
	}
	if err == nil || errors.Is(err, ErrNone) {
		t.mu.Lock()
		if counter == t.counter {
			t.memory[name] = answer{value, err}
		}
		t.mu.Unlock()
	}
	return value, err
}

const accountColumns = "a.account, a.name, a.hourly, a.bounce_share, a.silent, " +
	"exists (select 1 from stops where stops.account = a.account and stops.released is null)"

func (a *Account) into() []any {
	return []any{&a.ID, &a.Name, &a.Hourly, &a.BounceShare, &a.Silent, &a.Stopped}
}

// Account finds an account by its number.
func (t *Tables) Account(ctx context.Context, id int64) (Account, error) {
	return remember(t, fmt.Sprintf("account %d", id), func() (a Account, err error) {
		err = t.db.QueryRowContext(ctx, "select "+accountColumns+" from accounts a where a.account = ?", id).
			Scan(a.into()...)
		return a, err
	})
}

// Home is the key, in hexadecimal, of the server with an account's sites, where that is another
// one.
func (t *Tables) Home(ctx context.Context, account int64) (string, error) {
	return remember(t, fmt.Sprintf("home %d", account), func() (key string, err error) {
		err = t.db.QueryRowContext(ctx, "select home from homes where account = ?", account).Scan(&key)
		return key, err
	})
}

// IsHome reports whether a key, in hexadecimal, is of a server with sites whose mail is here.
func (t *Tables) IsHome(ctx context.Context, key string) (bool, error) {
	return remember(t, "is home "+key, func() (is bool, err error) {
		err = t.db.QueryRowContext(ctx, "select exists (select 1 from homes where home = ?)", key).Scan(&is)
		return is, err
	})
}

// Mailbox finds a mailbox by its address.
func (t *Tables) Mailbox(ctx context.Context, address string) (Mailbox, error) {
	return remember(t, "mailbox "+address, func() (m Mailbox, err error) {
		err = t.db.QueryRowContext(ctx, "select m.address, m.hourly, "+accountColumns+
			" from mailboxes m join accounts a on a.account = m.account where m.address = ?", address).
			Scan(append([]any{&m.Address, &m.Hourly}, m.Account.into()...)...)
		return m, err
	})
}

// MayUse reports whether the holder of a mailbox may send as an address.
func (t *Tables) MayUse(ctx context.Context, mailbox, address string) (bool, error) {
	return remember(t, "sender "+mailbox+" "+address, func() (may bool, err error) {
		_, domain, _ := strings.Cut(address, "@")
		// The domain's catch-all gets what is no address, so it sends as such, too.
		err = t.db.QueryRowContext(ctx, `select exists (select 1 from senders where address = ?1 and mailbox = ?2)
			or exists (select 1 from senders where address = '@' || ?3 and mailbox = ?2)
			and not exists (select 1 from senders where address = ?1)`, address, mailbox, domain).Scan(&may)
		return may, err
	})
}

// OwnsDomain reports whether the sites of an account may send for a domain.
func (t *Tables) OwnsDomain(ctx context.Context, account int64, domain string) (bool, error) {
	return remember(t, fmt.Sprintf("domain %d %s", account, domain), func() (owns bool, err error) {
		err = t.db.QueryRowContext(ctx, "select exists (select 1 from domains where account = ? and name = ?)",
			account, domain).Scan(&owns)
		return owns, err
	})
}

// FirstDomain is the first of the domains that the sites of an account may send for.
func (t *Tables) FirstDomain(ctx context.Context, account int64) (string, error) {
	return remember(t, fmt.Sprintf("domain %d", account), func() (name string, err error) {
		err = t.db.QueryRowContext(ctx, "select name from domains where account = ? order by place limit 1", account).
			Scan(&name)
		return name, err
	})
}

// SignsFor reports whether the mail of an address is an account's, so that it can be signed for it.
func (t *Tables) SignsFor(ctx context.Context, account int64, address string) (bool, error) {
	_, domain, _ := strings.Cut(strings.ToLower(address), "@")
	return remember(t, fmt.Sprintf("signs %d %s", account, domain), func() (signs bool, err error) {
		err = t.db.QueryRowContext(ctx, "select exists (select 1 from keys where account = ? and domain = ?)",
			account, domain).Scan(&signs)
		return signs, err
	})
}

// Forward is where an address passes its messages on to.
type Forward struct {
	Address string
	Targets []string
	// Keeps says that the address is a mailbox, which stores its messages as well; JunkAbove is the
	// score in tenths from which on they go to Junk there, 0 is the server's.
	Keeps     bool
	JunkAbove int
	// Reply is told to whoever writes; nil is nothing.
	Reply   *Reply
	Account Account
}

// Forward finds where an address passes its messages on to.
func (t *Tables) Forward(ctx context.Context, address string) (Forward, error) {
	return remember(t, "forward "+address, func() (f Forward, err error) {
		f.Address = address
		rows, err := t.db.QueryContext(ctx, "select f.target, m.address is not null, "+
			"coalesce(m.junk_above, 0), "+accountColumns+" from forwards f join accounts a on a.account = f.account "+
			"left join mailboxes m on m.address = f.address where f.address = ? order by f.target", address)
		if err != nil {
			return f, err
		}
		defer rows.Close()
		for rows.Next() {
			var target string
			if err := rows.Scan(append([]any{&target, &f.Keeps, &f.JunkAbove}, f.Account.into()...)...); err != nil {
				return f, err
			}
			f.Targets = append(f.Targets, target)
		}
		if err := rows.Err(); err != nil {
			return f, err
		}
		if f.Reply, err = t.reply(ctx, address, &f.Account); err != nil {
			return f, err
		}
		if len(f.Targets) == 0 && f.Reply == nil {
			return f, ErrNone
		}
		return f, nil
	})
}

// reply finds what is told to whoever writes to a mailbox; nil is nothing.
func (t *Tables) reply(ctx context.Context, address string, of *Account) (*Reply, error) {
	r, from, until := &Reply{}, int64(0), int64(0)
	err := t.db.QueryRowContext(ctx, "select r.subject, r.text, r.starts, r.ends, "+accountColumns+
		" from replies r join accounts a on a.account = r.account where r.address = ?", address).
		Scan(append([]any{&r.Subject, &r.Text, &from, &until}, of.into()...)...)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if from != 0 {
		r.From = time.Unix(from, 0)
	}
	if until != 0 {
		r.Until = time.Unix(until, 0)
	}
	return r, err
}

// Key finds the key that a domain's messages are signed with.
func (t *Tables) Key(ctx context.Context, domain string) (Key, error) {
	return remember(t, "key "+domain, func() (k Key, err error) {
		var text string
		err = t.db.QueryRowContext(ctx, "select domain, selector, key from keys where domain = ?", domain).
			Scan(&k.Domain, &k.Selector, &text)
		if err != nil {
			return k, err
		}
		k.Private, err = mail.ParseSigningKey(text)
		return k, err
	})
}
