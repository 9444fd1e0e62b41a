package fleet

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/placement"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/rollout"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// joinLife is how long a join secret can be used.
const joinLife = time.Hour

const sealedJoinSecret = "join secret"

var serverLabel = regexp.MustCompile(`^[a-z][a-z0-9-]{0,30}$`)

// JoinServer adds a server and starts to wait for its agent.
//
// Refusals: InvalidInput, NameTaken.
func (s *Service) JoinServer(ctx context.Context, a usecase.Actor, in api.NewServer) (api.Joining, error) {
	if !serverLabel.MatchString(in.Label) {
		return api.Joining{}, refusal.Input("label", "a server's label has 1 to 31 lower-case letters, digits and "+
			"hyphens, and starts with a letter")
	}
	address, err := agentAddress(in.Address)
	if err != nil {
		return api.Joining{}, err
	}
	addresses, err := serverAddresses(in.Addresses)
	if err != nil {
		return api.Joining{}, err
	}
	hostName, err := hostName(in.HostName)
	if err != nil {
		return api.Joining{}, err
	}
	secret := agentlink.NewJoinSecret(s.Joiner.Certificate)
	ends := s.Now().Add(joinLife).UTC()
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Joining, error) {
		row, err := tx.AddServer(ctx, db.AddServerParams{Label: in.Label, Address: address, Roles: in.Roles,
			Open:       !in.Closed,
			JoinSecret: s.Key.Seal(sealedJoinSecret, []byte(secret.String())), JoinEndsAt: &ends, Addresses: addresses,
			HostName: hostName})
		switch store.ViolatedConstraint(err) {
		case "servers_label_key":
			return api.Joining{}, refusal.New(refusal.NameTaken, "there is a server %q already; choose another label",
				in.Label).On("label")
		case "servers_address_key":
			return api.Joining{}, refusal.New(refusal.NameTaken, "a server with the address %s has been added already",
				address).On("address")
		case "servers_host_name":
			return api.Joining{}, hostNameTaken(hostName)
		case "servers_roles_check":
			return api.Joining{}, refusal.Input("roles", "roles are web, mail, database and dns, at least one of them")
		}
		if err != nil {
			return api.Joining{}, err
		}
		operation, err := usecase.AddOperation(ctx, tx, a, db.AddOperationParams{Kind: "server.join",
			Subject: row.Label, ServerID: &row.ID})
		if err != nil {
			return api.Joining{}, err
		}
		if err := s.Queue.Join(ctx, tx, row.ID, operation); err != nil {
			return api.Joining{}, err
		}
		out := serverView(row, 0, 0)
		return api.Joining{Server: out, JoinSecret: secret.String(), EndsAt: ends, Operation: operation},
			usecase.Record(ctx, tx, a, "server.join", usecase.About("server %s", row.Label), nil, out)
	})
}

// hostName reads the name by which a server greets others; empty is none.
func hostName(typed string) (string, error) {
	if strings.TrimSpace(typed) == "" {
		return "", nil
	}
	name, _, err := names.ParseDomain(typed)
	if err != nil {
		return "", refusal.As(err).On("host_name")
	}
	return name.String(), nil
}

func hostNameTaken(name string) error {
	return refusal.New(refusal.NameTaken, "another server is called %s already", name).On("host_name")
}

// serverAddresses reads the public addresses of a server.
func serverAddresses(typed []string) ([]string, error) {
	list := []string{}
	for i, text := range typed {
		a, err := netip.ParseAddr(strings.TrimSpace(text))
		if err != nil || a.Zone() != "" {
			return nil, refusal.Input(fmt.Sprintf("addresses.%d", i), "%q is no IPv4 or IPv6 address", text)
		}
		if !slices.Contains(list, a.String()) {
			list = append(list, a.String())
		}
	}
	return list, nil
}

func agentAddress(typed string) (string, error) {
	host, port, err := net.SplitHostPort(typed)
	if err != nil {
		host, port = typed, strconv.Itoa(agentlink.DefaultPort)
	}
	if n, err := strconv.Atoi(port); err != nil || n < 1 || n > 65535 || host == "" {
		return "", refusal.Input("address", "%q is not an address; write a host name or an IP address, with :PORT if "+
			"needed", typed)
	}
	return net.JoinHostPort(host, port), nil
}

// firstAnswer is for how long an agent that has just got its certificate may be silent: it
// prepares the programs of its server before it listens again, on a busy server for some seconds.
const firstAnswer = time.Minute

// TryJoin tries once to enrol a waiting server's agent. Done tells that there
// is nothing more to wait for.
func (s *Service) TryJoin(ctx context.Context, serverID, operationID int64) (done bool, err error) {
	server, err := s.Store.ServerByID(ctx, serverID)
	if store.None(err) { // removed meanwhile
		return true, nil
	}
	if err != nil {
		return false, err
	}
	p := s.StartProgress(operationID)
	defer p.Close()
	const step = "enrol"
	if server.State == "joined" {
		return true, s.FinishOperations(ctx, nil, operationID)
	}
	if s.Now().After(*server.JoinEndsAt) {
		return true, s.FinishOperations(ctx, fmt.Errorf("nobody used the join secret of %s in time; remove the "+
			"server and add it again", server.Label), operationID)
	}
	text, err := s.Key.Open(sealedJoinSecret, server.JoinSecret)
	if err != nil {
		return true, s.FinishOperations(ctx, err, operationID)
	}
	secret, err := agentlink.ParseJoinSecret(string(text))
	if err != nil {
		return true, s.FinishOperations(ctx, err, operationID)
	}
	p.Note(language.New("waiting for “victualler-agent join” on the server at %s", server.Address))
	if err := s.Joiner.Enrol(ctx, server.Address, secret, serverID, s.Now()); err != nil {
		if errors.Is(err, agentlink.ErrWrongSecret) {
			p.Note(language.Of(err))
		}
		// It may have taken its certificate and the answer been lost: then it answers as enrolled.
		if _, err := s.Agents.Agent(serverID, server.Address).Status(ctx); err != nil {
			return false, nil
		}
	}
	if _, err := s.Store.MarkServerJoined(ctx, serverID); err != nil {
		return false, err
	}
	p.Step(agentlink.Step{Name: step, State: agentlink.StepDone,
		Detail: language.New("the agent has its certificate").Encode()})
	p.Step(agentlink.Step{Name: "ask", State: agentlink.StepRunning})
	for until := time.Now().Add(firstAnswer); ; {
		if _, err = s.poll(ctx, serverID, server.Address); err == nil || time.Now().After(until) {
			break
		}
		select {
		case <-ctx.Done():
			return false, ctx.Err()
		case <-time.After(250 * time.Millisecond):
		}
	}
	if err != nil {
		return true,
			s.FinishOperations(ctx, fmt.Errorf("%s has joined, but its agent does not answer since: %w", server.Label,
				err), operationID)
	}
	p.Step(agentlink.Step{Name: "ask", State: agentlink.StepDone, Detail: language.New("the agent answers").Encode()})
	if slices.Contains(server.Roles, "dns") {
		s.dns.SyncNameServers(ctx)
	} else if err := s.rollout.SyncServer(ctx, server); err != nil {
		s.Log.Warn("server not told what it is; its next sweep tells it", "server", server.Label, "reason", err)
	}
	// Programs have begun meanwhile that are of use only now.
	if _, err := s.poll(ctx, serverID, server.Address); err != nil {
		s.Log.Warn("server does not answer", "server", server.Label, "reason", err)
	}
	p.Close()
	return true, s.FinishOperations(ctx, nil, operationID)
}

// poll asks an agent how its server is and keeps the answer.
func (s *Service) poll(ctx context.Context, serverID int64, address string) (agentlink.Status, error) {
	ask, cancel := context.WithTimeout(ctx, usecase.AgentTimeout)
	defer cancel()
	status, err := s.Agents.Agent(serverID, address).Status(ask)
	if err != nil {
		if ctx.Err() != nil {
			return status, ctx.Err()
		}
		return status, errors.Join(err, s.Store.MarkServerUnreachable(ctx, serverID))
	}
	text, err := json.Marshal(status)
	if err != nil {
		return status, err
	}
	if err := s.Store.SaveServerStatus(ctx, db.SaveServerStatusParams{ID: serverID, Status: text}); err != nil {
		return status, err
	}
	return status, s.Store.AddServerHour(ctx, db.AddServerHourParams{Server: serverID,
		DiskUsed: max(0, status.DiskTotal-status.DiskFree), DiskTotal: status.DiskTotal, Load: float32(status.Load)})
}

// PollServers asks all joined servers how they are.
func (s *Service) PollServers(ctx context.Context) error {
	rows, err := s.Store.Servers(ctx)
	if err != nil {
		return err
	}
	var group sync.WaitGroup
	for _, row := range rows {
		if row.Server.State == "joined" {
			group.Go(func() {
				status, err := s.poll(ctx, row.Server.ID, row.Server.Address)
				if err != nil {
					if row.Server.Reachable {
						s.Log.Warn("server does not answer", "server", row.Server.Label, "reason", err)
					}
					return
				}
				if status.CertificateEnds.Sub(s.Now()) < agentlink.RenewBefore {
					err := s.Agents.Agent(row.Server.ID, row.Server.Address).Renew(ctx, s.Joiner, row.Server.ID,
						s.Now())
					s.Log.Info("agent's certificate renewed", "server", row.Server.Label, "error", err)
				}
			})
		}
	}
	group.Wait()
	return nil
}

// Servers returns all servers.
func (s *Service) Servers(ctx context.Context) (api.ServerList, error) {
	list := api.ServerList{Servers: []api.Server{}}
	rows, err := s.Store.Servers(ctx)
	for _, row := range rows {
		list.Servers = append(list.Servers, serverView(row.Server, row.Accounts, row.Drifts))
	}
	return list, err
}

// Server returns one server.
//
// Refusals: NotFound.
func (s *Service) Server(ctx context.Context, label string) (api.Server, error) {
	list, err := s.Servers(ctx)
	if err != nil {
		return api.Server{}, err
	}
	for _, server := range list.Servers {
		if server.Label == label {
			return server, nil
		}
	}
	return api.Server{}, usecase.NotFound("server", label)
}

// ChangeServer changes a server. Version is the one the caller has seen, or 0.
//
// Refusals: ApplyFailed, Changed, InvalidInput, NameTaken, NotFound, ServerUnreachable.
// Locks: the server.
func (s *Service) ChangeServer(ctx context.Context, a usecase.Actor, label string, version int64,
	in api.ServerChange) (api.Server, error) {
	operation, err := usecase.Change(ctx, s.Base, a, func(tx store.Tx) (int64, error) {
		row, err := usecase.LockServer(ctx, tx, label)
		if err != nil {
			return 0, err
		}
		if err := usecase.CheckVersion(label, version, row.Version); err != nil {
			return 0, err
		}
		p := db.ChangeServerParams{ID: row.ID, Open: row.Open, Addresses: row.Addresses, HostName: row.HostName,
			SpamFilter: row.SpamFilter}
		if in.SpamFilter != nil {
			p.SpamFilter = *in.SpamFilter
		}
		if in.Open != nil {
			p.Open = *in.Open
		}
		if in.Addresses != nil {
			if p.Addresses, err = serverAddresses(*in.Addresses); err != nil {
				return 0, err
			}
		}
		if in.HostName != nil {
			if p.HostName, err = hostName(*in.HostName); err != nil {
				return 0, err
			}
		}
		moved := !slices.Equal(p.Addresses, row.Addresses)
		if p.Open == row.Open && p.HostName == row.HostName && p.SpamFilter == row.SpamFilter && !moved {
			return 0, nil
		}
		after, err := tx.ChangeServer(ctx, p)
		if store.ViolatedConstraint(err) == "servers_host_name" {
			return 0, hostNameTaken(p.HostName)
		}
		if err != nil {
			return 0, err
		}
		a.Summarize("change server %s", label)
		words := func(row db.Server) map[string]any {
			return map[string]any{"open": row.Open, "addresses": usecase.AddressesOf(row),
				"host_name": row.HostName, "spam_filter": row.SpamFilter}
		}
		if err := usecase.Record(ctx, tx, a, "server.change", usecase.About("server %s", label), words(row),
			words(after)); err != nil || !moved && p.HostName == row.HostName {
			return 0, err
		}
		var accounts []int64
		if moved {
			if accounts, err = tx.AccountsRedirectedTo(ctx, row.ID); err != nil {
				return 0, err
			}
		}
		if p.HostName != row.HostName { // records for mail name it
			mail, err := tx.AccountsWithMailOn(ctx, row.ID)
			if err != nil {
				return 0, err
			}
			accounts = append(accounts, mail...)
			slices.Sort(accounts)
			accounts = slices.Compact(accounts)
		}
		return s.rollout.ApplyAccounts(ctx, tx, a, "server.change", usecase.About("server %s", label), accounts)
	})
	if err != nil {
		return api.Server{}, err
	}
	out, err := s.Server(ctx, label)
	out.Operation = operation
	return out, err
}

// RemoveServer takes a server without accounts out of the installation. Its agent, if it has
// one, is left as it is.
//
// Refusals: InUse, NotFound.
// Locks: the server.
func (s *Service) RemoveServer(ctx context.Context, a usecase.Actor, label string) error {
	_, err := usecase.Change(ctx, s.Base, a, func(tx store.Tx) (struct{}, error) {
		none := struct{}{}
		row, err := usecase.LockServer(ctx, tx, label)
		if err != nil {
			return none, err
		}
		unfinished, err := tx.UnfinishedOfServer(ctx, &row.ID)
		if err != nil {
			return none, err
		}
		if err := usecase.FinishOperationsTx(ctx, tx, fmt.Errorf("%s was removed", label), unfinished...); err != nil {
			return none, err
		}
		if err := tx.LeaveServer(ctx, &row.ID); err != nil {
			return none, err
		}
		err = tx.RemoveServer(ctx, row.ID)
		if store.ViolatedConstraint(err) == "account_servers_server_id_fkey" {
			return none, refusal.New(refusal.InUse, "%s answers for zones of accounts; it cannot go before they are "+
				"elsewhere", label)
		}
		if store.ViolatedConstraint(err) == "accounts_server_id_fkey" {
			return none, refusal.New(refusal.InUse, "%s has accounts, or closed ones on record; close it to new "+
				"accounts instead", label)
		}
		if err != nil {
			return none, err
		}
		return none, usecase.Record(ctx, tx, a, "server.remove", usecase.About("server %s", label),
			serverView(row, 0, 0), nil)
	})
	return err
}

// SweepServer has a server's accounts compared with what is found.
//
// Refusals: ApplyFailed, NotFound, ServerUnreachable, WrongState.
// Locks: the server.
func (s *Service) SweepServer(ctx context.Context, a usecase.Actor, label string) (api.Started, error) {
	return s.startSweep(ctx, a, label, "server.sweep", false)
}

// RepairServer has what differs on a server put right.
//
// Refusals: ApplyFailed, NotFound, ServerUnreachable, WrongState.
// Locks: the server.
func (s *Service) RepairServer(ctx context.Context, a usecase.Actor, label string) (api.Started, error) {
	return s.startSweep(ctx, a, label, "server.repair", true)
}

func (s *Service) startSweep(ctx context.Context, a usecase.Actor, label, kind string, repair bool) (api.Started,
	error) {
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Started, error) {
		row, err := usecase.LockServer(ctx, tx, label)
		if err != nil {
			return api.Started{}, err
		}
		if row.State != "joined" {
			return api.Started{}, usecase.NotJoined(label)
		}
		if a.Preview != nil {
			if repair {
				a.Summarize("repair %s", label)
			} else {
				a.Summarize("sweep %s", label)
			}
			if repair {
				a.Preview.AskServers(func(ctx context.Context, out *api.Preview) error {
					return s.previewRepair(ctx, a, row, out)
				})
			}
			return api.Started{}, nil
		}
		operation, err := usecase.AddOperation(ctx, tx, a, db.AddOperationParams{Kind: kind, Subject: row.Label,
			ServerID: &row.ID})
		if err != nil {
			return api.Started{}, err
		}
		if err := s.Queue.Sweep(ctx, tx, row.ID, operation, repair); err != nil {
			return api.Started{}, err
		}
		return api.Started{Operation: operation}, usecase.Record(ctx, tx, a, kind, usecase.About("server %s", label),
			nil, nil)
	})
}

// previewRepair asks what a repair of a server would put right, as it is now.
func (s *Service) previewRepair(ctx context.Context, a usecase.Actor, server db.Server, out *api.Preview) error {
	ask, cancel := context.WithTimeout(ctx, 10*usecase.AgentTimeout)
	defer cancel()
	sweep, err := s.Agents.Agent(server.ID, server.Address).Sweep(ask)
	if err != nil {
		return usecase.Unreachable(server.Label, err)
	}
	out.Notes = append(out.Notes, a.Say("%s compared", usecase.Counted(len(sweep.Accounts), "account")))
	out.Steps = append(out.Steps, "sweep")
	for _, account := range sweep.Accounts {
		if len(account.Drift) > 0 {
			out.Steps = append(out.Steps, account.SignInName)
		}
		for _, d := range account.Drift {
			out.Changes = append(out.Changes, api.Change(d))
		}
	}
	for _, d := range sweep.Strays {
		out.Changes = append(out.Changes, api.Change(d))
	}
	if len(sweep.Strays) > 0 {
		out.Steps = append(out.Steps, rollout.UnownedStep)
	}
	out.Steps = append(out.Steps, "sweep again")
	return nil
}

// Drifts returns what the last sweep of a server found.
//
// Refusals: NotFound.
func (s *Service) Drifts(ctx context.Context, a usecase.Actor, label string) (api.DriftList, error) {
	row, err := s.Store.ServerByLabel(ctx, label)
	if store.None(err) {
		return api.DriftList{}, usecase.NotFound("server", label)
	}
	if err != nil {
		return api.DriftList{}, err
	}
	list := api.DriftList{SweptAt: row.SweptAt, Drifts: []api.Drift{}}
	rows, err := s.Store.DriftsOfServer(ctx, row.ID)
	for _, d := range rows {
		drift := api.Drift{Part: d.Part, Subject: d.Subject, Detail: a.SayKept(d.Detail), Diff: d.Diff,
			FoundAt: d.FoundAt}
		if d.SignInName != nil {
			drift.Account = *d.SignInName
		}
		list.Drifts = append(list.Drifts, drift)
	}
	return list, err
}

// Place decides on the server of a new account: the one named, or the one with
// most room. The server is asked now, not taken at its last word.
//
// Refusals: NoServer, NotFound, ServerClosed, ServerFull, ServerUnreachable.
func (s *Service) Place(ctx context.Context, label string) (db.Server, placement.Choice, error) {
	rows, err := s.Store.Servers(ctx)
	if err != nil {
		return db.Server{}, placement.Choice{}, err
	}
	byLabel := map[string]db.Server{}
	candidates := []placement.Server{}
	for _, row := range rows {
		byLabel[row.Server.Label] = row.Server
		candidates = append(candidates, candidate(row.Server, row.Accounts))
	}
	if label != "" {
		if _, known := byLabel[label]; !known {
			return db.Server{}, placement.Choice{},
				refusal.New(refusal.NotFound, "there is no server %q here", label).On("server")
		}
	}
	for {
		choice := placement.Choice{Label: label, Reason: language.New("named by the person who opened the account")}
		if label == "" {
			if choice, err = placement.Choose(candidates); err != nil {
				return db.Server{}, choice, err
			}
		}
		for i, c := range candidates {
			if c.Label != choice.Label {
				continue
			}
			server := byLabel[c.Label]
			if c.Joined {
				status, err := s.poll(ctx, server.ID, server.Address)
				c.Reachable, c.DiskTotal, c.DiskFree = err == nil, status.DiskTotal, status.DiskFree
				if ctx.Err() != nil {
					return server, choice, ctx.Err()
				}
			}
			err := placement.Check(c)
			if err == nil {
				return server, choice, nil
			}
			if label != "" {
				return server, choice, err
			}
			candidates[i] = c // choose again among the others
		}
	}
}

// candidate describes a server for the choice, by what it said last.
func candidate(row db.Server, accounts int64) placement.Server {
	c := placement.Server{Label: row.Label, Open: row.Open, Joined: row.State == "joined", Reachable: row.Reachable,
		Accounts: accounts}
	for _, role := range row.Roles {
		c.Web = c.Web || role == "web"
	}
	if status := usecase.LastStatus(row); status != nil {
		c.DiskTotal, c.DiskFree = status.DiskTotal, status.DiskFree
	}
	return c
}

func serverView(row db.Server, accounts, drifts int64) api.Server {
	v := api.Server{Label: row.Label, Address: row.Address, Addresses: usecase.AddressesOf(row), Roles: row.Roles,
		HostName: row.HostName, SpamFilter: row.SpamFilter, Open: row.Open, State: row.State, Reachable: row.Reachable,
		SeenAt: row.StatusAt, SweptAt: row.SweptAt, Accounts: accounts, Drifts: drifts, Version: row.Version}
	if status := usecase.LastStatus(row); status != nil {
		v.Health = &api.Health{Load: status.Load, Processors: status.Processors, MemoryTotal: status.MemoryTotal,
			MemoryFree: status.MemoryFree,
			DiskTotal:  status.DiskTotal, DiskFree: status.DiskFree, Quota: status.Quota,
			AgentVersion: status.AgentVersion, Programs: []api.Program{}}
		for _, p := range status.Programs {
			v.Health.Programs = append(v.Health.Programs, api.Program(p))
		}
		v.Health.Sandboxes = api.Sandboxes{Layout: "none", Missing: []string{}, PHP: []string{}}
		if boxes := status.Sandboxes; boxes != nil {
			v.Health.Sandboxes = api.Sandboxes{Layout: boxes.Layout, Missing: append([]string{}, boxes.Missing...),
				Running: int64(boxes.Running), PHP: append([]string{}, boxes.PHP...)}
		}
	}
	return v
}
