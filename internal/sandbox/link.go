package sandbox

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// What root can ask at [ControlSocket]: one question for each connection, both as JSON.
const (
	// AskReload brings the definitions on disk into force.
	AskReload = "reload"
	// AskState asks what is held of an account.
	AskState = "state"
	// AskHealth asks how well the server can confine.
	AskHealth = "health"
	// AskLoads asks what accounts use.
	AskLoads = "loads"
	// AskAdmit puts a process, such as that of a session, into the group of an account.
	AskAdmit = "admit"
)

// Question is what is asked.
type Question struct {
	Ask     string `json:"ask"`
	Account string `json:"account,omitempty"`
	UID     int    `json:"uid,omitempty"`
	PID     int    `json:"pid,omitempty"`
}

// Answer is the answer; Error is empty if all went well.
type Answer struct {
	Error  string          `json:"error,omitempty"`
	State  *State          `json:"state,omitempty"`
	Health *Health         `json:"health,omitempty"`
	Loads  map[string]Load `json:"loads,omitempty"`
}

// Entry is what somebody brings to the [Door], with standard input, output and error beside it.
type Entry struct {
	// Account is whose sandbox root enters; others enter their own.
	Account string   `json:"account,omitempty"`
	Argv    []string `json:"argv"`
	Env     []string `json:"env"`
	// Terminal says that the standard input is a terminal to be controlled by.
	Terminal bool `json:"terminal,omitempty"`
}

// Ended is what the door says when what was started has ended, or was refused.
type Ended struct {
	Status int    `json:"status"`
	Error  string `json:"error,omitempty"`
}

// patience is how long a supervisor may take to be there again.
const patience = 10 * time.Second

// Ask asks the supervisor. One that is just being started again is waited for.
func Ask(ctx context.Context, q Question) (Answer, error) {
	var conn net.Conn
	for end := time.Now().Add(patience); ; {
		var err error
		if conn, err = (&net.Dialer{}).DialContext(ctx, "unix", ControlSocket); err == nil {
			break
		}
		if time.Now().After(end) || ctx.Err() != nil {
			return Answer{}, fmt.Errorf("%w (%w)", ErrUnreachable, err)
		}
		time.Sleep(10 * time.Millisecond)
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	if err := json.NewEncoder(conn).Encode(q); err != nil {
		return Answer{}, err
	}
	var a Answer
	if err := json.NewDecoder(conn).Decode(&a); err != nil {
		return Answer{}, err
	}
	if a.Error != "" {
		return a, errors.New(a.Error)
	}
	return a, nil
}

// Enter has a program run in a sandbox, with this process's standard input and outputs, and returns
// how it ended.
func Enter(e Entry) (Ended, error) {
	_, err := unix.IoctlGetTermios(0, unix.TCGETS)
	e.Terminal = err == nil
	return enter(context.Background(), e, os.Stdin, os.Stdout, os.Stderr, func() {
		// What came in is the other's now: this end would keep pipes open.
		os.Stdin.Close()
		os.Stdout.Close()
	})
}

// Run has a program run in a sandbox without any input, and returns how it ended. What it writes
// goes to output, which is closed here. When the context ends, so does the program, and all that
// it has started.
func Run(ctx context.Context, e Entry, output *os.File) (Ended, error) {
	nothing, err := os.Open(os.DevNull)
	if err != nil {
		output.Close()
		return Ended{}, err
	}
	closed := func() {
		nothing.Close()
		output.Close()
	}
	defer closed()
	return enter(ctx, e, nothing, output, output, closed)
}

// enter hands over an entry with its files; given is called when they are the other end's.
func enter(ctx context.Context, e Entry, in, out, complaints *os.File, given func()) (Ended, error) {
	conn, err := net.DialUnix("unixpacket", nil, &net.UnixAddr{Name: Door, Net: "unixpacket"})
	if err != nil {
		return Ended{}, fmt.Errorf("%w (%w)", ErrUnreachable, err)
	}
	defer conn.Close()
	text, err := json.Marshal(e)
	if err != nil {
		return Ended{}, err
	}
	rights := unix.UnixRights(int(in.Fd()), int(out.Fd()), int(complaints.Fd()))
	if _, _, err := conn.WriteMsgUnix(text, rights, nil); err != nil {
		return Ended{}, err
	}
	given()
	stop := context.AfterFunc(ctx, func() { conn.Close() }) // on which the other end kills it
	defer stop()
	answer := make([]byte, 64<<10)
	n, err := conn.Read(answer)
	if ctx.Err() != nil {
		return Ended{}, context.Cause(ctx)
	}
	if err != nil {
		return Ended{}, fmt.Errorf("the session was cut off: %w", err)
	}
	var ended Ended
	return ended, json.Unmarshal(answer[:n], &ended)
}
