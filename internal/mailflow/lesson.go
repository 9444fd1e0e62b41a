package mailflow

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"victualler/internal/manifest"
)

// LessonSocket is where Dovecot says that somebody has moved a message to Junk or out of it. Only
// processes of mailboxes are listened to.
const LessonSocket = "/run/victualler-mail/lessons/teach"

// mostLessons bounds how much an account teaches the spam filter within an hour: it is the same for
// all, and nobody is to bring it up alone.
const mostLessons = 200

// ServeLessons takes lessons until the listener is closed.
func (f *Flow) ServeLessons(l net.Listener) error {
	return serve(l, func(conn net.Conn) error {
		if err := conn.SetDeadline(time.Now().Add(time.Minute)); err != nil {
			return err
		}
		text := "ok\n"
		if err := f.learn(conn); err != nil {
			f.Log.Warn("nothing is learnt from a message", "error", err)
			text = "no\n"
		}
		_, err := io.WriteString(conn, text)
		return err
	})
}

func (f *Flow) learn(conn net.Conn) error {
	user, err := peerUser(conn)
	if err != nil {
		return err
	}
	account, is := manifest.AccountOfMailUID(user)
	judge := f.Judge()
	if !is || judge == nil {
		return fmt.Errorf("user %d has nothing to teach", user)
	}
	in := bufio.NewReader(io.LimitReader(conn, mostMessage))
	kind, err := in.ReadString('\n')
	if err != nil {
		return err
	}
	if kind != "spam\n" && kind != "ham\n" {
		return fmt.Errorf("%q is no lesson", kind)
	}
	over, err := f.Tally.Take(1, Bound{fmt.Sprintf("lessons/%d", account), mostLessons})
	if err != nil {
		return err
	}
	if over != nil {
		return fmt.Errorf("account %d has taught %d messages within an hour", account, mostLessons)
	}
	file, err := f.scratchFile()
	if err != nil {
		return err
	}
	defer file.Close()
	if _, err := io.Copy(file, in); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), judgePatience)
	defer cancel()
	return judge.teach(ctx, kind == "spam\n", file)
}

// Teach is what Dovecot runs as the user of a mailbox: it hands a message over. Kind is spam or
// ham.
func Teach(kind string, message io.Reader) error {
	if kind != "spam" && kind != "ham" {
		return fmt.Errorf("%q is no lesson: say spam or ham", kind)
	}
	conn, err := net.DialTimeout("unix", LessonSocket, 5*time.Second)
	if err != nil {
		return err
	}
	defer conn.Close()
	if err := conn.SetDeadline(time.Now().Add(time.Minute)); err != nil {
		return err
	}
	_, err = io.Copy(conn, io.MultiReader(strings.NewReader(kind+"\n"), message))
	// Whoever is not listened to is not read to the end either.
	err = errors.Join(err, conn.(*net.UnixConn).CloseWrite())
	said, readErr := io.ReadAll(io.LimitReader(conn, 16))
	if string(said) != "ok\n" {
		return errors.Join(errors.New("nothing was learnt"), err, readErr)
	}
	return nil
}
