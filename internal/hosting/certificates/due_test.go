package certificates_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"victualler/internal/hosting/certificates"
)

func TestDue(t *testing.T) {
	now := time.Date(2031, 5, 1, 12, 0, 0, 0, time.UTC)
	in := func(d time.Duration) time.Time { return now.Add(d) }
	names := []string{"tern.example", "www.tern.example"}
	issued := func(renew time.Duration, names ...string) *certificates.Newest {
		return &certificates.Newest{Names: names, NotAfter: in(90 * 24 * time.Hour), RenewAt: in(renew)}
	}
	brought := func(left time.Duration) *certificates.Newest {
		return &certificates.Newest{Names: names, Uploaded: true, NotAfter: in(left)}
	}
	const automatic, uploaded, selfSigned = certificates.Automatic, certificates.Uploaded, certificates.SelfSigned
	for name, c := range map[string]struct {
		mode   certificates.Mode
		newest *certificates.Newest
		want   certificates.Cause
		next   time.Time
	}{
		"none yet": {automatic, nil, certificates.First, in(time.Hour)},
		"good": {automatic, issued(time.Minute, names...), certificates.NotDue,
			in(time.Minute)},
		"at its time": {automatic, issued(0, names...), certificates.Renewal, now},
		"long past its time": {automatic, issued(-time.Hour, names...), certificates.Renewal,
			in(-time.Hour)},
		"never renewed": {automatic, &certificates.Newest{Names: names}, certificates.NotDue,
			time.Time{}},
		"a name is missing": {automatic, issued(48*time.Hour, names[0]), certificates.MoreNames,
			in(time.Hour)},
		"missing, and soon renewed": {automatic, issued(time.Minute, names[0]), certificates.MoreNames,
			in(time.Minute)},
		"missing, and its time is here": {automatic, issued(0, names[0]), certificates.Renewal, now},
		"for more names than wanted": {automatic, issued(time.Minute, "x.example", names[0], names[1]), "",
			in(time.Minute)},
		"brought, but now automatic":  {automatic, brought(time.Hour), certificates.First, in(time.Hour)},
		"brought, and long good":      {uploaded, brought(25 * time.Hour), certificates.NotDue, in(time.Hour)},
		"brought, with a day left":    {uploaded, brought(24 * time.Hour), certificates.Replacement, now},
		"brought, and ended":          {uploaded, brought(-time.Hour), certificates.Replacement, in(-25 * time.Hour)},
		"brought, and gone":           {uploaded, nil, certificates.NotDue, time.Time{}},
		"self-signed":                 {selfSigned, nil, certificates.NotDue, time.Time{}},
		"self-signed after an issued": {selfSigned, issued(-time.Hour, names...), certificates.NotDue, time.Time{}},
	} {
		t.Run(name, func(t *testing.T) {
			s := certificates.Site{Mode: c.mode, Names: names, Newest: c.newest}
			assert.Equal(t, c.want, s.Due(now))
			assert.Equal(t, c.next, s.Next(now))
		})
	}
}

// A certificate is ordered as soon as one is missing, has come to its time, or lacks a name.
func ExampleSite_Due() {
	now := time.Date(2031, 5, 1, 12, 0, 0, 0, time.UTC)
	site := certificates.Site{Mode: certificates.Automatic, Names: []string{"tern.example", "www.tern.example"},
		Newest: &certificates.Newest{Names: []string{"tern.example"}, RenewAt: now.Add(24 * time.Hour)}}
	fmt.Println(site.Due(now), site.Missing())
	fmt.Println(site.Due(now.Add(25 * time.Hour)))
	// Output:
	// more-names [www.tern.example]
	// renewal
}
