package notify

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/mail"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/notices"
	"victualler/internal/hosting/refusal"
	"victualler/internal/post"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

const sealedMail = "message on its way out"

// mailGiveUpAfter is for how long a message is tried again.
const mailGiveUpAfter = 24 * time.Hour

// OutboundMail is a message with where it goes and whose it is.
type OutboundMail struct {
	Kind, To, Language   string
	Customer, Reseller   *int64
	Notice               notices.Notice
	SenderName, SenderAt string
}

// SenderFor returns on whose behalf notices to people of a reseller are
// written: the reseller's, or the installation's.
func (s *Service) SenderFor(ctx context.Context, q *db.Queries, reseller *int64) (from notices.Sender, name,
	address string, err error) {
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
	b, err := usecase.ReadBrand(row)
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

// QueueMail puts a message on its way: it goes out after the
// transaction, and is tried again for a day.
//
// Refusals: MailFailed.
func (s *Service) QueueMail(ctx context.Context, tx store.Tx, l OutboundMail) error {
	settings, err := tx.Settings(ctx)
	if err != nil {
		return err
	}
	if settings.MailServer == "" || l.SenderAt == "" {
		return refusal.New(refusal.MailFailed, "no mail goes out from here yet: the settings name no mail server or "+
			"no sender; until they do, hand links over yourself").Help(refusal.Remedy{By: refusal.Operator,
			Do: language.New("set both"), Command: "settings change --mail-server HOST --sender ADDRESS"})
	}
	text, err := json.Marshal(post.Message{From: mail.Address{Name: l.SenderName, Address: l.SenderAt}, To: l.To,
		Subject: l.Notice.Subject, Text: l.Notice.Text, Language: l.Language, Date: s.Now()})
	if err != nil {
		return err
	}
	number, err := tx.AddMail(ctx, db.AddMailParams{Kind: l.Kind, Recipient: l.To, Sender: l.SenderAt,
		Message: s.Key.Seal(sealedMail, text), CustomerID: l.Customer, ResellerID: l.Reseller})
	if err != nil {
		return err
	}
	return s.Queue.SendMail(ctx, tx, number)
}

// Customer sends a message to the customer of an account who has an address.
//
// Refusals: MailFailed.
func (s *Service) Customer(ctx context.Context, tx store.Tx, account db.Account, kind string,
	write func(language string, from notices.Sender) notices.Notice) error {
	customer, err := tx.CustomerByID(ctx, account.CustomerID)
	if err != nil || customer.Email == nil {
		return err
	}
	from, name, address, err := s.SenderFor(ctx, tx.Queries, account.ResellerID)
	if err != nil {
		return err
	}
	return IgnoreNoMail(s.QueueMail(ctx, tx, OutboundMail{Kind: kind, To: *customer.Email, Language: customer.Language,
		Customer: &customer.ID, Reseller: account.ResellerID, SenderName: name, SenderAt: address,
		Notice: write(customer.Language, from)}))
}

// Operators sends one message to each operator who has an address.
//
// Refusals: MailFailed.
func (s *Service) Operators(ctx context.Context, tx store.Tx, kind string,
	write func(language string, from notices.Sender) notices.Notice) error {
	people, err := tx.OperatorsWithMail(ctx)
	if err != nil {
		return err
	}
	from, name, address, err := s.SenderFor(ctx, tx.Queries, nil)
	if err != nil {
		return err
	}
	for _, p := range people {
		if err := IgnoreNoMail(s.QueueMail(ctx, tx, OutboundMail{Kind: kind, To: *p.Email, Language: p.Language,
			SenderName: name, SenderAt: address, Notice: write(p.Language, from)})); err != nil {
			return err
		}
	}
	return nil
}

// SendMail hands a message to the mail server, in no transaction: a slow server must not hold one.
// A process that is killed between the two writes has the message sent again, with the same
// Message-ID. An error means that it should be tried again.
func (s *Service) SendMail(ctx context.Context, number int64) error {
	row, err := s.Store.ClaimMail(ctx, number)
	if store.None(err) {
		return nil // another process has it, or it has been sent
	}
	if err != nil {
		return err
	}
	err = s.send(ctx, row)
	done := context.WithoutCancel(ctx) // what has come of it is written down even if the service stops just now
	var refused *post.Refused
	switch {
	case err == nil:
		return s.Store.FinishMail(done, db.FinishMailParams{ID: number, State: "sent"})
	case errors.As(err, &refused) || s.Now().Sub(row.CreatedAt) > mailGiveUpAfter:
		s.Log.Warn("mail not sent", "mail", number, "to", row.Recipient, "reason", err)
		return s.Store.FinishMail(done, db.FinishMailParams{ID: number, State: "failed", Failure: err.Error()})
	}
	return errors.Join(err, s.Store.DelayMail(done, db.DelayMailParams{ID: number, Failure: err.Error()}))
}

func (s *Service) send(ctx context.Context, row db.Mail) error {
	text, err := s.Key.Open(sealedMail, row.Message)
	if err != nil {
		return err
	}
	m := post.Message{}
	if err := json.Unmarshal(text, &m); err != nil {
		return err
	}
	m.ID = fmt.Sprintf("%d.%d", row.CreatedAt.UnixNano(), row.ID)
	settings, err := s.Store.Settings(ctx)
	if err != nil {
		return err
	}
	server, err := s.mailServer(settings)
	if err != nil {
		return err
	}
	return server.Send(ctx, m)
}

// SealedMailPassword is what the column settings.mail_password is sealed for.
const SealedMailPassword = "password for the mail server"

func (s *Service) mailServer(settings db.Setting) (post.Server, error) {
	server := post.Server{Address: settings.MailServer, Security: post.Security(settings.MailSecurity),
		Name: settings.MailName}
	if settings.MailPassword == nil {
		return server, nil
	}
	password, err := s.Key.Open(SealedMailPassword, settings.MailPassword)
	server.Password = string(password)
	return server, err
}

// TestMail sends a message at once and tells what the mail server says.
//
// Refusals: InvalidInput, MailFailed.
func (s *Service) TestMail(ctx context.Context, a usecase.Actor, in api.MailTest) error {
	if _, err := usecase.MailAddress("to", in.To); err != nil {
		return err
	}
	settings, err := s.Store.Settings(ctx)
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
	m := post.Message{ID: fmt.Sprintf("%d.test", s.Now().UnixNano()), From: mail.Address{Name: settings.Title,
		Address: settings.Sender}, To: in.To, Subject: n.Subject, Text: n.Text, Language: "en", Date: s.Now()}
	if err := server.Send(ctx, m); err != nil {
		return refusal.New(refusal.MailFailed, "%s", err)
	}
	return usecase.Do(ctx, s.Base, a, func(tx store.Tx) error {
		return usecase.Record(ctx, tx, a, "settings.test_mail", usecase.About("settings"), nil,
			map[string]string{"to": in.To})
	})
}

// IgnoreNoMail takes it that no mail goes out from here yet: what was
// to be told is on record all the same.
func IgnoreNoMail(err error) error {
	if refusal.Is(err, refusal.MailFailed) {
		return nil
	}
	return err
}
