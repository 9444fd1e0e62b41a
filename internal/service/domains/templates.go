package domains

import (
	"context"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/hosting/sites"
	"victualler/internal/hosting/zones"
	"victualler/internal/service/dns"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// findTemplate finds a template that the actor may use by how they call it: NAME, or RESELLER.NAME.
// A reseller's own goes before the operator's of the same name.
func findTemplate(ctx context.Context, q *db.Queries, a usecase.Actor, reference string) (db.FindTemplateRow, error) {
	reseller, name, qualified := strings.Cut(reference, ".")
	if !qualified {
		reseller, name = a.Reseller, reference
	}
	if a.Role != rights.Operator && qualified && reseller != a.Reseller {
		return db.FindTemplateRow{}, usecase.NotFound("template", reference)
	}
	row, err := q.FindTemplate(ctx, db.FindTemplateParams{Name: name, Reseller: reseller})
	if store.None(err) && !qualified && reseller != "" {
		row, err = q.FindTemplate(ctx, db.FindTemplateParams{Name: name})
	}
	if store.None(err) {
		err = usecase.NotFound("template", reference)
	}
	return row, err
}

// mayChangeTemplate refuses resellers the operator's templates, which they may use.
func mayChangeTemplate(a usecase.Actor, row db.FindTemplateRow) error {
	if a.Role == rights.Operator || a.ResellerID != 0 && usecase.OrZero(row.ResellerID) == a.ResellerID {
		return nil
	}
	return refusal.New(refusal.NotAllowed, "template %s is the operator's; make one of your own", row.Name)
}

func templateView(a usecase.Actor, row db.Template, reseller string, sitesOf, plansOf int64) (api.Template, error) {
	v := api.Template{Name: row.Name, About: row.About, Settings: map[string]any{}, Records: []api.NewRecord{},
		Sites: sitesOf, Plans: plansOf, Mine: a.Role == rights.Operator || reseller != "" && reseller == a.Reseller,
		Version: row.Version}
	if reseller != a.Reseller {
		v.Reseller = reseller
	}
	settings, err := readSettings(row.Settings)
	for key, value := range settings {
		v.Settings[string(key)] = value
	}
	if err != nil {
		return v, err
	}
	records, err := dns.ReadTemplateRecords(row.Records)
	for _, r := range records {
		v.Records = append(v.Records, api.NewRecord(r))
	}
	return v, err
}

// Templates lists the templates that the actor may use, the operator's first.
func (s *Service) Templates(ctx context.Context, a usecase.Actor) (api.TemplateList, error) {
	out := api.TemplateList{Templates: []api.Template{}}
	rows, err := s.Store.Templates(ctx, a.ResellerID)
	if err != nil {
		return out, err
	}
	for _, row := range rows {
		used, on := row.Sites, row.Plans
		if a.Role != rights.Operator && row.Reseller != a.Reseller {
			used, on = 0, 0 // how much others use it is not theirs to know
		}
		v, err := templateView(a, db.Template{Name: row.Name, About: row.About, Settings: row.Settings,
			Records: row.Records, Version: row.Version}, row.Reseller, used, on)
		if err != nil {
			return out, err
		}
		out.Templates = append(out.Templates, v)
	}
	return out, nil
}

// Template returns one template.
//
// Refusals: NotFound.
func (s *Service) Template(ctx context.Context, a usecase.Actor, reference string) (api.Template, error) {
	row, err := findTemplate(ctx, s.Store.Queries, a, reference)
	if err != nil {
		return api.Template{}, err
	}
	list, err := s.Templates(ctx, a)
	if err != nil {
		return api.Template{}, err
	}
	for _, t := range list.Templates {
		if t.Name == row.Name && (t.Reseller == row.Reseller || t.Reseller == "" && row.Reseller == a.Reseller) {
			return t, nil
		}
	}
	return api.Template{}, usecase.NotFound("template", reference)
}

var templateName = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)

// checkTemplate refuses settings that a template cannot hold.
func (s *Service) checkTemplate(ctx context.Context, tx store.Tx, owner *int64, set sites.Settings) error {
	raw, given := set["raw"].(string)
	if !given || raw == "" {
		return nil
	}
	if strings.Contains(raw, "/home/") {
		return refusal.Input("settings.raw", "a template is for many homes: it cannot name a directory of one")
	}
	if owner == nil {
		return nil
	}
	share, err := entitlement.LoadShare(ctx, tx.Queries, *owner)
	if err == nil && !share.Features[plans.Feature("raw_directives")] {
		err = refusal.New(refusal.NotAllowed,
			"raw directives need the feature raw_directives in the reseller's share").On("settings.raw")
	}
	return err
}

// AddTemplate adds a template.
//
// Refusals: InvalidInput, NameTaken, NotAllowed, NotFound.
// Locks: the reseller (shared).
func (s *Service) AddTemplate(ctx context.Context, a usecase.Actor, in api.NewTemplate) (api.Template, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Template, error) {
		none := api.Template{}
		if !templateName.MatchString(in.Name) || len(in.Name) < 2 {
			return none, refusal.Input("name", "a template's name has 2 to 40 lower-case letters, digits and "+
				"hyphens, and begins with a letter")
		}
		reseller, owner, err := usecase.ResellerFor(ctx, tx.Queries, a, in.Reseller)
		if err != nil {
			return none, err
		}
		if err := usecase.LockResellerForKeyShare(ctx, tx, owner); err != nil {
			return none, err
		}
		set, unset, err := givenSettings(in.Settings)
		if err == nil && len(unset) > 0 {
			err = refusal.Input("settings."+string(unset[0]), "a value is needed")
		}
		if err == nil {
			err = s.checkTemplate(ctx, tx, owner, set)
		}
		if err != nil {
			return none, err
		}
		text, err := json.Marshal(set)
		if err != nil {
			return none, err
		}
		records, err := dns.TemplateRecords(in.Records)
		if err != nil {
			return none, err
		}
		recordText, err := json.Marshal(records)
		if err != nil {
			return none, err
		}
		row, err := tx.AddTemplate(ctx, db.AddTemplateParams{Name: in.Name, ResellerID: owner,
			About: strings.TrimSpace(in.About), Settings: text, Records: recordText})
		if store.ViolatedConstraint(err) == "templates_name" {
			return none, refusal.New(refusal.NameTaken, "there is a template %q already; choose another name",
				in.Name).On("name")
		}
		if err != nil {
			return none, err
		}
		a.Summarize("add template %s", entitlement.PlanRef(reseller.Name, row.Name))
		if err := usecase.Record(ctx, tx, a, "template.add",
			usecase.About("template %s", entitlement.PlanRef(reseller.Name, row.Name)).Of(owner), nil,
			templateRecord(row.About, set, records)); err != nil {
			return none, err
		}
		return templateView(a, row, reseller.Name, 0, 0)
	})
}

func templateRecord(about string, set sites.Settings, records []zones.Typed) map[string]any {
	words := []string{}
	for _, r := range records {
		words = append(words, r.Name+" "+r.Type+" "+r.Data)
	}
	return map[string]any{"about": about, "settings": settingWords(set), "records": words}
}

// ChangeTemplate changes a template and with it the sites that follow
// it. Version is the one the caller has seen, or 0.
//
// Refusals: ApplyFailed, Changed, InvalidInput, NameTaken, NotAllowed, NotFound, ServerUnreachable.
// Locks: accounts, the template.
func (s *Service) ChangeTemplate(ctx context.Context, a usecase.Actor, reference string, version int64,
	in api.TemplateChange) (api.TemplateChanged, error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.TemplateChanged, error) {
		none := api.TemplateChanged{}
		found, err := findTemplate(ctx, tx.Queries, a, reference)
		if err != nil {
			return none, err
		}
		if err := mayChangeTemplate(a, found); err != nil {
			return none, err
		}
		row, err := usecase.LockTemplate(ctx, tx, found.ID)
		if store.None(err) {
			err = usecase.NotFound("template", reference)
		}
		if err != nil {
			return none, err
		}
		if err := usecase.CheckVersion("template "+reference, version, row.Version); err != nil {
			return none, err
		}
		given, unset, err := givenSettings(in.Settings)
		if err == nil {
			err = s.checkTemplate(ctx, tx, row.ResellerID, given)
		}
		if err != nil {
			return none, err
		}
		was, err := readSettings(row.Settings)
		if err != nil {
			return none, err
		}
		set := sites.Settings{}
		for key, value := range was {
			if !slices.Contains(unset, key) {
				set[key] = value
			}
		}
		for key, value := range given {
			set[key] = value
		}
		records, err := dns.ReadTemplateRecords(row.Records)
		if err != nil {
			return none, err
		}
		before := templateRecord(row.About, was, records)
		recordsChange := false
		if in.Records != nil {
			wanted, err := dns.TemplateRecords(*in.Records)
			if err != nil {
				return none, err
			}
			recordsChange = !slices.Equal(wanted, records)
			records = wanted
		}
		recordText, err := json.Marshal(records)
		if err != nil {
			return none, err
		}
		if in.About != nil {
			row.About = strings.TrimSpace(*in.About)
		}
		text, err := json.Marshal(set)
		if err != nil {
			return none, err
		}
		accounts, changed, err := s.followers(ctx, tx, a, row, was, set, recordsChange)
		if err != nil {
			return none, err
		}
		if row, err = tx.ChangeTemplate(ctx, db.ChangeTemplateParams{ID: row.ID, About: row.About, Settings: text,
			Records: recordText}); err != nil {
			return none, err
		}
		ref := entitlement.PlanRef(found.Reseller, row.Name)
		a.Summarize("change template %s, and with it %s", ref, usecase.Counted(int(changed), "site"))
		out := api.TemplateChanged{Sites: changed, Version: row.Version}
		if out.Operation,
			err = s.rollout.ApplyAccounts(ctx, tx, a, "template.change",
			usecase.About("template %s", ref).Of(row.ResellerID), accounts); err != nil {
			return none, err
		}
		if err := usecase.Record(ctx, tx, a, "template.change", usecase.About("template %s", ref).Of(row.ResellerID),
			before, templateRecord(row.About, set, records)); err != nil {
			return none, err
		}
		out.Template, err = templateView(a, row, found.Reseller, 0, 0)
		return out, err
	})
}

// followers locks the accounts whose sites or zones a change of a template changes, tells a preview
// of them, and counts the sites.
func (s *Service) followers(ctx context.Context, tx store.Tx, a usecase.Actor, row db.Template, was, set sites.Settings,
	records bool) (accounts []int64, changed int64, err error) {
	rows, err := tx.SitesOfTemplate(ctx, &row.ID)
	if err != nil {
		return nil, 0, err
	}
	for _, site := range rows {
		own, err := readSettings(site.Settings)
		if err != nil {
			return nil, 0, err
		}
		layers := func(t sites.Settings) []sites.Effective {
			return sites.Resolve(sites.Unbounded, sites.Layer{Settings: own}, sites.Layer{Settings: t})
		}
		old, now := layers(was), layers(set)
		var words []string
		for i, e := range now {
			if b, a := e.Format(old[i].Value), e.Format(e.Value); b != a && site.ServedAs == string(sites.Site) {
				words = append(words, fmt.Sprintf("%s: %s → %s", e.Title, b, a))
			}
		}
		if records {
			words = append(words, "other records in its zone")
		}
		if len(words) == 0 {
			continue
		}
		changed++
		if !slices.Contains(accounts, site.AccountID) {
			accounts = append(accounts, site.AccountID)
		}
		if a.Preview != nil && len(a.Preview.Effects) < usecase.MaxEffects {
			a.Preview.Effects = append(a.Preview.Effects, api.Effect{Account: site.SignInName,
				Name: usecase.Unicode(site.Name), Gains: []string{}, Losses: []string{}, Over: []string{},
				Changes: words})
		}
	}
	slices.Sort(accounts)
	_, err = usecase.LockAccountRows(ctx, tx, accounts)
	return accounts, changed, err
}

// RemoveTemplate removes a template that nothing follows.
//
// Refusals: InUse, NotAllowed, NotFound.
// Locks: the template.
func (s *Service) RemoveTemplate(ctx context.Context, a usecase.Actor, reference string) error {
	return usecase.Do(ctx, s.Base, a, func(tx store.Tx) error {
		found, err := findTemplate(ctx, tx.Queries, a, reference)
		if err != nil {
			return err
		}
		if err := mayChangeTemplate(a, found); err != nil {
			return err
		}
		if _, err := usecase.LockTemplate(ctx, tx, found.ID); err != nil {
			return err
		}
		following, err := tx.SitesOfTemplate(ctx, &found.ID)
		if err != nil {
			return err
		}
		given, err := tx.PlansOfTemplate(ctx, &found.ID)
		if err != nil {
			return err
		}
		following = slices.DeleteFunc(following, func(d db.SitesOfTemplateRow) bool {
			return d.ServedAs != string(sites.Site)
		})
		if len(following)+len(given) > 0 {
			return refusal.New(refusal.InUse, "%s and %s follow template %s; have them follow another, or none, first",
				usecase.Counted(len(following), "site"), usecase.Counted(len(given), "plan"), reference)
		}
		if err := tx.DetachTemplate(ctx, &found.ID); err != nil {
			return err
		}
		if err := tx.RemoveTemplate(ctx, found.ID); err != nil {
			return err
		}
		settings, err := readSettings(found.Settings)
		if err != nil {
			return err
		}
		records, err := dns.ReadTemplateRecords(found.Records)
		if err != nil {
			return err
		}
		a.Summarize("remove template %s", reference)
		return usecase.Record(ctx, tx, a, "template.remove",
			usecase.About("template %s", entitlement.PlanRef(found.Reseller, found.Name)).Of(found.ResellerID),
			templateRecord(found.About, settings, records), nil)
	})
}

// SetPlanTemplate has new sites of a plan's accounts follow a template; empty is none.
//
// Refusals: InvalidInput, NotAllowed, NotFound.
// Locks: the template (shared).
func (s *Service) SetPlanTemplate(ctx context.Context, tx store.Tx, a usecase.Actor, plan db.Plan,
	reference string) error {
	number, err := s.templateFor(ctx, tx, a, plan.ResellerID, reference)
	if err != nil {
		return err
	}
	return tx.SetPlanTemplate(ctx, db.SetPlanTemplateParams{ID: plan.ID, TemplateID: number})
}

// TemplatesOfPlans returns how the actor calls the templates of plans, by plan.
func TemplatesOfPlans(ctx context.Context, q *db.Queries, a usecase.Actor, ids []int64) (map[int64]string, error) {
	rows, err := q.TemplatesOfPlans(ctx, ids)
	found := map[int64]string{}
	for _, row := range rows {
		found[row.ID] = entitlement.PlanRefFor(a, row.Reseller, row.Name)
	}
	return found, err
}

// TemplateOfPlan is the reference of the template that a plan's new accounts begin with, as the
// caller writes it; "" where the plan has none.
func TemplateOfPlan(ctx context.Context, q *db.Queries, a usecase.Actor, plan int64) (string, error) {
	found, err := TemplatesOfPlans(ctx, q, a, []int64{plan})
	return found[plan], err
}
