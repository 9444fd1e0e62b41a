package e2e

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/lab/labtest"
)

// Does runs the client as the operator and expects it to succeed.
func Does(t *testing.T, args ...string) string {
	t.Helper()
	stdout, stderr, exit := Command(t, args...)
	require.Equal(t, 0, exit, "%v: %s", args, stderr)
	return stdout + stderr
}

// Refuses runs the client as the operator and returns what it complains of. Exit 2 is a command
// that cannot be meant, 1 what the service refused.
func Refuses(t *testing.T, exit int, args ...string) string {
	t.Helper()
	stdout, stderr, got := Command(t, args...)
	assert.Equal(t, exit, got, "%v: %s%s", args, stdout, stderr)
	return stderr
}

// Command runs the client, signed in as the operator.
func Command(t *testing.T, args ...string) (stdout, stderr string, exit int) {
	t.Helper()
	return CommandWith(t, OperatorSession(t), "", args...)
}

// OperatorSession is a file with the operator's session, as the client keeps it.
func OperatorSession(t *testing.T) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "session.json")
	text := fmt.Sprintf(`{"service":%q,"token":%q}`, Inst.Client.Base, Inst.Client.Token)
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	return file
}

// SessionOf is a file with the session of a person, as the client keeps it.
func SessionOf(t *testing.T, name, password string, more ...string) (session string) {
	t.Helper()
	session = filepath.Join(t.TempDir(), "session.json")
	stdout, stderr, exit := CommandWith(t, session, password+"\n",
		append([]string{"session", "start", Inst.Address(), "--name", name, "--password-stdin"}, more...)...)
	require.Equal(t, 0, exit, stdout+stderr)
	return session
}

// CommandWith runs the client with a session's file and something to read.
func CommandWith(t *testing.T, session, stdin string, args ...string) (stdout, stderr string, exit int) {
	t.Helper()
	cmd := exec.Command(labtest.Program(t, "victualler"), args...)
	cmd.Env = append(os.Environ(), "VICTUALLER_SESSION="+session)
	cmd.Stdin = strings.NewReader(stdin)
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	var failed *exec.ExitError
	if err != nil && !errors.As(err, &failed) {
		require.NoError(t, err)
	}
	return out.String(), errOut.String(), cmd.ProcessState.ExitCode()
}
