package database

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"sync/atomic"
	"syscall"
	"time"

	fastgzip "github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/sys/unix"

	"victualler/internal/agent/processes"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/databases/dumps"
)

const (
	// mostTransfers is how many imports and exports go on at the same time, transfersEach how many
	// of one account. Whoever reads slowly, or imports what waits, holds one for long: there are so
	// many that a few accounts do not keep the others from theirs.
	mostTransfers, transfersEach = 24, 2
	// largestImport bounds what comes out of a compressed file.
	largestImport = 100 << 30
	// longestStatement is how long one may take that somebody looks at.
	longestStatement = 5 * time.Minute
	// mostLooks is how many questions of one account are answered at the same time in its users'
	// names.
	mostLooks = 4
)

// refused is what an engine says of a statement that it has not executed.
type refused string

// Error implements error.
func (r refused) Error() string { return string(r) }

// loader executes an import's statements.
type loader interface {
	exec(ctx context.Context, statement []byte) error
	// empty drops everything that is in the database.
	empty(ctx context.Context) error
	// rows executes a COPY with the rows behind it.
	rows(ctx context.Context, statement []byte, rows io.Reader) error
	// csv adds rows to a table, to columns of these names, or to all.
	csv(ctx context.Context, how agentlink.CSVImport, columns []string, rows io.Reader) (int64, error)
	close()
}

// Look implements agent.Visitor.
func (d *Databases) Look(ctx context.Context, q agentlink.DatabaseQuestion) (agentlink.DatabaseAnswer, error) {
	if q.Longest <= 0 || q.Longest > longestStatement {
		q.Longest = longestStatement
	}
	if q.Limit <= 0 || q.Limit > agentlink.MostRows {
		q.Limit = agentlink.MostRows
	}
	ctx, cancel := context.WithTimeout(ctx, q.Longest)
	defer cancel()
	var out agentlink.DatabaseAnswer
	var err error
	switch q.Ask {
	case agentlink.AskRunning, agentlink.AskStop, agentlink.AskSlow:
		out, err = d.watch(ctx, q)
	default:
		out, err = d.askAsUser(ctx, q)
	}
	var said refused
	switch {
	case errors.As(err, &said):
		out.Refused, err = string(said), nil
	case err != nil && ctx.Err() != nil:
		out.Refused, err = fmt.Sprintf("stopped after %s, which is how long it may take", q.Longest), nil
	}
	return out, err
}

// askAsUser answers a question in the name of the user. Only these are counted: what is executed is
// seen and stopped also while as many of them as may be are going on.
func (d *Databases) askAsUser(ctx context.Context, q agentlink.DatabaseQuestion) (agentlink.DatabaseAnswer, error) {
	if !d.visits.begin(question{q.Account}, mostLooks) {
		return agentlink.DatabaseAnswer{}, errors.New("somebody is looking into databases of this account already; " +
			"wait until that has ended, or stop it")
	}
	defer d.visits.done(question{q.Account})
	e, one, err := d.enter(ctx, q.DatabaseVisit)
	if err != nil {
		return agentlink.DatabaseAnswer{}, err
	}
	defer d.leave(e, one)
	return e.look(ctx, one, q)
}

// begin counts a question or a transfer, and reports whether there were fewer than most.
func (v *visits) begin(what any, most int) bool {
	v.namesMu.Lock()
	defer v.namesMu.Unlock()
	if v.going[what] >= most {
		return false
	}
	v.going[what]++
	return true
}

func (v *visits) done(what any) {
	v.namesMu.Lock()
	defer v.namesMu.Unlock()
	if v.going[what]--; v.going[what] == 0 {
		delete(v.going, what)
	}
}

// work waits until an import or export of an account may begin, at most for some time.
func (d *Databases) work(ctx context.Context, account int64, most time.Duration) (end func(), err error) {
	ctx, cancel := context.WithTimeoutCause(ctx, most, errors.New("other imports and exports are going on; try again "+
		"in a few minutes"))
	defer cancel()
	for !d.visits.begin(transfer{account}, transfersEach) {
		select {
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-time.After(100 * time.Millisecond):
		}
	}
	select {
	case d.working <- struct{}{}:
		return func() { <-d.working; d.visits.done(transfer{account}) }, nil
	case <-ctx.Done():
		d.visits.done(transfer{account})
		return nil, context.Cause(ctx)
	}
}

// A question and a transfer of an account are what is counted of it.
type (
	question struct{ account int64 }
	transfer struct{ account int64 }
)

// Export implements agent.Visitor: it writes the contents of a database, of one moment. Begin is
// called before the first byte is written; errors from then on leave a file that is not whole.
func (d *Databases) Export(ctx context.Context, asked agentlink.DatabaseExport, begin func() io.Writer) error {
	end, err := d.work(ctx, asked.Account, busyFor)
	if err != nil {
		return err
	}
	defer end()
	return d.export(ctx, asked, begin)
}

// export is Export, whoever else is at work.
func (d *Databases) export(ctx context.Context, asked agentlink.DatabaseExport, begin func() io.Writer) error {
	e, one, err := d.enter(ctx, asked.DatabaseVisit)
	if err != nil {
		return err
	}
	defer d.leave(e, one)
	ctx, cancel := context.WithTimeout(ctx, longestVisit)
	defer cancel()
	nobody, err := processes.Nobody()
	if err != nil {
		return err
	}
	if !slices.Contains([]string{"", "gzip", "zstd"}, asked.Compression) {
		return fmt.Errorf("there is no compression %q", asked.Compression)
	}
	if len(asked.Tables) > 0 {
		there, err := e.look(ctx, one, agentlink.DatabaseQuestion{Ask: agentlink.AskTables})
		if err != nil {
			return err
		}
		for _, name := range asked.Tables {
			if !slices.ContainsFunc(there.Tables, func(t agentlink.DatabaseTable) bool { return t.Name == name }) {
				return noTable(name)
			}
		}
	}
	name, args, env := e.dump(one, asked.Tables)
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Dir, cmd.Env = "/", append(env, "PATH=/usr/bin:/bin", "LC_ALL=C.UTF-8")
	// What the program reads is a stranger's. Without the agent, it ends at the closed pipe.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Credential: nobody}
	var complaint beginning
	cmd.Stderr = &complaint
	out, in, err := roomyPipe()
	if err != nil {
		return err
	}
	defer out.Close()
	cmd.Stdout = in
	err = cmd.Start()
	in.Close()
	if err != nil {
		return err
	}
	wait := func() error {
		err := cmd.Wait()
		if err != nil && ctx.Err() == nil {
			return refused(fmt.Sprintf("%s: %s", name, lastLines(string(bytes.TrimSpace(complaint.text)))))
		}
		return errors.Join(err, ctx.Err())
	}
	from := bufio.NewReaderSize(&batched{in: out}, wide)
	if _, err := from.Peek(1); err != nil { // it says why
		return errors.Join(wait(), emptyExport(err))
	}
	to, finish, err := compressed(begin(), asked.Compression)
	if err != nil {
		return errors.Join(err, cmd.Cancel(), wait())
	}
	// Nothing but the two of them, else each would be asked to do it in its own way, in small
	// parts.
	if _, err := io.CopyBuffer(struct{ io.Writer }{to}, struct{ io.Reader }{from}, make([]byte, wide)); err != nil {
		return errors.Join(err, cmd.Cancel(), wait())
	}
	if err := wait(); err != nil {
		return err
	}
	return finish()
}

const (
	// wide is how many bytes of an export are read and sent at once, and roomy how many a pipe
	// holds.
	wide  = 256 << 10
	roomy = 1 << 20
	// gathering is how long more is waited for where little has come: much less than it takes to
	// fill the pipe.
	gathering = 2 * time.Millisecond
)

// batched reads in large parts what a program writes 4 KB at a time: to be woken for each of them
// costs more than to compress or to encrypt it.
type batched struct {
	in     io.Reader
	little bool
}

// Read implements io.Reader.
func (b *batched) Read(p []byte) (int, error) {
	if b.little {
		time.Sleep(gathering)
	}
	n, err := b.in.Read(p)
	b.little = n < wide/2
	return n, err
}

// roomyPipe makes a pipe that holds much, so that whoever fills it waits less often. Reading from
// it holds a thread: otherwise, each 4 KB that are written would wake whoever waits for all pipes.
func roomyPipe() (from, to *os.File, err error) {
	var ends [2]int
	if err := unix.Pipe2(ends[:], unix.O_CLOEXEC); err != nil {
		return nil, nil, os.NewSyscallError("pipe2", err)
	}
	_, _ = unix.FcntlInt(uintptr(ends[0]), unix.F_SETPIPE_SZ, roomy) // it works without
	return os.NewFile(uintptr(ends[0]), "dump"), os.NewFile(uintptr(ends[1]), "dump"), nil
}

// emptyExport is the error where nothing came; the program has said why unless it has ended well.
func emptyExport(err error) error {
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

// beginning keeps that of what a program complains of.
type beginning struct{ text []byte }

// Write implements io.Writer.
func (b *beginning) Write(p []byte) (int, error) {
	const most = 4 << 10
	b.text = append(b.text, p[:min(len(p), most-len(b.text))]...)
	return len(p), nil
}

// compressed compresses what is written; finish writes the end.
func compressed(w io.Writer, how string) (to io.Writer, finish func() error, err error) {
	switch how {
	case "":
		return w, func() error { return nil }, nil
	case "gzip":
		z := fastgzip.NewWriter(w)
		return z, z.Close, nil
	}
	// A wider window would make files hardly smaller, and takes 8 MB of the agent's little memory.
	z, err := zstd.NewWriter(w, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest),
		zstd.WithWindowSize(128<<10))
	if err != nil {
		return nil, nil, err
	}
	return z, z.Close, nil
}

// plain reads a file that may be compressed, as its first bytes say.
func plain(in io.Reader) (io.Reader, func(), error) {
	b := bufio.NewReaderSize(in, 256<<10)
	head, err := b.Peek(4)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, nil, err
	}
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		z, err := gzip.NewReader(b)
		return z, func() {}, err
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		z, err := zstd.NewReader(b, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(128<<20))
		if err != nil {
			return nil, nil, err
		}
		return z, z.Close, nil
	}
	return b, func() {}, nil
}

// counting counts what is read, for whoever tells how far an import has come.
type counting struct {
	in    io.Reader
	taken atomic.Int64
}

// Read implements io.Reader.
func (c *counting) Read(p []byte) (int, error) {
	n, err := c.in.Read(p)
	c.taken.Add(int64(n))
	return n, err
}

var errTooLarge = fmt.Errorf("the file is larger than %d GiB without compression", largestImport>>30)

// bounded is a reader with an end.
type bounded struct {
	in   io.Reader
	left int64
}

// Read implements io.Reader.
func (b *bounded) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, errTooLarge
	}
	n, err := b.in.Read(p)
	b.left -= int64(n)
	return n, err
}

// importing is how far an import is that executes a file's statements, or adds its rows, as a user.
type importing struct {
	asked   agentlink.Import
	now     agentlink.ImportProgress
	file    *counting
	scanner *dumps.Scanner
	told    time.Time
	// tell is called about every second.
	tell func(agentlink.ImportProgress)
}

func (i *importing) progress() {
	i.now.Taken = i.file.taken.Load()
	if i.scanner != nil {
		i.now.Size = i.scanner.Read()
	}
}

func (i *importing) tick() {
	if time.Since(i.told) > time.Second {
		i.progress()
		i.tell(i.now)
		i.told = time.Now()
	}
}

// execute executes a whole file. What has been executed before a failure stays.
func (d *Databases) execute(ctx context.Context, i *importing) error {
	asked := i.asked
	end, err := d.work(ctx, asked.Account, longestVisit)
	if err != nil {
		return err
	}
	defer end()
	e, one, err := d.enter(ctx, asked.DatabaseVisit)
	if err != nil {
		return err
	}
	defer d.leave(e, one)
	text, closeText, err := plain(i.file)
	if err != nil {
		return err
	}
	defer closeText()
	text = &bounded{text, largestImport}
	l, err := e.load(ctx, one)
	if err != nil {
		return err
	}
	defer l.close()
	if asked.Empty {
		if err := l.empty(ctx); err != nil {
			return err
		}
	}
	if asked.CSV != nil {
		return i.addRows(ctx, *asked.CSV, l, text)
	}
	return i.executeStatements(ctx, l, text)
}

// addRows adds the rows of a file to a table.
func (i *importing) addRows(ctx context.Context, how agentlink.CSVImport, l loader, text io.Reader) error {
	if len(how.Separator) != 1 || how.Separator == `"` || how.Separator == "\\" || how.Separator < "\t" {
		return fmt.Errorf("%q cannot stand between values", how.Separator)
	}
	b := bufio.NewReaderSize(text, 256<<10)
	var columns []string
	if how.Header {
		line, err := b.ReadSlice('\n') // one that is longer than the buffer is no line of names
		if err != nil && (!errors.Is(err, io.EOF) || len(line) == 0) {
			return fmt.Errorf("the first line, which should have the names of columns, cannot be read: %w", err)
		}
		r := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(line, []byte("\xef\xbb\xbf"))))
		r.Comma = rune(how.Separator[0])
		if columns, err = r.Read(); err != nil {
			return fmt.Errorf("the first line, which should have the names of columns: %w", err)
		}
		i.now.Line = 1
	}
	lines := &lineCounter{in: b, i: i}
	n, err := l.csv(ctx, how, columns, lines)
	i.now.Rows = n
	return errors.Join(err, lines.failed)
}

// lineCounter counts the lines of rows that an engine reads, and what was read.
type lineCounter struct {
	in     io.Reader
	i      *importing
	failed error
}

// Read implements io.Reader. An engine that is told of an error as the end would keep half of a
// file.
func (c *lineCounter) Read(p []byte) (int, error) {
	n, err := c.in.Read(p)
	c.i.now.Line += int64(bytes.Count(p[:n], []byte("\n")))
	c.i.now.Size += int64(n)
	c.i.tick()
	if err != nil && !errors.Is(err, io.EOF) {
		c.failed = err
	}
	return n, err
}

// executeStatements executes the statements of a file one after the other, up to the first that
// fails.
func (i *importing) executeStatements(ctx context.Context, l loader, text io.Reader) error {
	b := bufio.NewReaderSize(text, 64<<10)
	head, err := b.Peek(64 << 10)
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	if err := dumps.Check(head); err != nil {
		return err
	}
	i.scanner = dumps.NewScanner(b, i.asked.Engine)
	i.now.Mended = map[dumps.Finding]int64{}
	for {
		st, err := i.scanner.Next()
		if errors.Is(err, io.EOF) {
			i.now.Line = i.scanner.Line()
			return nil
		}
		if err != nil {
			i.now.Line = i.scanner.Line()
			return err
		}
		i.now.Line = st.Line
		if err := i.one(ctx, l, st); err != nil {
			i.now.Statement = dumps.Excerpt(st.Text)
			return err
		}
		i.tick()
	}
}

func (i *importing) one(ctx context.Context, l loader, st dumps.Statement) error {
	asked := i.asked
	statement, found := dumps.Mend(st, asked.Engine, asked.Database)
	switch {
	case found == "" && statement == nil: // it means nothing
		return nil
	case found != "" && !asked.Mend && st.Command:
		return errors.New(found.Text().In("en"))
	case found != "" && !asked.Mend:
		statement = st.Text
	case found.Mended() && found != "":
		i.now.Mended[found]++
	}
	if statement == nil {
		return nil
	}
	if st.Rows {
		return l.rows(ctx, statement, i.scanner.Rows())
	}
	if err := l.exec(ctx, statement); err != nil {
		return err
	}
	i.now.Statements++
	return nil
}
