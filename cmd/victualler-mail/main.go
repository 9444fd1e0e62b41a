// Command victualler-mail runs on every mail server and decides on the way of messages, for
// Postfix: how much may be sent and as whom, what is signed, and where forwards lead. On web
// servers it takes what sites send, and hands it over where their mail is elsewhere.
//
//	victualler-mail run      serve (under a supervisor of services; begins as root)
//	victualler-mail check    read the configuration
//	victualler-mail reload   have the running program read its configuration anew
//	victualler-mail full PERCENT ADDRESS LANGUAGE   tell somebody that their mailbox fills up (run by Dovecot)
//	victualler-mail teach spam|ham   have the spam filter learn from a message (run by Dovecot)
package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"runtime/debug"
	"strconv"
	"strings"
	"syscall"

	"victualler/internal/mailflow"
	"victualler/internal/mailflow/definition"
	"victualler/internal/version"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "victualler-mail:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	if len(args) == 2 && args[0] == "teach" {
		return mailflow.Teach(args[1], os.Stdin)
	}
	if len(args) == 4 && args[0] == "full" {
		return mailflow.TellFull(context.Background(), args[1], args[2], args[3])
	}
	if len(args) != 1 {
		return errUsage
	}
	switch args[0] {
	case "run":
		debug.SetMemoryLimit(40 << 20) // a soft bound
		log := slog.New(slog.NewTextHandler(os.Stderr, nil))
		ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM, syscall.SIGINT)
		defer stop()
		reload := make(chan os.Signal, 1)
		signal.Notify(reload, syscall.SIGHUP)
		if err := mailflow.Run(ctx, reload, log); !errors.Is(err, context.Canceled) {
			return err
		}
		return nil
	case "check":
		_, err := mailflow.ReadConfig()
		return err
	case "reload":
		text, err := os.ReadFile(definition.PIDFile)
		if err != nil {
			return err
		}
		pid, err := strconv.Atoi(strings.TrimSpace(string(text)))
		if err != nil || pid < 2 {
			return fmt.Errorf("%s has no process number", definition.PIDFile)
		}
		return syscall.Kill(pid, syscall.SIGHUP)
	case "version":
		fmt.Println(version.Version)
		return nil
	}
	return errUsage
}

var errUsage = errors.New("say run, check, reload or version")
