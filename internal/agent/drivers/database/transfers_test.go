package database

import (
	"bytes"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// countedReads counts how often it is read.
type countedReads struct {
	io.Reader
	reads int
}

func (c *countedReads) Read(p []byte) (int, error) {
	c.reads++
	return c.Reader.Read(p)
}

// What a program writes in small parts comes whole, and is not read as often as it is written.
func TestBatched(t *testing.T) {
	from, to, err := roomyPipe()
	require.NoError(t, err)
	defer from.Close()
	const parts = 1000
	go func() {
		defer to.Close()
		for n := range parts {
			_, _ = to.Write(bytes.Repeat([]byte{byte(n)}, 4096))
		}
	}()
	pipe := &countedReads{Reader: from}
	var out bytes.Buffer
	_, err = io.CopyBuffer(struct{ io.Writer }{&out}, &batched{in: pipe}, make([]byte, wide))
	require.NoError(t, err)
	require.Equal(t, parts*4096, out.Len())
	for n := range parts {
		require.EqualValues(t, byte(n), out.Bytes()[n*4096])
	}
	assert.Less(t, pipe.reads, parts/4)
}

// What is exported in any form is read again as it was, whatever its name says.
func TestCompressedAndPlain(t *testing.T) {
	text := bytes.Repeat([]byte("INSERT INTO boats VALUES (1, 'tern');\n"), 40_000)
	for _, how := range []string{"", "gzip", "zstd"} {
		var file bytes.Buffer
		to, finish, err := compressed(&file, how)
		require.NoError(t, err)
		_, err = to.Write(text)
		require.NoError(t, err)
		require.NoError(t, finish())
		assert.Equal(t, how != "", file.Len() < len(text), how)
		whole := file.Bytes()
		in, end, err := plain(bytes.NewReader(whole))
		require.NoError(t, err, how)
		back, err := io.ReadAll(in)
		end()
		require.NoError(t, err, how)
		assert.True(t, bytes.Equal(text, back), how)
		if how == "" {
			continue
		}
		in, end, err = plain(bytes.NewReader(whole[:len(whole)/2]))
		require.NoError(t, err, how)
		_, err = io.ReadAll(in)
		end()
		assert.Error(t, err, "%s: half a file is no whole one", how)
	}
	in, end, err := plain(bytes.NewReader(nil))
	require.NoError(t, err)
	defer end()
	back, err := io.ReadAll(in)
	assert.NoError(t, err)
	assert.Empty(t, back)
}

// What unpacks to more than may be is not read to its end.
func TestBounded(t *testing.T) {
	b := &bounded{in: bytes.NewReader(make([]byte, 1<<20)), left: 100_000}
	n, err := io.CopyBuffer(struct{ io.Writer }{io.Discard}, struct{ io.Reader }{b}, make([]byte, 1000))
	assert.ErrorIs(t, err, errTooLarge)
	assert.EqualValues(t, 100_000, n)
}
