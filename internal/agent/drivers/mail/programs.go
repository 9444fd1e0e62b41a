package mail

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/textproto"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"victualler/internal/agent/daemon"
	"victualler/internal/agent/maillog"
	"victualler/internal/agent/selfsigned"
	"victualler/internal/agent/staging"
	"victualler/internal/agent/wholefile"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/mailflow/definition"
	"victualler/internal/manifest"
	"victualler/internal/render"
	"victualler/internal/version"
)

// flowProgram is our own program on the way of messages.
const flowProgram = "victualler-mail"

// Installed reports whether this server has what a mail server is made of.
func Installed() bool { return have("postfix", "dovecot", flowProgram) }

// FlowInstalled reports whether this server has what sites send their mail by.
func FlowInstalled() bool { return have(flowProgram) }

func have(programs ...string) bool {
	for _, program := range programs {
		if _, err := exec.LookPath(program); err != nil {
			return false
		}
	}
	return true
}

// program is what Postfix and Dovecot have in common as programs of the agent.
type program struct {
	name, unit, pidFile string
	// Scratch is a directory for staged files.
	scratch string
	base    func(manifest.Server) []render.File
	// files renders what an account has beside its tables, and dir is where that is; nil is
	// nothing.
	files func(manifest.Manifest) []render.File
	dir   string
	// test is the command that reads the whole configuration, reload the one that has the running
	// program take it over.
	test, reload []string
	// again is instead of reload, where that is no command.
	again func(context.Context) error
	// pid finds the process where there is no pidFile.
	pid func() (int, error)
	// ask asks whether a message to an address would be taken; nil is yes.
	ask func(ctx context.Context, address string) error

	// server is what the server is for; nil while it is no mail server. Used says that the program
	// has something to do here all the same.
	server  atomic.Pointer[manifest.MailServer]
	used    atomic.Bool
	reloads atomic.Int64
	version string
}

// Postfix is the program that takes mail from others and sends it to them.
type Postfix struct{ program }

// Dovecot is the program that keeps mailboxes, and lets their holders read them.
type Dovecot struct{ program }

// Flow is our own program that decides on the way of messages (package mailflow).
type Flow struct{ program }

// NewFlow returns the driver of victualler-mail, whose user it makes where there is none.
func NewFlow(ctx context.Context, scratch string) (*Flow, error) {
	if _, _, err := flowNumbers(ctx); err != nil {
		return nil, err
	}
	d := &Flow{program{name: flowProgram, unit: flowProgram, pidFile: definition.PIDFile, scratch: scratch,
		base: render.MailFlowBase, files: render.MailFlowFiles, dir: definition.SitesDir,
		test: []string{flowProgram, "check"}, reload: []string{flowProgram, "reload"}}}
	d.ask = func(ctx context.Context, _ string) error {
		if d.server.Load() == nil {
			return nil // sites alone ask, and nobody here is one
		}
		return decides(ctx)
	}
	d.version = version.Version
	return d, nil
}

// Verify implements agent.Program.
func (d *Flow) Verify(ctx context.Context, m manifest.Manifest) (language.Text, error) {
	if !m.HasMail() {
		return language.Text{}, nil
	}
	return language.Text{}, daemon.WaitFor(ctx, decides)
}

// VerifyGone implements agent.Program: there is nothing left to be asked.
func (*Flow) VerifyGone(context.Context, manifest.Manifest) (language.Text, error) {
	return language.Text{}, nil
}

// decides asks for a decision, as Postfix does.
func decides(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, "unix", filepath.Join(definition.SocketDir, definition.PolicySocket))
	if err != nil {
		return err
	}
	defer conn.Close()
	end, _ := ctx.Deadline()
	if err := conn.SetDeadline(end); err != nil {
		return err
	}
	if _, err := fmt.Fprint(conn,
		"request=smtpd_access_policy\nprotocol_state=RCPT\nrecipient=postmaster\n\n"); err != nil {
		return err
	}
	line, err := bufio.NewReader(conn).ReadString('\n')
	if err == nil && line != "action=DUNNO\n" {
		err = fmt.Errorf("victualler-mail answers %q", line)
	}
	return err
}

// NewPostfix returns the driver of Postfix.
func NewPostfix(server render.Server, scratch string) *Postfix {
	d := &Postfix{program{name: "postfix", unit: "postfix", pidFile: render.Queue + "/pid/master.pid", scratch: scratch,
		base: render.PostfixBase, files: render.PostfixFiles, dir: render.PostfixNames, test: []string{"postfix", "-c",
			render.PostfixDir, "check"},
		reload: []string{"postfix", "reload"}}}
	own := net.JoinHostPort(server.Addresses[0].String(), "25")
	d.ask = func(ctx context.Context, address string) error { return wouldTake(ctx, "tcp", own, "EHLO", address) }
	if out, err := exec.Command("postconf", "-h", "mail_version").Output(); err == nil {
		d.version = strings.TrimSpace(string(out))
	}
	return d
}

// NewDovecot returns the driver of Dovecot.
func NewDovecot(scratch string) *Dovecot {
	d := &Dovecot{program{name: "dovecot", unit: "dovecot", pidFile: "/run/dovecot/master.pid", scratch: scratch,
		base: render.DovecotBase, files: render.DovecotFiles, dir: render.DovecotNames,
		test: []string{"doveconf", "-n"}, reload: []string{"doveadm", "reload"}}}
	d.ask = func(ctx context.Context, address string) error {
		return wouldTake(ctx, "unix", render.LMTPSocket, "LHLO", address)
	}
	if out, err := exec.Command("dovecot", "--version").Output(); err == nil {
		d.version, _, _ = strings.Cut(strings.TrimSpace(string(out)), " ")
	}
	return d
}

// running reports whether the program runs.
func (d *program) running() bool {
	if d.pid != nil {
		_, err := d.pid()
		return err == nil
	}
	return daemon.Running(d.pidFile)
}

// Name implements agent.Program.
func (d *program) Name() string { return d.name }

// Base implements agent.Program.
func (d *program) Base(s manifest.Server) []render.File {
	files := d.base(s)
	d.used.Store(len(files) > 0)
	if d.server.Store(s.Mail); len(files) == 0 {
		d.server.Store(nil)
	}
	return files
}

// Files implements agent.Program: beside what is in tables, accounts have certificates.
func (d *program) Files(m manifest.Manifest) []render.File {
	if d.files == nil {
		return nil
	}
	return d.files(m)
}

// AccountFiles implements agent.Program.
func (d *program) AccountFiles() ([]string, error) {
	if d.dir == "" {
		return nil, nil
	}
	found, err := filepath.Glob(filepath.Join(d.dir, "*"))
	return slices.DeleteFunc(found, func(path string) bool { return render.MailNamesOwner(path) == "" }), err
}

// Owner implements agent.Program.
func (*program) Owner(path string) string { return render.MailNamesOwner(path) }

// Test implements agent.Program.
func (d *program) Test(ctx context.Context, staged []staging.Change) error {
	if !d.used.Load() || d.test == nil {
		return nil
	}
	if server := d.server.Load(); server != nil {
		if err := ownCertificate(server.Name.String()); err != nil {
			return err
		}
	}
	out, err := staging.Run(ctx, d.scratch, staged, d.test...)
	if err != nil {
		return fmt.Errorf("%s refuses its configuration: %s", d.name, strings.TrimSpace(out))
	}
	return nil
}

// ownCertificate makes the server's own certificate where there is none.
func ownCertificate(name string) error {
	if _, err := os.Stat(render.MailCertificate); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	certificate, key, err := selfsigned.Make([]string{name}, time.Now(), 10*365*24*time.Hour)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(render.MailCertificate), 0o700); err != nil {
		return err
	}
	return errors.Join(wholefile.Write(render.MailKey, key, 0o600, ""),
		wholefile.Write(render.MailCertificate, certificate, 0o644, ""))
}

// Reload implements agent.Program. It happens when a server becomes a mail server, and when its own
// name or certificate changes. A program that could not start for want of a configuration is
// started by its supervisor now.
func (d *program) Reload(ctx context.Context) error {
	if !d.used.Load() {
		return nil
	}
	if err := d.begin(ctx); err != nil {
		return err
	}
	return daemon.WaitFor(ctx, func(ctx context.Context) error {
		if !d.running() {
			return fmt.Errorf("%s is not running", d.name)
		}
		var none *refused
		if err := d.ask(ctx, "postmaster"); err != nil && !errors.As(err, &none) {
			return err
		}
		return nil
	})
}

// begin has the program take over its configuration, or start.
func (d *program) begin(ctx context.Context) error {
	err := daemon.Begin(ctx, d.unit, d.running(), func(ctx context.Context) error {
		if d.again != nil {
			return d.again(ctx)
		}
		if out, err := exec.CommandContext(ctx, d.reload[0], d.reload[1:]...).CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %w: %s", strings.Join(d.reload, " "), err, strings.TrimSpace(string(out)))
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("%s: %w", d.name, err)
	}
	d.reloads.Add(1)
	return nil
}

// Verify implements agent.Program. Mail that is deferred is not asked for.
func (d *Postfix) Verify(ctx context.Context, m manifest.Manifest) (language.Text, error) {
	if m.HasMail() && m.Mail.Deferred {
		return language.New("%s defers mail for %s", d.name, m.Mail.Domains[0].Unicode()), nil
	}
	return d.program.Verify(ctx, m)
}

// Reload implements agent.Program: the table of names for which there are certificates is made of
// their files first. Postfix begins anew with it by itself.
func (d *Postfix) Reload(ctx context.Context) error {
	if d.server.Load() != nil {
		if err := nameTable(ctx); err != nil {
			return err
		}
	}
	return d.program.Reload(ctx)
}

// nameTable makes Postfix's table of certificates by name (postmap(1)), which only root reads.
func nameTable(ctx context.Context) error {
	files, err := filepath.Glob(filepath.Join(render.PostfixNames, "*.pem"))
	if err != nil {
		return err
	}
	var text strings.Builder
	for _, file := range files {
		if render.MailNamesOwner(file) != "" {
			fmt.Fprintf(&text, "%s %s\n", render.NameOfFile(file), file)
		}
	}
	if err := wholefile.Write(render.PostfixNameTable, []byte(text.String()), 0o600, ""); err != nil {
		return err
	}
	if out, err := exec.CommandContext(ctx, "postmap", "-F",
		"hash:"+render.PostfixNameTable).CombinedOutput(); err != nil {
		return fmt.Errorf("postmap: %w: %s", err, strings.TrimSpace(string(out)))
	}
	return nil
}

// Reload implements agent.Program: the filters that all mailboxes share are compiled first, as
// nobody who reads mail may write there.
func (d *Dovecot) Reload(ctx context.Context) error {
	if d.server.Load() != nil {
		if out, err := exec.CommandContext(ctx, "sievec", render.SieveDir).CombinedOutput(); err != nil {
			return fmt.Errorf("sievec: %w: %s", err, strings.TrimSpace(string(out)))
		}
	}
	return d.program.Reload(ctx)
}

// Verify implements agent.Program: it asks for the account's first and last mailbox, as somebody
// who has a message for it would.
func (d *program) Verify(ctx context.Context, m manifest.Manifest) (language.Text, error) {
	if !m.HasMail() || len(m.Mail.Mailboxes) == 0 {
		return language.Text{}, nil
	}
	boxes := m.Mail.Mailboxes
	for _, b := range []manifest.Mailbox{boxes[0], boxes[len(boxes)-1]} {
		if err := daemon.WaitFor(ctx, func(ctx context.Context) error { return d.ask(ctx, b.Address) }); err != nil {
			return language.Text{}, fmt.Errorf("%s does not take mail for %s: %w", d.name, b.Address, err)
		}
	}
	return language.New("%s takes mail for %s", d.name, boxes[0].Address), nil
}

// VerifyGone implements agent.Program.
func (d *program) VerifyGone(ctx context.Context, last manifest.Manifest) (language.Text, error) {
	if !last.HasMail() || len(last.Mail.Mailboxes) == 0 || d.server.Load() == nil {
		return language.Text{}, nil
	}
	address := last.Mail.Mailboxes[0].Address
	err := daemon.WaitFor(ctx, func(ctx context.Context) error {
		var no *refused
		switch err := d.ask(ctx, address); {
		case err == nil:
			return fmt.Errorf("%s still takes mail for %s", d.name, address)
		case !errors.As(err, &no):
			return err
		}
		return nil
	})
	if err != nil {
		return language.Text{}, err
	}
	return language.New("%s no longer takes mail for %s", d.name, address), nil
}

// Status implements agent.Program.
func (d *program) Status(context.Context) agentlink.ProgramStatus {
	if !d.used.Load() {
		return agentlink.ProgramStatus{}
	}
	return agentlink.ProgramStatus{Name: d.name, Version: d.version, Running: d.running(),
		Reloads: d.reloads.Load()}
}

// refused is an answer that says no to a recipient.
type refused struct{ answer string }

func (r *refused) Error() string { return r.answer }

// wouldTake asks whether a message to an address would be taken (RFC 5321, RFC 2033), and sends
// none. A no is a [refused].
func wouldTake(ctx context.Context, network, at, hello, address string) error {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, network, at)
	if err != nil {
		return err
	}
	defer conn.Close()
	end, _ := ctx.Deadline()
	if err := conn.SetDeadline(end); err != nil {
		return err
	}
	talk := textproto.NewReader(bufio.NewReader(conn))
	if _, _, err := talk.ReadResponse(220); err != nil {
		return err
	}
	for _, line := range []string{hello + " " + maillog.Probe, "MAIL FROM:<>", "RCPT TO:<" + address + ">"} {
		if _, err := fmt.Fprintf(conn, "%s\r\n", line); err != nil {
			return err
		}
		if _, _, err := talk.ReadResponse(250); err != nil {
			var no *textproto.Error
			if errors.As(err, &no) && strings.HasPrefix(line, "RCPT") && no.Code >= 500 {
				return &refused{err.Error()}
			}
			return err
		}
	}
	_, err = fmt.Fprint(conn, "QUIT\r\n")
	return err
}
