package kits

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/kits"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/service/entitlement"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// readKit reads the document of a row.
func readKit(row db.Kit) (kits.Kit, error) {
	var k kits.Kit
	return k, json.Unmarshal(row.Document, &k)
}

// Register adds a version of a kit. Where the installation has keys for kits, the archive must be
// signed with one of them. Digest is the archive's SHA-256 in hexadecimal digits, the signature is
// in Base64, or empty. Registered once more with the same contents, nothing changes.
//
// Refusals: InvalidInput, NameTaken, NotAllowed, NotFound.
func (s *Service) Register(ctx context.Context, a usecase.Actor, digest string, archive []byte,
	signature string) (api.Kit, error) {
	if sum := sha256.Sum256(archive); hex.EncodeToString(sum[:]) != digest {
		return api.Kit{}, refusal.Input("digest", "the archive has not come whole, or it is another one; send it again")
	}
	p, err := kits.ReadArchive(archive)
	if err != nil {
		return api.Kit{}, err
	}
	signer, err := s.signer(ctx, archive, signature)
	if err != nil {
		return api.Kit{}, err
	}
	document, err := json.Marshal(p.Kit)
	if err != nil {
		return api.Kit{}, err
	}
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Kit, error) {
		if err := usecase.LockKits(ctx, tx); err != nil {
			return api.Kit{}, err
		}
		versions, err := tx.KitVersions(ctx, p.Name)
		if err != nil {
			return api.Kit{}, err
		}
		for _, row := range versions {
			if row.Version == p.Version && row.Digest == p.Digest {
				a.Note("it is registered already")
				return s.kitView(ctx, tx.Queries, a, p.Name)
			}
			if kits.CompareVersions(row.Version, p.Version) == 0 {
				return api.Kit{}, refusal.New(refusal.NameTaken, "version %s of %s is there already; a version never "+
					"changes: give the new one a higher number", p.Version, p.Name).On("version")
			}
		}
		row, err := tx.AddKit(ctx, db.AddKitParams{Name: p.Name, Version: p.Version, Document: document,
			Digest: p.Digest, Size: p.Size, Files: int32(len(p.Files)), Signer: signer})
		if err != nil {
			return api.Kit{}, err
		}
		if err := tx.AddKitArchive(ctx, db.AddKitArchiveParams{KitID: row.ID, Archive: p.Archive}); err != nil {
			return api.Kit{}, err
		}
		a.Summarize("register version %s of the kit %s", p.Version, p.Name)
		if len(versions) == 0 {
			a.Note("no account is offered it until a plan offers it")
		}
		if err := usecase.Record(ctx, tx, a, "kit.register", usecase.About("kit %s", p.Name), nil,
			map[string]any{"kit": p.Name, "version": p.Version, "digest": p.Digest, "signer": signer}); err != nil {
			return api.Kit{}, err
		}
		return s.kitView(ctx, tx.Queries, a, p.Name)
	})
}

// signer is the key that an archive was signed with; empty where it was not and need not be.
//
// Refusals: InvalidInput, NotAllowed.
func (s *Service) signer(ctx context.Context, archive []byte, encoded string) (string, error) {
	signature, err := base64.StdEncoding.DecodeString(encoded)
	if err != nil {
		return "", refusal.Input("signature", "is not in Base64")
	}
	settings, err := s.Store.Settings(ctx)
	if err != nil {
		return "", err
	}
	var trusted []kits.Key
	for _, text := range settings.KitKeys {
		k, err := kits.ParseKey(text)
		if err != nil {
			return "", err
		}
		trusted = append(trusted, k)
	}
	switch {
	case len(signature) == 0 && len(trusted) > 0:
		return "", refusal.New(refusal.NotAllowed, "kits must be signed here; send the signature of the archive, too").
			On("signature")
	case len(signature) == 0:
		return "", nil
	case len(trusted) == 0:
		return "", refusal.New(refusal.NotAllowed, "no key is trusted here yet; add the key to the settings "+
			"(kit_keys), "+
			"or leave out the signature").On("signature")
	}
	k, err := kits.Verify(archive, string(signature), trusted)
	return k.ID, err
}

// Kits lists the kits, with their versions and the plans that offer them.
func (s *Service) Kits(ctx context.Context, a usecase.Actor) (api.KitList, error) {
	out := api.KitList{Kits: []api.Kit{}}
	list, err := s.load(ctx, s.Store.Queries, a)
	out.Kits = append(out.Kits, list...)
	return out, err
}

// Kit returns one kit.
//
// Refusals: NotFound.
func (s *Service) Kit(ctx context.Context, a usecase.Actor, name string) (api.Kit, error) {
	return s.kitView(ctx, s.Store.Queries, a, name)
}

// kitView is one kit as the actor may see it.
//
// Refusals: NotFound.
func (s *Service) kitView(ctx context.Context, q *db.Queries, a usecase.Actor, name string) (api.Kit, error) {
	list, err := s.load(ctx, q, a)
	if err != nil {
		return api.Kit{}, err
	}
	at := slices.IndexFunc(list, func(k api.Kit) bool { return k.Name == name })
	if at < 0 {
		return api.Kit{}, usecase.NotFound("kit", name)
	}
	return list[at], nil
}

// load reads all kits, as the actor may see them.
func (s *Service) load(ctx context.Context, q *db.Queries, a usecase.Actor) ([]api.Kit, error) {
	rows, err := q.Kits(ctx)
	if err != nil {
		return nil, err
	}
	reseller, _ := a.Scope()
	used, err := q.SitesOfKits(ctx, reseller)
	if err != nil {
		return nil, err
	}
	offers, err := q.KitOffers(ctx)
	if err != nil {
		return nil, err
	}
	var out []api.Kit
	for _, row := range rows {
		k, err := readKit(row)
		if err != nil {
			return nil, err
		}
		v := api.KitVersion{Version: row.Version, Needs: needsView(k), Files: int(row.Files), Size: row.Size,
			Asks: usecase.NonNil(k.Asks), Digest: row.Digest, Signer: row.Signer, Withdrawn: row.Withdrawn,
			AddedAt: row.AddedAt}
		for _, u := range used {
			if u.KitID == row.ID {
				v.Sites = u.Sites
			}
		}
		at := slices.IndexFunc(out, func(other api.Kit) bool { return other.Name == row.Name })
		if at < 0 {
			at = len(out)
			out = append(out, api.Kit{Name: row.Name, Plans: []string{}})
		}
		out[at].Versions = append(out[at].Versions, v)
		slices.SortFunc(out[at].Versions, func(x, y api.KitVersion) int {
			return kits.CompareVersions(y.Version, x.Version)
		})
		if out[at].Versions[0].Version == row.Version {
			out[at].Title, out[at].About = k.Title, k.About
		}
	}
	for i := range out {
		versions := out[i].Versions
		if at := slices.IndexFunc(versions, func(v api.KitVersion) bool { return !v.Withdrawn }); at >= 0 {
			out[i].Current = versions[at].Version
		}
		for _, o := range offers {
			if o.Kit == out[i].Name && (a.Role == rights.Operator || usecase.OrZero(o.ResellerID) == reseller &&
				reseller != 0) {
				out[i].Plans = append(out[i].Plans, entitlement.PlanRefFor(a, o.Reseller, o.Name))
			}
		}
	}
	return out, nil
}

func needsView(k kits.Kit) api.KitNeeds {
	return api.KitNeeds{PHP: k.Needs.PHP, Extensions: k.Needs.Extensions, Database: string(k.Needs.Database),
		Space: k.Needs.Space}
}

// ChangeKit changes which plans offer a kit, and which of its versions sites get. Resellers change
// that of their plans, and nothing else.
//
// Refusals: NotAllowed, NotFound.
func (s *Service) ChangeKit(ctx context.Context, a usecase.Actor, name string, in api.KitChange) (api.Kit, error) {
	if (len(in.Withdraw) > 0 || len(in.Reinstate) > 0) && a.Role != rights.Operator {
		return api.Kit{}, refusal.New(refusal.NotAllowed, "which versions there are is for operators to decide").
			On("withdraw")
	}
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.Kit, error) {
		if err := usecase.LockKits(ctx, tx); err != nil {
			return api.Kit{}, err
		}
		before, err := s.kitView(ctx, tx.Queries, a, name)
		if err != nil {
			return before, err
		}
		if in.Plans != nil {
			if err := offer(ctx, tx, a, name, before.Plans, *in.Plans); err != nil {
				return before, err
			}
		}
		for _, versions := range []struct {
			list      []string
			withdrawn bool
		}{{in.Withdraw, true}, {in.Reinstate, false}} {
			for _, version := range versions.list {
				row, err := findVersion(ctx, tx.Queries, name, version)
				if err != nil {
					return before, err
				}
				if err := tx.WithdrawKit(ctx, db.WithdrawKitParams{ID: row.ID,
					Withdrawn: versions.withdrawn}); err != nil {
					return before, err
				}
			}
		}
		after, err := s.kitView(ctx, tx.Queries, a, name)
		if err != nil {
			return after, err
		}
		a.Summarize("change the kit %s", name)
		words := func(k api.Kit) map[string]any {
			out := map[string]any{"kit": k.Name, "plans": k.Plans}
			for _, v := range k.Versions {
				if v.Withdrawn {
					out["withdrawn"] = append(asList(out["withdrawn"]), v.Version)
				}
			}
			return out
		}
		return after, usecase.Record(ctx, tx, a, "kit.change", usecase.About("kit %s", name).Of(a.OwnerID()),
			words(before), words(after))
	})
}

func asList(v any) []string {
	list, _ := v.([]string)
	return list
}

// offer has exactly these plans offer a kit, of those that the actor may change.
//
// Refusals: NotFound.
func offer(ctx context.Context, tx store.Tx, a usecase.Actor, kit string, before, wanted []string) error {
	ids := func(list []string) ([]int64, error) {
		var out []int64
		for _, reference := range list {
			plan, err := usecase.FindPlan(ctx, tx.Queries, a, strings.TrimSpace(reference))
			if r := refusal.As(err); r != nil {
				return nil, r.On("plans")
			}
			if err != nil {
				return nil, err
			}
			out = append(out, plan.ID)
		}
		return out, nil
	}
	was, err := ids(before)
	if err != nil {
		return err
	}
	now, err := ids(wanted)
	if err != nil {
		return err
	}
	for _, id := range was {
		if !slices.Contains(now, id) {
			if err := tx.UnofferKit(ctx, db.UnofferKitParams{Kit: kit, PlanID: id}); err != nil {
				return err
			}
		}
	}
	for _, id := range now {
		if err := tx.OfferKit(ctx, db.OfferKitParams{Kit: kit, PlanID: id}); err != nil {
			return err
		}
	}
	return nil
}

// indexOf is where a version is in a list of those of a kit; -1 if it is not.
func indexOf(rows []db.Kit, version string) int {
	return slices.IndexFunc(rows, func(row db.Kit) bool {
		return kits.CheckVersion(version) == nil && kits.CompareVersions(row.Version, version) == 0
	})
}

// findVersion finds a version of a kit.
//
// Refusals: NotFound.
func findVersion(ctx context.Context, q *db.Queries, name, version string) (db.Kit, error) {
	rows, err := q.KitVersions(ctx, name)
	if err != nil {
		return db.Kit{}, err
	}
	at := indexOf(rows, version)
	if at < 0 {
		return db.Kit{}, usecase.NotFound("version", name+" "+version)
	}
	return rows[at], nil
}

// RemoveKit removes a version that no site has. With the last one, no plan offers the kit any more.
//
// Refusals: InUse, NotFound.
func (s *Service) RemoveKit(ctx context.Context, a usecase.Actor, name, version string) error {
	return usecase.Do(ctx, s.Base, a, func(tx store.Tx) error {
		if err := usecase.LockKits(ctx, tx); err != nil {
			return err
		}
		row, err := findVersion(ctx, tx.Queries, name, version)
		if err != nil {
			return err
		}
		a.Summarize("remove version %s of the kit %s", version, name)
		err = tx.RemoveKit(ctx, row.ID)
		if constraint := store.ViolatedConstraint(err); constraint != "" {
			return refusal.New(refusal.InUse, "sites have version %s of %s: bring them to another version, or "+
				"withdraw it, so that no other site gets it", version, name)
		}
		if err != nil {
			return err
		}
		left, err := tx.KitVersions(ctx, name)
		if err != nil {
			return err
		}
		if len(left) == 0 {
			if err := tx.UnofferEverywhere(ctx, name); err != nil {
				return err
			}
		}
		return usecase.Record(ctx, tx, a, "kit.withdraw", usecase.About("kit %s", name),
			map[string]any{"kit": name, "version": version}, nil)
	})
}

// offered lists the kits that an account's plan offers, with the versions that sites get, the
// newest first.
func offered(ctx context.Context, q *db.Queries, st entitlement.Entitlement) (map[string][]db.Kit, error) {
	names, err := q.OffersOfPlan(ctx, st.Account.PlanID)
	if err != nil {
		return nil, err
	}
	rows, err := q.Kits(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string][]db.Kit{}
	for _, row := range rows {
		if slices.Contains(names, row.Name) && !row.Withdrawn {
			out[row.Name] = append(out[row.Name], row)
		}
	}
	for _, list := range out {
		slices.SortFunc(list, func(x, y db.Kit) int { return kits.CompareVersions(y.Version, x.Version) })
	}
	return out, nil
}
