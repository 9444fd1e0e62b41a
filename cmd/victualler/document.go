package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"reflect"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
)

// Documents hold plans, templates and accounts in the words of the API, one JSON document on each
// line. What was written with export is taken in again with import, here or in another
// installation: what is there already becomes as the document says, and what is not is added.
// Accounts are taken in with account open --file.

const documentHelp = "One JSON document on each line, in the words of the API."

func documentCommands() []command {
	importFlags := []flagInfo{yesFlag}
	return []command{
		{noun: "plan", verb: "export", args: "[PLAN]…", short: "Write plans as documents", stream: true,
			long: documentHelp + " Without names, all plans are written.", run: exportPlans},
		{noun: "plan", verb: "import", args: "FILE", short: "Add plans, or change them, as documents say",
			preview: true, waits: true, flags: importFlags, run: importPlans,
			long: documentHelp + " - is standard input. A limit that a document leaves out stays as it is; in a new " +
				"plan it is 0."},
		{noun: "template", verb: "export", args: "[TEMPLATE]…", short: "Write templates as documents", stream: true,
			long: documentHelp + " Without names, all templates are written.", run: exportTemplates},
		{noun: "template", verb: "import", args: "FILE", short: "Add templates, or change them, as documents say",
			preview: true, waits: true, flags: importFlags, run: importTemplates,
			long: documentHelp + " - is standard input. The settings of a template become those of its document."},
		{noun: "account", verb: "export", args: "[ACCOUNT]…", short: "Write accounts as documents", stream: true,
			many: selectionFlags[:len(selectionFlags)-1],
			long: documentHelp + " They are opened with account open --file; what they hold is not in them.",
			run:  exportAccounts},
	}
}

// writeDocument writes one line.
func (c *call) writeDocument(document any) error {
	encoder := json.NewEncoder(c.out)
	encoder.SetEscapeHTML(false)
	return encoder.Encode(document)
}

// readDocuments reads a file of documents; what they are is said in messages. Each must be of the
// type D, without anything else.
func readDocuments[D any](ctx context.Context, c *call, what string) ([]D, error) {
	text, err := c.readInput(ctx, c.args[0])
	if err != nil {
		return nil, err
	}
	var all []D
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	for {
		var one D
		err := decoder.Decode(&one)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			line := 1 + bytes.Count(text[:min(decoder.InputOffset(), int64(len(text)))], []byte("\n"))
			return nil, usageError{fmt.Sprintf("line %d of %s is no document of a %s: %s", line, c.args[0], what,
				decodeMessage(err))}
		}
		all = append(all, one)
	}
	if len(all) == 0 {
		return nil, usageError{fmt.Sprintf("%s has no %s in it", c.args[0], what)}
	}
	return all, nil
}

// importEach adds or changes what documents D say, one after the other. Below the list's path, it
// asks for each what is there now, N; difference is the change that makes it as the document says,
// or nil, and the answer to that is a C.
func importEach[D any, N api.Versioned, C api.Begun](ctx context.Context, c *call, list string, documents []D,
	name func(D) string, difference func(document D, now N) any) error {
	if !c.previews() {
		if err := c.confirm(ctx, fmt.Sprintf("Add or change %s as %s says? “--preview” shows what would be done.",
			counted(len(documents), c.noun), c.args[0])); err != nil {
			return err
		}
	}
	one := func(document D) error {
		path := list + "/" + url.PathEscape(name(document))
		var now N
		err := c.client.Get(ctx, path, nil, &now)
		if err != nil && kindOf(problemOf(err)) == refusal.NotFound {
			previewed, err := c.change(ctx, http.MethodPost, list, document, &now)
			if err == nil && !previewed {
				c.say("%s: added", name(document))
			}
			return err
		}
		if err != nil {
			return err
		}
		body := difference(document, now)
		if body == nil {
			c.say("%s: is as the document says", name(document))
			return nil
		}
		var changed C
		previewed, err := c.changeIf(ctx, http.MethodPatch, path, body, &changed, tag(now.ETagVersion()))
		if err != nil || previewed {
			return err
		}
		c.say("%s: changed", name(document))
		return c.startedIf(ctx, changed.OperationNumber())
	}
	for n, document := range documents {
		if err := one(document); err != nil {
			if n > 0 && !c.previews() {
				c.note(fmt.Sprintf("%s before it are as their documents say; the same command goes on from here",
					counted(n, c.noun)))
			}
			return err
		}
	}
	return nil
}

// exportEach writes the documents of what is named; where nothing is, of everything.
func exportEach[N any](ctx context.Context, c *call, list string, everything func() ([]N, error),
	document func(N) any) error {
	var all []N
	var err error
	if len(c.args) == 0 {
		all, err = everything()
	}
	for _, name := range c.args {
		var one N
		if err = c.client.Get(ctx, list+"/"+url.PathEscape(name), nil, &one); err != nil {
			break
		}
		all = append(all, one)
	}
	if err != nil {
		return err
	}
	for _, one := range all {
		if err := c.writeDocument(document(one)); err != nil {
			return err
		}
	}
	return nil
}

func exportPlans(ctx context.Context, c *call) error {
	return exportEach(ctx, c, "/plans", func() ([]api.Plan, error) {
		all, _, err := pages(ctx, c, "/plans", url.Values{}, 0, func(p api.PlanPage) ([]api.Plan, string) {
			return p.Plans, p.Next
		})
		return all, err
	}, func(p api.Plan) any {
		return api.NewPlan{Name: p.Name, Reseller: p.Reseller, Limits: p.Limits, Features: p.Features,
			Template: p.Template}
	})
}

func importPlans(ctx context.Context, c *call) error {
	documents, err := readDocuments[api.NewPlan](ctx, c, "plan")
	if err != nil {
		return err
	}
	name := func(p api.NewPlan) string { return qualified(p.Reseller, p.Name) }
	return importEach[api.NewPlan, api.Plan, api.PlanChanged](ctx, c, "/plans", documents, name, planDifference)
}

func planDifference(d api.NewPlan, now api.Plan) any {
	body := api.PlanChange{Limits: plans.Limits{}, Features: plans.Features{}}
	for key, amount := range d.Limits {
		if now.Limits[key] != amount {
			body.Limits[key] = amount
		}
	}
	for feature, on := range d.Features {
		if now.Features[feature] != on {
			body.Features[feature] = on
		}
	}
	if d.Template != now.Template {
		body.Template = &d.Template
	}
	if len(body.Limits)+len(body.Features) == 0 && body.Template == nil {
		return nil
	}
	return body
}

func exportTemplates(ctx context.Context, c *call) error {
	return exportEach(ctx, c, "/templates", func() ([]api.Template, error) {
		var list api.TemplateList
		err := c.client.Get(ctx, "/templates", nil, &list)
		return list.Templates, err
	}, func(t api.Template) any {
		return api.NewTemplate{Name: t.Name, Reseller: t.Reseller, About: t.About, Settings: t.Settings,
			Records: t.Records}
	})
}

func importTemplates(ctx context.Context, c *call) error {
	documents, err := readDocuments[api.NewTemplate](ctx, c, "template")
	if err != nil {
		return err
	}
	name := func(t api.NewTemplate) string { return qualified(t.Reseller, t.Name) }
	return importEach[api.NewTemplate, api.Template, api.TemplateChanged](ctx, c, "/templates", documents, name,
		templateDifference)
}

func templateDifference(d api.NewTemplate, now api.Template) any {
	body := api.TemplateChange{Settings: map[string]any{}}
	for key, value := range d.Settings {
		if !reflect.DeepEqual(now.Settings[key], value) {
			body.Settings[key] = value
		}
	}
	for key := range now.Settings {
		if _, stays := d.Settings[key]; !stays {
			body.Settings[key] = nil
		}
	}
	if d.About != now.About {
		body.About = &d.About
	}
	if !sameRecords(d.Records, now.Records) {
		records := append([]api.NewRecord{}, d.Records...)
		body.Records = &records
	}
	if len(body.Settings) == 0 && body.About == nil && body.Records == nil {
		return nil
	}
	return body
}

func sameRecords(a, b []api.NewRecord) bool { return len(a)+len(b) == 0 || reflect.DeepEqual(a, b) }

func exportAccounts(ctx context.Context, c *call) error {
	var accounts []api.Account
	var err error
	if len(c.args)+len(c.selection()) == 0 {
		accounts, _, err = pages(ctx, c, "/accounts", url.Values{}, 0, accountsOf)
	} else {
		accounts, err = c.selected(ctx)
	}
	if err != nil {
		return err
	}
	for _, a := range accounts {
		// Where it is going, servers have other names.
		if err := c.writeDocument(api.OpenAccount{Domain: a.Domain, Plan: a.Plan, Reseller: a.Reseller,
			Customer: a.Customer, SignInName: a.SignInName}); err != nil {
			return err
		}
	}
	return nil
}
