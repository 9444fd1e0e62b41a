package mailflow

import (
	"context"
	"net"
	netmail "net/mail"
	"net/textproto"
	"strconv"
	"strings"

	"github.com/emersion/go-milter"

	"victualler/internal/hosting/mail"
)

// ServeIncoming looks at what others send to mailboxes here, until the listener is closed: what it
// is worth is written into it, and what is spam beyond doubt, or what a list does not want, is not
// taken.
func (f *Flow) ServeIncoming(l net.Listener) error {
	return serveMilter(l, func() milter.Milter { return &incoming{flow: f} }, milter.OptNoUnknown|milter.OptNoData)
}

// incoming is one message after the other of a connection to Postfix.
type incoming struct {
	milter.NoOpMilter
	flow *Flow

	client, clientName, helo string // of the connection
	envelope
	message spool
}

func (in *incoming) Connect(host, _ string, _ uint16, address net.IP, _ *milter.Modifier) (milter.Response, error) {
	in.client = ""
	if address != nil {
		in.client = address.String()
	}
	in.clientName = host
	if strings.HasPrefix(host, "[") { // it has none
		in.clientName = "unknown"
	}
	return milter.RespContinue, nil
}

func (in *incoming) Helo(name string, _ *milter.Modifier) (milter.Response, error) {
	in.helo = name
	return milter.RespContinue, nil
}

func (in *incoming) MailFrom(from string, _ *milter.Modifier) (milter.Response, error) {
	in.forget()
	in.sender = from
	return milter.RespContinue, nil
}

func (in *incoming) RcptTo(to string, _ *milter.Modifier) (milter.Response, error) {
	in.recipients = append(in.recipients, to)
	return milter.RespContinue, nil
}

func (in *incoming) Header(name, value string, _ *milter.Modifier) (milter.Response, error) {
	if len(in.message.header) == 0 && in.flow.Judge() == nil && !in.flow.toLists(in.recipients) {
		return milter.RespAccept, nil // nothing of it is looked at
	}
	in.message.header = append(in.message.header, field{name, value})
	return milter.RespContinue, nil
}

func (in *incoming) Headers(textproto.MIMEHeader, *milter.Modifier) (milter.Response, error) {
	if refused := in.flow.refusedByLists(in.envelope, in.message.header, false); refused != nil {
		return answer(refused), nil
	}
	if in.flow.Judge() == nil {
		return milter.RespAccept, nil
	}
	if err := in.message.begin(in.flow); err != nil {
		in.flow.Log.Error("a message is not judged", "error", err)
		return milter.RespAccept, nil
	}
	return milter.RespContinue, nil
}

func (in *incoming) BodyChunk(chunk []byte, _ *milter.Modifier) (milter.Response, error) {
	if _, err := in.message.file.Write(chunk); err != nil {
		in.flow.Log.Error("a message is not judged", "error", err)
		return milter.RespAccept, nil
	}
	return milter.RespContinue, nil
}

// Body judges the message. While the filter cannot be asked, messages are taken without: mail that
// is late is worse than spam in an inbox.
func (in *incoming) Body(m *milter.Modifier) (milter.Response, error) {
	defer in.forget()
	judge := in.flow.Judge()
	if judge == nil || in.message.file == nil {
		return milter.RespAccept, nil
	}
	e := in.envelope
	e.client, e.clientName, e.helo, e.queue = in.client, in.clientName, in.helo, m.Macros["i"]
	text, err := in.message.rewind()
	if err != nil {
		return milter.RespAccept, nil
	}
	if refused := in.flow.forbidden(text); refused != nil {
		return answer(refused), nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), judgePatience)
	defer cancel()
	found, err := judge.judge(ctx, e, in.message.file)
	if err != nil {
		in.flow.Log.Warn("a message is not judged", "queue", e.queue, "error", err)
		return milter.RespAccept, nil
	}
	if refused := refusalOf(found); refused != nil {
		in.flow.Log.Info("a message is refused", "queue", e.queue, "score", found.ScoreText())
		return answer(refused), nil
	}
	if refused := in.flow.refusedByLists(e, in.message.header, found.Tenths() >=
		in.flow.config.Load().JunkAbove); refused != nil {
		return answer(refused), nil
	}
	for _, h := range in.flow.findings(found, e.sender, in.message.header) {
		if err := m.InsertHeader(0, h.Name, strings.ReplaceAll(h.Value, "\r\n", "\n")); err != nil {
			return milter.RespTempFail, nil
		}
	}
	return milter.RespAccept, nil
}

// findings are the fields by which a message says what was found out about it, the last one first.
func (f *Flow) findings(j mail.Judgement, sender string, header []field) []field {
	author := ""
	for _, h := range header {
		if strings.EqualFold(h.Name, "From") {
			if from, err := netmail.ParseAddress(unfold(h.Value)); err == nil {
				_, author, _ = strings.Cut(from.Address, "@")
			}
		}
	}
	return []field{{mail.TenthsField, strconv.Itoa(j.Tenths())}, {mail.ScoreField, j.ScoreText()},
		{mail.ResultsField, j.ResultsText(f.config.Load().Name, sender, author)}}
}

func (in *incoming) Abort(*milter.Modifier) error {
	in.forget()
	return nil
}

// forget ends what was begun with the message before.
func (in *incoming) forget() {
	in.message.close()
	in.envelope = envelope{}
}
