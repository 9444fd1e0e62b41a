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
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/lab"
	"victualler/internal/resolve"
	"victualler/internal/standins/authority"
	"victualler/internal/standins/mailsink"
	"victualler/internal/standins/publicdns"

	"github.com/miekg/dns"
)

// Options describe an installation.
type Options struct {
	// Dir keeps everything of it.
	Dir string
	// Lab describes the lab; its Dir is set from Dir.
	Lab lab.Options
	// Listen is the service's address on loopback; empty is a free port.
	Listen string
	// Programs is the directory of our own programs.
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
	// Mail is where the stand-in for other people's mail servers takes messages, beside port 25 of
	// the lab's gateway, and MailPage where it shows them (host and port); empty are free ports of
	// loopback.
	Mail, MailPage string
	// Say is told what is going on.
	Say func(string)
	// Settings are PostgreSQL's, such as "fsync=off" for tests.
	Settings []string
	// Standby has a second PostgreSQL follow the first one, which waits for it with each commit.
	Standby bool
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
	// Outside stands in for other people's mail servers: those of [mailsink.Domain] are at the
	// lab's gateway.
	Outside  *mailsink.Sink
	Postgres *lab.Postgres
	// Standby follows Postgres; nil without [Options.Standby].
	Standby *lab.Postgres
	// Servers are the lab's, by name.
	Servers map[string]*lab.Server

	options Options

	mu      sync.Mutex
	service *Process
	others  []*Process
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
	if i.Outside, err = mailsink.Listen(orFree(o.Mail), orFree(o.MailPage)); err != nil {
		return nil, fmt.Errorf("stand-in for other people's mail servers: %w", err)
	}
	if err := errors.Join(i.Outside.Also(net.JoinHostPort(gateway, "25")),
		i.PublicDNS.Serve(mailsink.Domain, mailsink.Zone(i.Lab.Gateway()))); err != nil {
		return nil, fmt.Errorf("stand-in for other people's mail servers: %w", err)
	}
	o.Say("starting PostgreSQL and " + count(len(o.Servers), "server"))
	var group sync.WaitGroup
	errs := make([]error, len(o.Servers)+1)
	group.Go(func() { errs[0] = i.startPostgres(ctx) })
	started := make([]*lab.Server, len(o.Servers))
	for n, server := range o.Servers {
		server.Files = map[string]string{}
		for path, name := range lab.OwnPrograms {
			server.Files[path] = filepath.Join(o.Programs, name)
		}
		server.Services = append(server.Services, lab.OwnServices(server)...)
		group.Go(func() { started[n], errs[n+1] = i.Lab.StartServer(ctx, server) })
	}
	group.Wait()
	if err := errors.Join(errs...); err != nil {
		return nil, err
	}
	for n, server := range o.Servers {
		i.Servers[server.Name] = started[n]
	}
	if err := i.nameAddresses(); err != nil {
		return nil, err
	}
	if i.options.Listen == "" {
		if i.options.Listen, err = freeAddress(); err != nil {
			return nil, err
		}
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

// hostName is the name by which a server greets other mail servers; empty for one that takes no
// mail.
func (i *Installation) hostName(label string) string {
	if !slices.Contains(i.options.Roles[label], "mail") {
		return ""
	}
	return label + ".ternisland.example"
}

// nameAddresses has the addresses of mail servers lead back to their names, as whoever has given
// them the addresses would.
func (i *Installation) nameAddresses() error {
	zones := map[string]string{}
	for label, server := range i.Servers {
		name := i.hostName(label)
		if name == "" {
			continue
		}
		for _, a := range []netip.Addr{server.Address, lab.Address6(server.Address)} {
			back, err := dns.ReverseAddr(a.String())
			if err != nil {
				return err
			}
			first, zone, _ := strings.Cut(strings.TrimSuffix(back, "."), ".")
			zones[zone] += first + " PTR " + name + ".\n"
		}
	}
	for zone, text := range zones {
		if err := i.PublicDNS.Serve(zone, text); err != nil {
			return fmt.Errorf("names of addresses: %w", err)
		}
	}
	return nil
}

// freeAddress finds an address of loopback at which nobody listens.
func freeAddress() (string, error) {
	port, err := lab.FreePort()
	return net.JoinHostPort("127.0.0.1", strconv.Itoa(port)), err
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

// startPostgres starts PostgreSQL, and the one that follows it.
func (i *Installation) startPostgres(ctx context.Context) (err error) {
	settings := i.options.Settings
	if i.options.Standby {
		settings = append(slices.Clone(settings), "synchronous_standby_names=*")
	}
	i.Postgres, err = lab.StartPostgres(ctx, filepath.Join(i.options.Dir, "postgres"), settings...)
	if err == nil && i.options.Standby {
		i.Standby, err = lab.StartStandby(ctx, i.Postgres, filepath.Join(i.options.Dir, "standby"),
			i.options.Settings...)
	}
	return err
}

// DatabaseURL reaches whichever PostgreSQL takes changes.
func (i *Installation) DatabaseURL() string {
	if i.Standby == nil {
		return i.Postgres.URL
	}
	first, rest, _ := strings.Cut(strings.TrimPrefix(i.Standby.URL, "postgres://"), "/")
	_, second, _ := strings.Cut(first, "@")
	return strings.Replace(i.Postgres.URL, "/"+rest, ","+second+"/"+rest+"?target_session_attrs=read-write", 1)
}

// Process is a process of the service.
type Process struct {
	// Address is where it answers.
	Address string

	cmd   *exec.Cmd
	ended chan struct{}
}

// Kill ends the process at once.
func (p *Process) Kill() { p.end(syscall.SIGKILL) }

func (p *Process) end(signal syscall.Signal) {
	lab.End(p.cmd.Process, p.ended, signal, syscall.SIGKILL, 15*time.Second)
}

// StartService starts the service and waits until it is ready. The first
// operator's password, which it prints once, is kept in a file.
func (i *Installation) StartService(ctx context.Context) error {
	if err := os.MkdirAll(i.stateDir(), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(i.databaseFile(), []byte(i.DatabaseURL()+"\n"), 0o600); err != nil {
		return err
	}
	p, err := i.startProcess(ctx, i.options.Listen)
	if err != nil {
		return err
	}
	i.mu.Lock()
	i.service = p
	i.mu.Unlock()
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

// StartAnother starts one more process of the service, at an address of
// its own, which ends with the installation.
func (i *Installation) StartAnother(ctx context.Context) (*Process, error) {
	listen, err := freeAddress()
	if err != nil {
		return nil, err
	}
	p, err := i.startProcess(ctx, listen)
	if err != nil {
		return nil, err
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	i.others = append(i.others, p)
	return p, nil
}

// startProcess starts a process of the service and waits until it is ready.
func (i *Installation) startProcess(ctx context.Context, listen string) (*Process, error) {
	log, err := os.OpenFile(i.LogFile(), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	p := &Process{Address: "http://" + listen, cmd: i.Daemon("-listen", listen, "run"), ended: make(chan struct{})}
	p.cmd.Stderr = log
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	stdout, err := p.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := lab.StartBound(p.cmd); err != nil {
		return nil, err
	}
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
		p.cmd.Wait()
		close(p.ended)
	}()
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		response, err := http.Get(p.Address + "/readyz")
		if err == nil {
			response.Body.Close()
			if response.StatusCode == http.StatusOK {
				return p, nil
			}
		}
		select {
		case <-p.ended:
			return nil, fmt.Errorf("the service ended at its start; see %s", i.LogFile())
		case <-ctx.Done():
			return nil, ctx.Err()
		default:
		}
		if time.Now().After(end) {
			p.Kill()
			return nil, fmt.Errorf("the service is not ready within 30 s; see %s", i.LogFile())
		}
	}
}

// ServicePID is the process number of the service.
func (i *Installation) ServicePID() int {
	i.mu.Lock()
	defer i.mu.Unlock()
	return i.service.cmd.Process.Pid
}

// KillService ends the service at once; [Installation.StartService] starts it again.
func (i *Installation) KillService() {
	i.mu.Lock()
	p := i.service
	i.mu.Unlock()
	p.Kill()
}

// Supervise starts the service, PostgreSQL and servers again when they end, until ctx ends, as
// systemd would. The programs of a server are looked after by its first process, in the same way.
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
		return i.service.ended
	}, i.StartService)
	watch("PostgreSQL", i.Postgres.Ended, i.Postgres.Start)
	for name, server := range i.Servers {
		watch("the server "+name, server.Ended, server.Start)
	}
	group.Wait()
}

// Stop ends everything.
func (i *Installation) Stop() error {
	for _, p := range append(i.others, i.service) {
		if p != nil {
			p.end(syscall.SIGTERM)
		}
	}
	for _, p := range []*lab.Postgres{i.Standby, i.Postgres} {
		if p != nil {
			p.Stop()
		}
	}
	if i.Authority != nil {
		i.Authority.Close()
	}
	if i.PublicDNS != nil {
		i.PublicDNS.Close()
	}
	if i.Outside != nil {
		i.Outside.Close()
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
		HostName:  i.hostName(label),
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
