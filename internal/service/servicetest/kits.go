package servicetest

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
)

// Site is what a server has of a site and beside it: contents of files by path. Nil is a directory
// that is not there.
type Site struct {
	Files, Staged, Before map[string]string
	// Run are the commands that were run, and where: “site: php a.php”.
	Run []string
}

// Site is a site of an account on the server of an agent, to be looked at and filled.
func (a *Agent) Site(domain string) *Site {
	if a.Sites == nil {
		a.Sites = map[string]*Site{}
	}
	if a.Sites[domain] == nil {
		a.Sites[domain] = &Site{Files: map[string]string{}}
	}
	return a.Sites[domain]
}

// KitFiles implements usecase.Agent.
func (a *Agent) KitFiles(_ context.Context, w agentlink.KitFiles, archive io.Reader) (told agentlink.KitTree,
	err error) {
	unlock, err := a.lock()
	if err != nil {
		return told, err
	}
	defer unlock()
	s := a.Site(w.Domain)
	if a.KitFault != nil {
		if err := a.KitFault("files " + w.Do); err != nil {
			return told, err
		}
	}
	told.Digests = map[string]string{}
	switch w.Do {
	case agentlink.KitStage:
		for name := range s.Files {
			told.Other = name
		}
		s.Staged, err = unpacked(archive, nil)
	case agentlink.KitStarter:
		s.Staged = map[string]string{}
	case agentlink.KitPatch:
		for _, p := range w.Paths {
			delete(s.Files, p)
		}
		s.Files, err = unpacked(archive, s.Files)
	case agentlink.KitCopy:
		s.Before = maps.Clone(s.Files)
	case agentlink.KitPlace:
		if s.Staged != nil {
			s.Files, s.Before, s.Staged = s.Staged, s.Files, nil
		}
	case agentlink.KitRestore:
		if s.Before != nil {
			s.Files = s.Before
		}
		s.Before, s.Staged = nil, nil
	case agentlink.KitSettle:
		s.Before, s.Staged = nil, nil
	case agentlink.KitInspect:
		for _, name := range slices.Sorted(maps.Keys(s.Files)) {
			if slices.Contains(w.Paths, name) {
				sum := sha256.Sum256([]byte(s.Files[name]))
				told.Digests[name] = hex.EncodeToString(sum[:])
			} else {
				told.Other = name
			}
		}
	}
	return told, err
}

func unpacked(archive io.Reader, into map[string]string) (map[string]string, error) {
	if into == nil {
		into = map[string]string{}
	}
	for reader := tar.NewReader(archive); ; {
		header, err := reader.Next()
		if errors.Is(err, io.EOF) {
			return into, nil
		}
		if err != nil {
			return into, err
		}
		text, err := io.ReadAll(reader)
		if err != nil {
			return into, err
		}
		into[header.Name] = string(text)
	}
}

// KitRun implements usecase.Agent: a command fails if its last argument is “fails”.
func (a *Agent) KitRun(_ context.Context, asked agentlink.KitRun) (told agentlink.KitOutcome, err error) {
	unlock, err := a.lock()
	if err != nil {
		return told, err
	}
	defer unlock()
	where := "site: "
	if asked.Staged {
		where = "staged: "
	}
	command := strings.Join(asked.Step.Run, " ")
	a.Site(asked.Domain).Run = append(a.Site(asked.Domain).Run, where+command)
	if a.KitFault != nil {
		if err := a.KitFault("run " + command); err != nil {
			return told, err
		}
	}
	if strings.HasSuffix(command, "fails") {
		return agentlink.KitOutcome{Failure: language.New("it ended with status %d", 3).Encode(),
				Output: "no such table"},
			nil
	}
	return told, nil
}

// KitPHP implements usecase.Agent: PHP has all extensions but “cobol”.
func (a *Agent) KitPHP(_ context.Context, asked agentlink.KitPHP) (told agentlink.KitOutcome, err error) {
	unlock, err := a.lock()
	if err != nil {
		return told, err
	}
	defer unlock()
	if slices.Contains(asked.Extensions, "cobol") {
		told.Failure = language.New("PHP has no extension %s here", "cobol").Encode()
	}
	return told, nil
}

// KitCheck implements usecase.Agent: a site works unless it has a file “broken”.
func (a *Agent) KitCheck(_ context.Context, asked agentlink.KitCheck) (told agentlink.KitOutcome, err error) {
	unlock, err := a.lock()
	if err != nil {
		return told, err
	}
	defer unlock()
	if _, broken := a.Site(asked.Domain).Files["broken"]; broken {
		told.Failure = language.New("%s answers with status %d instead of %d", asked.Check.Path, 500, 200).Encode()
	}
	return told, nil
}

// SaveDatabase implements usecase.Agent.
func (a *Agent) SaveDatabase(_ context.Context, v agentlink.DatabaseVisit) (told agentlink.ImportAnswer, err error) {
	unlock, err := a.lock()
	if err != nil {
		return told, err
	}
	defer unlock()
	one := agentlink.Import{NewImport: agentlink.NewImport{DatabaseVisit: v, Name: agentlink.SavedName}, ID: "saved",
		State: agentlink.ImportWaits, AddedAt: time.Now()}
	a.Imported = append(a.Imported, one)
	return agentlink.ImportAnswer{Import: one}, nil
}
