package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
)

func serverCommands() []command {
	return []command{
		{noun: "server", verb: "join", args: "LABEL", short: "Add a server and wait for its agent", preview: true,
			waits: true,
			flags: []flagInfo{{name: "address", value: "HOST", usage: "its host name or address", required: true},
				{name: "roles", value: "LIST", usage: "web, mail, database, dns with commas; web at first"},
				addressesFlag, hostNameFlag, {name: "closed", usage: "take no new accounts at first"}},
			run: joinServer},
		{noun: "server", verb: "list", short: "List servers with health and fill", list: true,
			flags: []flagInfo{{name: "drift", usage: "only those on which something is not as it should be"},
				{name: "role", value: "ROLE", usage: "only those with this role: web, mail, database or dns",
					values: []string{"web", "mail", "database", "dns"}}},
			run: listServers},
		{noun: "server", verb: "show", args: "SERVER", short: "Show a server and the drift on it", run: showServer},
		{noun: "server", verb: "change", args: "SERVER",
			short: "Open a server to new accounts, close it, or set its addresses or name", preview: true,
			flags: []flagInfo{{name: "open", usage: "take new accounts"},
				{name: "closed", usage: "take no new accounts"}, addressesFlag, hostNameFlag, spamFilterFlag},
			waits: true, run: changeServer},
		{noun: "server", verb: "remove", args: "SERVER", short: "Remove a server without accounts", preview: true,
			flags: []flagInfo{yesFlag},
			run: func(ctx context.Context, c *call) error {
				return c.removed(ctx, "/servers/"+url.PathEscape(c.args[0]), "server "+c.args[0])
			}},
		{noun: "server", verb: "sweep", args: "SERVER", short: "Compare a server with what it should hold", waits: true,
			run: func(ctx context.Context, c *call) error { return serverWork(ctx, c, "sweep") }},
		{noun: "server", verb: "repair", args: "SERVER", short: "Put right what a sweep finds", preview: true,
			waits: true,
			run:   func(ctx context.Context, c *call) error { return serverWork(ctx, c, "repair") }},
	}
}

// addressesFlag sets a server's public addresses.
var addressesFlag = flagInfo{name: "public", value: "ADDRESSES", usage: "its public IPv4 and IPv6 addresses" +
	", with commas between them; that of the agent at first"}

// hostNameFlag sets the name of a server that takes mail.
var hostNameFlag = flagInfo{name: "host-name", value: "NAME", usage: "the name by which it greets other mail " +
	"servers, such as mx1.ternisland.example; it leads to the server, and its address back to it"}

// spamFilterFlag switches the spam filter of a mail server.
var spamFilterFlag = flagInfo{name: "spam-filter", value: "on|off", values: []string{"on", "off"},
	usage: "whether a mail server judges what comes and what is sent"}

func joinServer(ctx context.Context, c *call) error {
	roles := words(c.value("roles"))
	if len(roles) == 0 {
		roles = []string{"web"}
	}
	var joining api.Joining
	body := api.NewServer{Label: c.args[0], Address: c.value("address"), Roles: roles, Closed: c.on("closed"),
		Addresses: words(c.value("public")), HostName: c.value("host-name")}
	previewed, err := c.change(ctx, http.MethodPost, "/servers", body, &joining)
	if err != nil || previewed {
		return err
	}
	fmt.Fprintf(c.term.err, "On the server, as root, before %s:\n\n  victualler-agent join %s\n\n",
		local(joining.EndsAt), joining.JoinSecret)
	return c.started(ctx, joining.Operation)
}

func listServers(ctx context.Context, c *call) error {
	var list api.ServerList
	if err := c.client.Get(ctx, "/servers", nil, &list); err != nil {
		return err
	}
	list.Servers = slices.DeleteFunc(list.Servers, func(s api.Server) bool {
		return c.on("drift") && s.Drifts == 0 || c.value("role") != "" && !slices.Contains(s.Roles, c.value("role"))
	})
	none := "no servers; add one with: victualler server join LABEL --address HOST"
	if c.on("drift") {
		none = "no server has drift"
	}
	measured := func(value func(*api.Health) any) func(api.Server) any {
		return func(s api.Server) any {
			if s.Health == nil {
				return nil
			}
			return value(s.Health)
		}
	}
	return printList(c, list.Servers, false, c.filtered(none, "role"), []column[api.Server]{
		col("SERVER", 0, func(s api.Server) any { return s.Label }),
		col("ADDRESS", 5, func(s api.Server) any { return s.Address }),
		col("ROLES", 3, func(s api.Server) any { return s.Roles }),
		col("HEALTH", 0, func(s api.Server) any { return health(s) }),
		col("NEW ACCOUNTS", 2, func(s api.Server) any { return s.Open }),
		col("ACCOUNTS", 0, func(s api.Server) any { return s.Accounts }),
		col("DRIFT", 0, func(s api.Server) any { return s.Drifts }),
		col("LOAD", 1, measured(func(h *api.Health) any { return fmt.Sprintf("%.2f", h.Load) })),
		col("PROCESSORS", 4, measured(func(h *api.Health) any { return h.Processors })),
		col("MEMORY FREE", 0, measured(func(h *api.Health) any { return byteCount(h.MemoryFree) })),
		col("MEMORY", 4, measured(func(h *api.Health) any { return byteCount(h.MemoryTotal) })),
		col("DISK FREE", 0, measured(func(h *api.Health) any { return byteCount(h.DiskFree) })),
		col("DISK", 4, measured(func(h *api.Health) any { return byteCount(h.DiskTotal) })),
	})
}

// health says in a word or two how a server is.
func health(s api.Server) string {
	switch {
	case s.State == "joining":
		return "joining"
	case !s.Reachable:
		return "no answer"
	}
	if s.Health != nil {
		for _, p := range s.Health.Programs {
			if !p.Running {
				return p.Name + " down"
			}
		}
		if len(s.Health.Sandboxes.Missing) > 0 {
			return "limits not kept"
		}
	}
	return "good"
}

func showServer(ctx context.Context, c *call) error {
	path := "/servers/" + url.PathEscape(c.args[0])
	var s api.Server
	if err := c.client.Get(ctx, path, nil, &s); err != nil {
		return err
	}
	programs := rows("PROGRAM|VERSION|STATE|RELOADS")
	if s.Health != nil {
		for _, p := range s.Health.Programs {
			programs.add(p.Name, p.Version, map[bool]string{true: "running", false: "down"}[p.Running], p.Reloads)
		}
	}
	return c.show(s, programs, func() error {
		c.printServer(s)
		c.table(programs)
		var hungriest api.HungriestAccounts
		if err := c.client.Get(ctx, path+"/hungriest", nil, &hungriest); err != nil {
			return err
		}
		if len(hungriest.Accounts) > 0 {
			fmt.Fprintln(c.out)
			c.table(hungry(hungriest.Accounts))
		}
		var drift api.DriftList
		if err := c.client.Get(ctx, path+"/drift", nil, &drift); err != nil {
			return err
		}
		c.printDrift(drift.Drifts)
		if len(drift.Drifts) > 0 {
			fmt.Fprintf(c.out, "\nput it right with: victualler server repair %s\n", s.Label)
		}
		return nil
	})
}

func (c *call) printServer(s api.Server) {
	list := []any{"server", s.Label, "address", s.Address, "public", s.Addresses, "name", s.HostName, "roles",
		strings.Join(s.Roles, ", ")}
	if slices.Contains(s.Roles, "mail") {
		list = append(list, "spam filter", s.SpamFilter)
	}
	list = append(list, "health", health(s), "new accounts", s.Open, "accounts", s.Accounts, "last answer",
		when(s.SeenAt), "last sweep", when(s.SweptAt))
	if h := s.Health; h != nil {
		list = append(list, "load", fmt.Sprintf("%.2f on %d processors", h.Load, h.Processors),
			"memory free", plans.FormatSize(h.MemoryFree)+" of "+plans.FormatSize(h.MemoryTotal),
			"disk free", plans.FormatSize(h.DiskFree)+" of "+plans.FormatSize(h.DiskTotal)+" (limits: "+h.Quota+")",
			"sandboxes", fmt.Sprintf("%d running (%s)", h.Sandboxes.Running, h.Sandboxes.Layout),
			"PHP", strings.Join(h.Sandboxes.PHP, ", "), "agent", h.AgentVersion)
	}
	c.fields(list...)
	if s.Health != nil {
		for _, m := range s.Health.Sandboxes.Missing {
			fmt.Fprintln(c.out)
			c.paragraph("", "not kept on this server: "+m)
		}
	}
	fmt.Fprintln(c.out)
}

// hungry lists the accounts that run most.
func hungry(list []api.HungryAccount) *grid {
	g := rows("RUNS MOST|CPU|MEMORY|PROCESSES|MET ITS LIMITS TODAY")
	for _, a := range list {
		g.add(a.SignInName, amount{&a.CPU, plans.Percent}, byteCount(a.Memory), a.Processes, limitsMet(a.Met))
	}
	return g
}

// limitsMet says which limits were met; empty for none.
func limitsMet(m api.LimitsMet) string {
	var list []string
	if m.Killed > 0 {
		list = append(list, fmt.Sprintf("memory: %d ended", m.Killed))
	}
	if m.Refused > 0 {
		list = append(list, fmt.Sprintf("processes: %d refused", m.Refused))
	}
	if m.Waited > 0 {
		list = append(list, fmt.Sprintf("processor: waited %d s", m.Waited))
	}
	return strings.Join(list, ", ")
}

// printDrift prints differences, with diffs from what is found to what is wanted.
func (c *call) printDrift(drifts []api.Drift) {
	for _, d := range drifts {
		owner := d.Account
		if owner == "" {
			owner = "nobody"
		}
		c.say("\ndrift of %s, %s: %s %s", owner, d.Part, d.Subject, d.Detail)
		if d.Diff != "" {
			c.say("%s", strings.TrimRight(d.Diff, "\n"))
		}
	}
}

func changeServer(ctx context.Context, c *call) error {
	open, closed := c.on("open"), c.on("closed")
	body := api.ServerChange{}
	if public := c.given("public"); public != nil {
		addresses := append([]string{}, words(*public)...)
		body.Addresses = &addresses
	}
	body.HostName = c.given("host-name")
	var err error
	if body.SpamFilter, err = c.switchGiven("spam-filter"); err != nil {
		return err
	}
	if open && closed || !open && !closed && body.Addresses == nil && body.HostName == nil && body.SpamFilter == nil {
		return usageError{"say what is to change: --open, --closed, --public ADDRESSES, --host-name NAME or " +
			"--spam-filter on|off"}
	}
	if open != closed {
		body.Open = &open
	}
	var s api.Server
	previewed, err := c.change(ctx, http.MethodPatch, "/servers/"+url.PathEscape(c.args[0]), body, &s)
	if err != nil || previewed {
		return err
	}
	if body.Addresses != nil {
		c.say("%s is reached at %s", s.Label, strings.Join(s.Addresses, " "))
		if err := c.startedIf(ctx, s.Operation); err != nil {
			return err
		}
	}
	if body.SpamFilter != nil {
		c.say("%s %s within a minute", s.Label, map[bool]string{true: "judges messages",
			false: "no longer judges messages"}[s.SpamFilter])
	}
	if body.HostName != nil {
		c.say("%s is called %s", s.Label, cmp.Or(s.HostName, "nothing: it takes no mail"))
	}
	if body.Open == nil {
		return nil
	}
	if s.Open {
		c.say("%s takes new accounts", s.Label)
	} else {
		c.say("%s takes no new accounts; those it has stay", s.Label)
	}
	return nil
}

func serverWork(ctx context.Context, c *call, work string) error {
	path := "/servers/" + url.PathEscape(c.args[0])
	var started api.Started
	previewed, err := c.change(ctx, http.MethodPost, path+"/"+work, nil, &started)
	if err != nil || previewed {
		return err
	}
	err = c.started(ctx, started.Operation)
	if c.on("no-wait") {
		return err
	}
	var drift api.DriftList
	if getErr := c.client.Get(ctx, path+"/drift", nil, &drift); getErr != nil {
		return errors.Join(err, getErr)
	}
	c.printDrift(drift.Drifts)
	return err
}
