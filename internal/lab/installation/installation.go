// Package installation runs a whole installation on one machine: PostgreSQL,
// the service, and lab servers that have joined it. The demo, the tests and the
// benchmarks use it, all through the API.
package installation

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/lab"
	"victualler/internal/resolve"
	"victualler/internal/standins/authority"
	"victualler/internal/standins/publicdns"
)

// Options describe an installation.
type Options struct {
	// Dir keeps everything of it.
	Dir string
	// Lab describes the lab; its Dir is set from Dir.
	Lab lab.Options
	// Listen is the service's address on loopback; empty is a free port.
	Listen string
	// Programs is the directory of victuallerd and victualler-agent.
	Programs string
	// Servers are started and joined, in this order.
	Servers []lab.ServerOptions
	// Roles are those of servers by their labels; web where there is nothing.
	Roles map[string][]string
	// PublicDNS is where the stand-in for the public DNS is set
	// (host and port); empty is a free port of loopback.
	PublicDNS string
	// Authority is where the stand-in for a certificate authority is
	// set (host and port); empty is a free port of loopback.
	Authority string
	// Say is told what is going on.
	Say func(string)
	// Settings are PostgreSQL's, such as "fsync=off" for tests.
	Settings []string
}

// Installation is a running one. Make one with [Start].
type Installation struct {
	// Client is signed in as the first operator.
	Client *client.Client
	// Operator and Password are those of the first operator.
	Operator, Password string
	Lab                *lab.Lab
	// PublicDNS stands in for the public DNS. It answers at the lab's gateway.
	PublicDNS *publicdns.DNS
	// Authority stands in for a certificate authority, at the lab's gateway.
	Authority *authority.Authority
	Postgres  *lab.Postgres
	// Servers are the lab's, by name.
	Servers map[string]*lab.Server

	options Options

	mu      sync.Mutex
	service *exec.Cmd
	ended   chan struct{}
}

// restartPause is how long what has ended is left alone before it is started again.
const restartPause = time.Second

// authorityPort is where the stand-in for a certificate authority answers.
const authorityPort = "14443"

// orFree is an address, or any free one of loopback.
func orFree(address string) string {
	if address == "" {
		return "127.0.0.1:0"
	}
	return address
}

// Start starts or restarts the installation in a directory. What is started
// dies with this process.
func Start(ctx context.Context, o Options) (_ *Installation, err error) {
	i := &Installation{options: o, Servers: map[string]*lab.Server{}}
	defer func() {
		if err != nil {
			i.Stop()
		}
	}()
	if err := os.MkdirAll(o.Dir, 0o755); err != nil {
		return nil, err
	}
	o.Lab.Dir = filepath.Join(o.Dir, "lab")
	if i.Lab, err = lab.New(o.Lab); err != nil {
		return nil, err
	}
	if i.PublicDNS, err = publicdns.Listen(i.Lab.Gateway(), orFree(o.PublicDNS)); err != nil {
		return nil, fmt.Errorf("stand-in for the public DNS: %w", err)
	}
	gateway := i.Lab.Gateway().String()
	var from [][]netip.Addr
	for _, a := range i.Lab.Places() {
		from = append(from, []netip.Addr{a, lab.Address6(a)})
	}
	i.Authority, err = authority.Listen(authority.Options{Address: net.JoinHostPort(gateway, authorityPort),
		Control: orFree(o.Authority), Resolver: resolve.New(net.JoinHostPort(gateway, "53")),
		From: from, Keys: filepath.Join(o.Dir, "authority.pem")})
	if err != nil {
		return nil, fmt.Errorf("stand-in for a certificate authority: %w", err)
	}
	o.Say("starting PostgreSQL and " + count(len(o.Servers), "server"))
	var group sync.WaitGroup
	errs := make([]error, len(o.Servers)+1)
	group.Go(func() {
		i.Postgres, errs[0] = lab.StartPostgres(ctx, filepath.Join(o.Dir, "postgres"), o.Settings...)
	})
	started := make([]*lab.Server, len(o.Servers))
	for n, server := range o.Servers {
		server.Files = map[string]string{lab.AgentPath: filepath.Join(o.Programs, "victualler-agent")}
		server.Services = append(server.Services, lab.AgentService)
		group.Go(func() { started[n], errs[n+1] = i.Lab.StartServer(ctx, server) })
	}
	group.Wait()
	if err := errors.Join(errs...); err != nil {
		return nil, err
	}
	for n, server := range o.Servers {
		i.Servers[server.Name] = started[n]
	}
	if i.options.Listen == "" {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, err
		}
		i.options.Listen = l.Addr().String()
		l.Close()
	}
	o.Say("starting the service")
	if err := i.StartService(ctx); err != nil {
		return nil, err
	}
	if _, err := i.Client.SignIn(ctx, api.SignIn{Name: i.Operator, Password: i.Password}); err != nil {
		return nil, fmt.Errorf("sign in as %s: %w", i.Operator, err)
	}
	for _, server := range o.Servers {
		if err := i.join(ctx, server.Name); err != nil {
			return nil, fmt.Errorf("join %s: %w", server.Name, err)
		}
	}
	return i, nil
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Address is where the service listens.
func (i *Installation) Address() string { return "http://" + i.options.Listen }

func (i *Installation) stateDir() string     { return filepath.Join(i.options.Dir, "victuallerd") }
func (i *Installation) databaseFile() string { return filepath.Join(i.stateDir(), "database") }

// OperatorFile is where the first operator's name and password are kept.
func (i *Installation) OperatorFile() string { return filepath.Join(i.options.Dir, "operator") }

// LogFile is where the service's log goes.
func (i *Installation) LogFile() string { return filepath.Join(i.options.Dir, "victuallerd.log") }

// Daemon prepares a command of victuallerd for this installation.
func (i *Installation) Daemon(args ...string) *exec.Cmd {
	all := append([]string{"-state", i.stateDir(), "-database-file", i.databaseFile(), "-listen", i.options.Listen,
		"-resolver", net.JoinHostPort(i.Lab.Gateway().String(), "53")}, args...)
	return exec.Command(filepath.Join(i.options.Programs, "victuallerd"), all...)
}

// StartService starts the service and waits until it is ready. The first
// operator's password, which it prints once, is kept in a file.
func (i *Installation) StartService(ctx context.Context) error {
	if err := os.MkdirAll(i.stateDir(), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(i.databaseFile(), []byte(i.Postgres.URL+"\n"), 0o600); err != nil {
		return err
	}
	log, err := os.OpenFile(i.LogFile(), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	cmd := i.Daemon("run")
	cmd.Stderr = log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	stdout, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := lab.StartBound(cmd); err != nil {
		return err
	}
	ended := make(chan struct{})
	i.mu.Lock()
	i.service, i.ended = cmd, ended
	i.mu.Unlock()
	printed := make(chan struct{})
	go func() {
		defer close(printed)
		for lines := bufio.NewScanner(stdout); lines.Scan(); {
			var name, password string
			if n, _ := fmt.Sscanf(lines.Text(), "first operator: sign in as %s with the password %s", &name,
				&password); n == 2 {
				os.WriteFile(i.OperatorFile(), []byte(name+" "+password+"\n"), 0o600)
			}
		}
	}()
	go func() {
		<-printed
		cmd.Wait()
		close(ended)
	}()
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		response, err := http.Get(i.Address() + "/readyz")
		if err == nil {
			response.Body.Close()
			if response.StatusCode == http.StatusOK {
				break
			}
		}
		select {
		case <-ended:
			return fmt.Errorf("the service ended at its start; see %s", i.LogFile())
		case <-ctx.Done():
			return ctx.Err()
		default:
		}
		if time.Now().After(end) {
			return fmt.Errorf("the service is not ready within 30 s; see %s", i.LogFile())
		}
	}
	text, err := os.ReadFile(i.OperatorFile())
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s is missing: the first operator's password was not kept; reset it with “victuallerd "+
			"operator reset operator”", i.OperatorFile())
	}
	if err != nil {
		return err
	}
	if _, err := fmt.Sscan(string(text), &i.Operator, &i.Password); err != nil {
		return err
	}
	if i.Client == nil {
		i.Client = &client.Client{Base: i.Address()}
	}
	return nil
}

// ServicePID is the process number of the service.
func (i *Installation) ServicePID() int {
	i.mu.Lock()
	defer i.mu.Unlock()
	return i.service.Process.Pid
}

// KillService ends the service at once; [Installation.StartService] starts it again.
func (i *Installation) KillService() { i.endService(syscall.SIGKILL) }

func (i *Installation) endService(signal syscall.Signal) {
	i.mu.Lock()
	cmd, ended := i.service, i.ended
	i.mu.Unlock()
	if cmd == nil {
		return
	}
	cmd.Process.Signal(signal)
	select {
	case <-ended:
	case <-time.After(15 * time.Second):
		cmd.Process.Kill()
		<-ended
	}
}

// Supervise starts the service and servers again when they end, until ctx ends, as systemd would.
// The programs of a server are looked after by its first process, in the same way.
func (i *Installation) Supervise(ctx context.Context) {
	var group sync.WaitGroup
	watch := func(what string, ended func() <-chan struct{}, start func(context.Context) error) {
		group.Go(func() {
			for {
				select {
				case <-ended():
				case <-ctx.Done():
					return
				}
				select {
				case <-time.After(restartPause):
				case <-ctx.Done():
					return
				}
				if err := start(ctx); err != nil && ctx.Err() == nil {
					i.options.Say(fmt.Sprintf("%s has ended, and could not be started again: %v", what, err))
				} else if err == nil {
					i.options.Say(what + " had ended, and was started again")
				}
			}
		})
	}
	watch("the service", func() <-chan struct{} {
		i.mu.Lock()
		defer i.mu.Unlock()
		return i.ended
	}, i.StartService)
	for name, server := range i.Servers {
		watch("the server "+name, server.Ended, server.Start)
	}
	group.Wait()
}

// Stop ends everything.
func (i *Installation) Stop() error {
	i.endService(syscall.SIGTERM)
	if i.Postgres != nil {
		i.Postgres.Stop()
	}
	if i.Authority != nil {
		i.Authority.Close()
	}
	if i.PublicDNS != nil {
		i.PublicDNS.Close()
	}
	if i.Lab != nil {
		return i.Lab.Stop()
	}
	return nil
}

// join joins a server that has not joined before.
func (i *Installation) join(ctx context.Context, label string) error {
	var known api.Server
	err := i.Client.Get(ctx, "/servers/"+label, nil, &known)
	if err == nil && known.State == "joined" {
		return nil
	}
	var problem *api.Problem
	if err != nil && (!errors.As(err, &problem) || problem.Status != http.StatusNotFound) {
		return err
	}
	i.options.Say("joining " + label)
	server := i.Servers[label]
	roles := i.options.Roles[label]
	if len(roles) == 0 {
		roles = []string{"web"}
	}
	var joining api.Joining
	if err := i.Client.Post(ctx, "/servers", api.NewServer{Label: label, Address: server.Address.String(), Roles: roles,
		Addresses: []string{server.Address.String(), lab.Address6(server.Address).String()}}, &joining); err != nil {
		return err
	}
	if _, err := server.Exec(ctx, lab.AgentPath, "join", joining.JoinSecret); err != nil {
		return err
	}
	o, err := i.Client.Watch(ctx, joining.Operation, func(api.Operation) {})
	if err == nil && o.State == "failed" {
		err = errors.New(strings.TrimSpace(o.Failure))
	}
	return err
}
