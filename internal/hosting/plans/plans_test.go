package plans

import (
	"encoding/json"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"victualler/internal/hosting/refusal"
)

func TestParseSize(t *testing.T) {
	for text, want := range map[string]int64{"500M": 500 * MiB, "20G": 20 * GiB, "1.5T": 3 * TiB / 2, "1k": KiB, " 2 GiB ": 2 * GiB, "3GB": 3 * GiB, "0": 0, "0.5K": 512} {
		got, err := ParseSize(text)
		if assert.NoError(t, err, text) {
			assert.Equal(t, want, got, text)
		}
	}
	for _, text := range []string{"", "G", "x", "-1G", "20480", "1e3G", "999999999T", "NaNG", "InfG", "1.2.3G", "+5G"} {
		_, err := ParseSize(text)
		assert.Error(t, err, text)
	}
	_, err := ParseSize("20480")
	assert.ErrorContains(t, err, "20480 what? write 20480M or 20G")
}

func TestSizesReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.Int64Range(KiB, 1<<50).Draw(t, "bytes")
		back, err := ParseSize(FormatSize(n))
		if err != nil {
			t.Fatal(err)
		}
		if off := math.Abs(float64(back-n)) / float64(n); off > 0.06 {
			t.Fatalf("%d is written %s and read as %d", n, FormatSize(n), back)
		}
	})
	assert.Equal(t, "500M", FormatSize(500*MiB))
	assert.Equal(t, "1.5G", FormatSize(3*GiB/2))
	assert.Equal(t, "17B", FormatSize(17))
}

func TestAmountsInJSON(t *testing.T) {
	var l Limits
	require.NoError(t, json.Unmarshal([]byte(`{"disk": 5, "files": null}`), &l))
	assert.Equal(t, Limits{Disk: Of(5), Files: Unlimited}, l)
	text, err := json.Marshal(l)
	require.NoError(t, err)
	assert.JSONEq(t, `{"disk": 5, "files": null}`, string(text))
}

func TestNewPlan(t *testing.T) {
	p, err := NewPlan("harbour", Limits{Disk: Of(5 * GiB)}, Features{"mail": true})
	require.NoError(t, err)
	assert.Len(t, p.Limits, len(AllLimits), "every limit has an amount")
	assert.Equal(t, Of(0), p.Limits[Domains])
	assert.True(t, p.Features["mail"])
	assert.Contains(t, p.Features, Feature("dns"))

	_, err = NewPlan("Big Plan", Limits{Disk: Of(-1), BounceShare: Of(101), "colour": Of(1)}, Features{"sauna": true})
	r := refusal.As(err)
	require.NotNil(t, r)
	var at []string
	for _, f := range r.Fields {
		at = append(at, f.Name)
	}
	assert.ElementsMatch(t, []string{"name", "limits.disk", "limits.bounce_share", "limits.colour", "features.sauna"}, at)
}

func TestAdmit(t *testing.T) {
	p, err := NewPlan("skiff", Limits{Domains: Of(2), Disk: Unlimited}, nil)
	require.NoError(t, err)
	a := AllowanceOf(p)
	assert.NoError(t, a.Admit(Domains, 1, 1))
	assert.NoError(t, a.Admit(Disk, 1<<50, 1<<50))
	r := refusal.As(a.Admit(Domains, 2, 1))
	require.NotNil(t, r)
	assert.Equal(t, refusal.LimitReached, r.Kind)
	assert.Equal(t, refusal.Limit{Key: "domains", Value: 2, Used: 2, Source: "plan skiff", RaisedBy: "an operator, by changing the plan"}, *r.Limit)
	assert.Contains(t, r.Detail, "2 allowed by plan skiff, 2 used, 1 more asked for")
}
