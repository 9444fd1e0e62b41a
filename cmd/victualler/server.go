package main

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
)

func serverCommands() []command {
	return []command{
		{noun: "server", verb: "join", args: "LABEL", short: "Add a server and wait for its agent", preview: true,
			waits: true,
			flags: []flagInfo{{name: "address", value: "HOST", usage: "its host name or address", required: true},
				{name: "roles", value: "LIST", usage: "web, mail, database, dns with commas (default web)"},
				addressesFlag, {name: "closed", usage: "take no new accounts at first"}},
			run: joinServer},
		{noun: "server", verb: "list", short: "List servers with health and fill", output: true, run: listServers},
		{noun: "server", verb: "show", args: "LABEL", short: "Show a server and the drift on it", output: true,
			run: showServer},
		{noun: "server", verb: "change", args: "LABEL",
			short: "Open a server to new accounts, close it, or set its public addresses", preview: true,
			flags: []flagInfo{{name: "open", usage: "take new accounts"},
				{name: "closed", usage: "take no new accounts"}, addressesFlag},
			waits: true, run: changeServer},
		{noun: "server", verb: "remove", args: "LABEL", short: "Remove a server without accounts", preview: true,
			flags: []flagInfo{yesFlag},
			run: func(ctx context.Context, c *call) error {
				return c.removed(ctx, "/servers/"+url.PathEscape(c.args[0]), "server "+c.args[0])
			}},
		{noun: "server", verb: "sweep", args: "LABEL", short: "Compare a server with what it should hold", waits: true,
			run: func(ctx context.Context, c *call) error { return serverWork(ctx, c, "sweep") }},
		{noun: "server", verb: "repair", args: "LABEL", short: "Put right what a sweep finds", preview: true,
			waits: true,
			run:   func(ctx context.Context, c *call) error { return serverWork(ctx, c, "repair") }},
	}
}

// addressesFlag sets a server's public addresses.
var addressesFlag = flagInfo{name: "public", value: "ADDRESSES", usage: "its public IPv4 and IPv6 addresses" +
	", with commas between them; that of the agent at first"}

func joinServer(ctx context.Context, c *call) error {
	roles := strings.Split(c.value("roles"), ",")
	if c.value("roles") == "" {
		roles = []string{"web"}
	}
	var joining api.Joining
	body := api.NewServer{Label: c.args[0], Address: c.value("address"), Roles: roles, Closed: c.on("closed"),
		Addresses: list(c.value("public"))}
	previewed, err := c.change(ctx, http.MethodPost, "/servers", body, &joining)
	if err != nil || previewed {
		return err
	}
	fmt.Fprintf(c.err, "On the server, as root, before %s:\n\n  victualler-agent join %s\n\n", local(joining.EndsAt),
		joining.JoinSecret)
	return c.started(ctx, joining.Operation)
}

func listServers(ctx context.Context, c *call) error {
	var list api.ServerList
	if err := c.client.Get(ctx, "/servers", nil, &list); err != nil {
		return err
	}
	t := table{{"SERVER", "ADDRESS", "ROLES", "HEALTH", "NEW ACCOUNTS", "ACCOUNTS", "DRIFT", "LOAD", "MEMORY FREE",
		"DISK FREE"}}
	for _, s := range list.Servers {
		row := []string{s.Label, s.Address, strings.Join(s.Roles, " "), health(s), yes(s.Open),
			strconv.FormatInt(s.Accounts, 10), strconv.FormatInt(s.Drifts, 10), "?", "?", "?"}
		if h := s.Health; h != nil {
			row[7] = fmt.Sprintf("%.2f/%d", h.Load, h.Processors)
			row[8] = plans.FormatSize(h.MemoryFree) + " of " + plans.FormatSize(h.MemoryTotal)
			row[9] = plans.FormatSize(h.DiskFree) + " of " + plans.FormatSize(h.DiskTotal)
		}
		t = append(t, row)
	}
	if len(list.Servers) == 0 && (c.format() == "" || c.format() == "table") {
		fmt.Fprintln(c.out, "no servers; add one with: victualler server join LABEL --address HOST")
		return nil
	}
	return c.print(list, t)
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
	programs := table{{"PROGRAM", "VERSION", "STATE", "RELOADS"}}
	if s.Health != nil {
		for _, p := range s.Health.Programs {
			state := "running"
			if !p.Running {
				state = "down"
			}
			programs = append(programs, []string{p.Name, p.Version, state, strconv.FormatInt(p.Reloads, 10)})
		}
	}
	if c.format() == "json" || c.format() == "csv" {
		return c.print(s, programs)
	}
	pairs := []string{"server", s.Label, "address", s.Address, "public", strings.Join(s.Addresses, " "), "roles",
		strings.Join(s.Roles, ", "), "health", health(s), "new accounts", yes(s.Open),
		"accounts", strconv.FormatInt(s.Accounts, 10), "last answer", when(s.SeenAt), "last sweep", when(s.SweptAt)}
	if h := s.Health; h != nil {
		pairs = append(pairs, "load", fmt.Sprintf("%.2f on %d processors", h.Load, h.Processors),
			"memory free", plans.FormatSize(h.MemoryFree)+" of "+plans.FormatSize(h.MemoryTotal),
			"disk free", plans.FormatSize(h.DiskFree)+" of "+plans.FormatSize(h.DiskTotal)+" (limits: "+h.Quota+")",
			"sandboxes", fmt.Sprintf("%d running (%s)", h.Sandboxes.Running, h.Sandboxes.Layout),
			"PHP", strings.Join(h.Sandboxes.PHP, ", "), "agent", h.AgentVersion)
	}
	fields(c.out, pairs...)
	if s.Health != nil {
		for _, m := range s.Health.Sandboxes.Missing {
			fmt.Fprintf(c.out, "\nnot kept on this server: %s\n", m)
		}
	}
	fmt.Fprintln(c.out)
	programs.write(c.out, width(c.out))
	var hungriest api.HungriestAccounts
	if err := c.client.Get(ctx, path+"/hungriest", nil, &hungriest); err != nil {
		return err
	}
	if len(hungriest.Accounts) > 0 {
		fmt.Fprintln(c.out)
		hungry(hungriest.Accounts).write(c.out, width(c.out))
	}
	var drift api.DriftList
	if err := c.client.Get(ctx, path+"/drift", nil, &drift); err != nil {
		return err
	}
	printDrift(c, drift.Drifts)
	if len(drift.Drifts) > 0 {
		fmt.Fprintf(c.out, "\nput it right with: victualler server repair %s\n", s.Label)
	}
	return nil
}

// hungry lists the accounts that run most.
func hungry(list []api.HungryAccount) table {
	t := table{{"RUNS MOST", "CPU", "MEMORY", "PROCESSES", "MET ITS LIMITS TODAY"}}
	for _, a := range list {
		t = append(t, []string{a.SignInName, strconv.FormatInt(a.CPU, 10) + "%", plans.FormatSize(a.Memory),
			strconv.FormatInt(a.Processes, 10), limitsMet(a.Met)})
	}
	return t
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
func printDrift(c *call, drifts []api.Drift) {
	for _, d := range drifts {
		owner := d.Account
		if owner == "" {
			owner = "nobody"
		}
		fmt.Fprintf(c.out, "\ndrift of %s, %s: %s %s\n", owner, d.Part, d.Subject, d.Detail)
		if d.Diff != "" {
			fmt.Fprintln(c.out, strings.TrimRight(d.Diff, "\n"))
		}
	}
}

func changeServer(ctx context.Context, c *call) error {
	open, closed := c.on("open"), c.on("closed")
	body := api.ServerChange{}
	if public := c.given("public"); public != nil {
		addresses := append([]string{}, list(*public)...)
		body.Addresses = &addresses
	}
	if open == closed && (open || body.Addresses == nil) {
		return usageError{"say --open, --closed or --public"}
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
		fmt.Fprintf(c.out, "%s is reached at %s\n", s.Label, strings.Join(s.Addresses, " "))
		if err := c.startedIf(ctx, s.Operation); err != nil || body.Open == nil {
			return err
		}
	}
	if s.Open {
		fmt.Fprintf(c.out, "%s takes new accounts\n", s.Label)
	} else {
		fmt.Fprintf(c.out, "%s takes no new accounts; those it has stay\n", s.Label)
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
	printDrift(c, drift.Drifts)
	return err
}
