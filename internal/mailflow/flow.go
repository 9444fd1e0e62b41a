package mailflow

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"victualler/internal/hosting/mail"
	"victualler/internal/mailflow/definition"
)

// Flow is what decides. All fields are to be set, and it is to be configured.
type Flow struct {
	Tables *Tables
	Tally  *Tally
	// Replied counts who was told that somebody is away.
	Replied *Tally
	// Left knows who has left lists by a message.
	Left *Tally
	// Inject puts a message into Postfix's queue; when it returns nil, it is Postfix's to deliver.
	Inject func(ctx context.Context, sender string, recipients []string, message io.Reader) error
	// Scratch is a directory for messages that are being read.
	Scratch string
	Log     *slog.Logger
	// Filter is how the spam filter is asked, where the configuration says that there is one.
	Filter *Judge
	// SitesDir has the files that say where the mail of sites goes through that is not on this
	// server.
	SitesDir string

	config atomic.Pointer[definition.Config]
	// sites bounds how much comes from sites at the same time, wherever they are.
	sites busy[int64]
}

// Judge is the spam filter, if there is one.
func (f *Flow) Judge() *Judge {
	if !f.config.Load().Filter {
		return nil
	}
	return f.Filter
}

// Configure sets what is known of the server, also while it serves.
func (f *Flow) Configure(c definition.Config) { f.config.Store(&c) }

func (f *Flow) returns() mail.Returns { return mail.Returns{Key: f.config.Load().ReturnKey} }

// Sendmail puts a message into Postfix's queue by its command sendmail(1).
func Sendmail(ctx context.Context, sender string, recipients []string, message io.Reader) error {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "/usr/sbin/sendmail", append([]string{"-i", "-f", sender, "--"}, recipients...)...)
	cmd.Stdin = message
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("sendmail: %w: %s", err, strings.TrimSpace(string(out)))
	}
	return nil
}

// takePassed counts messages that an account's addresses pass on. They have a bound of their own,
// as high as the one for what is sent: who writes to an account must not use up what it may send.
func (f *Flow) takePassed(a Account, n int64) (*Over, error) {
	return f.Tally.Take(n, Bound{fmt.Sprintf("passed/%d", a.ID), a.Hourly})
}

// scratchFile is a file without a name, for a message that is being read.
func (f *Flow) scratchFile() (*os.File, error) {
	file, err := os.CreateTemp(f.Scratch, "message-")
	if err != nil {
		return nil, err
	}
	if err := os.Remove(file.Name()); err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return file, nil
}
