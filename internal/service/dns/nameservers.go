package dns

import (
	"context"
	"encoding/base64"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/names"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/zones"
	"victualler/internal/manifest"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

const sealedTransferKey = "key of the name servers' transfers"

// primaryNameServer returns the server that has the zones from the accounts and signs them: the
// first that joined with the role dns.
func primaryNameServer(ctx context.Context, q *db.Queries) (db.Server, error) {
	list, err := q.NameServers(ctx)
	if err != nil {
		return db.Server{}, err
	}
	if len(list) == 0 {
		return db.Server{}, refusal.New(refusal.NoServer, "no server with the role dns has joined")
	}
	return list[0], nil
}

// describeServer tells what a server holds for all accounts together.
func (s *Service) describeServer(ctx context.Context, q *db.Queries, server db.Server, out *manifest.Server) error {
	list, err := q.NameServers(ctx)
	if err != nil {
		return err
	}
	for n, one := range list {
		if one.ID != server.ID {
			continue
		}
		key, err := s.transferKey(ctx, q)
		if err != nil {
			return err
		}
		out.DNS = &manifest.DNSServer{Primary: n == 0, Key: key, Peers: []manifest.Peer{}}
		peers := list[1:]
		if n > 0 {
			peers = list[:1]
		}
		for _, p := range peers {
			peer := manifest.Peer{Label: p.Label}
			if peer.Addresses, err = s.innerAddresses(ctx, p); err != nil {
				return err
			}
			out.DNS.Peers = append(out.DNS.Peers, peer)
		}
	}
	return nil
}

// innerAddresses is where servers reach each other: where the service reaches the agent.
func (s *Service) innerAddresses(ctx context.Context, server db.Server) ([]netip.Addr, error) {
	host, _, err := net.SplitHostPort(server.Address)
	if err != nil {
		return nil, err
	}
	if a, err := netip.ParseAddr(host); err == nil {
		return []netip.Addr{a}, nil
	}
	found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil {
		return nil, fmt.Errorf("address of %s: %w", server.Label, err)
	}
	return found[:1], nil
}

// transferKey returns the key of the transfers between name servers, made when it is first needed.
func (s *Service) transferKey(ctx context.Context, q *db.Queries) (string, error) {
	key, err := s.InstallationKey(ctx, q, sealedTransferKey,
		func(i db.Installation) []byte { return i.TransferKey }, q.SaveTransferKey)
	return base64.StdEncoding.EncodeToString(key), err
}

// SyncNameServers tells all name servers of each other, as one has come or gone. One that does not
// answer is told by its next sweep.
func (s *Service) SyncNameServers(ctx context.Context) {
	list, err := s.Store.NameServers(ctx)
	if err != nil {
		s.Log.Warn("name servers not told of each other", "reason", err)
		return
	}
	for _, server := range list {
		if err := s.rollout.SyncServer(ctx, server); err != nil {
			s.Log.Warn("name server not told of the others; its next sweep tells it", "server", server.Label, "reason",
				err)
		}
	}
}

// nameServersFor returns the names under which the name servers of a
// reseller's zones, or of the operator's, are known, with the addresses
// of the servers behind them: the first is the primary's name, and so on.
func nameServersFor(ctx context.Context, q *db.Queries, reseller *int64) ([]zones.Host, error) {
	var names []string
	if reseller != nil {
		own, err := q.NameServersOfReseller(ctx, *reseller)
		if err != nil {
			return nil, err
		}
		names = own
	}
	if len(names) == 0 {
		settings, err := q.Settings(ctx)
		if err != nil {
			return nil, err
		}
		names = settings.NameServers
	}
	servers, err := q.NameServers(ctx)
	if err != nil {
		return nil, err
	}
	var hosts []zones.Host
	for n, name := range names {
		h := zones.Host{Name: name}
		if n < len(servers) {
			h.Addresses = PublicAddresses(servers[n])
		}
		hosts = append(hosts, h)
	}
	return hosts, nil
}

// PublicAddresses are the addresses at which everybody reaches a server.
func PublicAddresses(server db.Server) []netip.Addr {
	var list []netip.Addr
	for _, text := range usecase.AddressesOf(server) {
		if a, err := netip.ParseAddr(text); err == nil {
			list = append(list, a)
		}
	}
	return list
}

// DelegatedHere reports whether the zone above gives a domain to our name servers, or to the
// reseller's. Where that cannot be asked, it does not.
func DelegatedHere(ctx context.Context, s *usecase.Base, reseller *int64, domain string) (bool, error) {
	hosts, err := nameServersFor(ctx, s.Store.Queries, reseller)
	if err != nil {
		return false, err
	}
	delegation, err := s.Resolver.Delegation(ctx, domain)
	if err != nil || len(delegation.Servers) == 0 {
		return false, nil
	}
	for _, server := range delegation.Servers {
		if !slices.ContainsFunc(hosts, func(h zones.Host) bool { return h.Name == server }) {
			return false, nil
		}
	}
	return true, nil
}

// SetNameServers gives a reseller's zones name servers under names of the reseller's own; none
// takes the installation's. Names that do not lead to our name servers need a decision.
//
// Refusals: ApplyFailed, InvalidInput, NeedsDecision, NotFound, ServerUnreachable.
// Locks: the reseller.
func (s *Service) SetNameServers(ctx context.Context, a usecase.Actor, reseller string,
	in api.NameServers) (api.NameServersChanged, error) {
	none := api.NameServersChanged{}
	list, err := NameServerNames(in.Names)
	if err != nil {
		return none, err
	}
	if !in.AcceptUnresolved {
		if err := s.checkNamesResolveHere(ctx, list); err != nil {
			return none, err
		}
	}
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.NameServersChanged, error) {
		row, err := usecase.LockReseller(ctx, tx, a, reseller)
		if err != nil {
			return none, err
		}
		affected, err := ZonesOfOwner(ctx, tx, a, &row.ID)
		if err != nil {
			return none, err
		}
		if err := tx.SetNameServersOfReseller(ctx, db.SetNameServersOfResellerParams{ID: row.ID,
			NameServers: list}); err != nil {
			return none, err
		}
		out := api.NameServersChanged{Names: list, Accounts: len(affected)}
		a.Summarize("have the zones of %s answered by %s", row.Name, nameServerWords(list))
		if len(affected) > 0 {
			a.Note("%s with zones here; their registrars have to be told of the new name servers",
				usecase.Counted(len(affected), "account"))
		}
		if err := usecase.Record(ctx, tx, a, "name_servers.change", usecase.AboutReseller(row),
			map[string]any{"name_servers": row.NameServers}, map[string]any{"name_servers": list}); err != nil {
			return none, err
		}
		out.Operation, err = s.rollout.ApplyAccounts(ctx, tx, a, "name_servers.change", usecase.AboutReseller(row),
			affected)
		return out, err
	})
}

func nameServerWords(list []string) language.Text {
	if len(list) == 0 {
		return language.New("the installation's name servers")
	}
	return language.Plain(strings.Join(list, ", "))
}

// ZonesOfOwner lists the accounts with zones here of a reseller, or of all who take the
// installation's name servers, and tells a preview of them.
//
// Refusals: InvalidInput.
func ZonesOfOwner(ctx context.Context, tx store.Tx, a usecase.Actor, reseller *int64) ([]int64, error) {
	accounts, err := tx.AccountsWithZonesHere(ctx, usecase.OrZero(reseller))
	if err != nil {
		return nil, err
	}
	if a.Preview != nil {
		for n, number := range accounts {
			if n == usecase.MaxEffects {
				break
			}
			account, err := tx.Account(ctx, number)
			if err != nil {
				return nil, err
			}
			rows, err := tx.ZonesOfAccount(ctx, number)
			if err != nil {
				return nil, err
			}
			for _, z := range rows {
				if z.Hosted == HostedHere {
					a.Preview.Effects = append(a.Preview.Effects, api.Effect{Account: account.SignInName,
						Name: usecase.Unicode(z.Name), Gains: []string{}, Losses: []string{}, Over: []string{},
						Changes: []string{"other name servers"}})
				}
			}
		}
	}
	return accounts, nil
}

// NameServerNames reads names of name servers.
//
// Refusals: InvalidInput.
func NameServerNames(typed []string) ([]string, error) {
	list := []string{}
	for i, text := range typed {
		domain, _, err := names.ParseDomain(text)
		if err != nil {
			return nil, refusal.Input(fmt.Sprintf("names.%d", i), "%q is not a host name", text)
		}
		if slices.Contains(list, domain.String()) {
			return nil, refusal.Input(fmt.Sprintf("names.%d", i), "%s is given twice", domain)
		}
		list = append(list, domain.String())
	}
	if len(list) == 1 {
		return nil, refusal.Input("names", "a zone needs two name servers at least (RFC 1034, section 4.1); name "+
			"another one")
	}
	return list, nil
}

// checkNamesResolveHere asks whether names lead to our name servers.
func (s *Service) checkNamesResolveHere(ctx context.Context, list []string) error {
	servers, err := s.Store.NameServers(ctx)
	if err != nil {
		return err
	}
	var wrong []language.Text
	for n, name := range list {
		found, err := s.Resolver.Addresses(ctx, name)
		switch {
		case err != nil:
			wrong = append(wrong, language.New("%s could not be asked for (%s)", name, err))
		case len(found) == 0:
			wrong = append(wrong, language.New("%s has no address", name))
		case n < len(servers) && !slices.ContainsFunc(found, func(a netip.Addr) bool {
			return slices.Contains(PublicAddresses(servers[n]), a)
		}):
			wrong = append(wrong, language.New("%s leads to %s, not to %s (%s)", name, found[0], servers[n].Label,
				strings.Join(usecase.AddressesOf(servers[n]), ", ")))
		case n >= len(servers):
			wrong = append(wrong, language.New("%s is one name more than there are name servers (%d)", name,
				len(servers)))
		}
	}
	if len(wrong) == 0 {
		return nil
	}
	return refusal.New(refusal.NeedsDecision, "%s. Enter the addresses first, or decide that they will be right when "+
		"registrars are told", language.Join(wrong, "; ")).
		Choose(refusal.Decision("accept_unresolved", "true", "the zones name these servers at once"))
}
