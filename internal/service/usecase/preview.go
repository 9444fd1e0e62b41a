package usecase

import (
	"context"
	"fmt"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
)

// MaxEffects is how many accounts a preview lists one by one.
const MaxEffects = 500

// Preview collects what a use case would do.
type Preview struct {
	summary string
	notes   []string
	Effects []api.Effect
	records []api.Record
	// questions ask the servers of one account each what they would do,
	// once the transaction is over.
	questions []func(context.Context, *api.Preview) error
	out       api.Preview
}

// AskServers adds a question to servers, one for each account: it is asked after the transaction
// has been rolled back, and adds what the servers answer to the document. Nil only counts.
func (p *Preview) AskServers(question func(context.Context, *api.Preview) error) {
	p.questions = append(p.questions, question)
}

// Asked is for how many accounts servers would be asked.
func (p *Preview) Asked() int { return len(p.questions) }

// begin starts anew: a transaction may be tried again.
func (p *Preview) begin() { *p = Preview{} }

// Summarize sets the summary, in words that follow "would".
func (a Actor) Summarize(format string, args ...any) {
	if a.Preview != nil {
		a.Preview.summary = a.Say(format, args...)
	}
}

// Note adds what is worth knowing, of what would be done and of what is.
func (a Actor) Note(format string, args ...any) {
	a.NoteAll([]language.Text{language.New(format, args...)})
}

// NoteAll adds several things that are worth knowing.
func (a Actor) NoteAll(texts []language.Text) {
	switch {
	case a.Preview != nil:
		a.Preview.notes = append(a.Preview.notes, a.SayAll(texts)...)
	case a.Notes != nil:
		a.Notes.list = append(a.Notes.list, a.SayAll(texts)...)
	}
}

// Notes collects what is worth knowing of a change that is done.
type Notes struct{ list []string }

// List returns them.
func (n *Notes) List() []string { return n.list }

// begin starts anew: a transaction may be tried again.
func (n *Notes) begin() {
	if n != nil {
		n.list = nil
	}
}

// MaxPreviewedAccounts is for how many accounts a preview asks the
// servers; of more, it tells the effects only.
const MaxPreviewedAccounts = 3

// finish asks servers what they would do and fills the document.
func (p *Preview) finish(ctx context.Context) error {
	p.out = api.Preview{Summary: p.summary, Notes: NonNil(p.notes), Records: p.records, Effects: p.Effects,
		Steps: []string{}, Changes: []api.Change{}}
	if p.out.Records == nil {
		p.out.Records = []api.Record{}
	}
	if p.out.Effects == nil {
		p.out.Effects = []api.Effect{}
	}
	if p.summary == "" && len(p.records) > 0 {
		p.out.Summary = p.records[0].Action + " " + p.records[0].Subject
	}
	if len(p.questions) > MaxPreviewedAccounts {
		p.out.Notes = append(p.out.Notes,
			fmt.Sprintf("%d accounts would be applied on their servers", len(p.questions)))
		return nil
	}
	for _, ask := range p.questions {
		if err := ask(ctx, &p.out); err != nil {
			return err
		}
	}
	return nil
}

// Document returns what would be done, once the use case has been through.
func (p *Preview) Document() api.Preview { return p.out }
