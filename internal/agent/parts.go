package agent

import (
	"context"
	"io"
	"iter"

	"victualler/internal/agent/staging"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/language"
	"victualler/internal/manifest"
	"victualler/internal/render"
)

// A Resource is something of an account that must exist before configuration
// can name it, such as its user. Resources are made in the order in which they
// are listed and removed in the opposite order.
type Resource interface {
	// Name is the step's name.
	Name() string
	// Concerns reports whether there is anything of it in m.
	Concerns(m manifest.Manifest) bool
	// Check lists the differences between m and what is found. Where m does not concern it, that is
	// whatever is left of the account.
	Check(ctx context.Context, m manifest.Manifest) ([]agentlink.Drift, error)
	// Ensure makes what is found be as m wants it. Doing it again changes nothing. Known says that
	// the account has been here before: then nothing that its owner has done to the home makes this
	// fail; what does not work because of it is left to [Warner].
	Ensure(ctx context.Context, m manifest.Manifest, known bool) (detail language.Text, err error)
	// Remove takes everything away. It is no error if nothing is there.
	Remove(ctx context.Context, m manifest.Manifest) error
}

// A Content is something that a program holds while it runs, and can
// take only once its configuration names it, such as the records of a
// zone. Contents are made after the configuration is in force.
type Content interface {
	// Name is the step's name.
	Name() string
	// Check lists the differences between m and what the program holds.
	Check(ctx context.Context, m manifest.Manifest) ([]agentlink.Drift, error)
	// Ensure makes the program hold what m wants. Doing it again changes nothing.
	Ensure(ctx context.Context, m manifest.Manifest) (detail language.Text, err error)
	// Forget takes away for good what the program still keeps of last, the manifest that was in
	// force, and m no longer has. It comes last of all, as no apply that is undone brings it back.
	Forget(ctx context.Context, m, last manifest.Manifest) error
	// Concerns reports whether there is anything of it in m.
	Concerns(m manifest.Manifest) bool
}

// A Warner is a resource that finds out which parts of an account do not
// work because of what its owner has put into the home.
type Warner interface {
	Warnings(m manifest.Manifest) []agentlink.Warning
}

// A Booter is a resource or a content that does not outlive the start of the server, or of the
// agent, in all its parts. Boot makes them anew for the accounts in force.
type Booter interface {
	Boot(ctx context.Context, all iter.Seq[manifest.Manifest]) error
}

// A Mailer knows what becomes of messages; see agentlink for each.
type Mailer interface {
	MailLog(context.Context, agentlink.MailLogRequest) (agentlink.MailLogPage, error)
	Queue(context.Context) (agentlink.Queue, error)
	ChangeQueue(context.Context, agentlink.QueueChange) error
	ReleaseSending(ctx context.Context, account int64) error
	ListPosts(context.Context, agentlink.ListPosts) (agentlink.HeldPosts, error)
}

// A DatabaseMeter knows how much the databases of an account hold, and whether they may grow.
type DatabaseMeter interface {
	// Measured tells when the databases of each engine were measured last.
	Measured() []agentlink.MeasuredEngine
	Sizes(m manifest.Manifest) []agentlink.DatabaseSize
}

// A Challenger answers authorities that prove names over HTTP.
type Challenger interface {
	Challenge(ctx context.Context, c agentlink.Challenges) error
}

// A Tidier is a resource that leaves things behind which configuration in force may still name.
// Tidy takes them away once nothing does.
type Tidier interface {
	Tidy(ctx context.Context, m manifest.Manifest) error
}

// A Program reads configuration files and serves accounts by them. Many
// accounts share one test and one reload (see commit.go).
type Program interface {
	// Name is the step's name.
	Name() string
	// Base renders the files that all accounts share, on a server that holds what s says.
	Base(s manifest.Server) []render.File
	// Files renders an account's files; none for an absent account.
	Files(m manifest.Manifest) []render.File
	// AccountFiles lists the files of any accounts that are there.
	AccountFiles() ([]string, error)
	// Owner tells to whose account one of those files belongs, by its name alone: the sign-in name.
	Owner(path string) string
	// Test has the program read its whole configuration, with the staged files
	// in the place of the present ones. The error holds the program's own words.
	Test(ctx context.Context, staged []staging.Change) error
	// Reload has the running program take over its configuration without
	// losing requests. It may return before that has happened.
	Reload(ctx context.Context) error
	// Verify asks the program from outside whether it serves m, and waits for
	// a reload that is under way. It tells in words what it saw.
	Verify(ctx context.Context, m manifest.Manifest) (seen language.Text, err error)
	// VerifyGone asks from outside whether the program has stopped serving an
	// account whose last manifest was last, waiting as Verify does.
	VerifyGone(ctx context.Context, last manifest.Manifest) (seen language.Text, err error)
	// Status tells whether it runs; the zero value where it is not to run on this server.
	Status(ctx context.Context) agentlink.ProgramStatus
}

// Meter measures what accounts use on disk.
type Meter interface {
	// Measure returns what the homes of all accounts hold, by sign-in name. Limits that the file
	// system cannot keep by itself are enforced with what was measured.
	Measure(ctx context.Context, all iter.Seq[manifest.Manifest]) (map[string]agentlink.Usage, error)
	// Quota tells how limits are kept: "btrfs", "project" or "metered".
	Quota() string
}

// Confiner keeps accounts apart while they run, and measures them.
type Confiner interface {
	// Sandboxes tells how well.
	Sandboxes(ctx context.Context) agentlink.Sandboxes
	// Loads returns what runs for accounts, by sign-in name.
	Loads(ctx context.Context) (map[string]agentlink.Load, error)
	// PHPExtensions lists what PHP of a version can do in sites as well as on the command line:
	// names of extensions in small letters. An empty version is the newest.
	PHPExtensions(ctx context.Context, version string) ([]string, error)
	// WakePHP has the PHP of a user's sites start, as it will be asked soon. It does not wait for
	// it.
	WakePHP(uid int, version string)
}

// A Visitor works with databases in the name of their users; see agentlink for each.
type Visitor interface {
	// Look answers a question about a database.
	Look(ctx context.Context, q agentlink.DatabaseQuestion) (agentlink.DatabaseAnswer, error)
	// Export writes the contents of a database to what begin returns, which is called when there is
	// something to write.
	Export(ctx context.Context, asked agentlink.DatabaseExport, begin func() io.Writer) error
	// Imports lists those into databases of an account, the newest first.
	Imports(account int64) []agentlink.Import
	// NewImport prepares one, ContinueImport takes a part of its file, and OrderImport does
	// something with it.
	NewImport(asked agentlink.NewImport) (agentlink.Import, error)
	// SaveDatabase prepares one of what is in the database now.
	SaveDatabase(ctx context.Context, v agentlink.DatabaseVisit) (agentlink.Import, error)
	ContinueImport(ctx context.Context, account int64, id string, offset int64, file io.Reader) (agentlink.Import,
		error)
	OrderImport(ctx context.Context, order agentlink.ImportOrder) (agentlink.ImportAnswer, error)
}
