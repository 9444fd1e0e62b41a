// Command shots takes the pictures of the console in docs/screenshots, from a
// running demo with drift on skua and without ternferries.example.
//
//	go run ./e2e/shots [-out DIR] [-as PERSON] [-dark] [-width N] [-height N] [-click SELECTOR] [NAME=PATH …]
//
// Without arguments it takes all that the documentation shows.
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"victualler/e2e/browser"

	"github.com/chromedp/chromedp"
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

// documented are the pictures of the documentation, by who looks.
var documented = map[string][]string{
	"": {"overview=/", "accounts=/accounts", "open=/accounts/open", "account=/accounts/trust", "servers=/servers",
		"server=/servers/skua",
		"domain=/accounts/boatyard/domains/slipway-boatyard.example", "mail=/accounts/coop/mail", "plan=/plans/skiff",
		"reseller=/resellers/guillemot", "zone=/zones/slipway-boatyard.example",
		"database=/accounts/coop/databases/coop_members?table=members", "databases=/databases", "messages=/messages",
		"certificate=/accounts/trust/domains/lighthousetrust.example/certificate",
		"kits=/accounts/trust/kits"},
	"tresen":                         {"branded=/"},
	"keeper@lighthousetrust.example": {"own-mailbox=/mailbox"},
}

// before is what is done on a page before its picture is taken, by the picture's name.
var before = map[string][]browser.Action{
	"open": append(fill(), browser.Click("button", "Preview"), browser.Shows(".preview")),
	"certificate": {browser.Click("button", "What is to be done?"),
		browser.Shows("section[aria-live]")},
	"plan": {browser.Shows("#limit-domains"),
		browser.Script(`document.querySelector('#limit-domains').select()`),
		chromedp.SendKeys(chromedp.CSS("#limit-domains"), "0"),
		browser.Click("button", "Preview the change"), browser.Shows(".preview")},
	"search": {browser.Press("/"), chromedp.KeyEvent("suspend north"), browser.Shows("#hits li")},
}

func run() error {
	out := flag.String("out", "docs/screenshots", "`directory` for the pictures")
	base := flag.String("base", "http://127.0.0.1:8470", "`address` of the console")
	demo := flag.String("demo", "var/demo", "`directory` of the demo, where names and passwords are")
	as := flag.String("as", "", "`person` of the demo who signs in, or address of a mailbox; empty is the operator")
	dark := flag.Bool("dark", false, "dark mode")
	width := flag.Int64("width", 1280, "in pixels")
	height := flag.Int64("height", 800, "in pixels")
	press := flag.String("click", "", "`selector` of what is clicked on each page before its picture is taken")
	flag.Parse()
	if err := os.MkdirAll(*out, 0o755); err != nil {
		return err
	}
	look := camera{out: *out, base: *base, dark: *dark, width: *width, height: *height, press: *press}
	if pictures := flag.Args(); len(pictures) > 0 {
		return look.as(*demo, *as, pictures)
	}
	for person, pictures := range documented {
		if err := look.as(*demo, person, pictures); err != nil {
			return err
		}
	}
	return nil
}

// camera is how pictures are taken.
type camera struct {
	out, base     string
	dark          bool
	width, height int64
	press         string
}

// as takes pictures as somebody of the demo.
func (l camera) as(demo, person string, pictures []string) error {
	name, password, err := signIn(demo, person)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	ctx, stop, err := browser.Open(ctx, browser.Options{Width: l.width, Height: l.height, Dark: l.dark})
	if err != nil {
		return err
	}
	defer stop()
	shoot := func(name string) error {
		var png []byte
		if err := chromedp.Do(ctx, chromedp.Sleep(700*time.Millisecond),
			browser.Into(&png, chromedp.CaptureScreenshot())); err != nil {
			return err
		}
		path := filepath.Join(l.out, name+".png")
		fmt.Println(path)
		return os.WriteFile(path, png, 0o644)
	}
	if strings.Contains(name, "@") {
		// The holder of a mailbox.
		err = chromedp.Do(ctx, chromedp.Navigate(l.base+"/mailbox"), browser.Shows("#mailbox-address"),
			browser.Type("#mailbox-address", name), browser.Type("#mailbox-password", password),
			browser.Click("button", "Sign in"), browser.Shows("#own-reply"))
	} else {
		err = chromedp.Do(ctx, chromedp.Navigate(l.base), browser.Shows("#sign-in-name"))
		if err == nil {
			err = chromedp.Do(ctx, browser.SignIn(name, password), browser.Shows("main#page"))
		}
	}
	if err != nil {
		return err
	}
	for _, picture := range pictures {
		name, path, _ := strings.Cut(picture, "=")
		actions := append([]browser.Action{chromedp.Navigate(l.base + path), browser.Shows("main h1")}, before[name]...)
		if err := chromedp.Do(ctx, actions...); err != nil {
			return fmt.Errorf("%s: %w", picture, err)
		}
		if l.press != "" {
			if err := chromedp.Do(ctx, chromedp.Click(chromedp.CSS(l.press), chromedp.NodeVisible)); err != nil {
				return fmt.Errorf("%s: %w", picture, err)
			}
		}
		if err := shoot(name); err != nil {
			return err
		}
	}
	return nil
}

// signIn finds somebody's name and password among the demo's files.
func signIn(dir, person string) (name, password string, err error) {
	if person == "" {
		text, err := os.ReadFile(filepath.Join(dir, "operator"))
		if err != nil {
			return "", "", err
		}
		_, err = fmt.Sscan(string(text), &name, &password)
		return name, password, err
	}
	text, err := os.ReadFile(filepath.Join(dir, "people.json"))
	if err != nil {
		return "", "", err
	}
	passwords := map[string]string{}
	if err := json.Unmarshal(text, &passwords); err != nil {
		return "", "", err
	}
	local, _, _ := strings.Cut(person, "@")
	return person, passwords[local], nil
}

// fill fills the form for a new account.
func fill() []browser.Action {
	return []browser.Action{
		chromedp.SendKeys(chromedp.CSS("#domain"), "https://WWW.ternferries.example/"),
		chromedp.Click(chromedp.CSS("#plan")), browser.Click(".el-select-dropdown__item", "harbour"),
		chromedp.Click(chromedp.CSS("#customer")), chromedp.SendKeys(chromedp.CSS("#customer"), "tern f"),
		browser.Click(".el-select-dropdown__item", "Tern Ferries"),
		chromedp.Sleep(500 * time.Millisecond),
	}
}
