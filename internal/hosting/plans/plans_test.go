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
	for text, want := range map[string]int64{"500M": 500 * MiB, "20G": 20 * GiB, "1.5T": 3 * TiB / 2, "1k": KiB,
		" 2 GiB ": 2 * GiB, "3GB": 3 * GiB, "0": 0, "0.5K": 512} {
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
	_, err = ParseSize("256")
	assert.ErrorContains(t, err, "256 what? write 256M or 256G")
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
	assert.ElementsMatch(t, []string{"name", "limits.disk", "limits.bounce_share", "limits.colour", "features.sauna"},
		at)
}

func TestWarnings(t *testing.T) {
	fields := func(limits Limits, features Features) []string {
		p, err := NewPlan("skiff", limits, features)
		require.NoError(t, err)
		names := []string{}
		for _, w := range p.Warnings() {
			names = append(names, w.Name)
		}
		return names
	}
	sound := Limits{Disk: Of(500 * MiB), Files: Of(50_000), Domains: Of(1), PHPWorkers: Of(2)}
	with := func(key Key, a Amount) Limits {
		l := Limits{}
		for k, v := range sound {
			l[k] = v
		}
		l[key] = a
		return l
	}
	assert.Empty(t, fields(sound, nil))
	for name, c := range map[string]struct {
		limits   Limits
		features Features
	}{
		"limits.disk":         {with(Disk, Of(MiB)), nil},
		"limits.domains":      {with(Domains, Of(0)), nil},
		"limits.files":        {with(Files, Of(10)), nil},
		"limits.mailbox_size": {with(MailboxSize, Of(GiB)), nil},
		"limits.php_workers":  {with(PHPWorkers, Of(0)), nil},
		"limits.databases":    {with(Databases, Of(3)), nil},
		"features.databases":  {sound, Features{"databases": true}},
		"features.wildcard":   {sound, Features{"wildcard": true, "dns": true}},
		"features.dnssec":     {sound, Features{"dnssec": true}},
		"limits.tasks":        {with(Tasks, Unlimited), nil},
		"limits.sends_per_hour": {Limits{Disk: Of(GiB), Files: Unlimited, Domains: Of(1), PHPWorkers: Of(1),
			Mailboxes: Of(1), MailboxSize: Of(MiB)}, Features{"mail": true}},
	} {
		assert.Equal(t, []string{name}, fields(c.limits, c.features), name)
	}
	assert.Empty(t, fields(with(MailboxSize, Unlimited), nil), "an unlimited mailbox is bounded by the disk")
}

func TestWithChangesOnlyWhatIsNamed(t *testing.T) {
	p, err := NewPlan("skiff", Limits{Disk: Of(GiB), Domains: Of(3)}, Features{"mail": true, "dns": true})
	require.NoError(t, err)
	q, err := p.With("", Limits{Domains: Unlimited}, Features{"mail": false})
	require.NoError(t, err)
	assert.Equal(t, "skiff", q.Name)
	assert.Equal(t, Of(GiB), q.Limits[Disk])
	assert.Equal(t, Unlimited, q.Limits[Domains])
	assert.False(t, q.Features["mail"])
	assert.True(t, q.Features["dns"])
	assert.Equal(t, Of(3), p.Limits[Domains], "the plan itself stays")
}

func TestCompareMarksDifferences(t *testing.T) {
	a, err := NewPlan("aa", Limits{Disk: Of(1), Domains: Of(2)}, Features{"mail": true})
	require.NoError(t, err)
	b, err := NewPlan("bb", Limits{Disk: Unlimited, Domains: Of(2)}, nil)
	require.NoError(t, err)
	var differ []string
	rows := Compare([]Plan{a, b, a})
	for _, row := range rows {
		if row.Differs && row.Limit != nil {
			differ = append(differ, string(row.Limit.Key))
			assert.Equal(t, []Amount{Of(1), Unlimited, Of(1)}, row.Amounts)
		} else if row.Differs {
			differ = append(differ, string(row.Feature))
			assert.Equal(t, []bool{true, false, true}, row.On)
		}
	}
	assert.Equal(t, []string{"disk", "mail"}, differ)
	assert.Len(t, rows, len(AllLimits)+len(AllFeatures))
}
