package sysuser

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func file(t *testing.T, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, []byte(text), 0o640))
	return path
}

func read(t *testing.T, path string) string {
	t.Helper()
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	return string(text)
}

// fourTables are drafts of tables as Debian installs them, with one person more.
func fourTables(t *testing.T) *drafts {
	t.Helper()
	open := func(name, text string) *draft {
		d, err := openDraft(file(t, name, text))
		require.NoError(t, err)
		return d
	}
	return &drafts{
		passwd:  open("passwd", "root:x:0:0:root:/root:/bin/bash\nkai:x:1000:1000::/home/kai:/bin/bash\n"),
		shadow:  open("shadow", "root:*:19000:0:99999:7:::\nkai:!:19000:0:99999:7:::\n"),
		group:   open("group", "root:x:0:\nkai:x:1000:\nvictualler-shell:x:900:kai\n"),
		gshadow: open("gshadow", "root:*::\nkai:!::\nvictualler-shell:!::kai\n"),
	}
}

func TestUsersAreAdded(t *testing.T) {
	tables := fourTables(t)
	ferries := newUser{name: "ferries", id: 200001, hash: "$y$j9T$abc", home: "/home/ferries", shell: "/bin/bash",
		member: "victualler-shell"}
	require.NoError(t, tables.add(ferries))
	require.NoError(t, tables.add(ferries), "killed before it was told, it is added again")
	require.NoError(t, tables.add(newUser{name: "ferries-office", id: 200001, further: true, hash: "!", home: "/x",
		shell: "/usr/sbin/nologin", member: "nobody-knows-it"}))
	require.NoError(t, tables.write())
	day := time.Now().Unix() / (24 * 60 * 60)
	assert.Equal(t, "root:x:0:0:root:/root:/bin/bash\nkai:x:1000:1000::/home/kai:/bin/bash\n"+
		"ferries:x:200001:200001::/home/ferries:/bin/bash\n"+
		"ferries-office:x:200001:200001::/x:/usr/sbin/nologin\n", read(t, tables.passwd.path))
	assert.Equal(t, fmt.Sprintf("root:*:19000:0:99999:7:::\nkai:!:19000:0:99999:7:::\n"+
		"ferries:$y$j9T$abc:%d::::::\nferries-office:!:%[1]d::::::\n", day), read(t, tables.shadow.path))
	assert.Equal(t, "root:x:0:\nkai:x:1000:\nvictualler-shell:x:900:kai,ferries\nferries:x:200001:\n",
		read(t, tables.group.path))
	assert.Equal(t, "root:*::\nkai:!::\nvictualler-shell:!::kai,ferries\nferries:!::\n", read(t, tables.gshadow.path))
	info, err := os.Stat(tables.shadow.path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm(), "as it was")
}

// Nothing that is on the server already is taken over or written twice.
func TestUsersThatAreNotTheAccounts(t *testing.T) {
	for _, c := range []struct {
		user newUser
		says string
	}{
		{newUser{name: "kai", id: 200001}, "a user kai with the number 1000 is on the server already"},
		{newUser{name: "tern", id: 1000}, "the number 1000, which is this account's, is the user kai's"},
		{newUser{name: "victualler-shell", id: 200001}, "a group victualler-shell with the number 900"},
		{newUser{name: "tern", id: 900}, "is the group victualler-shell's on this server"},
	} {
		tables := fourTables(t)
		before := read(t, tables.passwd.path) + read(t, tables.group.path)
		assert.ErrorContains(t, tables.add(c.user), c.says)
		require.NoError(t, tables.write())
		assert.Equal(t, before, read(t, tables.passwd.path)+read(t, tables.group.path), c.says)
	}
}

func TestMissingGshadowStaysMissing(t *testing.T) {
	tables := fourTables(t)
	path := filepath.Join(t.TempDir(), "gshadow")
	d, err := openDraft(path)
	require.NoError(t, err)
	tables.gshadow = d
	require.NoError(t, tables.add(newUser{name: "ferries", id: 200001}))
	require.NoError(t, tables.write())
	assert.NoFileExists(t, path)
}

func TestTables(t *testing.T) {
	table := &table{path: file(t, "passwd", "kai:x:1000:1000::/home/kai:/bin/bash\nkai:x:1:1::/twice:/bin/sh\nbroken\n"+
		"ferries:x:200001:200001::/home/ferries:/bin/bash\nferries-office:x:200001:200001::/x:/y\n")}
	fields, err := table.line("kai")
	require.NoError(t, err)
	assert.Equal(t, "/home/kai", fields[5], "the first line counts, as for getpwnam(3)")
	fields, err = table.line("broken")
	require.NoError(t, err)
	assert.Nil(t, fields)
	names, err := table.withPrefix("ferries-")
	require.NoError(t, err)
	assert.Equal(t, []string{"ferries-office"}, names)

	other := file(t, "passwd", "tern:x:200002:200002::/home/tern:/bin/bash\n")
	require.NoError(t, os.Rename(other, table.path))
	fields, err = table.line("tern")
	require.NoError(t, err)
	assert.Equal(t, "200002", fields[2], "a table that was written is read again")
	fields, err = table.line("kai")
	require.NoError(t, err)
	assert.Nil(t, fields)
	require.NoError(t, os.Remove(table.path))
	_, err = table.line("tern")
	assert.Error(t, err, "and one that is gone has no users to tell of")
}
