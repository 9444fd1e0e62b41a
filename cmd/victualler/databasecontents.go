package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
)

func databaseContentCommands() []command {
	user := flagInfo{name: "user", value: "USER", usage: "in whose name; the one who may do the most otherwise"}
	compressions := []string{"gzip", "zstd", "none"}
	return []command{
		{noun: "database", verb: "tables", args: "ACCOUNT DATABASE", short: "List the tables of a database", list: true,
			flags: []flagInfo{user}, run: listTables},
		{noun: "database", verb: "structure", args: "ACCOUNT DATABASE TABLE",
			short: "Show the columns and indexes of a table", flags: []flagInfo{user}, run: showStructure},
		{noun: "database", verb: "rows", args: "ACCOUNT DATABASE TABLE", short: "Show rows of a table",
			flags: []flagInfo{user, {name: "offset", value: "N", usage: "leave out as many at the beginning"},
				{name: "rows", value: "N", usage: "how many; 100 otherwise, 1000 at most"}}, run: showRows},
		{noun: "database", verb: "execute", args: "ACCOUNT DATABASE STATEMENT", short: "Execute one statement of SQL",
			long: "- reads it from standard input. It is executed in the name of a user, and recorded with its " +
				"beginning.",
			flags: []flagInfo{user, {name: "rows", value: "N", usage: "how many rows; 100 otherwise, 1000 at most"},
				{name: "seconds", value: "N", usage: "how long it may take; 30 otherwise, 300 at most"}},
			run: executeStatement},
		{noun: "database", verb: "running", args: "ACCOUNT DATABASE",
			short: "Show what is being executed in a database",
			list:  true, run: listRunning},
		{noun: "database", verb: "slow", args: "ACCOUNT DATABASE",
			short: "Show what was slow in a database within the last day", list: true,
			long: "Statements that took a second or longer, without their values; those first that took most of the " +
				"database's time.",
			run: listSlow},
		{noun: "database", verb: "stop", args: "ACCOUNT DATABASE NUMBER",
			short: "Stop a statement that is being executed",
			run: func(ctx context.Context, c *call) error {
				if _, err := strconv.ParseInt(c.args[2], 10, 64); err != nil {
					return usageError{fmt.Sprintf("%q is no number; “victualler database running” shows them",
						c.args[2])}
				}
				if err := c.client.Do(ctx, client.Call{Method: http.MethodDelete,
					Path: databasePath(c) + "/running/" + c.args[2]}, nil); err != nil {
					return err
				}
				c.say("the statement %s is stopped", c.args[2])
				return nil
			}},
		{noun: "database", verb: "export", args: "ACCOUNT DATABASE [FILE]", stream: true,
			short: "Export a database into a new file, or to standard output",
			long: "Statements of SQL with all contents at one moment. How it is compressed follows from the name " +
				"of the file: .gz, .zst, or not.",
			flags: []flagInfo{user, {name: "tables", value: "LIST", usage: "only these, with commas between them"},
				{name: "compression", value: "NAME", usage: orList(compressions), values: compressions}},
			run: exportDatabase},
		{noun: "database", verb: "import", args: "ACCOUNT DATABASE [FILE]", preview: true,
			short: "Import a file of SQL or CSV, as it is or compressed",
			long: "The file is sent, looked at, and executed in the name of a user, up to the first statement that " +
				"fails. An import that was interrupted while the file was sent goes on with --continue.",
			flags: []flagInfo{user, {name: "mend", usage: "mend what has one meaning here, without asking"},
				{name: "no-mend", usage: "execute the file as it is, without asking"},
				{name: "from-home", usage: "the file is in the account's home, and not here"},
				{name: "csv", value: "TABLE", usage: "the file has rows for this table"},
				{name: "separator", value: "CHARACTER", usage: "between values of CSV; a comma otherwise"},
				{name: "no-header", usage: "the first line of CSV is a row, and has no names of columns"},
				{name: "continue", value: "IMPORT", usage: "an import whose file is not whole yet"},
				{name: "no-wait", usage: "return when it has been started"}},
			run: importDatabase},
		{noun: "database", verb: "copy", args: "ACCOUNT FROM TO",
			short: "Copy the contents of a database into another one of the same account and engine",
			long: "Tables that are there already are written over. Add the other database first, with a user who " +
				"may do everything.",
			flags: []flagInfo{user, {name: "no-wait", usage: "return when it has been started"}, yesFlag},
			run:   copyDatabase},
		{noun: "database", verb: "imports", args: "ACCOUNT", short: "List the imports into databases of an account",
			list: true, run: listImports},
		{noun: "database", verb: "stop-import", args: "ACCOUNT IMPORT",
			short: "Stop an import; what it has executed stays",
			run: func(ctx context.Context, c *call) error {
				var one api.DatabaseImport
				if err := c.client.Post(ctx, importPath(c.args[0], c.args[1])+"/stop", nil, &one); err != nil {
					return err
				}
				c.say("the import into %s stops", one.Database)
				return nil
			}},
		{noun: "database", verb: "remove-import", args: "ACCOUNT IMPORT",
			short: "Remove the file of an import, and what is known of it",
			run: func(ctx context.Context, c *call) error {
				return c.remove(ctx, importPath(c.args[0], c.args[1]), "import "+c.args[1])
			}},
	}
}

func importPath(account, id string) string {
	return "/accounts/" + url.PathEscape(account) + "/database-imports/" + url.PathEscape(id)
}

func listTables(ctx context.Context, c *call) error {
	var list api.DatabaseTables
	if err := c.client.Get(ctx, databasePath(c)+"/tables", c.filters("user"), &list); err != nil {
		return err
	}
	return printList(c, list.Tables, false, "no tables that "+list.User+" sees", []column[api.DatabaseTable]{
		col("TABLE", 0, func(t api.DatabaseTable) any { return t.Name }),
		col("KIND", 1, func(t api.DatabaseTable) any { return map[bool]string{true: "view", false: "table"}[t.View] }),
		col("ROWS, ABOUT", 0, func(t api.DatabaseTable) any {
			if t.Rows == nil {
				return nil
			}
			return *t.Rows
		}),
		col("SIZE", 0, func(t api.DatabaseTable) any { return sizeOf(&t.Size) }),
	})
}

func showStructure(ctx context.Context, c *call) error {
	query := c.filters("user")
	query.Set("table", c.args[2])
	var s api.TableStructure
	if err := c.client.Get(ctx, databasePath(c)+"/structure", query, &s); err != nil {
		return err
	}
	g := rows("COLUMN|TYPE|EMPTY|DEFAULT")
	for _, one := range s.Columns {
		usual := ""
		if one.Default != nil {
			usual = *one.Default
		}
		g.add(one.Name, one.Type, map[bool]string{true: "may be", false: "never"}[one.Null], usual)
	}
	return c.show(s, g, func() error {
		c.table(g)
		if len(s.Indexes) == 0 {
			return nil
		}
		fmt.Fprintln(c.out)
		indexes := rows("INDEX|COLUMNS|KIND")
		for _, i := range s.Indexes {
			kind := map[bool]string{true: "unique", false: ""}[i.Unique]
			if i.Primary {
				kind = "primary key"
			}
			indexes.add(i.Name, strings.Join(i.Columns, ", "), kind)
		}
		c.table(indexes)
		return nil
	})
}

// number reads a flag with a number; 0 is not given.
func (c *call) number(name string) (int, error) {
	if c.value(name) == "" {
		return 0, nil
	}
	n, err := strconv.Atoi(c.value(name))
	if err != nil || n < 0 {
		return 0, usageError{fmt.Sprintf("--%s: %q is no number", name, c.value(name))}
	}
	return n, nil
}

func showRows(ctx context.Context, c *call) error {
	query := c.filters("user", "offset", "rows")
	query.Set("table", c.args[2])
	for _, name := range []string{"offset", "rows"} {
		if _, err := c.number(name); err != nil {
			return err
		}
	}
	var r api.StatementResult
	if err := c.client.Get(ctx, databasePath(c)+"/rows", query, &r); err != nil {
		return err
	}
	return c.showResult(r)
}

func executeStatement(ctx context.Context, c *call) error {
	body := api.NewStatement{Statement: c.args[2], User: c.value("user")}
	if c.args[2] == "-" {
		text, err := c.readInput(ctx, "-")
		if err != nil {
			return err
		}
		body.Statement = string(text)
	}
	var err, wrong error
	body.Rows, err = c.number("rows")
	body.Seconds, wrong = c.number("seconds")
	if err := errors.Join(err, wrong); err != nil {
		return err
	}
	var r api.StatementResult
	if err := c.client.Post(ctx, databasePath(c)+"/statements", body, &r); err != nil {
		return err
	}
	return c.showResult(r)
}

// showResult shows rows, or how many were changed.
func (c *call) showResult(r api.StatementResult) error {
	if len(r.Columns) == 0 {
		return c.show(r, pairs("changed", r.Affected), func() error {
			c.say("%s changed, as %s, in %.2f s", counted(int(r.Affected), "row"), r.User, r.Seconds)
			return nil
		})
	}
	g := &grid{}
	for _, name := range r.Columns {
		g.columns = append(g.columns, heading{title: name})
	}
	for _, row := range r.Rows {
		cells := make([]any, len(row))
		for n, value := range row {
			switch {
			case value != nil:
				cells[n] = *value
			case c.forPeople():
				cells[n] = "NULL"
			}
		}
		g.add(cells...)
	}
	return c.show(r, g, func() error {
		c.table(g)
		more := ""
		if r.More {
			more = ", and there are more (--rows)"
		}
		c.note(fmt.Sprintf("%s, as %s, in %.2f s%s", counted(len(r.Rows), "row"), r.User, r.Seconds, more))
		return nil
	})
}

func listRunning(ctx context.Context, c *call) error {
	var list api.RunningStatements
	if err := c.client.Get(ctx, databasePath(c)+"/running", nil, &list); err != nil {
		return err
	}
	return printList(c, list.Running, false, "nothing is being executed", []column[api.RunningStatement]{
		col("NUMBER", 0, func(r api.RunningStatement) any { return r.ID }),
		col("USER", 0, func(r api.RunningStatement) any { return r.User }),
		col("FOR", 0, func(r api.RunningStatement) any { return time.Duration(r.Seconds * float64(time.Second)) }),
		col("STATE", 1, func(r api.RunningStatement) any { return r.State }),
		col("STATEMENT", 0, func(r api.RunningStatement) any { return r.Statement }),
	})
}

func listSlow(ctx context.Context, c *call) error {
	var list api.SlowStatements
	if err := c.client.Get(ctx, databasePath(c)+"/slow", nil, &list); err != nil {
		return err
	}
	took := func(seconds float64) any { return time.Duration(seconds * float64(time.Second)) }
	return printList(c, list.Slow, false, "nothing took a second or longer within the last day",
		[]column[api.SlowStatement]{
			col("TIMES", 0, func(s api.SlowStatement) any { return s.Count }),
			col("TOGETHER", 0, func(s api.SlowStatement) any { return took(s.Total) }),
			col("LONGEST", 0, func(s api.SlowStatement) any { return took(s.Longest) }),
			col("LAST", 1, func(s api.SlowStatement) any { return s.LastAt }),
			col("USER", 2, func(s api.SlowStatement) any { return s.User }),
			col("STATEMENT", 0, func(s api.SlowStatement) any { return s.Statement }),
		})
}

func exportDatabase(ctx context.Context, c *call) error {
	query := c.filters("user", "compression")
	for _, t := range words(c.value("tables")) {
		query.Add("tables", t)
	}
	path := databasePath(c) + "/export"
	if len(c.args) < 3 {
		return c.client.Download(ctx, path, query, c.out)
	}
	name := c.args[2]
	if c.value("compression") == "" {
		query.Set("compression", map[string]string{".gz": "gzip", ".zst": "zstd"}[filepath.Ext(name)])
		if query.Get("compression") == "" {
			query.Set("compression", "none")
		}
	}
	file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return usageError{fmt.Sprintf("%s is there already; name a new file", name)}
	}
	if err != nil {
		return err
	}
	written := &writtenSize{to: file}
	err = errors.Join(c.client.Download(ctx, path, query, written), file.Close())
	if err != nil { // half of a database is none
		if errors.Is(err, io.ErrUnexpectedEOF) {
			err = errors.New("the export was cut off before its end; nothing is kept. Try again, or look at the server")
		}
		return errors.Join(err, os.Remove(name))
	}
	c.note(fmt.Sprintf("%s, %s", name, plans.FormatSize(written.size)))
	return nil
}

// writtenSize counts what is written.
type writtenSize struct {
	to   io.Writer
	size int64
}

// Write implements io.Writer.
func (w *writtenSize) Write(p []byte) (int, error) {
	n, err := w.to.Write(p)
	w.size += int64(n)
	return n, err
}

func importDatabase(ctx context.Context, c *call) error {
	if c.on("mend") && c.on("no-mend") {
		return usageError{"--mend or --no-mend, not both"}
	}
	if len(c.args) < 3 {
		return usageError{"name the file; with --continue, the same one again"}
	}
	prepare := c.sentImport
	if c.on("from-home") {
		prepare = c.homeImport
	}
	one, err := prepare(ctx)
	if err != nil {
		return err
	}
	mend := c.on("mend")
	if one.Table == "" {
		if mend, err = c.fileContents(ctx, one); err != nil {
			return err
		}
	}
	if c.on("preview") {
		return c.client.Do(ctx, client.Call{Method: http.MethodDelete, Path: importPath(c.args[0], one.ID)}, nil)
	}
	return c.startImport(ctx, one, mend)
}

// preparedImport is one that goes on, or a new one of a file.
func (c *call) preparedImport(ctx context.Context, body api.NewImport) (one api.DatabaseImport, err error) {
	if id := c.value("continue"); id != "" {
		return one, c.client.Get(ctx, importPath(c.args[0], id), nil, &one)
	}
	body.User = c.value("user")
	if table := c.value("csv"); table != "" {
		body.CSV = &api.CSVFormat{Table: table, Separator: c.value("separator"), Header: !c.on("no-header")}
	}
	return one, c.client.Post(ctx, databasePath(c)+"/imports", body, &one)
}

// sentImport prepares an import of a file that is here, and sends it.
func (c *call) sentImport(ctx context.Context) (api.DatabaseImport, error) {
	var one api.DatabaseImport
	file, err := os.Open(c.args[2])
	if err != nil {
		return one, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return one, err
	}
	if !info.Mode().IsRegular() {
		return one, usageError{c.args[2] + " is no file"}
	}
	if one, err = c.preparedImport(ctx, api.NewImport{Name: filepath.Base(c.args[2]), Size: info.Size()}); err != nil {
		return one, err
	}
	if one.Size != info.Size() {
		return one, fmt.Errorf("the import is of a file of %d bytes, and %s has %d; name the same file", one.Size,
			c.args[2], info.Size())
	}
	return c.sendFile(ctx, one, file)
}

// homeImport prepares an import of a file in the account's home, and waits until the server of the
// database has received it.
func (c *call) homeImport(ctx context.Context) (api.DatabaseImport, error) {
	one, err := c.preparedImport(ctx, api.NewImport{HomeFile: c.args[2]})
	if err != nil {
		return one, err
	}
	line := liveLine{call: c}
	defer line.clear()
	for one.State == "waiting" && one.Received < one.Size {
		line.show(fmt.Sprintf("reading %s: %d %%", one.Name, one.Received*100/one.Size))
		select {
		case <-ctx.Done():
			line.clear()
			return one, fmt.Errorf("interrupted; the file is still being read. Go on with: victualler database import "+
				"%s %s %s --from-home --continue %s, or remove it with: victualler database remove-import %s %s: %w",
				c.args[0], one.Database, c.args[2], one.ID, c.args[0], one.ID, errInterrupted)
		case <-time.After(200 * time.Millisecond):
		}
		if err := c.client.Get(ctx, importPath(c.args[0], one.ID), nil, &one); err != nil && ctx.Err() == nil {
			return one, err
		}
	}
	if one.State == "failed" {
		return one, errors.New(one.Failure)
	}
	return one, nil
}

// partSize is how much of a file is sent at once, in bytes.
const partSize = 4 << 20

// sendFile sends what is missing of an import's file. A part that is lost on its way is sent again.
func (c *call) sendFile(ctx context.Context, one api.DatabaseImport, file *os.File) (api.DatabaseImport, error) {
	line := liveLine{call: c}
	defer line.clear()
	part := make([]byte, partSize)
	for failures := 0; one.Received < one.Size; {
		n, err := file.ReadAt(part[:min(partSize, one.Size-one.Received)], one.Received)
		if n == 0 {
			return one, errors.Join(err, errors.New("the file has become shorter"))
		}
		line.show(fmt.Sprintf("sending %s: %d %%", one.Name, one.Received*100/one.Size))
		err = c.client.Upload(ctx, importPath(c.args[0], one.ID)+"/file?offset="+strconv.FormatInt(one.Received, 10),
			part[:n])
		if err == nil {
			failures, one.Received = 0, one.Received+int64(n)
			continue
		}
		var problem *api.Problem
		if failures++; ctx.Err() != nil || failures > 5 || errors.As(err, &problem) && problem.Status < 500 {
			line.clear()
			c.note(fmt.Sprintf("%s of %s are there; go on with: victualler database import %s %s %s --continue %s",
				plans.FormatSize(one.Received), plans.FormatSize(one.Size), c.args[0], one.Database, c.args[2], one.ID))
			return one, err
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Duration(failures) * time.Second):
		}
		// It may have come all the same, wholly or in part.
		var now api.DatabaseImport
		if c.client.Get(ctx, importPath(c.args[0], one.ID), nil, &now) == nil {
			one.Received = now.Received
		}
	}
	return one, nil
}

// fileContents says what is in an import's file, and finds out whether it is to be mended.
func (c *call) fileContents(ctx context.Context, one api.DatabaseImport) (mend bool, err error) {
	forget := func() {
		_ = c.client.Do(context.WithoutCancel(ctx), client.Call{Method: http.MethodDelete,
			Path: importPath(c.args[0], one.ID)}, nil)
	}
	var in api.FileContents
	if err := c.client.Get(ctx, importPath(c.args[0], one.ID)+"/contents", nil, &in); err != nil {
		forget()
		return false, err
	}
	if c.on("preview") && !c.forPeople() {
		return false, c.json(in)
	}
	c.sayContents(in)
	if c.on("preview") || c.on("no-mend") || c.on("mend") {
		return c.on("mend"), nil
	}
	if !slices.ContainsFunc(in.Found, func(f api.FoundInFile) bool { return f.Mended }) {
		return false, nil
	}
	if !c.term.asks() {
		forget()
		return false, usageError{"the file has statements that are not executed here as they are; say --mend, or " +
			"--no-mend to have it executed as it is"}
	}
	if err := c.confirm(ctx, "Have that mended, and import the file?"); err != nil {
		forget()
		return false, err
	}
	return true, nil
}

// sayContents says what is in a file.
func (c *call) sayContents(in api.FileContents) {
	if !c.forPeople() {
		return
	}
	from := map[string]string{"mariadb": "MariaDB", "postgresql": "PostgreSQL"}[in.Engine]
	if from != "" {
		from = " from " + strings.TrimSpace(from+" "+in.Version)
	}
	of := ""
	if !in.Whole {
		of = " in its first GiB"
	}
	c.say("%s%s, %s%s, %s without compression", counted(int(in.Statements), "statement"), from,
		counted(len(in.Tables), "table"), of, plans.FormatSize(in.Size))
	for _, f := range in.Found {
		c.say("line %d: %s (%s)\n    %s", f.Line, f.Text, counted(int(f.Count), "statement"), f.Example)
	}
}

func (c *call) startImport(ctx context.Context, one api.DatabaseImport, mend bool) error {
	if err := c.client.Post(ctx, importPath(c.args[0], one.ID)+"/start", api.StartImport{Mend: mend},
		&one); err != nil {
		return err
	}
	if c.on("no-wait") {
		c.say("%s", one.ID)
		return nil
	}
	return c.followImport(ctx, one)
}

// followImport waits until an import has ended.
func (c *call) followImport(ctx context.Context, one api.DatabaseImport) error {
	line := liveLine{call: c}
	defer line.clear()
	path, account := importPath(c.args[0], one.ID), c.args[0]
	for one.State == "running" {
		text := fmt.Sprintf("importing into %s: line %d, %s", one.Database, one.Line, counted(int(one.Statements),
			"statement"))
		if one.Size > 0 {
			text += fmt.Sprintf(", %d %%", one.Taken*100/one.Size)
		}
		line.show(text)
		select {
		case <-ctx.Done():
			line.clear()
			return fmt.Errorf("interrupted; the import goes on: victualler database imports %s; stop it with: "+
				"victualler database stop-import %s %s: %w", account, account, one.ID, errInterrupted)
		case <-time.After(500 * time.Millisecond):
		}
		if err := c.client.Get(ctx, path, nil, &one); err != nil && ctx.Err() == nil {
			return err
		}
	}
	line.clear()
	if one.State == "failed" {
		text := one.Failure
		if one.Line > 0 {
			text = fmt.Sprintf("line %d: %s", one.Line, text)
		}
		if one.Statement != "" {
			text += fmt.Sprintf(" (%s)", one.Statement)
		}
		return errors.New(text + "; " + importedSoFar(one))
	}
	for _, m := range one.Mended {
		c.note(fmt.Sprintf("%s: %s", counted(int(m.Count), "statement"), m.What))
	}
	return c.show(one, pairs("import", one.ID, "database", one.Database, "statements", one.Statements, "rows",
		one.Rows),
		func() error {
			took := ""
			if one.BegunAt != nil && one.EndedAt != nil {
				took = " in " + seconds(one.EndedAt.Sub(*one.BegunAt))
			}
			c.say("%s imported as %s%s", imported(one), one.User, took)
			return nil
		})
}

// imported is what has been imported.
func imported(one api.DatabaseImport) string {
	if one.Table != "" {
		return counted(int(one.Rows), "row")
	}
	return counted(int(one.Statements), "statement")
}

// importedSoFar says what is there of an import that has failed.
func importedSoFar(one api.DatabaseImport) string {
	if one.Table != "" {
		return "no rows were added"
	}
	if one.Statements == 0 {
		return "nothing was executed"
	}
	return "what was executed before that stays: " + imported(one)
}

func copyDatabase(ctx context.Context, c *call) error {
	if err := c.confirm(ctx, fmt.Sprintf("Copy %s into %s? Tables of the same names there are written over.", c.args[1],
		c.args[2])); err != nil {
		return err
	}
	var one api.DatabaseImport
	if err := c.client.Post(ctx, databasesPath(c)+"/"+url.PathEscape(c.args[2])+"/imports",
		api.NewImport{CopyOf: c.args[1], User: c.value("user")}, &one); err != nil {
		return err
	}
	return c.startImport(ctx, one, true)
}

func listImports(ctx context.Context, c *call) error {
	var list api.ImportList
	if err := c.client.Get(ctx, "/accounts/"+url.PathEscape(c.args[0])+"/database-imports", nil, &list); err != nil {
		return err
	}
	return printList(c, list.Imports, false, "no imports; they are listed for a week", []column[api.DatabaseImport]{
		col("IMPORT", 0, func(i api.DatabaseImport) any { return i.ID }),
		col("DATABASE", 0, func(i api.DatabaseImport) any { return i.Database }),
		col("FROM", 0, func(i api.DatabaseImport) any {
			if i.CopyOf != "" {
				return i.CopyOf
			}
			return i.Name
		}),
		col("STATE", 0, func(i api.DatabaseImport) any { return importState(i) }),
		col("DONE", 0, func(i api.DatabaseImport) any { return imported(i) }),
		col("USER", 2, func(i api.DatabaseImport) any { return i.User }),
		col("ADDED", 1, func(i api.DatabaseImport) any { return i.AddedAt }),
		col("FAILURE", 1, func(i api.DatabaseImport) any {
			if i.Failure == "" {
				return nil
			}
			return fmt.Sprintf("line %d: %s", i.Line, i.Failure)
		}),
	})
}

// importState is the state of an import, in words.
func importState(i api.DatabaseImport) string {
	switch {
	case i.State == "waiting" && i.Received < i.Size:
		return fmt.Sprintf("%d %% received", i.Received*100/i.Size)
	case i.State == "waiting":
		return "not started"
	case i.State == "running" && i.Size > 0:
		return fmt.Sprintf("%d %%", i.Taken*100/i.Size)
	}
	return i.State
}

// liveLine is a line of a terminal that is drawn in place; elsewhere it is not there.
type liveLine struct {
	call  *call
	drawn bool
}

func (l *liveLine) show(text string) {
	if columns := l.call.term.columns(); columns > 0 && l.call.forPeople() {
		l.clear()
		fmt.Fprint(l.call.term.err, shortened(text, max(columns-2, narrowest))+" …")
		l.drawn = true
	}
}

func (l *liveLine) clear() {
	if l.drawn {
		fmt.Fprint(l.call.term.err, "\r\x1b[K")
		l.drawn = false
	}
}
