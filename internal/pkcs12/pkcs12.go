// Package pkcs12 opens PKCS #12 files (RFC 7292). Such a file says itself how often a password is
// to be hashed, at every layer, so whoever brings one decides how much work it is to look into it.
// It is therefore looked into by a process of its own, which has so much time and no more.
package pkcs12

import (
	"bytes"
	"context"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"time"

	inner "software.sslmate.com/src/go-pkcs12"
)

// Command is the argument with which a program that calls [Open] has to
// call [Main] instead of what it does otherwise.
const Command = "open-pkcs12"

// cpuTime is how much processor time there is, and wallTime how long it may take.
const (
	cpuTime       = 5 * time.Second
	wallTime      = 20 * time.Second
	maxConcurrent = 2
)

// What keeps a file from being opened, besides that it cannot be read.
var (
	ErrPassword = errors.New("the password does not open it")
	ErrWork     = errors.New("it asks for more work than there is time for; save it anew with fewer iterations")
)

const (
	exitUnreadable = 3
	exitPassword   = 4
)

type question struct {
	File     []byte
	Password string
}

var places = make(chan struct{}, maxConcurrent)

// Open returns what is in a file, as PEM: the site's own certificate
// first, then the others, then the key (PKCS #8).
func Open(ctx context.Context, file []byte, password string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, wallTime)
	defer cancel()
	select {
	case places <- struct{}{}:
		defer func() { <-places }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	program, err := os.Executable()
	if err != nil {
		return nil, err
	}
	text, err := json.Marshal(question{file, password})
	if err != nil {
		return nil, err
	}
	var out, says bytes.Buffer
	cmd := exec.CommandContext(ctx, program, Command)
	cmd.Env = []string{} // of the service's surroundings, it needs nothing
	cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewReader(text), &out, &says
	err = cmd.Run()
	var exit *exec.ExitError
	switch {
	case err == nil:
		return out.Bytes(), nil
	case !errors.As(err, &exit):
		return nil, err
	case exit.ExitCode() == exitPassword:
		return nil, ErrPassword
	case exit.ExitCode() == exitUnreadable:
		return nil, errors.New(strings.TrimSpace(says.String()))
	}
	return nil, ErrWork // killed, by the limit of its time
}

// Main is the other process: it reads the question and writes the
// answer, and returns the exit code.
func Main(in io.Reader, out, says io.Writer) int {
	seconds := uint64(cpuTime / time.Second)
	if err := syscall.Setrlimit(syscall.RLIMIT_CPU, &syscall.Rlimit{Cur: seconds, Max: seconds}); err != nil {
		fmt.Fprintln(says, err)
		return exitUnreadable
	}
	var q question
	if err := json.NewDecoder(in).Decode(&q); err != nil {
		fmt.Fprintln(says, err)
		return exitUnreadable
	}
	text, err := decode(q.File, q.Password)
	switch {
	case errors.Is(err, inner.ErrIncorrectPassword):
		return exitPassword
	case err != nil:
		fmt.Fprintln(says, strings.TrimPrefix(err.Error(), "pkcs12: "))
		return exitUnreadable
	}
	if _, err := out.Write(text); err != nil {
		fmt.Fprintln(says, err)
		return exitUnreadable
	}
	return 0
}

func decode(file []byte, password string) ([]byte, error) {
	key, leaf, others, err := inner.DecodeChain(file, password)
	if err != nil {
		return nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	var text bytes.Buffer
	for _, c := range append([]*x509.Certificate{leaf}, others...) {
		if err := pem.Encode(&text, &pem.Block{Type: "CERTIFICATE", Bytes: c.Raw}); err != nil {
			return nil, err
		}
	}
	err = pem.Encode(&text, &pem.Block{Type: "PRIVATE KEY", Bytes: der})
	return text.Bytes(), err
}
