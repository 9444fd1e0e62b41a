package rollout

import (
	"context"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/homes"
	"victualler/internal/hosting/plans"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// saveLoads writes down what runs for the accounts of a server, and what they have met of their
// limits since the sweep before.
func saveLoads(ctx context.Context, tx store.Tx, server db.Server, now time.Time,
	found map[int64]agentlink.Load) error {
	rows, err := tx.LoadsOnServer(ctx, server.ID)
	if err != nil {
		return err
	}
	before := map[int64]db.Load{}
	for _, row := range rows {
		before[row.AccountID] = row
	}
	save, met := db.SaveLoadsParams{Server: server.ID, At: now, Ids: []int64{}}, db.AddLimitsMetParams{}
	for id, l := range found {
		last, known := before[id]
		total, waited := l.CPU.Microseconds(), l.Throttled.Milliseconds()
		if !known || total < last.CpuTotal { // the server has begun to count anew
			last = db.Load{AccountID: id, MeasuredAt: last.MeasuredAt}
		}
		cpu := int32(0)
		if passed := now.Sub(last.MeasuredAt); known && passed > 0 {
			cpu = int32((total - last.CpuTotal) * 100 / max(1, passed.Microseconds()))
		}
		save.Ids, save.Processes, save.Memory = append(save.Ids, id), append(save.Processes, l.Processes),
			append(save.Memory, l.Memory)
		save.Cpu, save.CpuTotal = append(save.Cpu, cpu), append(save.CpuTotal, total)
		save.Refused, save.Killed, save.Waited = append(save.Refused, l.ProcessesRefused),
			append(save.Killed, l.MemoryKills),
			append(save.Waited, waited)
		refused, killed := max(0, l.ProcessesRefused-last.RefusedTotal), max(0, l.MemoryKills-last.KilledTotal)
		if waited = max(0, waited-last.WaitedTotal); refused+killed+waited > 0 {
			met.Ids, met.Refused = append(met.Ids, id), append(met.Refused, refused)
			met.Killed, met.Waited = append(met.Killed, killed), append(met.Waited, waited)
		}
	}
	if err := tx.DeleteOtherLoads(ctx, db.DeleteOtherLoadsParams{Server: server.ID, Ids: save.Ids}); err != nil {
		return err
	}
	if err := tx.SaveLoads(ctx, save); err != nil || len(met.Ids) == 0 {
		return err
	}
	if err := tx.AddLimitsMet(ctx, met); err != nil {
		return err
	}
	return tx.DeleteOldLimitsMet(ctx)
}

// Running is what runs for an account, as its server said last; nil if nothing has since the server
// was started. The account is one that was found within the actor's scope.
func (s *Service) Running(ctx context.Context, account int64) (*api.Running, error) {
	rows, err := s.Store.LoadOfAccount(ctx, account)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	met, err := s.Store.LimitsMet(ctx, account)
	if err != nil {
		return nil, err
	}
	l := rows[0]
	return &api.Running{MeasuredAt: l.MeasuredAt, Processes: l.Processes, Memory: l.Memory, CPU: int64(l.Cpu),
		Met: api.LimitsMet{Refused: met.Refused, Killed: met.Killed, Waited: met.Waited / 1000}}, nil
}

// noticeable is how long an account may wait for processor time in a day without being told, in
// milliseconds: moments at which much begins at once are ordinary.
const noticeable = 60_000

// limitWarnings tells which limits of what runs an account has met in the last day.
func (s *Service) limitWarnings(ctx context.Context, a usecase.Actor, st entitlement.Entitlement) ([]api.Warning,
	error) {
	met, err := s.Store.LimitsMet(ctx, st.Account.ID)
	if err != nil {
		return nil, err
	}
	limits := st.ServerLimits()
	var list []api.Warning
	warn := func(code homes.Code, n int64, limit plans.Amount, key plans.Key) {
		if n == 0 {
			return
		}
		info, _ := plans.Info(key)
		e := homes.LimitMet(code, n, limit.Format(info.Unit))
		list = append(list, api.Warning{Part: homes.Sandbox, Subject: string(key), Code: string(code),
			What: e.What.In(a.Language), Seen: e.Seen.In(a.Language), Mend: e.Mend.In(a.Language), Since: met.Since})
	}
	warn(homes.MemoryMet, met.Killed, limits.Memory, plans.Memory)
	warn(homes.ProcessesMet, met.Refused, limits.Processes, plans.Processes)
	if met.Waited > noticeable {
		warn(homes.CPUMet, met.Waited/1000, limits.CPU, plans.CPU)
	}
	return list, nil
}

// Hungriest lists the accounts that run most on a server. Sort is cpu, memory or processes.
//
// Refusals: NotFound.
func (s *Service) Hungriest(ctx context.Context, label, sort string, most int32) (api.HungriestAccounts, error) {
	server, err := s.Store.ServerByLabel(ctx, label)
	if store.None(err) {
		return api.HungriestAccounts{}, usecase.NotFound("server", label)
	}
	if err != nil {
		return api.HungriestAccounts{}, err
	}
	rows, err := s.Store.HungriestAccounts(ctx, db.HungriestAccountsParams{Server: server.ID, Sort: sort, Most: most})
	list := api.HungriestAccounts{Accounts: []api.HungryAccount{}}
	for _, row := range rows {
		list.Accounts = append(list.Accounts, api.HungryAccount{ID: row.ID, SignInName: row.SignInName,
			MainDomain: row.MainDomain, Running: api.Running{MeasuredAt: row.MeasuredAt, Processes: row.Processes,
				Memory: row.Memory, CPU: int64(row.Cpu),
				Met: api.LimitsMet{Refused: row.Refused, Killed: row.Killed, Waited: row.Waited / 1000}}})
	}
	return list, err
}
