// Command with starts a PostgreSQL for tests and runs a command with it: with go test ./...
package main

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"syscall"

	"victualler/internal/store/storetest"
)

func main() { os.Exit(run(os.Args[1:])) }

func run(args []string) int {
	if len(args) == 0 {
		fmt.Fprintln(os.Stderr, "usage: with COMMAND [ARG…]")
		return 2
	}
	server, err := storetest.StartServer()
	if err != nil {
		fmt.Fprintln(os.Stderr, "with:", err)
		return 1
	}
	defer server.Stop()
	// Ctrl-C reaches the command, too; the server is stopped when that has ended.
	signal.Notify(make(chan os.Signal, 1), os.Interrupt, syscall.SIGTERM)
	file, err := publish(server.URL)
	if err != nil {
		fmt.Fprintln(os.Stderr, "with:", err)
		return 1
	}
	defer os.Remove(file)
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Env = append(os.Environ(), storetest.Variable+"="+file)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	if err := cmd.Run(); err != nil {
		fmt.Fprintln(os.Stderr, "with:", err)
		return 1
	}
	return 0
}

// publish writes the server's URL to a file that has the same name whenever it is called in a
// directory, and lies outside of it: Go runs tests again if a file of theirs has changed there.
func publish(url string) (file string, err error) {
	here, err := os.Getwd()
	if err != nil {
		return "", err
	}
	cache, err := os.UserCacheDir()
	if err != nil {
		return "", err
	}
	dir := filepath.Join(cache, "victualler-check")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	digest := sha256.Sum256([]byte(here))
	file = filepath.Join(dir, hex.EncodeToString(digest[:8]))
	return file, os.WriteFile(file, []byte(url), 0o600)
}
