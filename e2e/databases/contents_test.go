package databases

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/e2e/browser"
	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/plans"
)

// written is a new file with a text.
func written(t *testing.T, name, text string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	return file
}

// ran runs the client, which must do what is asked.
func ran(t *testing.T, args ...string) string {
	t.Helper()
	out, errOut, exit := e2e.Command(t, args...)
	require.Zero(t, exit, "%s\n%s%s", args, out, errOut)
	return out + errOut
}

func TestContentsOfDatabases(t *testing.T) {
	e2e.Shared(t)
	a := holding(t, "reader", "fulmar", plans.Limits{plans.Databases: plans.Of(6),
		plans.DatabaseSize: plans.Of(100 * plans.MiB)})
	for _, engine := range []string{"mariadb", "postgresql"} {
		t.Run(engine, func(t *testing.T) {
			from, to := "from"+engine[:1], "to"+engine[:1]
			stored(t, a, api.NewDatabase{Name: from, Engine: engine, User: "app" + engine[:1]})
			require.NoError(t, e2e.Inst.Client.Post(context.Background(), at(a)+"/databases",
				api.NewDatabase{Name: to, Engine: engine, User: "app" + engine[:1]}, nil))
			var text strings.Builder
			text.WriteString("CREATE TABLE boats (id int PRIMARY KEY, name text);\n")
			for n := range 500 {
				fmt.Fprintf(&text, "INSERT INTO boats VALUES (%d, 'it''s boat; %d');\n", n, n)
			}
			text.WriteString("GRANT ALL ON boats TO somebody;\n")
			file := written(t, "boats.sql", text.String())

			_, errOut, exit := e2e.Command(t, "database", "import", "reader", from, file)
			assert.NotZero(t, exit)
			assert.Contains(t, errOut, "--mend", "nothing is mended without being asked")
			assert.NotContains(t, ran(t, "database", "imports", "reader"), "not started", "and nothing is left of it")
			assert.Contains(t, ran(t, "database", "import", "reader", from, file, "--preview"), "line 502")
			assert.Contains(t, ran(t, "database", "import", "reader", from, file, "--mend"), "501 statements imported")
			assert.Contains(t, ran(t, "database", "tables", "reader", from), "boats")
			assert.Contains(t, ran(t, "database", "structure", "reader", from, "boats"), "primary key")
			assert.Contains(t, ran(t, "database", "rows", "reader", from, "boats", "--rows", "2"), "boat; 1")
			// Statements are pasted as programs have them, over several lines.
			out := ran(t, "database", "execute", "reader", from, "SELECT count(*) AS n\n\tFROM boats\n", "-o", "json")
			assert.Contains(t, out, `"500"`)

			// Elsewhere and back again.
			packed := filepath.Join(t.TempDir(), "boats.sql.zst")
			ran(t, "database", "export", "reader", from, packed)
			ran(t, "database", "execute", "reader", from, "DROP TABLE boats")
			ran(t, "database", "import", "reader", from, packed)
			ran(t, "database", "copy", "reader", from, to, "--yes")
			for _, name := range []string{from, to} {
				assert.Contains(t, ran(t, "database", "execute", "reader", name, "SELECT count(*) AS n FROM boats"),
					"500", name)
			}
			rows := written(t, "more.csv", "id,name\n1000,\"a boat, with a comma\"\n1001,another\n")
			assert.Contains(t, ran(t, "database", "import", "reader", from, rows, "--csv", "boats"), "2 rows")

			wrong := written(t, "wrong.sql", "DELETE FROM boats WHERE id = 0;\n\nSELECT nothing;\nDELETE FROM boats;\n")
			_, errOut, exit = e2e.Command(t, "database", "import", "reader", from, wrong)
			assert.NotZero(t, exit)
			assert.Contains(t, errOut, "line 3: ")
			assert.Contains(t, errOut, "1 statement")
			assert.Contains(t, ran(t, "database", "execute", "reader", from, "SELECT count(*) AS n FROM boats"), "501")
		})
	}
	t.Run("from the home", func(t *testing.T) { fromHome(t, a) })
	t.Run("in parts, and by whom it may", func(t *testing.T) {
		ctx, c := context.Background(), e2e.Inst.Client
		text := "CREATE TABLE parts (id int);\nINSERT INTO parts VALUES (1);\n"
		var one api.DatabaseImport
		require.NoError(t, c.Post(ctx, at(a)+"/databases/fromm/imports", api.NewImport{Name: "x.sql",
			Size: int64(len(text))}, &one))
		file := func(offset int) string {
			return fmt.Sprintf("%s/database-imports/%s/file?offset=%d", at(a), one.ID, offset)
		}
		require.NoError(t, c.Upload(ctx, file(0), []byte(text[:10])))
		assert.Equal(t, 409, e2e.ProblemOf(t, c.Upload(ctx, file(0), []byte(text))).Status, "it goes on behind it")
		assert.Equal(t, 409, e2e.ProblemOf(t, c.Post(ctx, at(a)+"/database-imports/"+one.ID+"/start",
			api.StartImport{}, nil)).Status, "it is not whole")
		require.NoError(t, c.Upload(ctx, file(10), []byte(text[10:])))
		assert.Equal(t, 409, e2e.ProblemOf(t, c.Post(ctx, at(a)+"/databases/fromm/imports", api.NewImport{Size: 5},
			nil)).Status, "one at a time")
		require.NoError(t, c.Do(ctx, client.Call{Method: http.MethodDelete, Path: at(a) + "/database-imports/" +
			one.ID}, nil))
		large := written(t, "large.sql", "SELECT 1;\n"+strings.Repeat("-- a comment of some length\n",
			400_000)+"SELECT 2;\n")
		assert.Contains(t, ran(t, "database", "import", "reader", "fromm", large), "2 statements imported")
		require.NoError(t, c.Post(ctx, at(a)+"/databases/fromm/imports", api.NewImport{Name: "x.sql", Size: 5}, &one))
		b := holding(t, "stranger", "fulmar", plans.Limits{plans.Databases: plans.Of(1),
			plans.DatabaseSize: plans.Of(10 * plans.MiB)})
		assert.Equal(t, 404, e2e.ProblemOf(t, c.Post(ctx, at(b)+"/database-imports/"+one.ID+"/start",
			api.StartImport{}, nil)).Status, "another account's")
		assert.Equal(t, 404, e2e.ProblemOf(t, c.Get(ctx, at(b)+"/databases/reader_fromm/tables", nil, nil)).Status)
		require.NoError(t, c.Do(ctx, client.Call{Method: http.MethodDelete, Path: at(a) + "/database-imports/" +
			one.ID}, nil))
		events := ran(t, "event", "list", "-o", "json")
		assert.Contains(t, events, "database.statement")
		assert.Contains(t, events, "database.export")
		assert.Contains(t, events, "database.import")
	})
	t.Run("a statement is stopped", func(t *testing.T) {
		done := make(chan string)
		go func() {
			out, errOut, _ := e2e.Command(t, "database", "execute", "reader", "fromm", "SELECT sleep(50) AS dozing")
			done <- out + errOut
		}()
		var list api.RunningStatements
		require.Eventually(t, func() bool {
			return e2e.Inst.Client.Get(context.Background(), at(a)+"/databases/fromm/running", nil, &list) == nil &&
				len(list.Running) > 0
		}, time.Minute, 100*time.Millisecond)
		assert.Contains(t, ran(t, "database", "running", "reader", "fromm"), "dozing")
		ran(t, "database", "stop", "reader", "fromm", fmt.Sprint(list.Running[0].ID))
		<-done
	})
	t.Run("console", func(t *testing.T) {
		file := written(t, "ports.sql", "CREATE TABLE ports (id int, name text);\n"+
			"INSERT INTO ports VALUES (1, 'Northquay'), (2, NULL);\nGRANT ALL ON ports TO x;\n")
		ctx := e2e.OpenBrowser(t, 1280, 800)
		e2e.Do(t, ctx, chromedp.Navigate(e2e.Inst.Address()+"/accounts/reader/databases"), e2e.SignIn(),
			browser.Click("a[aria-label='Contents of reader_fromm']", "Contents"),
			browser.Sees("code", "boats"),
			chromedp.SetUploadFiles("input[type=file]", []string{file}),
			browser.Sees(".el-message-box", "who may what is set here"), browser.Confirm("Mend and import"),
			browser.Sees(".imports td", "2 statements"), browser.Click("button.link code", "ports"),
			browser.Sees("td", "Northquay"), browser.Sees("td", "NULL"))
		e2e.Healthy(t, ctx, "contents of a database")
		e2e.Do(t, ctx, browser.Type("#statement", "SELECT 41 + 1\nAS answer"), browser.Click("button[type=submit]",
			"Execute"),
			browser.Sees("td", "42"), browser.Retype("#statement", "SELECT broken"),
			browser.Click("button[type=submit]", "Execute"), browser.Sees(".problem, [role=alert]", "broken"))

		e2e.Write(t, a, "tmp/quays.sql", "CREATE TABLE quays (id int);\n")
		e2e.Do(t, ctx, browser.Click("button", "Import from the home"), browser.Type(".el-message-box input",
			"tmp/no.sql"), browser.Confirm("Import"), browser.Sees(".problem, [role=alert]",
			"there is no file tmp/no.sql in the home"),
			browser.Click("button", "Import from the home"), browser.Type(".el-message-box input", "tmp/quays.sql"),
			browser.Confirm("Import"), browser.Sees(".el-message-box", "1 statement and makes 1 table"),
			browser.Confirm("Import"),
			browser.Sees("button.link code", "quays"))
		ran(t, "database", "execute", "reader", "fromm", "SELECT sleep(5) AS drowsy")
		e2e.Do(t, ctx, browser.Sees("td code", "SELECT sleep(…) AS drowsy"))
		e2e.Healthy(t, ctx, "what was slow")
		e2e.Do(t, ctx, chromedp.Navigate(e2e.Inst.Address()+"/databases"), browser.Sees("td", "MariaDB 10"),
			browser.Sees("td", "running"), browser.Type(".filters input[type=search]", "reader_fromm"),
			browser.Sees("p, span", "1 database"), browser.Sees("td", "reader_fromm"))
		e2e.Healthy(t, ctx, "all databases")
	})
	e2e.CloseAccount(t, a)
}

// fromHome imports files of a home that is on another server than the databases.
func fromHome(t *testing.T, a api.Account) {
	t.Helper()
	var text strings.Builder
	text.WriteString("CREATE TABLE kept (id int);\n")
	for n := range 1000 {
		fmt.Fprintf(&text, "INSERT INTO kept VALUES (%d); -- %s\n", n, strings.Repeat("long ", 4000))
	}
	e2e.Write(t, a, "tmp/kept.sql", text.String()) // 20 MB
	assert.Contains(t, ran(t, "database", "import", "reader", "top", "tmp/kept.sql", "--from-home"), "1001 statements")
	assert.Contains(t, ran(t, "database", "execute", "reader", "top", "SELECT count(*) AS n FROM kept"), "1000")
	e2e.On(t, "fulmar", "gzip --keep /home/reader/tmp/kept.sql")
	for _, name := range []string{"~/tmp/kept.sql.gz", "/home/reader/tmp/kept.sql.gz"} {
		assert.Contains(t, ran(t, "database", "import", "reader", "tom", name, "--from-home", "--preview"), "1 table")
	}

	other := holding(t, "bystander", "fulmar", plans.Limits{plans.Databases: plans.Of(1),
		plans.DatabaseSize: plans.Of(10 * plans.MiB)})
	e2e.Write(t, other, "tmp/secret.sql", "SELECT 'secret';")
	e2e.On(t, "fulmar", "cd /home/reader && ln -s /home/bystander/tmp/secret.sql link.sql && "+
		"ln -s /home/bystander dir && ln -s /etc/passwd passwd.sql && mkfifo pipe.sql && chmod 666 pipe.sql && "+
		"touch root.sql && chmod 600 root.sql")
	for _, name := range []string{"link.sql", "dir/tmp/secret.sql", "passwd.sql", "pipe.sql", "root.sql", "nothing.sql",
		"../bystander/tmp/secret.sql", "/home/bystander/tmp/secret.sql", "/etc/passwd", "tmp", "."} {
		_, errOut, exit := e2e.Command(t, "database", "import", "reader", "top", name, "--from-home", "--preview")
		assert.NotZero(t, exit, name)
		assert.Contains(t, errOut, strings.TrimPrefix(name, "/"), "it says which")
		assert.NotContains(t, errOut, "SELECT")
	}
	e2e.CloseAccount(t, other)

	// The service is killed while it passes a file on, and whoever is next goes on with it.
	const size = 1 << 30
	e2e.On(t, "fulmar", "cd /home/reader/tmp && truncate -s 1G large.sql && chown reader:reader large.sql")
	ctx, c := context.Background(), e2e.Inst.Client
	var one api.DatabaseImport
	require.NoError(t, c.Post(ctx, at(a)+"/databases/top/imports", api.NewImport{HomeFile: "tmp/large.sql"}, &one))
	now := func() int64 {
		require.NoError(t, c.Get(ctx, at(a)+"/database-imports/"+one.ID, nil, &one))
		return one.Received
	}
	require.Eventually(t, func() bool { return now() > 0 }, time.Minute, 10*time.Millisecond)
	e2e.Inst.KillService()
	require.NoError(t, e2e.Inst.StartService(ctx))
	there := now()
	t.Logf("%d of %d bytes were there", there, int64(size))
	assert.Less(t, there, int64(size))
	require.Eventually(t, func() bool { return now() == size }, time.Minute, 100*time.Millisecond)
	ran(t, "database", "remove-import", "reader", one.ID)
}
