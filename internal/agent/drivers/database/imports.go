package database

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"victualler/internal/agent/wholefile"
	"victualler/internal/agentlink"
	"victualler/internal/hosting/databases"
	"victualler/internal/hosting/databases/dumps"
)

const (
	// fileStays is how long the file of an import stays that nobody starts, importStays how long is
	// known how one has ended.
	fileStays   = 24 * time.Hour
	importStays = 7 * 24 * time.Hour
	// mostImports is how many of one account are known.
	mostImports = 20
	// lookedAt is how much of a file is looked at to say what is in it.
	lookedAt = 1 << 30
	// leftFree is how much of the disk files leave free, in bytes.
	leftFree = 1 << 30
)

// imports are those into databases of this server, each with a document about it in a directory
// and, until it has ended, its file.
type imports struct {
	dir string
	mu  sync.Mutex
	all map[string]*oneImport
}

type oneImport struct {
	agentlink.Import
	// stop is set while it runs.
	stop context.CancelFunc
	// taking is set while a part of the file is being written, and ends that.
	taking context.CancelFunc
}

// newImports reads what is known of imports. Those that ran when the agent was stopped have failed.
func newImports(dir string) *imports {
	i := &imports{dir: dir, all: map[string]*oneImport{}}
	found, _ := filepath.Glob(filepath.Join(dir, "*.json"))
	for _, name := range found {
		text, err := os.ReadFile(name)
		var one agentlink.Import
		if err != nil || json.Unmarshal(text, &one) != nil {
			continue
		}
		i.all[one.ID] = &oneImport{Import: one}
		if one.State == agentlink.ImportRuns {
			i.end(i.all[one.ID], errors.New("the agent of the server was stopped meanwhile"))
		}
	}
	return i
}

func (i *imports) file(id string) string { return filepath.Join(i.dir, id+".file") }

// save writes down what is known of an import; mu is held.
func (i *imports) save(one *oneImport) error {
	text, err := json.Marshal(one.Import)
	if err != nil {
		return err
	}
	return wholefile.Write(filepath.Join(i.dir, one.ID+".json"), text, 0o600, "")
}

// end writes down how an import has ended, and removes its file.
func (i *imports) end(one *oneImport, failure error) {
	if i.all[one.ID] == nil { // it was forgotten with its account
		return
	}
	one.State, one.EndedAt, one.stop = agentlink.ImportDone, time.Now(), nil
	if failure != nil {
		one.State, one.Progress.Failure = agentlink.ImportFailed, failure.Error()
	}
	if failure != nil && one.Empty {
		// The database was emptied for it, and this is all that is left of what was there.
		one.State, one.EndedAt = agentlink.ImportWaits, time.Time{}
	} else {
		os.Remove(i.file(one.ID))
	}
	_ = i.save(one) // it is still known
}

// forget removes an import that does not run. Whoever is receiving its file ends.
func (i *imports) forget(one *oneImport) {
	if one.taking != nil {
		one.taking()
	}
	os.Remove(i.file(one.ID))
	os.Remove(filepath.Join(i.dir, one.ID+".json"))
	delete(i.all, one.ID)
}

// forgetAll forgets the imports of an account, and stops one that runs.
func (i *imports) forgetAll(account int64) {
	i.mu.Lock()
	defer i.mu.Unlock()
	for _, one := range i.of(account) {
		if one.stop != nil {
			one.stop()
		}
		i.forget(one)
	}
}

// tidy forgets imports that are too old; mu is held.
func (i *imports) tidy() {
	for _, one := range i.all {
		old := one.State == agentlink.ImportWaits && time.Since(one.AddedAt) > fileStays ||
			!one.EndedAt.IsZero() && time.Since(one.EndedAt) > importStays
		if old && one.taking == nil {
			i.forget(one)
		}
	}
}

// of lists the imports of an account, the newest first; mu is held.
func (i *imports) of(account int64) []*oneImport {
	var list []*oneImport
	for _, one := range i.all {
		if one.Account == account {
			list = append(list, one)
		}
	}
	slices.SortFunc(list, func(a, b *oneImport) int {
		return cmp.Or(b.AddedAt.Compare(a.AddedAt), strings.Compare(a.ID, b.ID))
	})
	return list
}

// find returns an import of an account; mu is held.
func (i *imports) find(account int64, id string) (*oneImport, error) {
	one := i.all[id]
	if one == nil || one.Account != account {
		return nil, errors.New("there is no such import; it may have been forgotten")
	}
	return one, nil
}

// Imports implements agent.Visitor.
func (d *Databases) Imports(account int64) []agentlink.Import {
	d.imports.mu.Lock()
	defer d.imports.mu.Unlock()
	d.imports.tidy()
	list := []agentlink.Import{}
	for _, one := range d.imports.of(account) {
		list = append(list, one.Import)
	}
	return list
}

// NewImport implements agent.Visitor.
func (d *Databases) NewImport(asked agentlink.NewImport) (agentlink.Import, error) {
	i := d.imports
	i.mu.Lock()
	defer i.mu.Unlock()
	i.tidy()
	switch {
	case asked.Copy == nil && (asked.Size <= 0 || asked.Size > agentlink.LargestFile):
		return agentlink.Import{}, fmt.Errorf("the file has %d bytes; files have up to %d GiB", asked.Size,
			agentlink.LargestFile>>30)
	case asked.Copy != nil && (asked.Copy.Engine != asked.Engine || asked.Copy.Account != asked.Account ||
		asked.Copy.Database == asked.Database):
		return agentlink.Import{}, errors.New("a database is copied into another one of the same account and engine")
	}
	list := i.of(asked.Account)
	mine := asked.Size // of files that wait
	for n, one := range list {
		waiting := one.State == agentlink.ImportWaits || one.State == agentlink.ImportRuns
		if waiting && one.Database == asked.Database {
			return agentlink.Import{}, fmt.Errorf("there is an import into %s already, %s, which is %s; wait "+
				"until it has ended, or remove it", asked.Database, one.ID, one.State)
		}
		if waiting {
			mine += one.Size
		}
		if n >= mostImports-1 && !waiting {
			i.forget(one)
		}
	}
	if mine > agentlink.LargestFile { // one with holes costs whoever has it nothing, and the server its disk
		return agentlink.Import{}, fmt.Errorf("files of this account's imports may have %d GiB together; start or "+
			"remove those that wait first", agentlink.LargestFile>>30)
	}
	if err := os.MkdirAll(i.dir, 0o700); err != nil {
		return agentlink.Import{}, err
	}
	var disk syscall.Statfs_t
	if err := syscall.Statfs(i.dir, &disk); err != nil {
		return agentlink.Import{}, err
	}
	waiting := int64(0) // what is still to come of other files
	for _, one := range i.all {
		if one.State == agentlink.ImportWaits {
			waiting += one.Size - one.Received
		}
	}
	if free := int64(disk.Bavail) * disk.Bsize; asked.Size > 0 && free-waiting-asked.Size < leftFree {
		return agentlink.Import{}, errors.New("the server has too little space for this file at the moment")
	}
	one := &oneImport{Import: agentlink.Import{NewImport: asked, ID: strings.ToLower(rand.Text()[:16]),
		State: agentlink.ImportWaits, AddedAt: time.Now()}}
	if err := i.save(one); err != nil {
		return agentlink.Import{}, err
	}
	i.all[one.ID] = one
	return one.Import, nil
}

// ContinueImport implements agent.Visitor: it takes what comes behind the first offset bytes.
func (d *Databases) ContinueImport(ctx context.Context, account int64, id string, offset int64,
	in io.Reader) (agentlink.Import, error) {
	i := d.imports
	one, ctx, err := i.beginPart(ctx, account, id, offset)
	if err != nil {
		return agentlink.Import{}, err
	}
	n, err := appendTo(i.file(id), offset, &untilDone{ctx, io.LimitReader(in, one.Size-offset+1)}, func(have int64) {
		i.mu.Lock()
		defer i.mu.Unlock()
		one.Received = have // for people to see
	})
	i.mu.Lock()
	defer i.mu.Unlock()
	if err := i.endPart(one); err != nil {
		return agentlink.Import{}, err
	}
	one.Received = offset + n
	if one.Received > one.Size {
		i.forget(one)
		return agentlink.Import{}, fmt.Errorf("the file has more than the %d bytes that it was said to have", one.Size)
	}
	return one.Import, errors.Join(err, i.save(one))
}

// beginPart begins to write a part of a file; the context ends with that.
func (i *imports) beginPart(ctx context.Context, account int64, id string, offset int64) (*oneImport, context.Context,
	error) {
	i.mu.Lock()
	defer i.mu.Unlock()
	one, err := i.find(account, id)
	switch {
	case err != nil:
		return nil, nil, err
	case one.State != agentlink.ImportWaits || one.Copy != nil:
		return nil, nil, fmt.Errorf("the import is %s, and takes no file", one.State)
	case one.taking != nil:
		return nil, nil, errors.New("another part of the file is being received")
	case offset != one.Received:
		return nil, nil, fmt.Errorf("%d bytes of the file are there; go on behind them", one.Received)
	}
	ctx, one.taking = context.WithCancel(ctx)
	return one, ctx, nil
}

// endPart ends what [imports.beginPart] has begun; mu is held. An import that was forgotten
// meanwhile is an error, and leaves nothing.
func (i *imports) endPart(one *oneImport) error {
	one.taking()
	one.taking = nil
	if i.all[one.ID] == one {
		return nil
	}
	os.Remove(i.file(one.ID))
	return errors.New("the import was removed meanwhile")
}

// appendTo writes behind the first bytes of a file, tells at times how many bytes that has then,
// and returns how many it has written.
func appendTo(name string, offset int64, in io.Reader, tell func(int64)) (int64, error) {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_WRONLY|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	if _, err := f.Seek(offset, io.SeekStart); err != nil {
		return 0, err
	}
	var n int64
	for err == nil {
		var more int64
		more, err = io.CopyN(f, in, 64<<20)
		n += more
		tell(offset + n)
	}
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return n, errors.Join(err, f.Truncate(offset+n))
}

// OrderImport implements agent.Visitor.
func (d *Databases) OrderImport(ctx context.Context, order agentlink.ImportOrder) (agentlink.ImportAnswer, error) {
	i := d.imports
	i.mu.Lock()
	one, err := i.find(order.Account, order.ID)
	if err != nil {
		i.mu.Unlock()
		return agentlink.ImportAnswer{}, err
	}
	if order.Do == agentlink.ImportLook {
		told := agentlink.ImportAnswer{Import: one.Import}
		i.mu.Unlock()
		contents, err := i.look(ctx, told.Import)
		told.Contents = &contents
		return told, err
	}
	defer i.mu.Unlock()
	switch order.Do {
	case agentlink.ImportStart:
		err = d.start(one, order)
	case agentlink.ImportStop:
		if one.stop == nil {
			return agentlink.ImportAnswer{}, errors.New("the import is not running")
		}
		one.stop()
	case agentlink.ImportForget:
		if one.stop != nil {
			return agentlink.ImportAnswer{}, errors.New("the import is running; stop it first")
		}
		i.forget(one)
	case agentlink.ImportGiveUp:
		if one.State != agentlink.ImportWaits || one.taking != nil {
			return agentlink.ImportAnswer{}, fmt.Errorf("the import is %s", one.State)
		}
		i.end(one, errors.New(order.Failure))
	default:
		err = fmt.Errorf("%q is nothing that can be done with an import", order.Do)
	}
	return agentlink.ImportAnswer{Import: one.Import}, err
}

// whole returns an error unless all of the file is there.
func whole(one agentlink.Import) error {
	if one.State != agentlink.ImportWaits {
		return fmt.Errorf("the import is %s already", one.State)
	}
	if one.Copy == nil && one.Received < one.Size {
		return fmt.Errorf("%d of %d bytes of the file are there; send the rest first", one.Received, one.Size)
	}
	return nil
}

// look says what is in the file of an import.
func (i *imports) look(ctx context.Context, one agentlink.Import) (dumps.Contents, error) {
	if err := whole(one); err != nil {
		return dumps.Contents{}, err
	}
	if one.Copy != nil || one.CSV != nil {
		return dumps.Contents{}, errors.New("there is nothing to be looked at: the file has no statements")
	}
	f, err := os.Open(i.file(one.ID))
	if err != nil {
		return dumps.Contents{}, err
	}
	defer f.Close()
	text, closeText, err := plain(f)
	if err != nil {
		return dumps.Contents{}, fmt.Errorf("the file cannot be read: %w", err)
	}
	defer closeText()
	return dumps.Look(&untilDone{ctx, text}, one.Engine, one.Database, lookedAt)
}

// untilDone is a reader that ends with a context.
type untilDone struct {
	ctx context.Context
	in  io.Reader
}

// Read implements io.Reader.
func (u *untilDone) Read(p []byte) (int, error) {
	if err := u.ctx.Err(); err != nil {
		return 0, err
	}
	return u.in.Read(p)
}

// start begins to execute an import; mu is held.
func (d *Databases) start(one *oneImport, order agentlink.ImportOrder) error {
	if err := whole(one.Import); err != nil {
		return err
	}
	if one.taking != nil {
		return errors.New("a part of the file is being received")
	}
	ctx, cancel := context.WithTimeout(context.Background(), longestVisit)
	one.State, one.BegunAt, one.stop = agentlink.ImportRuns, time.Now(), cancel
	one.Mend, one.Empty = order.Mend, order.Empty
	if err := d.imports.save(one); err != nil {
		cancel()
		return err
	}
	go d.run(ctx, cancel, one, one.Import)
	return nil
}

// run executes an import to its end.
func (d *Databases) run(ctx context.Context, cancel context.CancelFunc, one *oneImport, asked agentlink.Import) {
	defer cancel()
	i := importing{asked: asked, told: time.Now(), tell: func(p agentlink.ImportProgress) {
		d.imports.mu.Lock()
		defer d.imports.mu.Unlock()
		if one.Progress = p; d.imports.all[one.ID] != nil {
			_ = d.imports.save(one) // so that it is known if this is killed
		}
	}}
	var err error
	if asked.Copy != nil {
		err = d.copy(ctx, &i)
	} else {
		var f *os.File
		if f, err = os.Open(d.imports.file(asked.ID)); err == nil {
			i.file = &counting{in: &untilDone{ctx, f}}
			err = d.execute(ctx, &i)
			f.Close()
		}
	}
	switch {
	case err != nil && errors.Is(ctx.Err(), context.Canceled):
		err = errors.New("it was stopped")
	case err != nil && ctx.Err() != nil:
		err = fmt.Errorf("it has taken longer than %s", longestVisit)
	case errors.Is(err, fs.ErrNotExist):
		err = errors.New("the file is no longer there")
	}
	if err != nil && d.overLimit(asked.Engine, asked.Account) {
		err = fmt.Errorf("the account's databases hold more than they may: %w", err)
	}
	d.imports.mu.Lock()
	defer d.imports.mu.Unlock()
	if i.file != nil {
		i.progress()
	}
	one.Progress = i.now
	d.imports.end(one, err)
}

// overLimit reports whether an account's databases hold more than they may.
func (d *Databases) overLimit(kind databases.Engine, account int64) bool {
	d.knownMu.Lock()
	defer d.knownMu.Unlock()
	return slices.ContainsFunc(d.engines, func(e *known) bool {
		return e.kind() == kind && e.over[account].state != databases.Free
	})
}

// copy executes what is exported from another database.
func (d *Databases) copy(ctx context.Context, i *importing) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	from, to := io.Pipe()
	i.asked.Mend = true // what it came from names its own users
	i.file = &counting{in: from}
	exported := make(chan error, 1)
	go func() {
		err := d.export(ctx, agentlink.DatabaseExport{DatabaseVisit: *i.asked.Copy}, func() io.Writer { return to })
		to.CloseWithError(err) // nil is the end
		exported <- err
	}()
	err := d.execute(ctx, i)
	cancel()
	from.CloseWithError(io.ErrClosedPipe)
	if wrong := <-exported; err != nil && wrong != nil && errors.Is(err, wrong) {
		return fmt.Errorf("reading %s: %w", i.asked.Copy.Database, wrong)
	}
	return err
}
