package agent_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/databases"
	"victualler/internal/hosting/databases/dumps"
	"victualler/internal/lab"
	"victualler/internal/lab/labtest"
	"victualler/internal/manifest"
)

// visiting is a server with databases of two accounts, and who visits those of the first.
type visiting struct {
	s *lab.Server
	c *agentlink.Client
}

func (v visiting) visit(e databases.Engine, level databases.Level) agentlink.DatabaseVisit {
	return agentlink.DatabaseVisit{Account: 7, Engine: e, Database: databaseOf("bakery", e),
		User: "bakery_" + string(level) + string(e[0])}
}

func databaseOf(signIn string, e databases.Engine) string {
	return signIn + "_" + map[databases.Engine]string{databases.MariaDB: "shop", databases.PostgreSQL: "notes"}[e]
}

func (v visiting) ask(t *testing.T, at agentlink.DatabaseVisit, q agentlink.DatabaseQuestion) agentlink.DatabaseAnswer {
	t.Helper()
	q.DatabaseVisit = at
	told, err := v.c.AskDatabase(context.Background(), q)
	require.NoError(t, err)
	return told
}

// statement executes one and returns its rows, with bars between values, or what the engine says.
func (v visiting) statement(t *testing.T, at agentlink.DatabaseVisit, text string) string {
	t.Helper()
	told := v.ask(t, at, agentlink.DatabaseQuestion{Ask: agentlink.AskStatement, Statement: text})
	if told.Refused != "" {
		return "refused: " + told.Refused
	}
	var lines []string
	for _, row := range told.Result.Rows {
		var values []string
		for _, value := range row {
			if value == nil {
				values = append(values, "NULL")
			} else {
				values = append(values, *value)
			}
		}
		lines = append(lines, strings.Join(values, "|"))
	}
	return strings.Join(lines, "\n")
}

// file has a file received, and returns the import of it.
func (v visiting) file(t *testing.T, asked agentlink.NewImport, text []byte) agentlink.Import {
	t.Helper()
	asked.Size = int64(len(text))
	made, err := v.c.NewImport(context.Background(), asked)
	require.NoError(t, err)
	for part := range slices.Chunk(text, len(text)/2+1) {
		made, err = v.c.ContinueImport(context.Background(), asked.Account, made.Import.ID, made.Import.Received,
			bytes.NewReader(part))
		require.NoError(t, err)
	}
	return made.Import
}

func (v visiting) order(t *testing.T, one agentlink.Import, do string, mend bool) agentlink.ImportAnswer {
	t.Helper()
	told, err := v.c.OrderImport(context.Background(), agentlink.ImportOrder{Account: one.Account, ID: one.ID, Do: do,
		Mend: mend})
	require.NoError(t, err)
	return told
}

// now is what is known of an import.
func (v visiting) now(t *testing.T, one agentlink.Import) agentlink.Import {
	t.Helper()
	list, err := v.c.Imports(context.Background(), agentlink.ImportsOf{Account: one.Account})
	require.NoError(t, err)
	at := slices.IndexFunc(list.Imports, func(i agentlink.Import) bool { return i.ID == one.ID })
	require.GreaterOrEqual(t, at, 0)
	return list.Imports[at]
}

// ended starts an import, and returns how it has ended.
func (v visiting) ended(t *testing.T, one agentlink.Import, mend bool) agentlink.Import {
	t.Helper()
	v.order(t, one, agentlink.ImportStart, mend)
	labtest.Eventually(t, func() bool { return v.now(t, one).State != agentlink.ImportRuns })
	return v.now(t, one)
}

func (v visiting) load(t *testing.T, asked agentlink.NewImport, text string, mend bool) agentlink.ImportProgress {
	t.Helper()
	return v.ended(t, v.file(t, asked, []byte(text)), mend).Progress
}

func (v visiting) export(t *testing.T, asked agentlink.DatabaseExport) []byte {
	t.Helper()
	body, err := v.c.ExportDatabase(context.Background(), asked)
	require.NoError(t, err)
	defer body.Close()
	text, err := io.ReadAll(body)
	require.NoError(t, err)
	return text
}

func TestDatabaseVisits(t *testing.T) {
	s, c := databaseServer(t, "visits")
	applied(t, c, withDatabases(t, 7, 1, "bakery"))
	applied(t, c, withDatabases(t, 8, 1, "ferries"))
	v := visiting{s, c}
	for _, e := range databases.Engines {
		t.Run(string(e), func(t *testing.T) {
			all, read := v.visit(e, databases.All), v.visit(e, databases.Read)
			t.Run("looking in", func(t *testing.T) { v.looking(t, e, all, read) })
			t.Run("a file and back", func(t *testing.T) { v.thereAndBack(t, e, all, read) })
			t.Run("rows of CSV", func(t *testing.T) { v.csv(t, e, all) })
			t.Run("hostile files", func(t *testing.T) { v.hostile(t, e, all) })
			t.Run("cut off", func(t *testing.T) { v.cutOff(t, e, all) })
		})
	}
	t.Run("one account does not fill the disk", func(t *testing.T) {
		ctx, large := context.Background(), agentlink.NewImport{Name: "holes.sql", Size: 6 << 30}
		large.DatabaseVisit = v.visit(databases.MariaDB, databases.All)
		first, err := c.NewImport(ctx, large)
		require.NoError(t, err)
		large.DatabaseVisit = v.visit(databases.PostgreSQL, databases.All)
		_, err = c.NewImport(ctx, large)
		assert.ErrorContains(t, err, "10 GiB together")
		v.order(t, first.Import, agentlink.ImportForget, false)
		second, err := c.NewImport(ctx, large)
		require.NoError(t, err)
		v.order(t, second.Import, agentlink.ImportForget, false)
	})
	assert.Empty(t, drift(t, c), "who visits is no drift")
	t.Run("another password meanwhile", func(t *testing.T) {
		m := withDatabases(t, 7, 2, "bakery")
		for n, u := range m.Databases.Users {
			assert.Equal(t, "1", v.statement(t, v.visit(u.Engine, databases.All), "SELECT 1"))
			verifier, err := databases.Verifier(u.Engine, "another-Harbour-17-tern", []byte("salt of 16 bytes"))
			require.NoError(t, err)
			m.Databases.Users[n].Verifier = manifest.Secret(verifier)
		}
		applied(t, c, m)
		for _, e := range databases.Engines {
			assert.Equal(t, "1", v.statement(t, v.visit(e, databases.All), "SELECT 1"))
			_, err := engineOf(s, e, "bakery_all"+string(e[0]), databaseOf("bakery", e), "SELECT 1")
			assert.Error(t, err, "the one before is no longer good")
		}
		assert.Empty(t, drift(t, c))
		applied(t, c, withDatabases(t, 7, 3, "bakery"))
	})
	t.Run("nothing is left", func(t *testing.T) {
		labtest.Eventually(t, func() bool {
			return admin(t, s, databases.MariaDB, "SELECT count(*) FROM mysql.global_priv WHERE User LIKE "+
				"'bakery%' AND JSON_EXISTS(Priv, '$.auth_or[1]')") == "0" && admin(t, s, databases.PostgreSQL,
				"SELECT count(*) FROM pg_roles WHERE rolname LIKE 'victualler:%'") == "0"
		})
		for _, e := range databases.Engines {
			out, err := engineOf(s, e, "bakery_all"+string(e[0]), databaseOf("bakery", e), "SELECT 1")
			require.NoError(t, err, "their own password is good as before")
			assert.Equal(t, "1", out)
		}
	})
	t.Run("the agent is killed meanwhile", func(t *testing.T) {
		for _, e := range databases.Engines {
			v.statement(t, v.visit(e, databases.All), "SELECT 1")
		}
		_, err := s.Exec(context.Background(), "pkill", "-KILL", "-f", "victualler-agent")
		require.NoError(t, err)
		labtest.Eventually(t, func() bool {
			return admin(t, s, databases.MariaDB, "SELECT count(*) FROM mysql.global_priv WHERE User LIKE "+
				"'bakery%' AND JSON_EXISTS(Priv, '$.auth_or[1]')") == "0" && admin(t, s, databases.PostgreSQL,
				"SELECT count(*) FROM pg_roles WHERE rolname LIKE 'victualler:%'") == "0"
		})
	})
}

func (v visiting) looking(t *testing.T, e databases.Engine, all, read agentlink.DatabaseVisit) {
	schema := map[databases.Engine]string{databases.PostgreSQL: "public."}[e]
	assert.Empty(t, v.ask(t, all, agentlink.DatabaseQuestion{Ask: agentlink.AskTables}).Tables)
	require.Empty(t, v.statement(t, all, "CREATE TABLE boats (id int PRIMARY KEY, name varchar(40) NOT NULL, "+
		"note varchar(40) DEFAULT 'none')"))
	for n := range 5 {
		require.Empty(t, v.statement(t, all, fmt.Sprintf("INSERT INTO boats VALUES (%d, 'boat %[1]d', NULL)", n)))
	}
	tables := v.ask(t, read, agentlink.DatabaseQuestion{Ask: agentlink.AskTables}).Tables
	require.Len(t, tables, 1)
	assert.Equal(t, schema+"boats", tables[0].Name)
	assert.Positive(t, tables[0].Size)

	made := v.ask(t, read, agentlink.DatabaseQuestion{Ask: agentlink.AskStructure, Table: tables[0].Name}).Structure
	require.Len(t, made.Columns, 3)
	assert.Equal(t, "name", made.Columns[1].Name)
	assert.False(t, made.Columns[1].Null)
	require.NotNil(t, made.Columns[2].Default)
	require.Len(t, made.Indexes, 1)
	assert.Equal(t, agentlink.TableIndex{Name: made.Indexes[0].Name, Columns: []string{"id"}, Unique: true,
		Primary: true}, made.Indexes[0])

	page := v.ask(t, read, agentlink.DatabaseQuestion{Ask: agentlink.AskRows, Table: tables[0].Name, Offset: 1,
		Limit: 2}).Result
	assert.Equal(t, []string{"id", "name", "note"}, page.Columns)
	require.Len(t, page.Rows, 2)
	assert.Equal(t, "boat 1", *page.Rows[0][1])
	assert.Nil(t, page.Rows[0][2])
	assert.True(t, page.More)
	assert.Equal(t, "there is no table x; y", v.ask(t, read, agentlink.DatabaseQuestion{Ask: agentlink.AskRows,
		Table: "x; y"}).Refused)

	assert.Equal(t, "2", v.statement(t, read, "SELECT count(*) FROM boats WHERE id < 2"))
	assert.Contains(t, v.statement(t, read, "DELETE FROM boats"), "refused")
	assert.Contains(t, v.statement(t, all, "SELECT 1; SELECT 2"), "refused", "one statement at a time")
	assert.Contains(t, v.statement(t, all, "SELEC 1"), "refused")
	changed := v.ask(t, all, agentlink.DatabaseQuestion{Ask: agentlink.AskStatement,
		Statement: "UPDATE boats SET note = 'x' WHERE id < 3"})
	assert.EqualValues(t, 3, changed.Result.Affected)

	sleep := map[databases.Engine]string{databases.MariaDB: "SELECT sleep(60)",
		databases.PostgreSQL: "SELECT pg_sleep(60)"}[e]
	began := time.Now()
	told := v.ask(t, read, agentlink.DatabaseQuestion{Ask: agentlink.AskStatement, Statement: sleep,
		Longest: time.Second})
	assert.NotEmpty(t, told.Refused)
	assert.Less(t, time.Since(began), 20*time.Second)

	// As many as may be are being executed: they are seen nevertheless, and they are stopped.
	const most = 4
	done := make(chan agentlink.DatabaseAnswer, most)
	dozing := agentlink.DatabaseQuestion{DatabaseVisit: read, Ask: agentlink.AskStatement,
		Statement: sleep + " AS dozing, 'a secret' AS told", Longest: time.Minute}
	for range most {
		go func() {
			told, _ := v.c.AskDatabase(context.Background(), dozing)
			done <- told
		}()
	}
	var running []agentlink.RunningStatement
	labtest.Eventually(t, func() bool { // they are slow by then
		running = v.ask(t, all, agentlink.DatabaseQuestion{Ask: agentlink.AskRunning}).Running
		running = slices.DeleteFunc(running, func(one agentlink.RunningStatement) bool {
			return !strings.Contains(one.Statement, "dozing") || one.For < 3*time.Second
		})
		return len(running) == most
	})
	_, err := v.c.AskDatabase(context.Background(), dozing)
	assert.ErrorContains(t, err, "or stop it")
	other := v.visit(e, databases.All)
	other.Account, other.Database, other.User = 8, databaseOf("ferries", e), "ferries_all"+string(e[0])
	_, err = v.c.AskDatabase(context.Background(), agentlink.DatabaseQuestion{DatabaseVisit: other,
		Ask: agentlink.AskStop, ID: running[0].ID})
	assert.ErrorContains(t, err, "no longer running", "others stop nothing")
	for _, one := range running {
		v.ask(t, all, agentlink.DatabaseQuestion{Ask: agentlink.AskStop, ID: one.ID})
		<-done
	}
	slow := func(at agentlink.DatabaseVisit) (list []string) {
		for _, one := range v.ask(t, at, agentlink.DatabaseQuestion{Ask: agentlink.AskSlow}).Slow {
			assert.GreaterOrEqual(t, one.Tally().Longest, time.Second)
			list = append(list, one.User+": "+one.Statement)
		}
		return list
	}
	want := read.User + ": " + strings.Replace(sleep, "60", "…", 1) + " AS dozing, '…' AS told"
	labtest.Eventually(t, func() bool { return slices.Contains(slow(all), want) })
	assert.NotContains(t, slow(other), want)

	// Whoever asks has only what is the account's.
	for _, wrong := range []agentlink.DatabaseVisit{
		{Account: 7, Engine: e, Database: databaseOf("ferries", e), User: all.User},
		{Account: 7, Engine: e, Database: all.Database, User: "ferries_all" + string(e[0])},
		{Account: 7, Engine: e, Database: all.Database, User: map[databases.Engine]string{databases.MariaDB: "root",
			databases.PostgreSQL: "postgres"}[e]},
		{Account: 9, Engine: e, Database: all.Database, User: all.User}} {
		_, err := v.c.AskDatabase(context.Background(), agentlink.DatabaseQuestion{DatabaseVisit: wrong,
			Ask: agentlink.AskTables})
		assert.Error(t, err, "%+v", wrong)
	}
}

func (v visiting) thereAndBack(t *testing.T, e databases.Engine, all, read agentlink.DatabaseVisit) {
	text := v.export(t, agentlink.DatabaseExport{DatabaseVisit: read})
	assert.Contains(t, string(text), "boat 4")
	for how, open := range map[string]func(io.Reader) io.Reader{
		"gzip": func(in io.Reader) io.Reader { z, err := gzip.NewReader(in); require.NoError(t, err); return z },
		"zstd": func(in io.Reader) io.Reader { z, err := zstd.NewReader(in); require.NoError(t, err); return z }} {
		packed := v.export(t, agentlink.DatabaseExport{DatabaseVisit: all, Compression: how})
		inside, err := io.ReadAll(open(bytes.NewReader(packed)))
		require.NoError(t, err)
		assert.Contains(t, string(inside), "boat 4", how)
		require.Empty(t, v.statement(t, all, "DROP TABLE boats"))
		ended := v.load(t, agentlink.NewImport{DatabaseVisit: all}, string(packed), false)
		require.Empty(t, ended.Failure, how)
		assert.EqualValues(t, len(packed), ended.Taken)
		assert.Equal(t, "5", v.statement(t, read, "SELECT count(*) FROM boats"), how)
	}
	require.Empty(t, v.statement(t, all, "CREATE TABLE others (id int)"))
	part := string(v.export(t, agentlink.DatabaseExport{DatabaseVisit: all, Tables: []string{
		map[databases.Engine]string{databases.MariaDB: "others", databases.PostgreSQL: "public.others"}[e]}}))
	assert.Contains(t, part, "others")
	assert.NotContains(t, part, "boats")
	require.Empty(t, v.statement(t, all, "DROP TABLE others"))
	for _, table := range []string{"--result-file=/tmp/x", "nothing*", "../x", `x" OR 1`} {
		_, err := v.c.ExportDatabase(context.Background(), agentlink.DatabaseExport{DatabaseVisit: all,
			Tables: []string{table}})
		assert.Error(t, err, table)
	}
	_, err := v.c.ExportDatabase(context.Background(), agentlink.DatabaseExport{DatabaseVisit: all, Compression: "x"})
	assert.Error(t, err)
}

func (v visiting) csv(t *testing.T, e databases.Engine, all agentlink.DatabaseVisit) {
	require.Empty(t, v.statement(t, all, "CREATE TABLE ports (id int, name varchar(60))"))
	how := agentlink.CSVImport{Table: "ports", Separator: ",", Header: true}
	ended := v.load(t, agentlink.NewImport{DatabaseVisit: all, CSV: &how},
		"name,id\n\"Tern, Island\",1\n\"with \"\"quotes\"\"\",2\n", false)
	require.Empty(t, ended.Failure)
	assert.EqualValues(t, 2, ended.Rows)
	assert.Equal(t, "Tern, Island|1\nwith \"quotes\"|2", v.statement(t, all, "SELECT name, id FROM ports ORDER BY id"))
	for _, c := range []struct{ text, want string }{
		{"name,id\nx,notanumber\n", ""}, {"name,nothere\nx,1\n", ""}, {"\"", "first line"},
		{"name,id\na,1\nb," + strings.Repeat("x", 100) + "\n", ""}} {
		ended := v.load(t, agentlink.NewImport{DatabaseVisit: all, CSV: &how}, c.text, false)
		assert.NotEmpty(t, ended.Failure, c.text)
		assert.Contains(t, ended.Failure, c.want)
	}
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	_, err := z.Write([]byte("name,id\n" + strings.Repeat("a row of many,7\n", 100_000)))
	require.NoError(t, errors.Join(err, z.Close()))
	ended = v.load(t, agentlink.NewImport{DatabaseVisit: all, CSV: &how},
		packed.String()[:packed.Len()-20], false)
	assert.NotEmpty(t, ended.Failure, "a file that is cut")
	assert.Equal(t, "2", v.statement(t, all, "SELECT count(*) FROM ports"), "nothing of what failed is there")
	require.Empty(t, v.statement(t, all, "DROP TABLE ports"))
}

// hostile is what strangers may write into a file.
func (v visiting) hostile(t *testing.T, e databases.Engine, all agentlink.DatabaseVisit) {
	neighbour := databaseOf("ferries", e)
	files := map[string]string{
		"another's database": "CREATE TABLE " + neighbour + ".x (id int);",
		"a right":            "GRANT ALL ON *.* TO bakery_allm@localhost;",
		"a user":             "CREATE USER bakery_more;",
		"a program":          "SELECT 1;\n\\! touch /tmp/broken-out\n",
		"a client's file":    "SELECT 1;\n\\i /etc/passwd\n",
		"a binary":           "\x7fELF\x00\x01\x02",
		"an archive":         "PGDMP\x01",
		"not gzip":           "\x1f\x8b\x08broken",
	}
	if e == databases.MariaDB {
		files["a file of the server"] = "CREATE TABLE f (t text); LOAD DATA INFILE '/etc/passwd' INTO TABLE f;"
		files["a file of the agent"] = "CREATE TABLE g (t text); LOAD DATA LOCAL INFILE '/etc/passwd' INTO TABLE g;"
		files["into a file"] = "SELECT 1 INTO OUTFILE '/tmp/broken-out';"
		files["somebody else's rights"] = "CREATE DEFINER=root@localhost VIEW v AS SELECT 1;"
	} else {
		files["a right"] = "GRANT " + neighbour + ":owner TO bakery_allp;"
		files["a program of COPY"] = "CREATE TABLE f (t text); COPY f FROM PROGRAM 'touch /tmp/broken-out';"
		files["a file of COPY"] = "CREATE TABLE g (t text); COPY g FROM '/etc/passwd';"
		files["another database"] = "\\connect " + neighbour + "\nSELECT 1;"
		files["the engine's own user"] = "RESET SESSION AUTHORIZATION; SET ROLE postgres;"
	}
	for what, text := range files {
		ended := v.load(t, agentlink.NewImport{DatabaseVisit: all}, text, false)
		assert.NotEmpty(t, ended.Failure, what)
	}
	_, err := v.s.Exec(context.Background(), "test", "!", "-e", "/tmp/broken-out")
	assert.NoError(t, err)

	ended := v.load(t, agentlink.NewImport{DatabaseVisit: all},
		"SELECT 1;\n\nSELECT 2;\nINSERT INTO boats VALUES ('x', 1);\nSELECT 3;\n", false)
	assert.EqualValues(t, 4, ended.Line)
	assert.Contains(t, ended.Statement, "INSERT INTO boats")
	assert.EqualValues(t, 2, ended.Statements)

	mended := map[databases.Engine]string{
		databases.MariaDB: "CREATE DATABASE old;\nUSE old;\nGRANT ALL ON x TO y;\n" +
			"CREATE DEFINER=`root`@`localhost` VIEW seen AS SELECT current_user() AS me;\n",
		databases.PostgreSQL: "\\restrict abc\nSET transaction_timeout = 0;\nCREATE SCHEMA public;\n" +
			"CREATE VIEW seen AS SELECT current_user AS me;\nALTER VIEW seen OWNER TO root;\nGRANT ALL ON seen TO " +
			"x;\n" +
			"\\unrestrict abc\n"}[e]
	ended = v.load(t, agentlink.NewImport{DatabaseVisit: all}, mended, true)
	require.Empty(t, ended.Failure)
	assert.EqualValues(t, 1, ended.Mended[dumps.Rights])
	assert.Contains(t, v.statement(t, all, "SELECT * FROM seen"), map[databases.Engine]string{
		databases.MariaDB: "bakery_allm@localhost", databases.PostgreSQL: "bakery_notes:owner"}[e])
	require.Empty(t, v.statement(t, all, "DROP VIEW seen"))
	if e == databases.PostgreSQL {
		ended = v.load(t, agentlink.NewImport{DatabaseVisit: all},
			"RESET ROLE; CREATE TABLE mine (id int);", false)
		if ended.Failure == "" { // whose it is then is seen to when the visit ends
			labtest.Eventually(t, func() bool {
				return admin(t, v.s, e, "SELECT count(*) FROM pg_roles WHERE rolname LIKE 'victualler:%'") == "0"
			})
			require.Empty(t, v.statement(t, all, "DROP TABLE mine"))
		}
	}
	// What comes out of a small file is bounded: a line of a gigabyte by how long a statement may
	// be.
	var bomb bytes.Buffer
	z := gzip.NewWriter(&bomb)
	_, err = z.Write([]byte("SELECT '"))
	require.NoError(t, err)
	for range 1 << 10 {
		_, err = z.Write(bytes.Repeat([]byte("0"), 1<<20))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	ended = v.load(t, agentlink.NewImport{DatabaseVisit: all}, bomb.String(), false)
	assert.Contains(t, ended.Failure, "MiB")
}

// cutOff is a file that ends in the middle, and somebody who stops.
func (v visiting) cutOff(t *testing.T, e databases.Engine, all agentlink.DatabaseVisit) {
	require.Empty(t, v.statement(t, all, "CREATE TABLE counted (id int)"))
	var text strings.Builder
	for n := range 400_000 {
		fmt.Fprintf(&text, "INSERT INTO counted VALUES (%d);\n", n)
	}
	one := v.file(t, agentlink.NewImport{DatabaseVisit: all, Name: "counted.sql"}, []byte(text.String()))
	_, err := v.c.NewImport(context.Background(), agentlink.NewImport{DatabaseVisit: all, Size: 1})
	assert.ErrorContains(t, err, "import into "+all.Database, "one at a time")
	contents := v.order(t, one, agentlink.ImportLook, false).Contents
	assert.EqualValues(t, 400_000, contents.Statements)

	other := agentlink.ImportOrder{Account: 8, ID: one.ID, Do: agentlink.ImportStart}
	_, err = v.c.OrderImport(context.Background(), other)
	assert.ErrorContains(t, err, "no such import", "another account's")
	v.order(t, one, agentlink.ImportStart, false)
	labtest.Eventually(t, func() bool { return v.now(t, one).Progress.Statements > 0 })
	v.order(t, one, agentlink.ImportStop, false)
	labtest.Eventually(t, func() bool { return v.now(t, one).State == agentlink.ImportFailed })
	stopped := v.now(t, one)
	assert.Equal(t, "it was stopped", stopped.Progress.Failure)
	there := v.statement(t, all, "SELECT count(*) FROM counted")
	n, err := strconv.ParseInt(there, 10, 64)
	require.NoError(t, err)
	assert.InDelta(t, stopped.Progress.Statements, n, 1, "what was executed is told")
	assert.Less(t, n, int64(400_000))

	one = v.file(t, agentlink.NewImport{DatabaseVisit: all, Name: "again.sql"}, []byte(text.String()))
	v.order(t, one, agentlink.ImportStart, false)
	labtest.Eventually(t, func() bool { return v.now(t, one).Progress.Statements > 0 })
	_, err = v.s.Exec(context.Background(), "pkill", "-KILL", "-f", "victualler-agent")
	require.NoError(t, err)
	labtest.Eventually(t, func() bool {
		_, err := v.c.Status(context.Background())
		return err == nil
	})
	killed := v.now(t, one)
	assert.Equal(t, agentlink.ImportFailed, killed.State)
	assert.Contains(t, killed.Progress.Failure, "stopped meanwhile")
	assert.Positive(t, killed.Progress.Line)
	out, err := v.s.Exec(context.Background(), "find", "/var/lib/victualler-agent/imports", "-name", "*.file")
	require.NoError(t, err)
	assert.Empty(t, out, "no file is left")
	require.Empty(t, v.statement(t, all, "DROP TABLE counted"))
}
