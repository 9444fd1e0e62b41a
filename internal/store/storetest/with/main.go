// Command with starts a PostgreSQL for tests and runs a command with it: with go test ./...
package main

import (
	"fmt"
	"os"
	"os/exec"
	"os/signal"
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
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Env = append(os.Environ(), storetest.Variable+"="+server.URL)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	if err := cmd.Run(); err != nil {
		fmt.Fprintln(os.Stderr, "with:", err)
		return 1
	}
	return 0
}
