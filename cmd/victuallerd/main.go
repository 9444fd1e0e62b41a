// Command victuallerd is the service: the API, the console and the background work.
//
//	victuallerd run                   serve
//	victuallerd operator reset NAME   give an operator a new password
//	victuallerd openapi               print the API's description
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"strings"
	"syscall"
	"time"

	"victualler/console"
	"victualler/internal/httpapi"
	"victualler/internal/jobs"
	"victualler/internal/pkcs12"
	"victualler/internal/seal"
	"victualler/internal/service"
	"victualler/internal/store"
	"victualler/internal/version"
)

func main() {
	if len(os.Args) == 2 && os.Args[1] == pkcs12.Command { // called by the service itself
		os.Exit(pkcs12.Main(os.Stdin, os.Stdout, os.Stderr))
	}
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "victuallerd:", err)
		os.Exit(1)
	}
}

type settings struct {
	listen, database, databaseFile, state, certificate, key, site, resolver string
	proxies                                                                 []netip.Prefix
}

func run(args []string) error {
	var c settings
	flags := flag.NewFlagSet("victuallerd", flag.ContinueOnError)
	flags.StringVar(&c.listen, "listen", "127.0.0.1:8470", "`address` for the API and the console")
	flags.StringVar(&c.database, "database", "", "PostgreSQL `URL`; better given in a file, which others cannot list")
	flags.StringVar(&c.databaseFile, "database-file", "", "`file` that holds the PostgreSQL URL")
	flags.StringVar(&c.state, "state", "/var/lib/victuallerd", "`directory` of the sealing key")
	flags.StringVar(&c.certificate, "tls-certificate", "", "PEM `file`; without it, serve HTTP, on loopback only")
	flags.StringVar(&c.key, "tls-key", "", "PEM `file` of the certificate's key")
	flags.StringVar(&c.site, "tls-site", "",
		"serve with the certificate of this `domain`, a site hosted here, which is ordered and renewed automatically")
	flags.StringVar(&c.resolver, "resolver", "", "`address` (host:port) of the resolver through which "+
		"public DNS is asked; the machine's own at first")
	flags.Func("proxy", "`network` of a reverse proxy in front, whose X-Forwarded-For is believed and which speaks "+
		"HTTPS to people; may be repeated", func(text string) error {
		network, err := netip.ParsePrefix(text)
		if address, addressErr := netip.ParseAddr(text); addressErr == nil {
			network, err = netip.PrefixFrom(address, address.BitLen()), nil
		}
		c.proxies = append(c.proxies, network)
		return err
	})
	flags.Usage = func() {
		fmt.Fprintln(flags.Output(), "usage: victuallerd [flags] run | operator reset NAME | openapi | version")
		flags.PrintDefaults()
	}
	if err := flags.Parse(args); err != nil {
		return err
	}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM, syscall.SIGINT)
	defer stop()
	switch strings.Join(flags.Args(), " ") {
	case "run":
		return serve(ctx, c)
	case "openapi":
		text, err := httpapi.New(httpapi.Options{}).OpenAPI()
		fmt.Println(string(text))
		return err
	case "version":
		fmt.Println(version.Version)
		return nil
	}
	if flags.NArg() == 3 && flags.Arg(0) == "operator" && flags.Arg(1) == "reset" {
		return resetOperator(ctx, c, flags.Arg(2))
	}
	flags.Usage()
	return errors.New("say what to do")
}

// open connects to the database and opens the installation.
func open(ctx context.Context, c settings, log *slog.Logger) (*store.Store, *service.Service, error) {
	if c.databaseFile != "" {
		text, err := os.ReadFile(c.databaseFile)
		if err != nil {
			return nil, nil, err
		}
		c.database = strings.TrimSpace(string(text))
	}
	if c.database == "" {
		return nil, nil, errors.New("say where PostgreSQL is, with -database-file")
	}
	key, err := seal.LoadKey(filepath.Join(c.state, "sealing.key"))
	if err != nil {
		return nil, nil, err
	}
	s, err := store.Open(ctx, c.database)
	if err != nil {
		return nil, nil, err
	}
	sv, err := service.New(ctx, s, key, log)
	if err != nil {
		s.Close()
		return s, sv, err
	}
	if c.resolver != "" {
		sv.SetResolver(c.resolver)
	}
	return s, sv, nil
}

func resetOperator(ctx context.Context, c settings, name string) error {
	s, sv, err := open(ctx, c, slog.New(slog.DiscardHandler))
	if err != nil {
		return err
	}
	defer s.Close()
	password, err := sv.People.ResetOperator(ctx, name)
	if err != nil {
		return err
	}
	fmt.Printf("new password of %s: %s\n", name, password)
	return nil
}

func serve(ctx context.Context, c settings) error {
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	slog.SetDefault(log)
	debug.SetMemoryLimit(120 << 20) // soft: collect more eagerly before growing beyond
	secure := c.certificate != "" || c.site != ""
	if c.certificate != "" && c.site != "" {
		return errors.New("say either -tls-certificate and -tls-key, or -tls-site")
	}
	if !secure {
		if host, _, err := net.SplitHostPort(c.listen); err != nil || !net.ParseIP(host).IsLoopback() {
			return fmt.Errorf("without -tls-site, or -tls-certificate and -tls-key, the service listens on loopback "+
				"only, not on %s", c.listen)
		}
	}
	s, sv, err := open(ctx, c, log)
	if err != nil {
		return err
	}
	defer s.Close()
	queue, err := jobs.New(s, sv, log)
	if err != nil {
		return err
	}
	name, password, made, err := sv.People.EnsureOperator(ctx)
	if err != nil {
		return err
	}
	if made {
		fmt.Printf("first operator: sign in as %s with the password %s\nIf it is lost: victuallerd operator reset %s\n",
			name, password, name)
	}
	if err := queue.Start(context.WithoutCancel(ctx)); err != nil {
		return err
	}
	watching, stopWatching := context.WithCancel(context.WithoutCancel(ctx))
	defer stopWatching()
	go sv.Rollout.Run(watching)
	listener, err := net.Listen("tcp", c.listen)
	if err != nil {
		return err
	}
	requests, cutRequests := context.WithCancel(context.WithoutCancel(ctx))
	defer cutRequests()
	server := &http.Server{
		Handler: httpapi.New(httpapi.Options{Service: sv, Log: log, Console: console.Files(),
			Secure: secure || len(c.proxies) > 0, Proxies: c.proxies}),
		ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute, IdleTimeout: 2 * time.Minute,
		MaxHeaderBytes: 64 << 10,
		BaseContext:    func(net.Listener) context.Context { return requests },
		ErrorLog:       slog.NewLogLogger(log.Handler(), slog.LevelWarn),
	}
	if c.site != "" {
		if server.TLSConfig, err = ownTLS(watching, sv, c.site, log); err != nil {
			return err
		}
	}
	failed := make(chan error, 1)
	go func() {
		if secure {
			failed <- server.ServeTLS(listener, c.certificate, c.key)
		} else {
			failed <- server.Serve(listener)
		}
	}()
	log.Info("ready", "address", listener.Addr().String(), "version", version.Version)
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	log.Info("stopping")
	end, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	cutRequests() // those that watch would stay for ever
	return errors.Join(server.Shutdown(end), queue.Stop(end))
}
