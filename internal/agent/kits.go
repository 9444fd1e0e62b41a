package agent

import (
	"archive/tar"
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"victualler/internal/agent/asuser"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/manifest"
	"victualler/internal/render"
	"victualler/internal/sandbox"
)

// kitSite is a site that is worked on, by the manifest in force.
type kitSite struct {
	account manifest.Manifest
	site    manifest.Site
	// staged and before are beside the site's directory, relative to the home.
	staged, before string
}

// findKitSite finds the site; only those of accounts in force are worked on.
func (a *Agent) findKitSite(asked agentlink.KitSite) (kitSite, error) {
	m := a.state.last(asked.SignInName)
	if m == nil || m.AccountID != asked.AccountID || !m.HasHome() {
		return kitSite{}, fmt.Errorf("account %s is not here", asked.SignInName)
	}
	at := slices.IndexFunc(m.Sites, func(s manifest.Site) bool {
		return s.Domain.String() == asked.Domain && s.Root != ""
	})
	if at < 0 {
		return kitSite{}, fmt.Errorf("account %s has no site %s here", asked.SignInName, asked.Domain)
	}
	site := m.Sites[at]
	beside := path.Join(path.Dir(site.Root), fmt.Sprintf(".kit-%d", asked.Kit))
	return kitSite{account: *m, site: site, staged: beside + ".new", before: beside + ".before"}, nil
}

// KitFiles does one piece of work with the files of a site, as the account's user. While the site
// itself is changed, no apply of the account is on its way.
func (a *Agent) KitFiles(ctx context.Context, asked agentlink.KitFiles, archive io.Reader) (agentlink.KitTree, error) {
	k, err := a.findKitSite(asked.KitSite)
	if err != nil {
		return agentlink.KitTree{}, err
	}
	w := asuser.TreeWork{Home: k.account.HomePath(), Tree: k.site.Root, New: k.staged, Before: k.before,
		Paths: asked.Paths}
	alone := true
	switch asked.Do {
	case agentlink.KitStage:
		w.Do, w.Ignore, alone = asuser.Unpack, starterDigest(k), false
	case agentlink.KitStarter:
		w.Do, alone = asuser.Unpack, false
		if archive, err = starter(k); err != nil {
			return agentlink.KitTree{}, err
		}
	case agentlink.KitPlace:
		w.Do = asuser.Place
	case agentlink.KitCopy:
		w.Do, alone = asuser.Copy, false
	case agentlink.KitPatch:
		w.Do = asuser.Patch
	case agentlink.KitRestore:
		w.Do = asuser.Restore
	case agentlink.KitSettle:
		w.Do, alone = asuser.Discard, false
	case agentlink.KitInspect:
		w.Do, w.Ignore, alone = asuser.Look, starterDigest(k), false
	default:
		return agentlink.KitTree{}, fmt.Errorf("nobody knows how to %q files", asked.Do)
	}
	if alone {
		defer a.lock(k.account.SignInName)()
	}
	told, err := asuser.WorkOnTree(ctx, k.account.UID(), w, archive)
	return agentlink.KitTree{Digests: told.Digests, Other: told.Example}, err
}

// starterDigest is the digest of the page of a new site.
func starterDigest(k kitSite) string {
	sum := sha256.Sum256([]byte(render.StarterPage(k.account, k.site)))
	return hex.EncodeToString(sum[:])
}

// starter is an archive with the page of a new site.
func starter(k kitSite) (io.Reader, error) {
	var out bytes.Buffer
	w, text := tar.NewWriter(&out), render.StarterPage(k.account, k.site)
	err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: "index.html", Mode: 0o644, Size: int64(len(text))})
	if err == nil {
		_, err = io.WriteString(w, text)
	}
	return &out, errors.Join(err, w.Close())
}

// KitPHP tells whether the PHP of a site lacks an extension, and has it start: a kit's page is
// asked for when all is in place, and starting takes longer than that.
func (a *Agent) KitPHP(ctx context.Context, asked agentlink.KitPHP) (agentlink.KitOutcome, error) {
	var none agentlink.KitOutcome
	k, err := a.findKitSite(asked.KitSite)
	if err != nil || a.Confiner == nil {
		return none, err
	}
	version := render.PHPVersion(k.site)
	there, err := a.Confiner.PHPExtensions(ctx, version)
	if err != nil {
		return none, err
	}
	for _, e := range asked.Extensions {
		if !slices.Contains(there, strings.ToLower(e)) {
			return agentlink.KitOutcome{Failure: language.New("PHP has no extension %s here", e).Encode()}, nil
		}
	}
	a.Confiner.WakePHP(k.account.UID(), version)
	return none, nil
}

// KitRun runs a command in the account's sandbox and waits for its end. It has no input; all that
// it has started ends with it.
func (a *Agent) KitRun(ctx context.Context, asked agentlink.KitRun) (agentlink.KitOutcome, error) {
	var none agentlink.KitOutcome
	k, err := a.findKitSite(asked.KitSite)
	if err != nil {
		return none, err
	}
	if len(asked.Step.Run) == 0 {
		return none, errors.New("there is nothing to run")
	}
	dir := k.site.Root
	if asked.Staged {
		dir = k.staged
	}
	run := slices.Clone(asked.Step.Run)
	if run[0] == "php" {
		run[0] += k.site.Switches.PHPVersion // empty is the newest there is
	}
	ctx, cancel := context.WithTimeoutCause(ctx, asked.Step.Longest(), errTooLong)
	defer cancel()
	from, to, err := os.Pipe()
	if err != nil {
		return none, err
	}
	defer from.Close()
	ended := make(chan []byte, 1)
	go func() { ended <- endOf(from) }()
	// The directory is a parameter of the shell's, and no text that it reads.
	outcome, err := sandbox.Run(ctx, sandbox.Entry{Account: k.account.SignInName,
		Argv: append([]string{"sh", "-c", `cd -- "$1" && shift && exec "$@"`, "sh",
			path.Join(k.account.HomePath(), dir)}, run...)}, to)
	if errors.Is(err, errTooLong) {
		return agentlink.KitOutcome{Failure: language.New("it was ended after %d seconds",
			int(asked.Step.Longest().Seconds())).Encode(), Output: said(<-ended)}, nil
	}
	if err != nil {
		return none, err
	}
	switch {
	case outcome.Error != "" && outcome.Status == 255:
		return none, errors.New(outcome.Error)
	case outcome.Error != "":
		return agentlink.KitOutcome{Failure: language.New("it was %s", outcome.Error).Encode(), Output: said(<-ended)},
			nil
	case outcome.Status != 0:
		return agentlink.KitOutcome{Failure: language.New("it ended with status %d", outcome.Status).Encode(),
			Output: said(<-ended)}, nil
	}
	return none, nil
}

var errTooLong = errors.New("it takes too long")

// mostOutput is how many bytes of what a command has written are kept, from its end.
const mostOutput = 4 << 10

// endOf reads all, and keeps the end.
func endOf(from io.Reader) []byte {
	var kept []byte
	buffer := make([]byte, 32<<10)
	for {
		n, err := from.Read(buffer)
		kept = append(kept, buffer[:n]...)
		kept = bytes.Clone(kept[max(0, len(kept)-mostOutput):])
		if err != nil {
			return kept
		}
	}
}

// said is what a command has written, as text for people.
func said(output []byte) string {
	text := strings.ToValidUTF8(string(output), "�")
	return strings.TrimSpace(strings.Map(func(r rune) rune {
		if r < ' ' && r != '\n' && r != '\t' || r == 0x7f || r >= 0x80 && r < 0xa0 {
			return -1
		}
		return r
	}, text))
}

const (
	// longestCheck is how long a site may take to answer, and mostBody how many bytes of its answer
	// are read.
	longestCheck = 30 * time.Second
	mostBody     = 1 << 20
)

// KitCheck asks the server itself for a page of a site, as a visitor would, and follows it within
// the site.
func (a *Agent) KitCheck(ctx context.Context, asked agentlink.KitCheck) (agentlink.KitOutcome, error) {
	var none agentlink.KitOutcome
	k, err := a.findKitSite(asked.KitSite)
	if err != nil {
		return none, err
	}
	page, err := url.Parse("https://" + k.site.Domain.String() + asked.Check.Path)
	if err != nil {
		return none, err
	}
	names := k.site.Names()
	client := http.Client{Timeout: longestCheck, Transport: &http.Transport{DisableKeepAlives: true,
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, // it is this server, whoever has signed for it
		DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			host, port, err := net.SplitHostPort(address)
			if err != nil || !slices.Contains(names, host) || port != "80" && port != "443" {
				return nil, fmt.Errorf("%s is not this site", address)
			}
			return (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, network,
				net.JoinHostPort(a.Address.String(), port))
		}}}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, page.String(), nil)
	if err != nil {
		return none, err
	}
	failed := func(text language.Text) (agentlink.KitOutcome, error) {
		return agentlink.KitOutcome{Failure: text.Encode()}, nil
	}
	response, err := client.Do(request)
	if err != nil {
		return failed(language.New("%s does not answer: %s", asked.Check.Path, err.Error()))
	}
	defer response.Body.Close()
	if response.StatusCode != asked.Check.Wanted() {
		return failed(language.New("%s answers with status %d instead of %d", asked.Check.Path, response.StatusCode,
			asked.Check.Wanted()))
	}
	body, err := io.ReadAll(io.LimitReader(response.Body, mostBody))
	if err != nil {
		return failed(language.New("%s does not answer: %s", asked.Check.Path, err.Error()))
	}
	if !strings.Contains(string(body), asked.Check.Contains) {
		return failed(language.New("the answer to %s does not contain “%s”", asked.Check.Path, asked.Check.Contains))
	}
	return none, nil
}

// busyWith is work of which an account has one at a time.
type busyWith struct {
	account int64
	what    string
}

// alone lets one piece of a kind of work at a time be done in an account: each may read as much as
// there is. Whoever comes meanwhile is to try again.
func (a *Agent) alone(w http.ResponseWriter, with busyWith, do func()) {
	a.mu.Lock()
	busy := a.busy[with]
	a.busy[with] = true
	a.mu.Unlock()
	if busy {
		http.Error(w, "work with "+with.what+" is under way in this account", http.StatusServiceUnavailable)
		return
	}
	defer func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		delete(a.busy, with)
	}()
	do()
}

// kitRoutes are what the service asks about kits.
func (a *Agent) kitRoutes(mux *http.ServeMux) {
	mux.HandleFunc("POST /v1/kit/files", func(w http.ResponseWriter, r *http.Request) {
		// A line of JSON, and the archive behind it.
		body := bufio.NewReader(http.MaxBytesReader(w, r.Body, 1<<30))
		line, err := body.ReadBytes('\n')
		var asked agentlink.KitFiles
		if err = errors.Join(err, json.Unmarshal(line, &asked)); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		var archive io.Reader
		if asked.Do == agentlink.KitStage || asked.Do == agentlink.KitPatch {
			archive = body
		}
		a.alone(w, busyWith{asked.AccountID, "a kit"}, func() {
			told, err := a.KitFiles(r.Context(), asked, archive)
			answer(w, told, err)
		})
	})
	mux.HandleFunc("POST /v1/kit/run", func(w http.ResponseWriter, r *http.Request) {
		if asked, ok := read[agentlink.KitRun](w, r); ok {
			a.alone(w, busyWith{asked.AccountID, "a kit"}, func() {
				told, err := a.KitRun(r.Context(), asked)
				answer(w, told, err)
			})
		}
	})
	mux.HandleFunc("POST /v1/kit/php", func(w http.ResponseWriter, r *http.Request) {
		if asked, ok := read[agentlink.KitPHP](w, r); ok {
			told, err := a.KitPHP(r.Context(), asked)
			answer(w, told, err)
		}
	})
	mux.HandleFunc("POST /v1/kit/check", func(w http.ResponseWriter, r *http.Request) {
		if asked, ok := read[agentlink.KitCheck](w, r); ok {
			told, err := a.KitCheck(r.Context(), asked)
			answer(w, told, err)
		}
	})
}
