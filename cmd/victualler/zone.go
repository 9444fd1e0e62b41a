package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"

	"victualler/internal/api"
)

func zonePath(c *call) string { return "/zones/" + url.PathEscape(c.args[0]) }

func zoneCommands() []command {
	ttlFlag := flagInfo{name: "ttl", value: "SECONDS", usage: "time to live, from 60 to 604800; 3600 at first"}
	return []command{
		{noun: "zone", verb: "list", short: "List zones", output: true,
			flags: []flagInfo{{name: "search", value: "TEXT", usage: "part of the name"},
				{name: "account", value: "ACCOUNT", usage: "only those of one account"},
				{name: "hosted", value: "here|elsewhere", usage: "only those whose DNS is hosted there"}},
			run: func(ctx context.Context, c *call) error {
				query := url.Values{}
				for _, name := range []string{"search", "account", "hosted"} {
					if v := c.value(name); v != "" {
						query.Set(strings.ReplaceAll(name, "-", "_"), v)
					}
				}
				t := table{{"ZONE", "ACCOUNT", "DNS", "SIGNED", "OWN RECORDS"}}
				list, err := collect(ctx, c, "/zones", query, 0, func(p api.ZonePage) ([]api.Zone, string) {
					return p.Zones, p.Next
				})
				if err != nil {
					return err
				}
				for _, z := range list {
					t = append(t, []string{z.Unicode, z.Account, z.Hosted, yesNo(z.DNSSEC),
						strconv.FormatInt(z.Own, 10)})
				}
				return c.print(list, t)
			}},
		{noun: "zone", verb: "show", args: "ZONE", short: "Show a zone with its records", output: true,
			long: "Where DNS is hosted elsewhere, the records are those to be entered there. A name within a " +
				"zone shows that zone.",
			run: func(ctx context.Context, c *call) error {
				var z api.ZoneDetail
				if err := c.client.Get(ctx, zonePath(c), nil, &z); err != nil {
					return err
				}
				if c.format() == "" {
					fields(c.out, "zone", z.Unicode, "account", z.Account, "DNS hosted", z.Hosted, "why", z.Why,
						"name servers", strings.Join(z.NameServers, " "), "signed", yesNo(z.DNSSEC))
					fmt.Fprintln(c.out)
				}
				if c.format() != "" {
					return c.print(z, recordTable(z.Records))
				}
				own := slices.DeleteFunc(slices.Clone(z.Records), func(r api.ZoneRecord) bool { return !r.Own })
				derived := slices.DeleteFunc(slices.Clone(z.Records), func(r api.ZoneRecord) bool { return r.Own })
				if len(own) > 0 {
					fmt.Fprintln(c.out, "own records")
					recordTable(own).write(c.out, width(c.out))
					fmt.Fprintln(c.out)
				}
				fmt.Fprintln(c.out, "derived records")
				recordTable(derived).write(c.out, width(c.out))
				return nil
			}},
		{noun: "zone", verb: "change", args: "ZONE",
			short: "Change where a zone's DNS is hosted, and whether it is signed", preview: true, waits: true,
			flags: []flagInfo{{name: "hosted", value: "here|elsewhere",
				usage: "whether our name servers answer for it"},
				{name: "signed", value: "yes|no", usage: "whether it is signed (DNSSEC)"}},
			run: func(ctx context.Context, c *call) error {
				body := api.ZoneChange{Hosted: c.value("hosted")}
				switch signed := c.value("signed"); signed {
				case "":
					if body.Hosted == "" {
						return usageError{"say what is to change; see victualler zone change --help"}
					}
				case "yes", "no":
					on := signed == "yes"
					body.DNSSEC = &on
				default:
					return usageError{"--signed takes yes or no"}
				}
				return c.zoneChange(ctx, http.MethodPatch, zonePath(c), body)
			}},
		{noun: "zone", verb: "check", args: "ZONE", short: "Check what public DNS shows of a zone", output: true,
			long: "Asks the parent, every name server to which it leads, and the resolver. Exits with 1 if something " +
				"is not as it should be.",
			run: checkZone},
		{noun: "zone", verb: "signing", args: "ZONE",
			short: "Show how a zone is signed, with the DS record for the registrar", output: true,
			run: func(ctx context.Context, c *call) error {
				var s api.ZoneSigning
				if err := c.client.Get(ctx, zonePath(c)+"/signing", nil, &s); err != nil {
					return err
				}
				t := table{{"WHAT", "VALUE"}, {"state", s.State}}
				for _, k := range s.Keys {
					t = append(t, []string{k.Use + " key", fmt.Sprintf("%d, algorithm %d", k.Tag, k.Algorithm)})
				}
				for _, of := range []struct {
					what string
					list []string
				}{{"DS for the registrar", s.DS}, {"DS at the parent", s.Parent}, {"CDS", s.CDS}} {
					for _, data := range of.list {
						t = append(t, []string{of.what, data})
					}
				}
				return c.print(s, t)
			}},
		{noun: "zone", verb: "export", args: "ZONE", short: "Write a zone as a zone file to standard output",
			run: func(ctx context.Context, c *call) error {
				return c.client.Download(ctx, zonePath(c)+"/file", nil, c.out)
			}},
		{noun: "zone", verb: "import", args: "ZONE [FILE]",
			short: "Take records over from a zone file, or from another name server", preview: true, waits: true,
			long: "All of them, or none. FILE is - for standard input. Without one, --from names a name server that " +
				"lets the service transfer the zone.",
			flags: []flagInfo{{name: "from", value: "SERVER",
				usage: "name or address of a name server to transfer from"},
				{name: "replace", usage: "take the own records there are now out first"}},
			run: importZone},
		{noun: "zone", verb: "reset", args: "ZONE [NAME]",
			short: "Remove own records that replace derived ones", preview: true, waits: true,
			flags: []flagInfo{yesFlag},
			run: func(ctx context.Context, c *call) error {
				body := api.ZoneReset{}
				if len(c.args) > 1 {
					body.Name = c.args[1]
				}
				if !c.on("preview") {
					question := "Remove the own records of " + c.args[0] + " that replace derived ones?"
					if err := c.confirm(question); err != nil {
						return err
					}
				}
				return c.zoneChange(ctx, http.MethodPost, zonePath(c)+"/reset", body)
			}},
		{noun: "record", verb: "list", args: "ZONE", short: "List the records of a zone", output: true,
			run: func(ctx context.Context, c *call) error {
				var z api.ZoneDetail
				if err := c.client.Get(ctx, zonePath(c), nil, &z); err != nil {
					return err
				}
				return c.print(z.Records, recordTable(z.Records))
			}},
		{noun: "record", verb: "add", args: "ZONE NAME TYPE DATA…", short: "Add a record to a zone", preview: true,
			waits: true, flags: []flagInfo{ttlFlag},
			long: "NAME is relative to the zone, @ is the zone itself. DATA is as in a zone file: “10 " +
				"mail.provider.test.” for MX, with dots at the end of whole names.",
			run: func(ctx context.Context, c *call) error {
				ttl, err := c.seconds("ttl")
				if err != nil {
					return err
				}
				body := api.NewRecord{Name: c.args[1], Type: c.args[2], Data: strings.Join(c.args[3:], " ")}
				if ttl != nil {
					body.TTL = *ttl
				}
				return c.zoneChange(ctx, http.MethodPost, zonePath(c)+"/records", body)
			}},
		{noun: "record", verb: "change", args: "ZONE NUMBER", short: "Change an own record of a zone", preview: true,
			waits: true,
			flags: []flagInfo{{name: "name", value: "NAME", usage: "relative to the zone"},
				{name: "type", value: "TYPE", usage: "such as A or MX"},
				{name: "data", value: "DATA", usage: "what it says"}, ttlFlag},
			run: func(ctx context.Context, c *call) error {
				ttl, err := c.seconds("ttl")
				if err != nil {
					return err
				}
				body := api.RecordChange{Name: c.given("name"), Type: c.given("type"), Data: c.given("data"), TTL: ttl}
				if body == (api.RecordChange{}) {
					return usageError{"say what is to change; see victualler record change --help"}
				}
				return c.zoneChange(ctx, http.MethodPatch, zonePath(c)+"/records/"+url.PathEscape(c.args[1]), body)
			}},
		{noun: "record", verb: "remove", args: "ZONE NUMBER", short: "Take an own record out of a zone", preview: true,
			waits: true, flags: []flagInfo{yesFlag},
			run: func(ctx context.Context, c *call) error {
				if !c.on("preview") {
					if err := c.confirm("Take record " + c.args[1] + " out of " + c.args[0] + "?"); err != nil {
						return err
					}
				}
				return c.work(ctx, http.MethodDelete, zonePath(c)+"/records/"+url.PathEscape(c.args[1]), nil)
			}},
	}
}

func yesNo(on bool) string {
	if on {
		return "yes"
	}
	return "no"
}

// seconds reads a flag with a number of seconds; nil where it is not given.
func (c *call) seconds(name string) (*int64, error) {
	text := c.value(name)
	if text == "" {
		return nil, nil
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return nil, usageError{"--" + name + " takes a number of seconds"}
	}
	return &n, nil
}

// zoneChange changes a zone and watches the work.
func (c *call) zoneChange(ctx context.Context, method, path string, body any) error {
	var done api.ZoneChanged
	previewed, err := c.change(ctx, method, path, body, &done)
	if err != nil || previewed {
		return err
	}
	for _, text := range done.Corrections {
		fmt.Fprintln(c.out, "note:", text)
	}
	if r := done.Record; r != nil {
		fmt.Fprintf(c.out, "record %d: %s %d %s %s\n", r.ID, r.Name, r.TTL, r.Type, r.Data)
	}
	if done.Added > 0 {
		fmt.Fprintf(c.out, "%d records added\n", done.Added)
	}
	return c.startedIf(ctx, done.Operation)
}

// recordTable lists records, own ones with their numbers.
func recordTable(records []api.ZoneRecord) table {
	t := table{{"NAME", "TTL", "TYPE", "DATA", "NUMBER", "FOLLOWS FROM"}}
	for _, r := range records {
		number, from := "", r.From
		if r.Own {
			number = strconv.FormatInt(r.ID, 10)
		}
		if r.Overruled {
			from += "; replaced by an own record"
		}
		t = append(t, []string{r.Name, strconv.FormatInt(r.TTL, 10), r.Type, r.Data, number, from})
	}
	return t
}

func importZone(ctx context.Context, c *call) error {
	body := api.ZoneImport{Server: c.value("from"), Replace: c.on("replace")}
	if (len(c.args) > 1) == (body.Server != "") {
		return usageError{"give either a zone file or --from with a name server"}
	}
	if len(c.args) > 1 {
		text, err := os.ReadFile(c.args[1])
		if c.args[1] == "-" {
			text, err = io.ReadAll(io.LimitReader(c.in, 2<<20))
		}
		if err != nil {
			return usageError{err.Error()}
		}
		body.Text = string(text)
	}
	return c.zoneChange(ctx, http.MethodPost, zonePath(c)+"/import", body)
}

func checkZone(ctx context.Context, c *call) error {
	var z api.ZoneCheck
	if err := c.client.Get(ctx, zonePath(c)+"/check", nil, &z); err != nil {
		return err
	}
	if c.format() == "" {
		fields(c.out, "verdict", z.Verdict, "delegated to", strings.Join(z.Parent.Seen, " "), "should be",
			strings.Join(z.Parent.Wanted, " "))
		for _, s := range z.Servers {
			state := fmt.Sprintf("answers, serial %d", s.Serial)
			if s.Failed != "" {
				state = s.Failed
			}
			fields(c.out, s.Name, strings.TrimSpace(s.Address+" "+state))
		}
		for _, p := range z.Problems {
			fmt.Fprintf(c.out, "\n%s\n  → %s\n", p.Problem, p.Fix)
		}
		fmt.Fprintln(c.out)
	}
	t := table{{"NAME", "TYPE", "STATE", "WANTED", "SEEN"}}
	for _, s := range z.Sets {
		state := s.State
		if s.Until > 0 {
			state += fmt.Sprintf(" (%d s)", s.Until)
		}
		t = append(t, []string{s.Name, s.Type, state, strings.Join(s.Wanted, ", "), strings.Join(s.Seen, ", ")})
	}
	if err := c.print(z, t); err != nil {
		return err
	}
	if !z.Right {
		return fmt.Errorf("%s: %s", z.Zone, z.Verdict)
	}
	return nil
}
