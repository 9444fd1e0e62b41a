// Command victualler-agent runs on every server and makes it match the
// manifests that the service sends.
//
//	victualler-agent run            serve (under a supervisor, as root)
//	victualler-agent join SECRET    give the waiting agent its join secret
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"syscall"
	"time"

	"victualler/internal/agent"
	"victualler/internal/agent/drivers/certificate"
	"victualler/internal/agent/drivers/database"
	"victualler/internal/agent/drivers/home"
	"victualler/internal/agent/drivers/knot"
	"victualler/internal/agent/drivers/mail"
	"victualler/internal/agent/drivers/nginx"
	"victualler/internal/agent/drivers/sandbox"
	"victualler/internal/agent/drivers/sshd"
	"victualler/internal/agent/drivers/sysuser"
	"victualler/internal/agent/sitelog"
	"victualler/internal/agent/visits"
	"victualler/internal/agentlink"
	"victualler/internal/render"
	"victualler/internal/version"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "victualler-agent:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	flags := flag.NewFlagSet("victualler-agent", flag.ContinueOnError)
	stateDir := flags.String("state", "/var/lib/victualler-agent", "`directory` for manifests, journal and identity")
	listen := flags.String("listen", fmt.Sprintf(":%d", agentlink.DefaultPort), "`address` on which the service calls")
	busy := flags.Int("busy-site", visits.DefaultBusy, "how many `requests` a day make a site busy: its certificate "+
		"is at hand then, and costs time with each reload")
	round := flags.Duration("busy-round", 10*time.Minute, "how often it is worked out which sites are busy")
	flags.Usage = func() {
		fmt.Fprintln(flags.Output(), "usage: victualler-agent [flags] run | join SECRET | version")
		flags.PrintDefaults()
	}
	if err := flags.Parse(args); err != nil {
		return err
	}
	switch {
	case flags.Arg(0) == "run" && flags.NArg() == 1:
		if *busy < 1 || *round < time.Second {
			return errors.New("-busy-site is at least 1, and -busy-round at least a second")
		}
		return serve(*listen, *stateDir, *busy, *round)
	case flags.Arg(0) == "join" && flags.NArg() == 2:
		if err := agent.SaveJoinSecret(*stateDir, flags.Arg(1)); err != nil {
			return err
		}
		fmt.Println("kept; the agent now waits for the service to call")
		return nil
	case flags.Arg(0) == "version":
		fmt.Println(version.Version)
		return nil
	}
	flags.Usage()
	return errors.New("say run or join")
}

func serve(address, stateDir string, busy int, round time.Duration) error {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM, syscall.SIGINT)
	defer stop()
	debug.SetMemoryLimit(30 << 20) // a soft bound: the server's memory is for its sites
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	slog.SetDefault(log)
	return agent.Listen(ctx, address, stateDir, log, func(ctx context.Context) (*agent.Agent, error) {
		config, web, err := drivers(stateDir)
		if err != nil {
			return nil, err
		}
		config.Visits, config.VisitsRound = visits.Open(filepath.Join(stateDir, "visits.json"), busy), round
		logs := &sitelog.Splitter{Source: render.RequestLog, StateFile: filepath.Join(stateDir, "requests.json"),
			Homes: home.Dir, Reopen: web.Reopen, Count: config.Visits.Count, Log: log}
		go logs.Run(ctx)
		if m, is := config.Mailer.(*mail.Mailer); is {
			go m.Run(ctx)
		}
		if d, is := config.Databases.(*database.Databases); is {
			go d.Run(ctx)
		}
		config.Log = log
		a, err := agent.New(config)
		if err != nil {
			return nil, err
		}
		return a, a.Run(ctx)
	})
}

// drivers is the table of everything an account is made of on a server. A new
// driver is one line here. The web server is returned besides, as its logs are read.
func drivers(stateDir string) (agent.Config, *nginx.Driver, error) {
	c := agent.Config{StateDir: stateDir}
	addresses, err := ownAddresses()
	if err != nil {
		return c, nil, err
	}
	c.Address = addresses[0]
	server := render.Server{Addresses: addresses, PHP: sandbox.Installed()}
	if len(server.PHP) == 0 {
		return c, nil, errors.New("no PHP-FPM is installed on this server (Debian's package php-fpm)")
	}
	const scratch = "/run/victualler-agent"
	if err := os.MkdirAll(scratch, 0o700); err != nil {
		return c, nil, err
	}
	homes, err := home.New()
	if err != nil {
		return c, nil, err
	}
	certificates, err := certificate.New()
	if err != nil {
		return c, nil, err
	}
	c.Meter, c.Homes, c.Challenger = homes, home.Dir, certificates
	users := &sysuser.Driver{}
	c.Resources = []agent.Resource{users, homes, certificates}
	web := nginx.New(server, scratch)
	boxes := sandbox.New(server)
	c.Confiner = boxes
	boxes.Others = append(boxes.Others, web.Missing)
	c.Programs = append(c.Programs, boxes, web)
	if sshd.Installed() {
		c.Resources = append(c.Resources, &sysuser.Logins{Users: users})
		files := sshd.New(scratch)
		boxes.Others = append(boxes.Others, files.Missing)
		c.Programs = append(c.Programs, files)
	}
	if knot.Installed() {
		c.Programs = append(c.Programs, knot.New(server, scratch))
		c.Contents = append(c.Contents, &knot.Zones{})
	}
	if mail.FlowInstalled() {
		flow, err := mail.NewFlow(context.Background(), scratch)
		if err != nil {
			return c, nil, err
		}
		c.Programs = append(c.Programs, flow)
	}
	if mail.Installed() {
		tables, err := mail.OpenTables(context.Background(), stateDir, slog.Default())
		if err != nil {
			return c, nil, err
		}
		postfix := mail.NewPostfix(server, scratch)
		tables.Postfix = postfix
		c.Mailer = &mail.Mailer{Postfix: postfix, Tables: tables}
		c.Resources = append(c.Resources, &home.Mail{Homes: homes})
		c.Programs = append(c.Programs, mail.NewDovecot(scratch), postfix)
		c.Contents = append(c.Contents, tables)
		if mail.FilterInstalled() {
			filter, err := mail.NewFilter(scratch)
			if err != nil {
				return c, nil, err
			}
			c.Programs = append(c.Programs, mail.NewMemory(scratch), filter)
		}
	}
	addDatabases(&c, stateDir, scratch)
	return c, web, nil
}

// addDatabases adds the engines of databases that this server has.
func addDatabases(c *agent.Config, stateDir, scratch string) {
	var mariadb *database.MariaDB
	var postgresql *database.PostgreSQL
	if database.MariaDBInstalled() {
		mariadb = database.NewMariaDB(scratch)
		c.Programs = append(c.Programs, mariadb)
	}
	if database.PostgreSQLInstalled() {
		postgresql = database.NewPostgreSQL(scratch)
		c.Programs = append(c.Programs, postgresql)
	}
	if mariadb != nil || postgresql != nil {
		all := database.New(slog.Default(), filepath.Join(stateDir, "imports"), mariadb, postgresql)
		c.Contents, c.Databases, c.Visitor = append(c.Contents, all), all, all
	}
}

// ownAddresses lists the server's addresses that others can reach.
func ownAddresses() ([]netip.Addr, error) {
	found, err := net.InterfaceAddrs()
	if err != nil {
		return nil, err
	}
	var own []netip.Addr
	for _, a := range found {
		if prefix, err := netip.ParsePrefix(a.String()); err == nil && prefix.Addr().IsGlobalUnicast() {
			own = append(own, prefix.Addr())
		}
	}
	if len(own) == 0 {
		return nil, errors.New("this server has no address that others can reach")
	}
	return own, nil
}
