package main

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"victualler/internal/api"
)

func zonePath(c *call) string { return "/zones/" + url.PathEscape(c.args[0]) }

var hostedAt = []string{"here", "elsewhere"}

func zoneCommands() []command {
	ttlFlag := flagInfo{name: "ttl", value: "TIME",
		usage: "time to live, from 1m to 7d, such as 300, 5m or 12h; 1h at first"}
	return []command{
		{noun: "zone", verb: "list", short: "List zones", list: true,
			flags: []flagInfo{{name: "search", value: "TEXT", usage: "part of the name"},
				{name: "account", value: "ACCOUNT", usage: "only those of one account"},
				{name: "hosted", value: "here|elsewhere", values: hostedAt,
					usage: "only those whose DNS is hosted there"}},
			run: func(ctx context.Context, c *call) error {
				all, more, err := collect(ctx, c, "/zones", c.filters("search", "account", "hosted"),
					func(p api.ZonePage) ([]api.Zone, string) { return p.Zones, p.Next })
				if err != nil {
					return err
				}
				return printList(c, all, more, c.filtered("no zones", "search", "account", "hosted"),
					[]column[api.Zone]{
						col("ZONE", 0, func(z api.Zone) any { return z.Unicode }),
						col("ACCOUNT", 0, func(z api.Zone) any { return z.Account }),
						col("DNS", 0, func(z api.Zone) any { return z.Hosted }),
						col("SIGNED", 1, func(z api.Zone) any { return z.DNSSEC }),
						col("OWN RECORDS", 2, func(z api.Zone) any { return z.Own }),
					})
			}},
		{noun: "zone", verb: "show", args: "ZONE", short: "Show a zone with its records",
			long: "Where DNS is hosted elsewhere, the records are those to be entered there. A name within a " +
				"zone shows that zone.",
			run: func(ctx context.Context, c *call) error {
				var z api.ZoneDetail
				if err := c.client.Get(ctx, zonePath(c), nil, &z); err != nil {
					return err
				}
				return c.show(z, recordGrid(z.Records), func() error {
					c.fields("zone", z.Unicode, "account", z.Account, "DNS hosted", z.Hosted, "why", z.Why,
						"name servers", z.NameServers, "signed", z.DNSSEC)
					for _, part := range []struct {
						title string
						own   bool
					}{{"own records", true}, {"derived records", false}} {
						records := slices.DeleteFunc(slices.Clone(z.Records), func(r api.ZoneRecord) bool {
							return r.Own != part.own
						})
						if len(records) > 0 {
							fmt.Fprintf(c.out, "\n%s\n", part.title)
							c.table(recordGrid(records))
						}
					}
					return nil
				})
			}},
		{noun: "zone", verb: "change", args: "ZONE",
			short: "Change where a zone's DNS is hosted, and whether it is signed", preview: true, waits: true,
			flags: []flagInfo{{name: "hosted", value: "here|elsewhere", values: hostedAt,
				usage: "whether our name servers answer for it"},
				{name: "signed", value: "yes|no", values: yesOrNo, usage: "whether it is signed (DNSSEC)"}},
			run: func(ctx context.Context, c *call) error {
				body := api.ZoneChange{Hosted: c.value("hosted")}
				if body.DNSSEC = c.yesNo("signed"); body == (api.ZoneChange{}) {
					return c.nothingToChange()
				}
				return c.zoneChange(ctx, http.MethodPatch, zonePath(c), body)
			}},
		{noun: "zone", verb: "check", args: "ZONE", short: "Check what public DNS shows of a zone",
			long: "Asks the parent, every name server to which it leads, and the resolver. Exits with 1 if something " +
				"is not as it should be.",
			run: checkZone},
		{noun: "zone", verb: "signing", args: "ZONE",
			short: "Show how a zone is signed, with the DS record for the registrar",
			run: func(ctx context.Context, c *call) error {
				var s api.ZoneSigning
				if err := c.client.Get(ctx, zonePath(c)+"/signing", nil, &s); err != nil {
					return err
				}
				g := pairs("state", s.State)
				for _, k := range s.Keys {
					g.add(k.Use+" key", fmt.Sprintf("%d, algorithm %d", k.Tag, k.Algorithm))
				}
				for _, of := range []struct {
					what string
					list []string
				}{{"DS for the registrar", s.DS}, {"DS at the parent", s.Parent}, {"CDS", s.CDS}} {
					for _, data := range of.list {
						g.add(of.what, data)
					}
				}
				return c.showFields(s, g)
			}},
		{noun: "zone", verb: "export", args: "ZONE", short: "Write a zone as a zone file to standard output",
			stream: true,
			run: func(ctx context.Context, c *call) error {
				return c.client.Download(ctx, zonePath(c)+"/file", nil, c.out)
			}},
		{noun: "zone", verb: "import", args: "ZONE [FILE]",
			short: "Take records over from a zone file, or from another name server", preview: true, waits: true,
			long: "All of them, or none. FILE is - for standard input. Without one, --from names a name server that " +
				"lets the service transfer the zone.",
			flags: []flagInfo{{name: "from", value: "SERVER",
				usage: "name or address of a name server to transfer from"},
				{name: "replace", usage: "remove the own records that there are now first"}},
			run: importZone},
		{noun: "zone", verb: "reset", args: "ZONE [NAME]",
			short: "Remove own records that replace derived ones", preview: true, waits: true,
			flags: []flagInfo{yesFlag},
			run: func(ctx context.Context, c *call) error {
				body := api.ZoneReset{}
				if len(c.args) > 1 {
					body.Name = c.args[1]
				}
				if err := c.confirm(ctx, "Remove the own records of "+c.args[0]+
					" that replace derived ones?"); err != nil {
					return err
				}
				return c.zoneChange(ctx, http.MethodPost, zonePath(c)+"/reset", body)
			}},
		{noun: "record", verb: "list", args: "ZONE", short: "List the records of a zone", list: true,
			run: func(ctx context.Context, c *call) error {
				var z api.ZoneDetail
				if err := c.client.Get(ctx, zonePath(c), nil, &z); err != nil {
					return err
				}
				return printList(c, z.Records, false, "no records", recordColumns)
			}},
		{noun: "record", verb: "add", args: "ZONE NAME TYPE DATA…", short: "Add a record to a zone", preview: true,
			waits: true, flags: []flagInfo{ttlFlag},
			long: "NAME is relative to the zone, @ is the zone itself. DATA is as in a zone file: “10 " +
				"mail.provider.test.” for MX, with dots at the end of whole names.",
			run: func(ctx context.Context, c *call) error {
				ttl, err := c.duration("ttl", time.Second)
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
				ttl, err := c.duration("ttl", time.Second)
				if err != nil {
					return err
				}
				body := api.RecordChange{Name: c.given("name"), Type: c.given("type"), Data: c.given("data"), TTL: ttl}
				if body == (api.RecordChange{}) {
					return c.nothingToChange()
				}
				return c.zoneChange(ctx, http.MethodPatch, zonePath(c)+"/records/"+url.PathEscape(c.args[1]), body)
			}},
		{noun: "record", verb: "remove", args: "ZONE NAME [TYPE] [DATA]…", short: "Remove an own record of a zone",
			preview: true, waits: true, flags: []flagInfo{yesFlag},
			long: "NAME is the record's number, or its name; with a type, and what it says, where there are several.",
			run:  removeRecord},
	}
}

// removeRecord removes the one own record that is meant.
func removeRecord(ctx context.Context, c *call) error {
	number := c.args[1]
	if _, err := strconv.ParseInt(number, 10, 64); err != nil || len(c.args) > 2 {
		record, err := c.findRecord(ctx, c.args[1], c.args[2:])
		if err != nil {
			return err
		}
		number = strconv.FormatInt(record.ID, 10)
	}
	if err := c.confirm(ctx, "Remove "+strings.Join(c.args[1:], " ")+" from "+c.args[0]+"?"); err != nil {
		return err
	}
	return c.work(ctx, http.MethodDelete, zonePath(c)+"/records/"+url.PathEscape(number), nil)
}

// findRecord finds the own record with a name, and a type and data as far as they are given.
func (c *call) findRecord(ctx context.Context, name string, typeAndData []string) (api.ZoneRecord, error) {
	var none api.ZoneRecord
	var z api.ZoneDetail
	if err := c.client.Get(ctx, zonePath(c), nil, &z); err != nil {
		return none, err
	}
	var found []api.ZoneRecord
	for _, r := range z.Records {
		if r.Own && strings.EqualFold(r.Name, name) &&
			(len(typeAndData) == 0 || strings.EqualFold(r.Type, typeAndData[0])) &&
			(len(typeAndData) < 2 || r.Data == strings.Join(typeAndData[1:], " ")) {
			found = append(found, r)
		}
	}
	switch len(found) {
	case 0:
		return none, fmt.Errorf("%s has no own record %s; “victualler record list %s” lists them", c.args[0],
			strings.Join(append([]string{name}, typeAndData...), " "), c.args[0])
	case 1:
		return found[0], nil
	}
	var which []string
	for _, r := range found {
		which = append(which, fmt.Sprintf("%d (%s %s)", r.ID, r.Type, r.Data))
	}
	return none, usageError{"there are several; name the number: " + orList(which)}
}

// zoneChange changes a zone and watches the work.
func (c *call) zoneChange(ctx context.Context, method, path string, body any) error {
	var done api.ZoneChanged
	previewed, err := c.change(ctx, method, path, body, &done)
	if err != nil || previewed {
		return err
	}
	if r := done.Record; r != nil {
		c.say("record %d: %s %d %s %s", r.ID, r.Name, r.TTL, r.Type, r.Data)
	}
	if done.Added > 0 {
		c.say("%d records added", done.Added)
	}
	return c.startedIf(ctx, done.Operation)
}

// recordColumns are those of records; own ones have numbers.
var recordColumns = []column[api.ZoneRecord]{
	col("NAME", 0, func(r api.ZoneRecord) any { return r.Name }),
	col("TTL", 1, func(r api.ZoneRecord) any { return r.TTL }),
	col("TYPE", 0, func(r api.ZoneRecord) any { return r.Type }),
	col("NUMBER", 0, func(r api.ZoneRecord) any {
		if r.Own {
			return r.ID
		}
		return ""
	}),
	col("FOLLOWS FROM", 2, func(r api.ZoneRecord) any {
		if r.Overruled {
			return r.From + "; replaced by your own record"
		}
		return r.From
	}),
	col("DATA", 0, func(r api.ZoneRecord) any { return r.Data }),
}

func recordGrid(records []api.ZoneRecord) *grid { return gridOf(records, recordColumns) }

func importZone(ctx context.Context, c *call) error {
	body := api.ZoneImport{Server: c.value("from"), Replace: c.on("replace")}
	if (len(c.args) > 1) == (body.Server != "") {
		return usageError{"give either a zone file or --from with a name server"}
	}
	if len(c.args) > 1 {
		read := func() ([]byte, error) { return readFile(c.args[1]) }
		if c.args[1] == "-" {
			read = func() ([]byte, error) { return c.term.rest(ctx, 2<<20) }
		}
		text, err := read()
		if err != nil {
			return err
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
	g := rows("NAME|TYPE|STATE|WANTED|SEEN")
	for _, s := range z.Sets {
		state := s.State
		if s.Until > 0 {
			state += fmt.Sprintf(" (%d s)", s.Until)
		}
		g.add(s.Name, s.Type, state, strings.Join(s.Wanted, ", "), strings.Join(s.Seen, ", "))
	}
	err := c.show(z, g, func() error {
		c.fields("verdict", z.Verdict, "delegated to", z.Parent.Seen, "should be", z.Parent.Wanted)
		for _, s := range z.Servers {
			state := fmt.Sprintf("answers, serial %d", s.Serial)
			if s.Failed != "" {
				state = s.Failed
			}
			c.fields(s.Name, strings.TrimSpace(s.Address+" "+state))
		}
		for _, p := range z.Problems {
			fmt.Fprintln(c.out)
			c.paragraph("", p.Problem)
			c.paragraph("  → ", p.Fix)
		}
		fmt.Fprintln(c.out)
		c.table(g)
		return nil
	})
	if err != nil {
		return err
	}
	if !z.Right {
		return fmt.Errorf("%s: %s", z.Zone, z.Verdict)
	}
	return nil
}
