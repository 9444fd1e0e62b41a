package service

import (
	"context"
	"encoding/json"
	"fmt"
	"sort"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
)

// Preview collects what a use case would do.
type Preview struct {
	summary string
	notes   []string
	effects []api.Effect
	records []api.Record
	// asks ask the servers of one account each what they would do, once the transaction is over.
	asks []func(context.Context, *api.Preview) error
	out  api.Preview
}

// Ask adds a question to servers, one for each account: it is asked after the transaction has been
// rolled back, and adds what the servers answer to the document. Nil only counts.
func (p *Preview) Ask(question func(context.Context, *api.Preview) error) {
	p.asks = append(p.asks, question)
}

// Asks is for how many accounts servers would be asked.
func (p *Preview) Asks() int { return len(p.asks) }

// begin starts anew: a transaction may be tried again.
func (p *Preview) begin() { *p = Preview{} }

// say sets the summary, in words that follow "would".
func (a Actor) say(format string, args ...any) {
	if a.Preview != nil {
		a.Preview.summary = fmt.Sprintf(format, args...)
	}
}

// note adds what is worth knowing.
func (a Actor) note(notes ...string) {
	if a.Preview != nil {
		a.Preview.notes = append(a.Preview.notes, notes...)
	}
}

// mostAsked is for how many accounts a preview asks the servers; of more, it tells the effects only.
const mostAsked = 3

// finish asks servers what they would do and fills the document.
func (p *Preview) finish(ctx context.Context) error {
	p.out = api.Preview{Summary: p.summary, Notes: nonNil(p.notes), Records: p.records, Effects: p.effects, Steps: []string{}, Changes: []api.Change{}}
	if p.out.Records == nil {
		p.out.Records = []api.Record{}
	}
	if p.out.Effects == nil {
		p.out.Effects = []api.Effect{}
	}
	if p.summary == "" && len(p.records) > 0 {
		p.out.Summary = p.records[0].Action + " " + p.records[0].Subject
	}
	if len(p.asks) > mostAsked {
		p.out.Notes = append(p.out.Notes, fmt.Sprintf("%d accounts would be applied on their servers", len(p.asks)))
		return nil
	}
	for _, ask := range p.asks {
		if err := ask(ctx, &p.out); err != nil {
			return err
		}
	}
	return nil
}

// ask asks a server what it would do to match a manifest. What happens elsewhere than at the home bears the server's label.
func (s *Service) ask(ctx context.Context, w placed, home bool, out *api.Preview) error {
	ask, cancel := context.WithTimeout(ctx, 2*askTimeout)
	defer cancel()
	answer, err := s.agents.Agent(w.server.ID, w.server.Address).Preview(ask, w.manifest)
	if err != nil {
		return unreachable(w.server.Label, err)
	}
	where := ""
	if !home {
		where = w.server.Label + ": "
	}
	for _, step := range answer.Steps {
		out.Steps = append(out.Steps, where+step)
	}
	for _, c := range answer.Changes {
		c.Part = where + c.Part
		out.Changes = append(out.Changes, api.Change(c))
	}
	return nil
}

// Document returns what would be done, once the use case has been through.
func (p *Preview) Document() api.Preview { return p.out }

// changedFields lists the fields in which two JSON documents differ, with dots for nesting.
func changedFields(before, after []byte) []api.Difference {
	b, a := flat(before), flat(after)
	names := map[string]bool{}
	for name := range b {
		names[name] = true
	}
	for name := range a {
		names[name] = true
	}
	fields := []api.Difference{}
	for name := range names {
		if b[name] != a[name] {
			fields = append(fields, api.Difference{Name: name, Before: b[name], After: a[name]})
		}
	}
	sort.Slice(fields, func(i, j int) bool { return fields[i].Name < fields[j].Name })
	return fields
}

func flat(text []byte) map[string]string {
	fields := map[string]string{}
	var v any
	if len(text) > 0 && json.Unmarshal(text, &v) == nil {
		flatten(fields, "", v)
	}
	return fields
}

func flatten(fields map[string]string, name string, v any) {
	switch v := v.(type) {
	case map[string]any:
		for key, part := range v {
			at := key
			if name != "" {
				at = name + "." + key
			}
			flatten(fields, at, part)
		}
	case nil:
		if _, is := limitNamed(name); is {
			fields[name] = "unlimited"
		}
	case string:
		fields[name] = v
	case float64:
		if info, is := limitNamed(name); is {
			fields[name] = plans.Of(int64(v)).Format(info.Unit)
		} else {
			fields[name] = fmt.Sprintf("%.0f", v)
		}
	default:
		text, err := json.Marshal(v)
		if err == nil {
			fields[name] = string(text)
		}
	}
}

// limitNamed returns the limit that a field such as "limits.disk" is of.
func limitNamed(name string) (plans.LimitInfo, bool) {
	key, found := strings.CutPrefix(name, "limits.")
	if !found {
		return plans.LimitInfo{}, false
	}
	return plans.Info(plans.Key(key))
}
