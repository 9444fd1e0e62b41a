package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/mail"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/notices"
	"victualler/internal/hosting/refusal"
	"victualler/internal/post"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

const sealedMail = "message on its way out"

// giveUpMail is for how long a message is tried again.
const giveUpMail = 24 * time.Hour

// letter is a message with where it goes and whose it is.
type letter struct {
	kind, to, language   string
	customer, reseller   *int64
	notice               notices.Notice
	senderName, senderAt string
}

// senderFor returns on whose behalf notices to people of a reseller are written: the reseller's, or the installation's.
func (s *Service) senderFor(ctx context.Context, q *db.Queries, reseller *int64) (from notices.Sender, name, address string, err error) {
	settings, err := q.Settings(ctx)
	if err != nil {
		return from, "", "", err
	}
	from, name, address = notices.Sender{Title: settings.Title}, settings.Title, settings.Sender
	if reseller == nil {
		return from, name, address, nil
	}
	row, err := q.ResellerByID(ctx, *reseller)
	if err != nil {
		return from, name, address, err
	}
	b, err := readBrand(row)
	if b.Title != "" {
		from.Title, name = b.Title, b.Title
	}
	from.Footer = b.Footer
	if b.SenderName != "" {
		name = b.SenderName
	}
	if b.Sender != "" {
		address = b.Sender
	}
	return from, name, address, err
}

// post puts a message on its way: it goes out after the transaction, and is tried again for a day.
func (s *Service) post(ctx context.Context, tx store.Tx, l letter) error {
	settings, err := tx.Settings(ctx)
	if err != nil {
		return err
	}
	if settings.MailServer == "" || l.senderAt == "" {
		return refusal.New(refusal.MailFailed, "no mail goes out from here yet: the settings name no mail server or no sender. An operator can set both; until then, hand the link over yourself")
	}
	text, err := json.Marshal(post.Message{From: mail.Address{Name: l.senderName, Address: l.senderAt}, To: l.to, Subject: l.notice.Subject,
		Text: l.notice.Text, Language: l.language, Date: s.now()})
	if err != nil {
		return err
	}
	number, err := tx.AddMail(ctx, db.AddMailParams{Kind: l.kind, Recipient: l.to, Sender: l.senderAt, Message: s.key.Seal(sealedMail, text), CustomerID: l.customer, ResellerID: l.reseller})
	if err != nil {
		return err
	}
	return s.queue.Send(ctx, tx, number)
}

// SendMail hands a message to the mail server. An error means that it should be tried again.
func (s *Service) SendMail(ctx context.Context, number int64) error {
	var later error
	err := s.store.InTx(ctx, func(tx store.Tx) error {
		row, err := tx.LockMail(ctx, number)
		if store.None(err) || err == nil && row.State != "waiting" {
			return nil // somebody else is at it, or was
		}
		if err != nil {
			return err
		}
		text, err := s.key.Open(sealedMail, row.Message)
		if err != nil {
			return err
		}
		m := post.Message{}
		if err := json.Unmarshal(text, &m); err != nil {
			return err
		}
		m.ID = fmt.Sprintf("%d.%d", row.CreatedAt.UnixNano(), row.ID)
		settings, err := tx.Settings(ctx)
		if err != nil {
			return err
		}
		server, err := s.mailServer(settings)
		if err != nil {
			return err
		}
		err = server.Send(ctx, m)
		var refused *post.Refused
		switch {
		case err == nil:
			return tx.FinishMail(ctx, db.FinishMailParams{ID: number, State: "sent"})
		case errors.As(err, &refused) || s.now().Sub(row.CreatedAt) > giveUpMail:
			s.log.Warn("mail not sent", "mail", number, "to", row.Recipient, "reason", err)
			return tx.FinishMail(ctx, db.FinishMailParams{ID: number, State: "failed", Failure: err.Error()})
		}
		later = err
		return tx.DelayMail(ctx, db.DelayMailParams{ID: number, Failure: err.Error()})
	})
	return errors.Join(err, later)
}

const sealedMailPassword = "password for the mail server"

func (s *Service) mailServer(settings db.Setting) (post.Server, error) {
	server := post.Server{Address: settings.MailServer, Security: post.Security(settings.MailSecurity), Name: settings.MailName}
	if settings.MailPassword == nil {
		return server, nil
	}
	password, err := s.key.Open(sealedMailPassword, settings.MailPassword)
	server.Password = string(password)
	return server, err
}

// TestMail sends a message at once and tells what the mail server says.
func (s *Service) TestMail(ctx context.Context, a Actor, in api.MailTest) error {
	if _, err := mailAddress("to", in.To); err != nil {
		return err
	}
	settings, err := s.store.Settings(ctx)
	if err != nil {
		return err
	}
	if settings.MailServer == "" || settings.Sender == "" {
		return refusal.New(refusal.MailFailed, "set a mail server and a sender first")
	}
	server, err := s.mailServer(settings)
	if err != nil {
		return err
	}
	n := notices.Test("en", notices.Sender{Title: settings.Title})
	m := post.Message{ID: fmt.Sprintf("%d.test", s.now().UnixNano()), From: mail.Address{Name: settings.Title, Address: settings.Sender}, To: in.To,
		Subject: n.Subject, Text: n.Text, Language: "en", Date: s.now()}
	if err := server.Send(ctx, m); err != nil {
		return refusal.New(refusal.MailFailed, "%s", err)
	}
	return do(ctx, s, a, func(tx store.Tx) error {
		return record(ctx, tx, a, "settings.test_mail", about("settings"), nil, map[string]string{"to": in.To})
	})
}
