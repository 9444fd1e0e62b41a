package agentlink

import (
	"bytes"
	"context"
	"encoding/json"
	"io"

	"victualler/internal/hosting/kits"
)

// KitSite is the site that a kit is put on, or taken from, and the number of that kit there: what
// is in the way meanwhile has its name from it.
type KitSite struct {
	AccountID  int64  `json:"account_id"`
	SignInName string `json:"sign_in_name"`
	Domain     string `json:"domain"`
	Kit        int64  `json:"kit"`
}

// What is done with the files of a site.
const (
	// KitStage puts a kit's files beside the site, where nobody is served them, and tells what is
	// in the site.
	KitStage = "stage"
	// KitStarter puts the page of a new site there instead.
	KitStarter = "starter"
	// KitPlace has them take the place of the site's, which are kept beside it.
	KitPlace = "place"
	// KitCopy makes a copy of the site's files beside it.
	KitCopy = "copy"
	// KitPatch puts files over the site's, and takes others away.
	KitPatch = "patch"
	// KitRestore brings back what was kept or copied, and takes away what was put there.
	KitRestore = "restore"
	// KitSettle takes away what was kept or copied.
	KitSettle = "settle"
	// KitInspect tells what is in the site.
	KitInspect = "inspect"
)

// KitFiles is one piece of work with the files of a site. Each can be repeated, wherever it was cut
// off.
type KitFiles struct {
	KitSite
	Do string `json:"do"`
	// Paths are files of the site: those to be looked at, or taken away.
	Paths []string `json:"paths,omitempty"`
}

// KitTree is what is in a site.
type KitTree struct {
	// Digests are of the paths that were asked about and are plain files: SHA-256 in hexadecimal
	// digits.
	Digests map[string]string `json:"digests"`
	// Other is a file that was not asked about, if there is any beside the page of a new site.
	Other string `json:"other,omitempty"`
}

// KitRun is a command to be run in the sandbox of the account, in the directory of a site or of
// what is staged beside it.
type KitRun struct {
	KitSite
	Staged bool      `json:"staged"`
	Step   kits.Step `json:"step"`
}

// KitPHP asks whether the PHP of a site has these extensions.
type KitPHP struct {
	KitSite
	Extensions []string `json:"extensions"`
}

// KitCheck is a request to a site, and what has to come back.
type KitCheck struct {
	KitSite
	Check kits.Check `json:"check"`
}

// KitOutcome is what has come of a command or of a check. Failure is in words, as
// language.Text.Encode writes it; empty where all is well.
type KitOutcome struct {
	Failure string `json:"failure,omitempty"`
	// Output is the end of what a failed command has written.
	Output string `json:"output,omitempty"`
}

// KitFiles does one piece of work with the files of a site; archive is what is staged or patched
// (tar), and nil otherwise.
func (c *Client) KitFiles(ctx context.Context, w KitFiles, archive io.Reader) (KitTree, error) {
	var told KitTree
	text, err := json.Marshal(w)
	if err != nil {
		return told, err
	}
	// A line of JSON, and the archive behind it.
	var body io.Reader = bytes.NewReader(append(text, '\n'))
	if archive != nil {
		body = io.MultiReader(body, archive)
	}
	response, err := c.post(ctx, "/v1/kit/files", body)
	if err != nil {
		return told, err
	}
	return told, decode(response, &told)
}

// KitRun runs a command in a sandbox, and waits for its end.
func (c *Client) KitRun(ctx context.Context, run KitRun) (KitOutcome, error) {
	var told KitOutcome
	return told, c.call(ctx, "/v1/kit/run", run, &told)
}

// KitPHP asks about the PHP of a site, which is started meanwhile.
func (c *Client) KitPHP(ctx context.Context, asked KitPHP) (KitOutcome, error) {
	var told KitOutcome
	return told, c.call(ctx, "/v1/kit/php", asked, &told)
}

// KitCheck asks a site whether it works.
func (c *Client) KitCheck(ctx context.Context, check KitCheck) (KitOutcome, error) {
	var told KitOutcome
	return told, c.call(ctx, "/v1/kit/check", check, &told)
}
