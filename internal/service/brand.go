package service

import (
	"context"
	"encoding/json"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/brand"
	"victualler/internal/hosting/refusal"
	"victualler/internal/manifest"
	"victualler/internal/store"
	"victualler/internal/store/db"
)

func readBrand(row db.Reseller) (api.Brand, error) {
	var b api.Brand
	return b, json.Unmarshal(row.Brand, &b)
}

func brandView(row db.Reseller) (api.BrandInForce, error) {
	b, err := readBrand(row)
	v := api.BrandInForce{Brand: b, Version: row.Version}
	if bar, ok := brand.ParseColour(b.Bar); ok {
		text, _ := brand.OnBar(bar)
		v.OnBar = text.String()
	}
	if accent, ok := brand.ParseColour(b.Accent); ok {
		v.DarkAccent = brand.OnDark(accent).String()
	}
	if row.Logo != nil {
		v.Logo = "/api/v1/resellers/" + row.Name + "/brand/logo"
	}
	return v, err
}

// Brand returns how a reseller looks to their customers.
func (s *Service) Brand(ctx context.Context, a Actor, name string) (api.BrandInForce, error) {
	row, err := s.findReseller(ctx, s.store.Queries, a, name)
	if err != nil {
		return api.BrandInForce{}, err
	}
	return brandView(row)
}

// KeepBrand replaces how a reseller looks, but for the logo. Version is the one the caller has seen, or 0.
func (s *Service) KeepBrand(ctx context.Context, a Actor, name string, version int64, in api.Brand) (api.BrandInForce, error) {
	in.Title, in.Footer, in.SenderName = oneLine(in.Title), strings.TrimSpace(in.Footer), oneLine(in.SenderName)
	in.Bar, in.Accent = strings.ToLower(in.Bar), strings.ToLower(in.Accent)
	if err := brand.CheckColours(in.Bar, in.Accent); err != nil {
		return api.BrandInForce{}, err
	}
	if _, err := mailAddress("sender", in.Sender); err != nil {
		return api.BrandInForce{}, err
	}
	return change(ctx, s, a, func(tx store.Tx) (api.BrandInForce, error) {
		none := api.BrandInForce{}
		row, err := s.lockReseller(ctx, tx, a, name)
		if err != nil {
			return none, err
		}
		if err := unchanged("the brand", version, row.Version); err != nil {
			return none, err
		}
		before, err := readBrand(row)
		if err != nil {
			return none, err
		}
		text, err := json.Marshal(in)
		if err != nil {
			return none, err
		}
		after, err := tx.KeepBrand(ctx, db.KeepBrandParams{ID: row.ID, Brand: text})
		if err != nil {
			return none, err
		}
		a.say("change the brand of %s", name)
		if err := record(ctx, tx, a, "brand.change", aboutReseller(row), before, in); err != nil {
			return none, err
		}
		out, err := brandView(after)
		if err != nil || before.Title == in.Title && before.Footer == in.Footer && before.Accent == in.Accent {
			return out, err
		}
		// Their servers show it on pages of their own.
		accounts, err := tx.AccountsOfOwner(ctx, &row.ID)
		if err != nil {
			return none, err
		}
		out.Operation, err = s.applyAll(ctx, tx, a, "brand.change", aboutReseller(row), accounts)
		return out, err
	})
}

// KeepLogo replaces a reseller's logo; none takes it away.
func (s *Service) KeepLogo(ctx context.Context, a Actor, name string, image []byte) error {
	var kept []byte
	var mediaType *string
	if len(image) > 0 {
		clean, t, err := brand.Logo(image)
		if err != nil {
			return err
		}
		kept, mediaType = clean, &t
	}
	return do(ctx, s, a, func(tx store.Tx) error {
		row, err := s.lockReseller(ctx, tx, a, name)
		if err != nil {
			return err
		}
		if _, err := tx.KeepLogo(ctx, db.KeepLogoParams{ID: row.ID, Logo: kept, LogoType: mediaType}); err != nil {
			return err
		}
		a.say("change the logo of %s", name)
		describe := func(image []byte, t *string) any {
			if t == nil {
				return nil
			}
			return map[string]any{"logo": *t, "bytes": len(image)}
		}
		return record(ctx, tx, a, "brand.logo", aboutReseller(row), describe(row.Logo, row.LogoType), describe(kept, mediaType))
	})
}

// Logo returns a reseller's logo. Anybody may see it: it stands where their customers sign in.
func (s *Service) Logo(ctx context.Context, name string) (image []byte, mediaType string, err error) {
	row, err := s.findReseller(ctx, s.store.Queries, Actor{}, name)
	if err != nil {
		return nil, "", err
	}
	if row.LogoType == nil {
		return nil, "", refusal.New(refusal.NotFound, "%s has no logo", name)
	}
	return row.Logo, *row.LogoType, nil
}

// The brand of the pages that servers show: the reseller's, or the installation's title.
// BrandPart is what pages look like that the server shows in the place of a site's own.
func (s *Service) BrandPart() Part {
	return Part{Name: "brand", Fill: func(ctx context.Context, q *db.Queries, st standing, m *Manifests) error {
		home := m.Home()
		if st.account.ResellerID == nil {
			settings, err := q.Settings(ctx)
			if settings.Title != unnamed {
				home.Brand.Title = settings.Title
			}
			return err
		}
		row, err := q.ResellerByID(ctx, *st.account.ResellerID)
		if err != nil {
			return err
		}
		b, err := readBrand(row)
		home.Brand = manifest.Brand{Title: b.Title, Footer: b.Footer, Accent: b.Accent}
		return err
	}}
}

// unnamed is the title of an installation that has been given none.
const unnamed = "Victualler"

// brandFor returns the brand for somebody who belongs to a reseller; nil for anybody else.
func brandFor(ctx context.Context, q *db.Queries, reseller int64) (*api.BrandInForce, error) {
	if reseller == 0 {
		return nil, nil
	}
	row, err := q.ResellerByID(ctx, reseller)
	if err != nil {
		return nil, err
	}
	v, err := brandView(row)
	return &v, err
}
