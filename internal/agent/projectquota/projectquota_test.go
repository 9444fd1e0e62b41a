package projectquota

import (
	"os"
	"path/filepath"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// fake is a kernel that keeps projects, and looks at what it is given as the real one does.
type fake struct {
	t        *testing.T
	of       int64
	off      bool
	quotas   map[uint32]quota
	projects map[string]attributes
}

func (k *fake) kind(int) (int64, error) { return k.of, nil }

func (k *fake) quotactl(_ int, command, id uint32, address unsafe.Pointer) error {
	switch command {
	case 0x80000502: // QCMD(Q_GETINFO, PRJQUOTA)
		if k.off {
			return unix.ESRCH
		}
	case 0x80000702: // QCMD(Q_GETQUOTA, PRJQUOTA)
		q, known := k.quotas[id]
		if !known {
			return unix.ENOENT
		}
		*(*quota)(address) = q
	case 0x80000802: // QCMD(Q_SETQUOTA, PRJQUOTA)
		given := *(*quota)(address)
		assert.Equal(k.t, uint32(1), given.Valid, "the limits of blocks alone are set")
		q := k.quotas[id]
		q.BlockHard, q.BlockSoft = given.BlockHard, given.BlockSoft
		k.quotas[id] = q
	default:
		k.t.Errorf("unknown command %x", command)
	}
	return nil
}

func (k *fake) ioctl(fd int, request uint32, address unsafe.Pointer) error {
	name, err := os.Readlink("/proc/self/fd/" + string(rune('0'+fd%10)))
	if fd > 9 || err != nil {
		name, _ = os.Readlink(filepath.Join("/proc/self/fd", itoa(fd)))
	}
	switch request {
	case 0x801c581f: // FS_IOC_FSGETXATTR
		*(*attributes)(address) = k.projects[name]
	case 0x401c5820: // FS_IOC_FSSETXATTR
		k.projects[name] = *(*attributes)(address)
	default:
		k.t.Errorf("unknown request %x", request)
	}
	return nil
}

func itoa(n int) string {
	if n < 10 {
		return string(rune('0' + n))
	}
	return itoa(n/10) + itoa(n%10)
}

func TestStructures(t *testing.T) {
	// As the kernel has them (linux/quota.h, linux/fs.h): what is shorter would be written beyond.
	assert.Equal(t, uintptr(72), unsafe.Sizeof(quota{}))
	assert.Equal(t, uintptr(64), unsafe.Offsetof(quota{}.Valid))
	assert.Equal(t, uintptr(28), unsafe.Sizeof(attributes{}))
	assert.Equal(t, uintptr(12), unsafe.Offsetof(attributes{}.Project))
}

func TestProjects(t *testing.T) {
	dir := t.TempDir()
	root, err := os.Open(dir)
	require.NoError(t, err)
	defer root.Close()
	k := &fake{t: t, of: 0xef53, quotas: map[uint32]quota{}, projects: map[string]attributes{}}
	for _, none := range []*fake{{t: t, of: 0x9123683e}, {t: t, of: 0xef53, off: true}} {
		_, err := open(root, none)
		assert.ErrorIs(t, err, ErrNone)
	}
	fs, err := open(root, k)
	require.NoError(t, err)

	limit, err := fs.Limit(1000017)
	require.NoError(t, err)
	assert.Nil(t, limit, "what the kernel does not know has no limit")
	for given, want := range map[int64]int64{50 << 20: 50 << 20, 1000: 1024, 1025: 2048, 0: 1024} {
		require.NoError(t, fs.SetLimit(1000017, &given))
		limit, err = fs.Limit(1000017)
		require.NoError(t, err)
		assert.Equal(t, want, *limit)
	}
	require.NoError(t, fs.SetLimit(1000017, nil))
	limit, err = fs.Limit(1000017)
	require.NoError(t, err)
	assert.Nil(t, limit)
	k.quotas[1000017] = quota{Space: 4096, Inodes: 3}
	used, err := fs.Used(1000017)
	require.NoError(t, err)
	assert.Equal(t, Usage{Bytes: 4096, Files: 3}, used)

	require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), nil, 0o600))
	file, err := os.Open(filepath.Join(dir, "file"))
	require.NoError(t, err)
	defer file.Close()
	require.NoError(t, fs.SetProject(root, 1000017))
	require.NoError(t, fs.SetProject(file, 1000017))
	assert.Equal(t, attributes{Flags: 0x200, Project: 1000017}, k.projects[dir], "a directory hands it on")
	assert.Equal(t, attributes{Project: 1000017}, k.projects[file.Name()])
	project, err := fs.Project(file)
	require.NoError(t, err)
	assert.Equal(t, uint32(1000017), project)
}

// The running kernel, if it has a file system with projects here: CI's may have none.
func TestKernel(t *testing.T) {
	_, err := Open(t.TempDir())
	if err != nil {
		assert.ErrorIs(t, err, ErrNone)
	}
}
