package agent_test

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agentlink"
	"victualler/internal/hosting/databases"
	"victualler/internal/lab/labtest"
	"victualler/internal/manifest"
)

// dataOf is where an engine keeps everything.
var dataOf = map[databases.Engine]string{databases.MariaDB: "/var/lib/mysql",
	databases.PostgreSQL: "/var/lib/postgresql"}

// noise is text that cannot be packed.
func noise(size int) string {
	raw := make([]byte, size/2)
	_, _ = rand.Read(raw)
	return hex.EncodeToString(raw)
}

// A disk that is full ends an import, which says so, and an apply; when there is room again, all is
// as it is wanted.
func TestFullDiskOfDatabases(t *testing.T) {
	authority, err := agentlink.NewAuthority(time.Now())
	require.NoError(t, err)
	s, c := nameServer(t, labtest.Lab(t, "fulldisk"), authority, "skua", 21)
	ctx := context.Background()
	for _, dir := range dataOf { // before the engines are started
		out, err := s.Exec(ctx, "sh", "-ec", `cp -a "$1" /tmp/data && mount -t tmpfs -o size=280m tmpfs "$1" &&
			chown --reference=/tmp/data "$1" && chmod --reference=/tmp/data "$1" && cp -a /tmp/data/. "$1" &&
			rm -r /tmp/data`, "sh", dir)
		require.NoError(t, err, out)
	}
	require.NoError(t, c.ApplyServer(ctx, manifest.Server{Databases: &manifest.DatabaseServer{}}))
	bakery := withDatabases(t, 7, 1, "bakery")
	applied(t, c, bakery)
	v := visiting{s, c}
	revision := int64(1)
	next := func(m manifest.Manifest) manifest.Manifest {
		revision++
		m.Revision = revision
		return m
	}
	for _, e := range databases.Engines {
		t.Run(string(e), func(t *testing.T) {
			dir, all := dataOf[e], v.visit(e, databases.All)
			var text strings.Builder
			text.WriteString("CREATE TABLE sacks (id int PRIMARY KEY, flour text);\n")
			if e == databases.MariaDB {
				text.Reset()
				text.WriteString("CREATE TABLE sacks (id int PRIMARY KEY, flour longtext);\n")
			}
			// What an operator takes away later.
			out, err := s.Exec(ctx, "sh", "-ec", `dd if=/dev/zero of="$1/ballast" bs=1M count=60 2>&1`, "sh", dir)
			require.NoError(t, err, out)
			for n := range 500 {
				fmt.Fprintf(&text, "INSERT INTO sacks VALUES (%d, '%s');\n", n, noise(500_000))
			}
			one := v.ended(t, v.file(t, agentlink.NewImport{DatabaseVisit: all, Name: "sacks.sql"},
				[]byte(text.String())), false)
			assert.Equal(t, agentlink.ImportFailed, one.State)
			assert.Greater(t, one.Progress.Line, int64(2))
			t.Logf("line %d: %s", one.Progress.Line, one.Progress.Failure)

			// Nothing is left of the disk at all while rights are changed.
			_, err = s.Exec(ctx, "sh", "-c", `dd if=/dev/zero of="$1/filler" bs=64k 2>/dev/null; sync`, "sh", dir)
			require.NoError(t, err)
			less := withDatabases(t, 7, 1, "bakery")
			for n := range less.Databases.Users {
				if u := &less.Databases.Users[n]; u.Engine == e {
					for name := range u.Levels {
						u.Levels[name] = databases.Read
					}
				}
			}
			limited, cancel := context.WithTimeout(ctx, 3*time.Minute)
			defer cancel()
			receipt, err := c.Apply(limited, next(less), func(agentlink.Step) {})
			require.NoError(t, err, "it answers all the same")
			t.Logf("applied: %+v", receipt.Failure)

			_, err = s.Exec(ctx, "rm", dir+"/filler", dir+"/ballast")
			require.NoError(t, err)
			labtest.Within(t, 2*time.Minute, func() bool {
				receipt, err := c.Apply(ctx, next(less), func(agentlink.Step) {})
				return err == nil && receipt.Failure == nil
			}, "it is not put right when there is room again")
			assert.Empty(t, drift(t, c))
			assert.Equal(t, fmt.Sprint(one.Progress.Statements-1), v.statement(t, all, "SELECT count(*) FROM sacks"),
				"what was executed is there, and no more")
			assert.Contains(t, v.statement(t, all, "DELETE FROM sacks"), "denied", "as the rights are now")
			applied(t, c, next(withDatabases(t, 7, 1, "bakery")))
			assert.NotContains(t, v.statement(t, all, "DROP TABLE sacks"), "refused")
		})
	}
}
