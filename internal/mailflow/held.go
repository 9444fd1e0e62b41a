package mailflow

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"net/textproto"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/plans"
)

// Held is a message that waits for an owner of its list.
type Held struct {
	mail.HeldPost
	// Sender is that of the envelope.
	Sender string `json:"sender"`
}

const (
	// mostHeld bounds how many messages to a list wait.
	mostHeld = 200
	// heldFor is how long one waits before it is dropped.
	heldFor = 14 * 24 * time.Hour
)

func (f *Flow) heldDir() string { return filepath.Join(f.Scratch, "held") }

// postLetters are those of the names of messages that wait.
const postLetters = "abcdefghijklmnopqrstuvwxyz234567"

func isPost(name string) bool { return len(name) >= 16 && strings.Trim(name, postLetters) == "" }

// holdForModeration has a message wait for an owner, and tells the owners.
func (f *Flow) holdForModeration(ctx context.Context, list List, members []Member, sender string, message *os.File,
	header textproto.MIMEHeader) error {
	waiting, err := f.HeldPosts(ctx, list.Address)
	if err != nil {
		return err
	}
	if len(waiting) >= mostHeld {
		return reply(450, 4, 7, 1, "too many messages to this list wait for its owners")
	}
	size, err := message.Seek(0, io.SeekEnd)
	if err == nil {
		_, err = message.Seek(0, io.SeekStart)
	}
	if err != nil {
		return err
	}
	subject, err := new(mime.WordDecoder).DecodeHeader(header.Get("Subject"))
	if err != nil {
		subject = ""
	}
	from, err := new(mime.WordDecoder).DecodeHeader(header.Get("From"))
	if err != nil {
		from = header.Get("From")
	}
	post := Held{Sender: sender, HeldPost: mail.HeldPost{Name: strings.ToLower(rand.Text()), List: list.Address,
		From: printable(from), Subject: printable(subject), Size: size, At: f.Tally.Now().UTC()}}
	if err := os.MkdirAll(f.heldDir(), 0o700); err != nil {
		return err
	}
	text, err := json.Marshal(post)
	if err != nil {
		return err
	}
	path := filepath.Join(f.heldDir(), post.Name)
	file, err := os.OpenFile(path+".new", os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(file, io.MultiReader(bytes.NewReader(append(text, '\n')), message))
	if err := errors.Join(err, file.Sync(), file.Close()); err != nil {
		return errors.Join(err, os.Remove(path+".new"))
	}
	if err := os.Rename(path+".new", path); err != nil {
		return err
	}
	if err := f.tellOwners(ctx, list, members, post); err != nil {
		f.Log.Warn("the owners of a list are not told of a message that waits", "list", list.Address, "error", err)
	}
	return nil
}

// printable is a text for one line, not too long.
func printable(text string) string {
	text = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(text, ""))
	if runes := []rune(text); len(runes) > 200 {
		text = string(runes[:200]) + "…"
	}
	return text
}

func ownersOf(members []Member) []string {
	var list []string
	for _, m := range members {
		if m.Owner {
			list = append(list, m.Address)
		}
	}
	return list
}

// tellOwners tells the owners of a message that waits.
func (f *Flow) tellOwners(ctx context.Context, list List, members []Member, post Held) error {
	owners := ownersOf(members)
	if len(owners) == 0 {
		return nil
	}
	request := mail.RequestAddress(list.Address)
	say := func(format string, args ...any) string {
		return language.New(format, args...).In(list.Language) + "\r\n"
	}
	link := func(do string) string {
		return "<mailto:" + request + "?subject=" + do + "%20" + post.Name + ">\r\n\r\n"
	}
	text := say("A message to %s waits for an owner.", list.Address) + "\r\n" + say("From: %s", post.From) +
		say("Subject: %s", post.Subject) + say("Size: %s", plans.FormatSize(post.Size)) + "\r\n" +
		say("To have it sent to the list, write to") + link("approve") + say("To drop it, write to") + link("drop") +
		say("After two weeks it is dropped by itself. Whoever looks after the mail of this domain can do both, too.")
	subject := language.New("A message to %s waits: %s", list.Address, post.Subject).In(list.Language)
	fields := append(ownHeader(request, strings.Join(owners, ", "), subject, "auto-generated", f.Tally.Now(),
		f.config.Load().Name), field{"Content-Transfer-Encoding", "8bit"})
	return f.injectSigned(ctx, request, "", owners, fields, []byte(text))
}

// HeldPosts are the messages to a list that wait, the oldest first; all lists' where it is empty.
// Those that have waited too long are dropped, as are those of lists that are gone.
func (f *Flow) HeldPosts(ctx context.Context, list string) ([]mail.HeldPost, error) {
	entries, err := os.ReadDir(f.heldDir())
	if errors.Is(err, fs.ErrNotExist) {
		return []mail.HeldPost{}, nil
	}
	if err != nil {
		return nil, err
	}
	found := []mail.HeldPost{}
	for _, e := range entries {
		if !isPost(e.Name()) {
			continue
		}
		post, file, err := f.openHeld(e.Name())
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		_ = file.Close() // it was only read
		_, err = f.Tables.List(ctx, post.List)
		if err != nil && !errors.Is(err, ErrNone) {
			return nil, err
		}
		if f.Tally.Now().Sub(post.At) > heldFor || err != nil {
			if err := os.Remove(filepath.Join(f.heldDir(), post.Name)); err != nil {
				return nil, err
			}
			continue
		}
		if list == "" || post.List == list {
			found = append(found, post.HeldPost)
		}
	}
	slices.SortFunc(found, func(a, b mail.HeldPost) int { return a.At.Compare(b.At) })
	return found, nil
}

// openHeld opens a message that waits, behind the line that says what it is. The caller closes it.
func (f *Flow) openHeld(name string) (post Held, file *os.File, err error) {
	if !isPost(name) {
		return post, nil, fs.ErrNotExist
	}
	if file, err = os.Open(filepath.Join(f.heldDir(), name)); err != nil {
		return post, nil, err
	}
	line, err := bufio.NewReader(file).ReadString('\n')
	if err == nil {
		err = json.Unmarshal([]byte(line), &post)
	}
	if err == nil {
		_, err = file.Seek(int64(len(line)), io.SeekStart)
	}
	if err != nil {
		return post, nil, errors.Join(fmt.Errorf("the message %s cannot be read: %w", name, err), file.Close())
	}
	return post, file, nil
}

// Approve sends a message on to its list that waits; it is gone then.
//
// Errors: fs.ErrNotExist.
func (f *Flow) Approve(ctx context.Context, list, name string) error {
	post, file, err := f.openHeld(name)
	if err != nil {
		return err
	}
	defer file.Close()
	if post.List != list {
		return fs.ErrNotExist
	}
	if err := f.Inject(ctx, post.Sender, []string{f.approvedRecipient(list, name)}, file); err != nil {
		return err
	}
	return os.Remove(file.Name())
}

// Drop removes a message that waits.
//
// Errors: fs.ErrNotExist.
func (f *Flow) Drop(list, name string) error {
	post, file, err := f.openHeld(name)
	if err != nil {
		return err
	}
	defer file.Close()
	if post.List != list {
		return fs.ErrNotExist
	}
	return os.Remove(file.Name())
}
