package homes_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"victualler/internal/hosting/homes"
	"victualler/internal/hosting/language"
)

// Every kind is told in whole sentences, with the path where there is one, and with what to do.
func TestExplain(t *testing.T) {
	const path = "sites/ferries.example"
	for _, code := range []homes.Code{homes.Missing, homes.NotDirectory, homes.LinkLoop, homes.Link, homes.NotTheirs,
		homes.Closed, homes.NotMoved, homes.RawRefused, homes.ReadOnly, homes.Full, homes.TooManyFiles} {
		for _, part := range []string{"site", "login", "home"} {
			e := homes.Explain(part, code, path, "duplicate location in line 3")
			text := e.What.String() + e.Seen.String() + e.Mend.String()
			assert.NotContains(t, text, "%!", code)
			assert.NotContains(t, text, "Something is wrong", code)
			for _, sentence := range []string{e.What.String(), e.Seen.String(), e.Mend.String()} {
				if sentence != "" && code != homes.RawRefused && !strings.HasSuffix(sentence, path+".") {
					assert.True(t, strings.HasSuffix(sentence, "."), "%s: %q", code, sentence)
				}
			}
			assert.NotEmpty(t, e.Mend.String(), code)
		}
	}
	assert.Contains(t, homes.Explain("site", homes.RawRefused, "", "duplicate location").What.String(),
		"duplicate location")
	assert.Equal(t, "Visitors see “forbidden” (403).", homes.Explain("site", homes.NotTheirs, path, "").Seen.String())
	assert.Contains(t, homes.Explain("site", "unheard-of", path, "").What.String(), "unheard-of")
}

func ExampleExplain() {
	e := homes.Explain("site", homes.NotDirectory, "sites/ferries.example", "")
	fmt.Println(e.What)
	fmt.Println(e.Seen)
	fmt.Println(e.Mend)
	// Output:
	// sites/ferries.example, or something on the way to it, is a file and not a directory.
	// Visitors see “not found” (404).
	// Remove or rename the file, and make the directory sites/ferries.example.
}

func TestLimitMet(t *testing.T) {
	e := homes.LimitMet(homes.MemoryMet, 1, language.New("1G"))
	assert.Equal(t,
		"A process was ended once in the last day: all together needed more memory than the 1G of the plan.",
		e.What.String())
	assert.Contains(t, homes.LimitMet(homes.ProcessesMet, 12, language.New("100")).What.String(),
		"Processes could not be started 12 times in the last day")
	assert.Contains(t, homes.LimitMet(homes.CPUMet, 90, language.Plain("100%")).What.String(), "for 90 seconds")
	assert.Contains(t, homes.LimitMet(homes.CPUMet, 600, language.Plain("100%")).What.String(),
		"for 10 minutes in the last day: the plan has 100% of")
}

func TestFailedSignIns(t *testing.T) {
	assert.Contains(t, homes.FailedSignIns("info@boats.example", 120, 1).What.String(), "all from one address")
	assert.Contains(t, homes.FailedSignIns("info@boats.example", 120, 7).What.String(), "from 7 addresses")
}
