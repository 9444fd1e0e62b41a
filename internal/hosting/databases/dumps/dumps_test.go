package dumps

import (
	"errors"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"victualler/internal/hosting/databases"
)

// read splits a text, and writes the rows behind a statement into brackets.
func read(t require.TestingT, in io.Reader, e databases.Engine) (texts []string, lines []int64) {
	s := NewScanner(in, e)
	for {
		st, err := s.Next()
		if errors.Is(err, io.EOF) {
			return texts, lines
		}
		require.NoError(t, err)
		text := string(st.Text)
		if st.Rows {
			rows, err := io.ReadAll(s.Rows())
			require.NoError(t, err)
			text += "[" + string(rows) + "]"
		}
		if st.Command {
			text = "command " + text
		}
		texts, lines = append(texts, text), append(lines, st.Line)
	}
}

func TestStatements(t *testing.T) {
	for _, c := range []struct {
		engine databases.Engine
		text   string
		want   []string
	}{
		{databases.MariaDB, "SELECT 1;\n\nSELECT ';';SELECT 2", []string{"SELECT 1", "SELECT ';'", "SELECT 2"}},
		{databases.MariaDB, `SELECT 'it\'s; ' ; SELECT "a\";" ; SELECT ` + "`x;``y`", []string{`SELECT 'it\'s; ' `,
			`SELECT "a\";" `, "SELECT `x;``y`"}},
		{databases.MariaDB, "-- a; comment\nSELECT 1; # another;\n/* a third; */;SELECT 5--1;",
			[]string{"SELECT 1", "SELECT 5--1"}},
		{databases.MariaDB, "/*!40101 SET NAMES utf8mb4 */;\n/*M!100 SET x=';' */;",
			[]string{"/*!40101 SET NAMES utf8mb4 */", "/*M!100 SET x=';' */"}},
		{databases.MariaDB, "DELIMITER ;;\nCREATE TRIGGER t BEGIN a; b; END;;\nDELIMITER ;\nSELECT 1;",
			[]string{"CREATE TRIGGER t BEGIN a; b; END", "SELECT 1"}},
		{databases.MariaDB, "SELECT 1;\n\\! touch /tmp/x\nSELECT 2;", []string{"SELECT 1", `command \! touch /tmp/x`,
			"SELECT 2"}},
		{databases.MariaDB, "-- routines\n\nDELIMITER ;;\nSELECT 1; SELECT 2;;\nDELIMITER ;\n", []string{
			"SELECT 1; SELECT 2"}},
		{databases.PostgreSQL, "--\n-- a dump\n--\n\n\\restrict x\n\n-- more\nSELECT 1;", []string{`command \restrict x`,
			"SELECT 1"}},
		{databases.MariaDB, "\xef\xbb\xbfSELECT 1;", []string{"SELECT 1"}},
		{databases.PostgreSQL, `SELECT 'a\'; SELECT E'a\';b'; SELECT U&"a;b"`, []string{`SELECT 'a\'`,
			`SELECT E'a\';b'`, `SELECT U&"a;b"`}},
		{databases.PostgreSQL, "CREATE FUNCTION f() AS $a$ x; $b$ ; $b$ y; $a$; SELECT $1; SELECT a$b$c;",
			[]string{"CREATE FUNCTION f() AS $a$ x; $b$ ; $b$ y; $a$", "SELECT $1", "SELECT a$b$c"}},
		{databases.PostgreSQL, "/* a /* b; */ c; */ SELECT 1; CREATE RULE r AS (DELETE x; DELETE y); SELECT 2",
			[]string{"/* a /* b; */ c; */ SELECT 1", "CREATE RULE r AS (DELETE x; DELETE y)", "SELECT 2"}},
		{databases.PostgreSQL, "CREATE OR REPLACE FUNCTION f() BEGIN ATOMIC SELECT CASE WHEN a THEN b END; c; END; " +
			"SELECT 1", []string{"CREATE OR REPLACE FUNCTION f() BEGIN ATOMIC SELECT CASE WHEN a THEN b END; c; END",
			"SELECT 1"}},
		{databases.PostgreSQL, "BEGIN; SELECT 1; END;", []string{"BEGIN", "SELECT 1", "END"}},
		{databases.PostgreSQL, "COPY public.t (a) FROM stdin;\n1\n\\.x\nx\\.\n\\.\nSELECT 2;\n\\connect other\n",
			[]string{"COPY public.t (a) FROM stdin[1\n\\.x\nx\\.\n]", "SELECT 2", `command \connect other`}},
		{databases.PostgreSQL, "COPY t FROM stdin;\n\\.\nCOPY t FROM STDIN WITH (FORMAT csv);\r\na\r\n\\.\r\n",
			[]string{"COPY t FROM stdin[]", "COPY t FROM STDIN WITH (FORMAT csv)[a\r\n]"}},
	} {
		got, _ := read(t, strings.NewReader(c.text), c.engine)
		for n := range got {
			got[n] = strings.TrimSpace(got[n])
		}
		for n := range c.want {
			c.want[n] = strings.TrimSpace(c.want[n])
		}
		// Comments before a statement stay with it.
		for n := range min(len(got), len(c.want)) {
			assert.True(t, strings.HasSuffix(got[n], c.want[n]), "%q for %q", got[n], c.want[n])
		}
		assert.Len(t, got, len(c.want), "%q", got)
	}
	_, lines := read(t, strings.NewReader("SELECT 1;\n\n SELECT\n2;\nSELECT 3;"), databases.MariaDB)
	assert.Equal(t, []int64{1, 3, 5}, lines)
}

// However a text comes in pieces, it is split in the same way, and nothing of it is lost.
func TestPieces(t *testing.T) {
	parts := []string{"SELECT 1", ";", "'", "\"", "`", "$a$", "$$", "\\", "--", " ", "\n", "/*", "*/", "/*!50003 ", "(",
		")", "COPY t FROM stdin;\n", "\\.\n", "DELIMITER //\n", "//", "E'", "BEGIN ", "END", "CREATE FUNCTION f() ",
		"é", "\x00", "#"}
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOfN(rapid.SampledFrom(parts), 0, 30).Draw(t, "parts"), "")
		e := rapid.SampledFrom(databases.Engines).Draw(t, "engine")
		all := func(in io.Reader) (list []string) {
			s := NewScanner(in, e)
			for {
				st, err := s.Next()
				if err != nil {
					list = append(list, err.Error())
					return list
				}
				list = append(list, string(st.Text))
				if st.Rows {
					rows, err := io.ReadAll(s.Rows())
					list = append(list, string(rows))
					if err != nil {
						list = append(list, err.Error())
					}
				}
			}
		}
		whole := all(strings.NewReader(text))
		if slow := all(iotest.OneByteReader(strings.NewReader(text))); !assert.Equal(t, whole, slow) {
			t.Fatalf("%q", text)
		}
	})
}

func TestFailingFile(t *testing.T) {
	broken := errors.New("the line is cut")
	s := NewScanner(io.MultiReader(strings.NewReader("SELECT 1; DELETE FROM"), iotest.ErrReader(broken)),
		databases.MariaDB)
	st, err := s.Next()
	require.NoError(t, err)
	assert.Equal(t, "SELECT 1", string(st.Text))
	_, err = s.Next()
	assert.ErrorIs(t, err, broken, "half of a statement is none")

	s = NewScanner(strings.NewReader("COPY t FROM stdin;\n1\n2\n"), databases.PostgreSQL)
	_, err = s.Next()
	require.NoError(t, err)
	_, err = io.ReadAll(s.Rows())
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF, "rows without end are not whole")

	long := NewScanner(io.MultiReader(strings.NewReader("SELECT '"), endless('x')), databases.MariaDB)
	_, err = long.Next()
	assert.ErrorContains(t, err, "64 MiB")
}

// endless is a text of one character without end.
type endless byte

func (e endless) Read(p []byte) (int, error) {
	for n := range p {
		p[n] = byte(e)
	}
	return len(p), nil
}

func TestMend(t *testing.T) {
	for _, c := range []struct {
		engine     databases.Engine
		text, want string
		found      Finding
	}{
		{databases.MariaDB, "INSERT INTO t VALUES ('GRANT')", "INSERT INTO t VALUES ('GRANT')", ""},
		{databases.MariaDB, "CREATE DEFINER=`root`@`localhost` PROCEDURE p() SELECT 1",
			"CREATE  PROCEDURE p() SELECT 1", Definer},
		{databases.MariaDB, "/*!50003 CREATE*/ /*!50017 DEFINER='a'@'%'*/ /*!50003 TRIGGER t BEFORE INSERT*/",
			"/*!50003 CREATE*/ /*!50017 */ /*!50003 TRIGGER t BEFORE INSERT*/", Definer},
		{databases.MariaDB, "CREATE ALGORITHM=UNDEFINED DEFINER=a@localhost SQL SECURITY DEFINER VIEW v AS SELECT 1",
			"CREATE ALGORITHM=UNDEFINED  SQL SECURITY DEFINER VIEW v AS SELECT 1", Definer},
		{databases.MariaDB, "CREATE TABLE definer (definer int)", "CREATE TABLE definer (definer int)", ""},
		{databases.MariaDB, "grant all on *.* to x", "", Rights},
		{databases.MariaDB, "/*!50001 GRANT ALL ON *.* TO x */", "", Rights},
		{databases.MariaDB, "CREATE USER x", "", Users},
		{databases.MariaDB, "USE `bakery_shop`", "USE `bakery_shop`", ""},
		{databases.MariaDB, "USE mysql", "", OtherDatabase},
		{databases.MariaDB, "CREATE DATABASE /*!32312 IF NOT EXISTS*/ `old`", "", OtherDatabase},
		{databases.MariaDB, "SET @@GLOBAL.GTID_PURGED=''", "", ServerSetting},
		{databases.MariaDB, "SET GLOBAL x = 1", "", ServerSetting},
		{databases.MariaDB, "SET @OLD_SQL_MODE=@@SQL_MODE", "SET @OLD_SQL_MODE=@@SQL_MODE", ""},
		{databases.MariaDB, "INSERT INTO `other`.`t` VALUES (1)", "INSERT INTO `other`.`t` VALUES (1)", OtherName},
		{databases.MariaDB, "DROP TABLE IF EXISTS bakery_shop.t", "DROP TABLE IF EXISTS bakery_shop.t", ""},
		{databases.MariaDB, "CREATE EVENT e ON SCHEDULE EVERY 1 DAY DO SELECT 1", "", Program},
		{databases.PostgreSQL, "ALTER TABLE public.t OWNER TO someone", "", Owner},
		{databases.PostgreSQL, "ALTER TABLE t ADD owner text", "ALTER TABLE t ADD owner text", ""},
		{databases.PostgreSQL, "GRANT ALL ON t TO x", "", Rights},
		{databases.PostgreSQL, "ALTER DEFAULT PRIVILEGES FOR ROLE x GRANT SELECT ON TABLES TO y", "", Rights},
		{databases.PostgreSQL, "CREATE EXTENSION IF NOT EXISTS plpgsql WITH SCHEMA pg_catalog", "", Program},
		{databases.PostgreSQL, "CREATE EXTENSION pg_trgm", "CREATE EXTENSION pg_trgm", ""},
		{databases.PostgreSQL, "COMMENT ON EXTENSION plpgsql IS 'x'", "", Owner},
		{databases.PostgreSQL, "CREATE SCHEMA public", "", Owner},
		{databases.PostgreSQL, "CREATE SCHEMA shop", "CREATE SCHEMA shop", ""},
		{databases.PostgreSQL, "SET SESSION AUTHORIZATION postgres", "", Users},
		{databases.PostgreSQL, "SET transaction_timeout = 0", "", ServerSetting},
		{databases.PostgreSQL, "CREATE FOREIGN TABLE t (a int) SERVER s", "CREATE FOREIGN TABLE t (a int) SERVER s",
			""},
		{databases.PostgreSQL, "CREATE SUBSCRIPTION s CONNECTION '' PUBLICATION p", "", Program},
	} {
		got, found := Mend(Statement{Text: []byte(c.text)}, c.engine, "bakery_shop")
		assert.Equal(t, c.want, string(got), c.text)
		assert.Equal(t, c.found, found, c.text)
	}
	for line, want := range map[string]Finding{`\restrict x`: "", `\unrestrict x`: "", `\connect other`: OtherDatabase,
		`\! rm -rf /`: ClientCommand} {
		got, found := Mend(Statement{Text: []byte(line), Command: true}, databases.PostgreSQL, "x")
		assert.Nil(t, got)
		assert.Equal(t, want, found, line)
	}
}

func TestLook(t *testing.T) {
	text := "-- MariaDB dump 10.19  Distrib 10.11.6-MariaDB, for debian-linux-gnu (x86_64)\n" +
		"CREATE TABLE `words` (id int);\nINSERT INTO `words` VALUES (1);\nCREATE TABLE IF NOT EXISTS shop.more (id " +
		"int);\n" +
		"CREATE DEFINER=a@b VIEW v AS SELECT 1;\nCREATE DEFINER=a@b VIEW w AS SELECT 1;\nGRANT ALL ON x TO y;\n"
	c, err := Look(strings.NewReader(text), databases.MariaDB, "bakery_shop", 1<<20)
	require.NoError(t, err)
	assert.Equal(t, Contents{Engine: databases.MariaDB, Version: "10.11.6", Statements: 6, Size: int64(len(text)),
		Tables: []string{"words", "shop.more"}, Whole: true, Found: []Found{
			{OtherName, 4, 1, "CREATE TABLE IF NOT EXISTS shop.more (id int)"},
			{Definer, 5, 2, "CREATE DEFINER=a@b VIEW v AS SELECT 1"}, {Rights, 7, 1, "GRANT ALL ON x TO y"}}}, c)

	c, err = Look(strings.NewReader(text), databases.MariaDB, "bakery_shop", 100)
	require.NoError(t, err)
	assert.False(t, c.Whole)

	for _, head := range []string{"", "PGDMP\x01", "SQLite format 3\x00", "PK\x03\x04", "\x7fELF\x00"} {
		_, err := Look(strings.NewReader(head), databases.PostgreSQL, "x", 1<<20)
		assert.ErrorContains(t, err, "the file", "%q", head)
	}
}

func TestOutline(t *testing.T) {
	for text, want := range map[string]string{
		"UPDATE people\n SET secret = 'it''s kept', n = 7": "UPDATE people SET secret = '…''…', n = 7",
		`INSERT INTO t VALUES ('a\'b', "c", 'cut`:          "INSERT INTO t VALUES ('…', '…', '…'",
		"SELECT 1": "SELECT 1",
	} {
		assert.Equal(t, want, Outline([]byte(text)))
	}
	long := Outline([]byte("SELECT '" + strings.Repeat("x", 500) + "' FROM t"))
	assert.Equal(t, "SELECT '…'", long)
}

func BenchmarkScanner(b *testing.B) {
	for _, e := range databases.Engines {
		b.Run(string(e), func(b *testing.B) {
			row := "INSERT INTO `words` VALUES (1,'" + strings.Repeat("a text of some length, ", 20) + "',NULL,3.14);\n"
			text := strings.Repeat(row, 20_000)
			b.SetBytes(int64(len(text)))
			for b.Loop() {
				_, err := Look(strings.NewReader(text), e, "x", 1<<40)
				require.NoError(b, err)
			}
		})
	}
}

func TestShape(t *testing.T) {
	for text, want := range map[string]string{
		"SELECT *\n  FROM boats WHERE id = 17 AND name='Teal; \\'s' AND depth < 3.5"://
		"SELECT * FROM boats WHERE id = … AND name='…' AND depth < …",
		"INSERT INTO t2 VALUES (1,'a',3), (2, 'b', 4),(3,'c',5)": "INSERT INTO t2 VALUES (…,…)",
		"SELECT 'a text that was cut":                            "SELECT '…'",
		"SELECT " + strings.Repeat("x", 500):                     "SELECT " + strings.Repeat("x", 393) + "…",
	} {
		assert.Equal(t, want, Shape([]byte(text)))
	}
}
