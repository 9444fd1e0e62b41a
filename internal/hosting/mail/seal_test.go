package mail_test

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/mail"
)

// What is sealed is judged by a library that is not ours.
func TestSeal(t *testing.T) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	public, err := x509.MarshalPKIXPublicKey(&key.PublicKey)
	require.NoError(t, err)
	record := "v=DKIM1; k=rsa; p=" + base64.StdEncoding.EncodeToString(public)
	seal := mail.Seal{Domain: "boats.example", Selector: "k1", Key: key, Server: "mx1.tern.test"}
	header := []mail.HeaderField{{Name: "Authentication-Results", Value: "mx1.tern.test;\r\n\tspf=pass " +
		"smtp.mailfrom=eve@x.test; arc=none"}, {Name: "Received", Value: "from x"}, {Name: "From",
		Value: "Eve <eve@x.test>"}, {Name: "Subject", Value: "Boats\r\n  and   more"}, {Name: "To",
		Value: "anna@boats.example"}}
	const body = "Dear  Anna, \r\n\r\nthe boat\t is here.\r\n\r\n\r\n"
	now := time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)
	text := func(header []mail.HeaderField) string {
		out := ""
		for _, h := range header {
			out += h.Name + ": " + h.Value + "\r\n"
		}
		return out + "\r\n" + body
	}
	set, err := seal.Fields(header, strings.NewReader(body), now)
	require.NoError(t, err)
	require.Len(t, set, 3)
	assert.Contains(t, set[2].Value, "i=1; mx1.tern.test; spf=pass smtp.mailfrom=eve@x.test; arc=none")
	assert.Contains(t, set[0].Value, "cv=none")
	once := append(set, header...)
	assert.Equal(t, "pass", arcVerdict(t, record, text(once)))

	t.Run("a second server goes on", func(t *testing.T) {
		next := mail.Seal{Domain: "boats.example", Selector: "k1", Key: key, Server: "mx2.tern.test"}
		came := append([]mail.HeaderField{{Name: "Authentication-Results", Value: "mx2.tern.test; spf=fail; arc=pass"}},
			once...)
		second, err := next.Fields(came, strings.NewReader(body), now)
		require.NoError(t, err)
		assert.Contains(t, second[0].Value, "i=2; a=rsa-sha256; cv=pass")
		assert.Equal(t, "pass", arcVerdict(t, record, text(append(second, came...))))
	})
	t.Run("it does not pass what it did not find to be whole", func(t *testing.T) {
		came := append([]mail.HeaderField{{Name: "Authentication-Results", Value: "mx1.other.test; arc=pass"}}, once...)
		second, err := seal.Fields(came, strings.NewReader(body), now)
		require.NoError(t, err)
		assert.Contains(t, second[0].Value, "cv=fail")
	})
	t.Run("a chain with a gap is not continued", func(t *testing.T) {
		for _, broken := range [][]mail.HeaderField{once[1:], append([]mail.HeaderField{once[0]}, once...),
			append([]mail.HeaderField{{Name: "ARC-Seal", Value: "i=x"}}, header...)} {
			second, err := seal.Fields(broken, strings.NewReader(body), now)
			require.NoError(t, err)
			assert.Empty(t, second)
		}
	})
	t.Run("a changed body is seen", func(t *testing.T) {
		assert.Equal(t, "fail", arcVerdict(t, record, text(once)+"more\r\n"))
	})
}

// arcVerdict is what dkimpy says of a message whose keys are all published by one record.
func arcVerdict(t *testing.T, record, message string) string {
	t.Helper()
	verify := exec.Command("/usr/bin/python3", "-c", `import dkim, sys
print(dkim.arc_verify(sys.stdin.buffer.read(), dnsfunc=lambda name, timeout=5: sys.argv[1].encode())[0].decode())`, record)
	verify.Stdin = strings.NewReader(message)
	out, err := verify.CombinedOutput()
	require.NoError(t, err, string(out))
	return strings.TrimSpace(string(out))
}

func FuzzSeal(f *testing.F) {
	key, err := rsa.GenerateKey(rand.Reader, 1024)
	if err != nil {
		f.Fatal(err)
	}
	f.Add("i=1; a=rsa-sha256", "x  y\r\n\r\n")
	f.Fuzz(func(t *testing.T, value, body string) {
		seal := mail.Seal{Domain: "boats.example", Selector: "k1", Key: key, Server: "mx1.tern.test"}
		for _, name := range []string{"ARC-Seal", "ARC-Message-Signature", "Authentication-Results", "From"} {
			_, err := seal.Fields([]mail.HeaderField{{Name: name, Value: value}}, strings.NewReader(body), time.Now())
			assert.NoError(t, err)
		}
	})
}
