package selling

import (
	"context"
	"encoding/json"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/brand"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/usecase"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

// Brand returns how a reseller looks to their customers.
//
// Refusals: NotFound.
func (s *Service) Brand(ctx context.Context, a usecase.Actor, name string) (api.BrandInForce, error) {
	row, err := usecase.FindReseller(ctx, s.Store.Queries, a, name)
	if err != nil {
		return api.BrandInForce{}, err
	}
	return usecase.BrandView(row)
}

// ChangeBrand replaces how a reseller looks, but for the logo. Version
// is the one the caller has seen, or 0.
//
// Refusals: ApplyFailed, Changed, InvalidInput, NotFound, ServerUnreachable.
// Locks: the reseller.
func (s *Service) ChangeBrand(ctx context.Context, a usecase.Actor, name string, version int64,
	in api.Brand) (api.BrandInForce, error) {
	in.Title, in.Footer, in.SenderName = usecase.OneLine(in.Title), strings.TrimSpace(in.Footer),
		usecase.OneLine(in.SenderName)
	in.Bar, in.Accent = strings.ToLower(in.Bar), strings.ToLower(in.Accent)
	if err := brand.CheckColours(in.Bar, in.Accent); err != nil {
		return api.BrandInForce{}, err
	}
	if _, err := usecase.MailAddress("sender", in.Sender); err != nil {
		return api.BrandInForce{}, err
	}
	return usecase.Change(ctx, s.Base, a, func(tx store.Tx) (api.BrandInForce, error) {
		none := api.BrandInForce{}
		row, err := usecase.LockReseller(ctx, tx, a, name)
		if err != nil {
			return none, err
		}
		if err := usecase.CheckVersion("the brand", version, row.Version); err != nil {
			return none, err
		}
		before, err := usecase.ReadBrand(row)
		if err != nil {
			return none, err
		}
		text, err := json.Marshal(in)
		if err != nil {
			return none, err
		}
		after, err := tx.SaveBrand(ctx, db.SaveBrandParams{ID: row.ID, Brand: text})
		if err != nil {
			return none, err
		}
		a.Summarize("change the brand of %s", name)
		if err := usecase.Record(ctx, tx, a, "brand.change", usecase.AboutReseller(row), before, in); err != nil {
			return none, err
		}
		out, err := usecase.BrandView(after)
		if err != nil || before.Title == in.Title && before.Footer == in.Footer && before.Accent == in.Accent {
			return out, err
		}
		// Their servers show it on pages of their own.
		accounts, err := tx.AccountsOfOwner(ctx, &row.ID)
		if err != nil {
			return none, err
		}
		out.Operation, err = s.rollout.ApplyAccounts(ctx, tx, a, "brand.change", usecase.AboutReseller(row), accounts)
		return out, err
	})
}

// ChangeLogo replaces a reseller's logo; none takes it away.
//
// Refusals: InvalidInput, NotFound.
// Locks: the reseller.
func (s *Service) ChangeLogo(ctx context.Context, a usecase.Actor, name string, image []byte) error {
	var kept []byte
	var mediaType *string
	if len(image) > 0 {
		clean, t, err := brand.Logo(image)
		if err != nil {
			return err
		}
		kept, mediaType = clean, &t
	}
	return usecase.Do(ctx, s.Base, a, func(tx store.Tx) error {
		row, err := usecase.LockReseller(ctx, tx, a, name)
		if err != nil {
			return err
		}
		if _, err := tx.SaveLogo(ctx, db.SaveLogoParams{ID: row.ID, Logo: kept, LogoType: mediaType}); err != nil {
			return err
		}
		a.Summarize("change the logo of %s", name)
		describe := func(image []byte, t *string) any {
			if t == nil {
				return nil
			}
			return map[string]any{"logo": *t, "bytes": len(image)}
		}
		return usecase.Record(ctx, tx, a, "brand.logo", usecase.AboutReseller(row), describe(row.Logo, row.LogoType),
			describe(kept, mediaType))
	})
}

// Logo returns a reseller's logo. Anybody may see it: it is shown where their customers sign in.
//
// Refusals: NotFound.
func (s *Service) Logo(ctx context.Context, name string) (image []byte, mediaType string, err error) {
	row, err := usecase.FindReseller(ctx, s.Store.Queries, usecase.Actor{}, name)
	if err != nil {
		return nil, "", err
	}
	if row.LogoType == nil {
		return nil, "", refusal.New(refusal.NotFound, "%s has no logo", name)
	}
	return row.Logo, *row.LogoType, nil
}
