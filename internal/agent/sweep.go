package agent

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/pmezard/go-difflib/difflib"

	"victualler/internal/agent/sitelog"
	"victualler/internal/agent/staging"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/manifest"
)

// Sweep compares every account's manifest in force with what is found on the
// server, and changes nothing.
func (a *Agent) Sweep(ctx context.Context) (agentlink.Sweep, error) {
	sweep := agentlink.Sweep{Accounts: []agentlink.AccountState{}, Strays: []agentlink.Drift{},
		Server: a.state.server().Digest()}
	used, err := a.Meter.Measure(ctx, a.state.all())
	if err != nil {
		a.Log.Warn("disk use not measured", "reason", err)
	}
	loads := map[string]agentlink.Load{}
	if a.Confiner != nil {
		if loads, err = a.Confiner.Loads(ctx); err != nil {
			a.Log.Warn("what runs for accounts is not measured", "reason", err)
		}
	}
	there, err := a.committer.owned()
	if err != nil {
		return sweep, err
	}
	for _, name := range a.state.names() {
		m, drift, err := a.compare(ctx, name, there)
		if err != nil {
			return sweep, err
		}
		if m == nil {
			continue
		}
		account := agentlink.AccountState{AccountID: m.AccountID, SignInName: m.SignInName, Revision: m.Revision,
			Wanted: m.Wanted, Drift: drift, Warnings: a.warnings(*m)}
		if usage, known := used[m.SignInName]; known && (m.HasHome() || m.HasMail()) {
			account.Usage = &usage
		}
		if load, known := loads[m.SignInName]; known && m.HasHome() {
			account.Load = &load
		}
		if a.Databases != nil {
			if account.Databases = a.Databases.Sizes(*m); m.Databases != nil {
				account.DatabaseLimit = m.Databases.SizeLimit
			}
		}
		sweep.Accounts = append(sweep.Accounts, account)
	}
	sweep.Strays, err = a.strays()
	return sweep, err
}

// compare returns the manifest in force under a name, and what is found otherwise. Of an account
// that is just being worked on, nothing is told: it is between two manifests. Two sweeps at once
// see the same.
func (a *Agent) compare(ctx context.Context, name string, there owned) (*manifest.Manifest, []agentlink.Drift, error) {
	l := a.mutex(name)
	free := l.TryRLock()
	if free {
		defer l.RUnlock()
	}
	m := a.state.last(name)
	if m == nil || !free {
		return m, []agentlink.Drift{}, nil
	}
	drift, err := a.drift(ctx, *m, there)
	if err != nil && ctx.Err() != nil {
		return nil, nil, err
	}
	if err != nil { // one account keeps nobody from looking at the others
		drift = append(drift, agentlink.Drift{Part: "agent", Subject: m.SignInName,
			Detail: language.New("could not be compared: %s", err.Error()).Encode()})
	}
	return m, drift, nil
}

// Preview compares m, which need not be in force, with what is found.
func (a *Agent) Preview(ctx context.Context, m manifest.Manifest) (agentlink.Preview, error) {
	if err := m.Validate(); err != nil {
		return agentlink.Preview{}, err
	}
	if err := admit(m, a.state.last(m.SignInName)); err != nil {
		return agentlink.Preview{}, err
	}
	m = a.withVisits(m)
	drift, err := a.drift(ctx, m, nil)
	preview := agentlink.Preview{Changes: drift, Steps: []string{}}
	last := a.state.last(m.SignInName)
	for _, r := range a.Resources {
		if r.Concerns(m) || last != nil && r.Concerns(*last) {
			preview.Steps = append(preview.Steps, r.Name())
		}
	}
	var programs []string
	for _, p := range a.Programs {
		if len(p.Files(m)) > 0 || last != nil && len(p.Files(*last)) > 0 {
			programs = append(programs, p.Name())
		}
	}
	for _, c := range a.Contents {
		if c.Concerns(m) || last != nil && c.Concerns(*last) {
			programs = append(programs, c.Name())
		}
	}
	if m.Wanted == manifest.Absent {
		slices.Reverse(preview.Steps)
		preview.Steps = append(programs, preview.Steps...)
	} else {
		preview.Steps = append(preview.Steps, programs...)
	}
	preview.Steps = append(preview.Steps, verifyStep)
	return preview, err
}

// drift lists the differences between m and what is found, resources first.
func (a *Agent) drift(ctx context.Context, m manifest.Manifest, there owned) ([]agentlink.Drift, error) {
	drifts := []agentlink.Drift{}
	for _, r := range a.Resources {
		found, err := r.Check(ctx, m)
		if err != nil {
			return nil, err
		}
		drifts = append(drifts, found...)
	}
	different, err := a.committer.differences(m, there)
	if err != nil {
		return nil, err
	}
	for _, p := range a.Programs {
		for _, f := range different[p] {
			drifts = append(drifts, fileDrift(p.Name(), f))
		}
	}
	for _, c := range a.Contents {
		found, err := c.Check(ctx, m)
		if err != nil {
			return nil, err
		}
		drifts = append(drifts, found...)
	}
	return drifts, nil
}

// fileDrift describes a file that is not as it should be, as a unified diff from what is found to
// what is wanted. What is to go has none, as it may hold a secret.
func fileDrift(part string, wanted staging.Change) agentlink.Drift {
	found, err := os.ReadFile(wanted.Path)
	d := agentlink.Drift{Part: part, Subject: wanted.Path, Detail: language.New("has been changed").Encode()}
	switch {
	case wanted.File == nil:
		d.Detail = language.New("should not be there").Encode()
		return d
	case errors.Is(err, fs.ErrNotExist):
		d.Detail = language.New("is missing").Encode()
	}
	if !wanted.File.Secret {
		d.Diff, _ = difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: lines(string(found)),
			B: lines(wanted.File.Content), FromFile: "found", ToFile: "wanted", Context: 3})
	}
	return d
}

// lines parts a text into lines that all end in a newline.
func lines(text string) []string {
	if text == "" {
		return nil
	}
	list := strings.SplitAfter(strings.TrimSuffix(text, "\n"), "\n")
	list[len(list)-1] += "\n"
	return list
}

// SiteLog returns a part of a site's access log. Only sites of accounts in force have one.
func (a *Agent) SiteLog(ctx context.Context, asked agentlink.LogRequest) (agentlink.LogPage, error) {
	m := a.state.last(asked.SignInName)
	if m == nil || m.AccountID != asked.AccountID || !slices.ContainsFunc(m.Sites, func(s manifest.Site) bool {
		return s.Domain.String() == asked.Domain
	}) {
		return agentlink.LogPage{}, fmt.Errorf("account %s has no site %s here", asked.SignInName, asked.Domain)
	}
	ctx, cancel := context.WithTimeout(ctx, min(asked.Wait, agentlink.LongestLogWait))
	defer cancel()
	page, err := sitelog.Read(ctx, a.Homes, m.SignInName, asked.Domain, asked.Lines, asked.After)
	return agentlink.LogPage(page), err
}

// Clear removes files in the directories of ours that no account in force has,
// and puts shared files right, tested like every change. It returns how many.
func (a *Agent) Clear() (int, error) {
	ch := &change{find: func(owned) (map[Program][]staging.Change, error) {
		return a.unowned()
	}, report: func(string, language.Text) {}}
	err := a.committer.submit(ch)
	n := 0
	for _, files := range ch.files {
		n += len(files)
	}
	return n, err
}

// strays describes what is wrong beside the accounts.
func (a *Agent) strays() ([]agentlink.Drift, error) {
	strays := []agentlink.Drift{}
	wrong, err := a.unowned()
	for _, p := range a.Programs {
		for _, f := range wrong[p] {
			strays = append(strays, fileDrift(p.Name(), f))
		}
	}
	return strays, err
}

// unowned lists, by program, what would have to change beside the accounts:
// files that no account in force has go, shared files come back.
func (a *Agent) unowned() (map[Program][]staging.Change, error) {
	wrong := a.committer.baseDifferences()
	there, err := a.committer.owned()
	if err != nil {
		return nil, err
	}
	// Asked after the files were listed, so that what is being made now is known.
	known := a.state.present()
	for p, files := range there {
		for name, paths := range files {
			for _, path := range paths {
				if !known[name] {
					wrong[p] = append(wrong[p], staging.Change{Path: path})
				}
			}
		}
	}
	return wrong, nil
}
