package certificate

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"time"

	"victualler/internal/agent/wholefile"
	"victualler/internal/agentlink"
	"victualler/internal/render"
)

// challengeLife is longer than any order waits: an answer that is as old is forgotten.
const challengeLife = 8 * 24 * time.Hour

var (
	// challengeToken is of RFC 8555, section 8.3: base64url.
	challengeToken  = regexp.MustCompile(`^[A-Za-z0-9_-]{8,128}$`)
	challengeAnswer = regexp.MustCompile(`^[A-Za-z0-9_.-]{8,300}$`)
)

// Challenge has nginx answer authorities' challenges, whatever the name, and no longer answer
// others. It needs no reload.
func (*Driver) Challenge(_ context.Context, c agentlink.Challenges) error {
	for token, answer := range c.Answers {
		if !challengeToken.MatchString(token) || !challengeAnswer.MatchString(answer) {
			return fmt.Errorf("%q or its answer is no challenge's", token)
		}
	}
	var errs []error
	for token, answer := range c.Answers {
		errs = append(errs, wholefile.Write(render.ChallengeFile(token), []byte(answer), 0o644, ""))
	}
	for _, token := range c.Removed {
		if !challengeToken.MatchString(token) {
			return fmt.Errorf("%q is no challenge's", token)
		}
		if err := os.Remove(render.ChallengeFile(token)); !errors.Is(err, fs.ErrNotExist) {
			errs = append(errs, err)
		}
	}
	return errors.Join(append(errs, forgetOld())...)
}

func forgetOld() error {
	dir := filepath.Dir(render.ChallengeFile("x"))
	entries, err := os.ReadDir(dir)
	for _, e := range entries {
		if info, gone := e.Info(); gone == nil && time.Since(info.ModTime()) > challengeLife {
			err = errors.Join(err, os.Remove(filepath.Join(dir, e.Name())))
		}
	}
	return err
}
