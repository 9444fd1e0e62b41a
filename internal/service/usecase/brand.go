package usecase

import (
	"context"
	"encoding/json"

	"victualler/internal/api"
	"victualler/internal/hosting/brand"
	"victualler/internal/store/db"
)

// ReadBrand reads what a reseller chose for their brand.
func ReadBrand(row db.Reseller) (api.Brand, error) {
	var b api.Brand
	return b, json.Unmarshal(row.Brand, &b)
}

// BrandView shows a brand with the colours that follow from the chosen ones.
func BrandView(row db.Reseller) (api.BrandInForce, error) {
	b, err := ReadBrand(row)
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

// DefaultTitle is the title of an installation that has been given none.
const DefaultTitle = "Victualler"

// BrandFor returns the brand for somebody who belongs to a reseller; nil for anybody else.
func BrandFor(ctx context.Context, q *db.Queries, reseller int64) (*api.BrandInForce, error) {
	if reseller == 0 {
		return nil, nil
	}
	row, err := q.ResellerByID(ctx, reseller)
	if err != nil {
		return nil, err
	}
	v, err := BrandView(row)
	return &v, err
}
