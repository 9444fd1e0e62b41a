// Command victualler-lab runs the demo: a whole installation on this machine,
// with servers in namespaces (package lab) and made-up customers.
//
//	victualler-lab demo     start, and stay until interrupted
//	victualler-lab reset    forget the demo's data
//	victualler-lab packages install what demo and tests need of Debian
package main

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"victualler/demo"
	"victualler/internal/lab"
	"victualler/internal/lab/installation"
)

func main() {
	lab.Hook()
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "victualler-lab:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	flags := flag.NewFlagSet("victualler-lab", flag.ContinueOnError)
	dir := flags.String("dir", "var/demo", "`directory` of the demo's data")
	listen := flags.String("listen", "127.0.0.1:8470", "`address` of the service")
	network := flags.String("network", "10.77.0.0/24", "the lab's `network`")
	flags.Usage = func() {
		fmt.Fprintln(flags.Output(), "usage: victualler-lab [flags] demo | reset | packages")
		flags.PrintDefaults()
	}
	if err := flags.Parse(args); err != nil {
		return err
	}
	if err := lab.CheckRights(); err != nil {
		return err
	}
	subnet, err := netip.ParsePrefix(*network)
	if err != nil {
		return err
	}
	path, err := filepath.Abs(*dir)
	if err != nil {
		return err
	}
	switch flags.Arg(0) {
	case "demo":
		return runDemo(path, *listen, subnet)
	case "reset":
		return reset(path, subnet)
	case "packages":
		return lab.InstallPackages(context.Background(), say, lab.MachinePackages...)
	}
	flags.Usage()
	return errors.New("say demo, reset or packages")
}

func say(text string) { fmt.Println("· " + text) }

func runDemo(dir, listen string, subnet netip.Prefix) error {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	begun := time.Now()
	if err := lab.InstallPackages(ctx, say, lab.MachinePackages...); err != nil {
		return err
	}
	base, err := lab.EnsureBase(ctx, lab.CacheDir(), say)
	if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	i, err := installation.Start(ctx, installation.Options{
		Dir: dir, Listen: listen, Programs: filepath.Dir(self), Say: say,
		Lab: lab.Options{Name: "demo", Base: base, Subnet: subnet},
		Servers: []lab.ServerOptions{{Name: "skua", Host: 21, HomeSize: 8 << 30},
			{Name: "petrel", Host: 23, HomeSize: 256 << 20}, {Name: "fulmar", Host: 22, HomeSize: 4 << 30}},
		Roles: map[string][]string{"skua": {"web", "mail", "database"}, "petrel": {"dns"},
			"fulmar": {"web", "dns", "mail"}},
		PublicDNS: publicDNSPage, Authority: authorityPage, Mail: mailAddress, MailPage: mailPage,
	})
	if err != nil {
		return err
	}
	defer func() {
		say("stopping")
		if err := i.Stop(); err != nil {
			fmt.Fprintln(os.Stderr, "victualler-lab:", err)
		}
	}()
	passwords, err := passwordsIn(filepath.Join(dir, "people.json"))
	if err != nil {
		return err
	}
	if err := demo.Load(ctx, i.Client, demo.Places{Console: i.Address(), Mail: i.Outside.SMTP,
		PublicDNS: i.PublicDNS.HTTP,
		Directory: i.Authority.Directory(), Root: i.Authority.Root(), Authority: i.Authority.Control}, passwords,
		say); err != nil {
		return err
	}
	if err := demo.Visit(ctx, i.Client, func(ctx context.Context, server string, argv ...string) (string, error) {
		return i.Servers[server].Exec(ctx, argv...)
	}); err != nil {
		return err
	}
	// The client is signed in as well, so that the first command works.
	session, err := json.Marshal(map[string]string{"service": i.Address(), "token": i.Client.Token})
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "session.json"), session, 0o600); err != nil {
		return err
	}
	fmt.Printf(`
Ready in %s.

  console   %s
  mail      http://%s

  sign in as    password
%s
Try, in another terminal:

  demo/victualler account open ternferries.example --plan harbour --customer "Tern Ferries" --server skua
  curl -H 'Host: ternferries.example' http://%s/
  demo/victualler server list

Ctrl-C stops everything.
`, time.Since(begun).Round(100*time.Millisecond), i.Address(), i.Outside.HTTP, signIns(i, passwords), i.Servers["skua"].Address)
	i.Supervise(ctx)
	fmt.Println()
	return nil
}

// Where the mail sink takes messages, and shows them.
const (
	mailAddress = "127.0.0.1:8425"
	mailPage    = "127.0.0.1:8471"
	// Where the public DNS is set: who registers what, and what
	// somebody else's name server answers.
	publicDNSPage = "127.0.0.1:8461"
	// Where the certificate authority is set: how long certificates last, and what goes wrong.
	authorityPage = "127.0.0.1:8462"
)

// passwordsIn reads the demo's passwords, which are made at its first start.
func passwordsIn(file string) (map[string]string, error) {
	passwords := map[string]string{}
	text, err := os.ReadFile(file)
	if err == nil {
		return passwords, json.Unmarshal(text, &passwords)
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, s := range demo.SignIns {
		passwords[s.Name] = rand.Text()[:16]
	}
	if text, err = json.Marshal(passwords); err != nil {
		return nil, err
	}
	return passwords, os.WriteFile(file, text, 0o600)
}

func signIns(i *installation.Installation, passwords map[string]string) string {
	text := fmt.Sprintf("  %-13s %-17s the first operator\n", i.Operator, i.Password)
	for _, s := range demo.SignIns {
		text += fmt.Sprintf("  %-13s %-17s %s\n", s.Name, passwords[s.Name], s.About)
	}
	return text
}

// reset forgets the data of a demo that is not running.
func reset(dir string, subnet netip.Prefix) error {
	if _, err := os.Stat(dir); err != nil {
		say("there is no demo data")
		return nil
	}
	// Starting an empty lab there proves that none is running, and clears what a killed one left.
	l, err := lab.New(lab.Options{Name: "demo", Dir: filepath.Join(dir, "lab"), Subnet: subnet})
	if err != nil {
		return err
	}
	if err := l.Stop(); err != nil {
		return err
	}
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	say("the demo's data is gone")
	return nil
}
