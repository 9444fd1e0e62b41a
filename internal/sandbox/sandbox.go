// Package sandbox is how to speak with the supervisor of sandboxes.
//
// Everything that runs for an account runs in its sandbox: its PHP, its shells and commands. The
// supervisor (package supervisor) starts it there; package confine closes the door behind it; what
// a sandbox is, its definition says (package definition).
package sandbox

import (
	"errors"

	"victualler/internal/sandbox/cgroup"
)

const (
	// RunDir is the supervisor's own.
	RunDir = "/run/victualler-sandbox"
	// ControlSocket is where root asks the supervisor, and Door where users enter their sandbox.
	ControlSocket = RunDir + "/control"
	Door          = RunDir + "/door"
)

// Health tells how well the server can confine.
type Health struct {
	// Layout is what is mounted of cgroups, in words.
	Layout string `json:"layout"`
	// Missing tells what the kernel does not offer, and so is not kept, in words.
	Missing []string `json:"missing"`
	// Running is how many sandboxes have processes.
	Running int `json:"running"`
}

// State is what the supervisor holds of an account.
type State struct {
	// Digest identifies the definition in force (definition.Digest); empty if there is none.
	Digest string `json:"digest"`
	// Listening are the sockets on which it listens for the account.
	Listening []string `json:"listening"`
}

// Load is what an account uses and has met of its limits. Counters are since the account's group
// was made, with the first that ran in it, and only grow until then.
type Load struct {
	cgroup.Usage
	// Instances is how many PHPs, shells and commands run.
	Instances int `json:"instances"`
}

// ErrUnreachable says that no supervisor answers.
var ErrUnreachable = errors.New("the supervisor of sandboxes does not answer: is victualler-sandbox running?")
