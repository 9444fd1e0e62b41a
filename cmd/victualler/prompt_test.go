package main

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// asClient has the test's own program be the client.
const asClient = "VICTUALLER_TEST_AS_CLIENT"

// keeper runs a program and says how it ended. The kernel throws away what a terminal's session has
// written and nobody has read yet when the first process of the session ends, so that this must not
// be the program.
const keeper = `trap : INT TERM; "$@"; echo "ended with $?"; read stay`

var endedWith = regexp.MustCompile(`ended with (\d+)\r\n`)

// screen is a terminal of a program that runs by itself.
type screen struct {
	t     *testing.T
	cmd   *exec.Cmd
	ptmx  *os.File
	shown chan string
	text  string
}

// onScreen starts the client on a terminal of its own (pty(7)), signed in as the shell is.
func onScreen(t *testing.T, line string, env ...string) *screen {
	t.Helper()
	ptmx, err := os.OpenFile("/dev/ptmx", os.O_RDWR, 0)
	require.NoError(t, err)
	require.NoError(t, unix.IoctlSetPointerInt(int(ptmx.Fd()), unix.TIOCSPTLCK, 0))
	number, err := unix.IoctlGetInt(int(ptmx.Fd()), unix.TIOCGPTN)
	require.NoError(t, err)
	require.NoError(t, unix.IoctlSetWinsize(int(ptmx.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: 25, Col: 80}))
	tty, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", number), os.O_RDWR|syscall.O_NOCTTY, 0)
	require.NoError(t, err)
	s := &screen{t: t, ptmx: ptmx, shown: make(chan string, 100)}
	s.cmd = exec.Command("/bin/sh", append([]string{"-c", keeper, "sh", os.Args[0]}, inWords(line)...)...)
	s.cmd.Env = append(append(os.Environ(), asClient+"=1"), env...)
	s.cmd.Stdin, s.cmd.Stdout, s.cmd.Stderr = tty, tty, tty
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	require.NoError(t, s.cmd.Start())
	require.NoError(t, tty.Close())
	go func() {
		defer close(s.shown)
		buffer := make([]byte, 4096)
		for {
			n, err := ptmx.Read(buffer)
			if n > 0 {
				s.shown <- string(buffer[:n])
			}
			if err != nil {
				return
			}
		}
	}()
	t.Cleanup(func() {
		_ = syscall.Kill(-s.cmd.Process.Pid, syscall.SIGKILL)
		_ = s.cmd.Wait() // it was killed
		ptmx.Close()
	})
	return s
}

// sees waits until a text is on the screen.
func (s *screen) sees(text string) {
	s.t.Helper()
	s.matches(regexp.MustCompile(regexp.QuoteMeta(text)))
}

// matches waits until the screen matches, and returns where.
func (s *screen) matches(shown *regexp.Regexp) []int {
	s.t.Helper()
	for deadline := time.After(10 * time.Second); ; {
		if where := shown.FindStringSubmatchIndex(s.text); where != nil {
			return where
		}
		select {
		case more, open := <-s.shown:
			s.text += more
			require.True(s.t, open, "the terminal closed; it shows: %s", s.text)
		case <-deadline:
			require.Regexp(s.t, shown, s.text, "after 10 s")
		}
	}
}

func (s *screen) types(text string) {
	_, err := io.WriteString(s.ptmx, text)
	require.NoError(s.t, err)
}

// ends waits for the end of the program and returns its exit code.
func (s *screen) ends() int {
	s.t.Helper()
	shown := s.matches(endedWith)
	code, err := strconv.Atoi(s.text[shown[2]:shown[3]])
	require.NoError(s.t, err)
	s.text = s.text[:shown[0]]
	return code
}

// Every question ends with Ctrl-C and with SIGTERM, and nothing is done.
func TestQuestionsAreInterrupted(t *testing.T) {
	s := newShell(t)
	s.opened()
	s.session(typed{line: "account open bakery.example --plan harbour --customer 'Tern Ferries'"})
	key := filepath.Join(t.TempDir(), "key.pem")
	for line, prompt := range map[string]string{
		"session start " + s.url:                            "Sign-in name: ",
		"session start " + s.url + " --name maren":          "Password: ",
		"account close ternferries":                         "Type ternferries to confirm: ",
		"account close ternferries bakery":                  "Type 2 to confirm: ",
		"account suspend ternferries bakery --why x":        "Suspend 2 accounts? [y/N] ",
		"account suspend --customer 'Tern Ferries' --why x": "Suspend 2 accounts? [y/N] ",
		"plan remove harbour":                               "Remove plan harbour? [y/N] ",
		"person password maren":                             "New password: ",
		"password change":                                   "Present password: ",
		"password check":                                    "Password to look at: ",
		"factor add":                                        "Code: ",
		"factor remove":                                     "Your password: ",
		"folder add ternferries.example crew kai":           "Password of kai: ",
		"login add ternferries office":                      "New password: ",
		"domain remove ternferries.example":                 "Its files stay. [y/N] ",
		"certificate key ternferries.example " + key:        "Your password: ",
		"certificate revoke ternferries.example":            "cannot be undone. [y/N] ",
		"zone reset ternferries.example":                    "that replace derived ones? [y/N] ",
		"record remove ternferries.example 7":               "[y/N] ",
		"account change ternferries bakery --freeze":        "Change 2 accounts? [y/N] ",
	} {
		for name, interrupt := range map[string]func(*screen){
			"Ctrl-C":  func(s *screen) { s.types("\x03") },
			"SIGTERM": func(s *screen) { _ = syscall.Kill(-s.cmd.Process.Pid, syscall.SIGTERM) },
		} {
			t.Run(line+" "+name, func(t *testing.T) {
				screen := onScreen(t, line)
				screen.sees(prompt)
				interrupt(screen)
				assert.Equal(t, interrupted, screen.ends(), screen.text)
				assert.Contains(t, screen.text, "interrupted; nothing was done")
			})
		}
	}
	assert.NoFileExists(t, key)
	s.session(typed{line: "account list", says: []string{"active", "!suspended"}})
}

func TestQuestionsAreAnswered(t *testing.T) {
	s := newShell(t)
	s.opened()
	t.Run("a password is not shown", func(t *testing.T) {
		screen := onScreen(t, "session start "+s.url+" --name maren")
		screen.sees("Password: ")
		screen.types(operatorPassword + "\n")
		assert.Equal(t, done, screen.ends(), screen.text)
		assert.Contains(t, screen.text, "signed in to")
		assert.NotContains(t, screen.text, operatorPassword)
	})
	t.Run("another name does not close an account", func(t *testing.T) {
		screen := onScreen(t, "account close ternferries")
		screen.sees("Type ternferries to confirm: ")
		screen.types("y\n")
		assert.Equal(t, failed, screen.ends())
		assert.Contains(t, screen.text, "not confirmed; nothing was done")
	})
	t.Run("its name does", func(t *testing.T) {
		screen := onScreen(t, "account close ternferries --no-wait")
		screen.sees("Type ternferries to confirm: ")
		screen.types("ternferries\n")
		assert.Equal(t, done, screen.ends(), screen.text)
	})
	t.Run("notes are changed in the editor", func(t *testing.T) {
		editor := filepath.Join(t.TempDir(), "editor")
		require.NoError(t, os.WriteFile(editor, []byte("#!/bin/sh\nprintf 'pays early' > \"$1\"\n"), 0o755))
		screen := onScreen(t, "notes change 'Tern Ferries'", "EDITOR="+editor, "VISUAL=")
		assert.Equal(t, done, screen.ends(), screen.text)
		s.session(typed{line: "notes show 'Tern Ferries'", says: []string{"pays early"}},
			typed{line: "notes change 'Tern Ferries'", in: "", code: wrongUse, says: []string{"use --clear"}},
			typed{line: "notes show 'Tern Ferries'", says: []string{"pays early"}},
			typed{line: "notes change 'Tern Ferries' --clear"},
			typed{line: "notes show 'Tern Ferries'", says: []string{"!pays early"}})
	})
	t.Run("without an editor", func(t *testing.T) {
		screen := onScreen(t, "notes change 'Tern Ferries'", "EDITOR=", "VISUAL=")
		assert.Equal(t, wrongUse, screen.ends())
		assert.Contains(t, screen.text, "name your editor in $EDITOR")
	})
}
