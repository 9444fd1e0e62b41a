package notices

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"victualler/internal/hosting/language"
)

func TestCertificateNotices(t *testing.T) {
	at := time.Date(2026, 12, 1, 8, 30, 0, 0, time.UTC)
	from := Sender{Title: "Tern Island"}
	n := CertificateEnds("en", from, Ending{Domain: "tern.example", At: at, Why: language.New("the harbour is shut")})
	assert.Equal(t, "The certificate of tern.example ends on 1 December 2026", n.Subject)
	assert.Contains(t, n.Text, "1 December 2026 at 08:30 UTC")
	assert.Contains(t, n.Text, "the harbour is shut. We go on trying")
	assert.Contains(t, CertificateEnds("de", from, Ending{Domain: "tern.example", At: at, Uploaded: true}).Text,
		"von Hand")
	assert.NotContains(t, CertificateEnds("en", from, Ending{Domain: "tern.example", At: at, Uploaded: true}).Text,
		"We go on trying")

	var many []Ending
	for k := range 60 {
		many = append(many, Ending{Domain: fmt.Sprintf("s%d.example", k), At: at, Why: language.New("x")})
	}
	n = CertificatesEnd("en", from, many)
	assert.Contains(t, n.Subject, "60 certificates")
	assert.Equal(t, mostListed, strings.Count(n.Text, ".example"))
	assert.Contains(t, n.Text, "and 10 more")
	assert.Contains(t, CertificatesEnd("de", from, many[:1]).Subject, "s0.example")
}
