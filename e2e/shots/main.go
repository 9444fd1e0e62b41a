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

	"github.com/chromedp/cdproto/emulation"
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
	"": {"accounts=/accounts", "open=/accounts/open", "account=/accounts/trust", "servers=/servers",
		"server=/servers/skua", "operations=/operations",
		"domain=/accounts/boatyard/domains/slipway-boatyard.example", "plan=/plans/skiff",
		"reseller=/resellers/guillemot", "zone=/zones/slipway-boatyard.example",
		"zone-check=/zones/ternislandsurf.example", "certificates=/certificates",
		"certificate=/accounts/trust/domains/lighthousetrust.example/certificate", "people=/people",
		"handover=/accounts/mowecafe/handover"},
	"tresen": {"branded=/accounts"},
}

// before is what is done on a page before its picture is taken, by the picture's name.
var before = map[string]chromedp.Tasks{
	"open": append(fill(), click("button", "Preview"), chromedp.WaitVisible(".preview", chromedp.ByQuery)),
	"certificate": {click("button", "What is to be done?"),
		chromedp.WaitVisible("section[aria-live]", chromedp.ByQuery)},
	"plan": {chromedp.WaitVisible("#limit-domains", chromedp.ByQuery),
		chromedp.Evaluate(`document.querySelector('#limit-domains').select()`, nil),
		chromedp.SendKeys("#limit-domains", "0", chromedp.ByQuery),
		click("button", "Preview the change"), chromedp.WaitVisible(".preview", chromedp.ByQuery)},
	"zone-check": {click("button", "Check the world"), chromedp.WaitVisible(".world table", chromedp.ByQuery)},
}

func run() error {
	out := flag.String("out", "docs/screenshots", "`directory` for the pictures")
	base := flag.String("base", "http://127.0.0.1:8470", "`address` of the console")
	demo := flag.String("demo", "var/demo", "`directory` of the demo, where names and passwords are")
	as := flag.String("as", "", "`person` of the demo who signs in; empty is the operator")
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
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox,
		chromedp.Flag("disable-background-networking", true))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	defer cancel()
	ctx, cancel = chromedp.NewContext(ctx)
	defer cancel()
	ctx, cancel = context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	shoot := func(name string) error {
		var png []byte
		if err := chromedp.Run(ctx, chromedp.Sleep(700*time.Millisecond),
			chromedp.CaptureScreenshot(&png)); err != nil {
			return err
		}
		path := filepath.Join(l.out, name+".png")
		fmt.Println(path)
		return os.WriteFile(path, png, 0o644)
	}
	scheme := "light"
	if l.dark {
		scheme = "dark"
	}
	media := emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{{Name: "prefers-color-scheme",
		Value: scheme}})
	if err := chromedp.Run(ctx, media, chromedp.EmulateViewport(l.width, l.height), chromedp.Navigate(l.base),
		chromedp.WaitVisible("#sign-in-name", chromedp.ByQuery)); err != nil {
		return err
	}
	if err := shoot("sign-in"); err != nil {
		return err
	}
	if err := chromedp.Run(ctx, chromedp.SendKeys("#sign-in-name", name, chromedp.ByQuery),
		chromedp.SendKeys("#sign-in-password", password+"\r", chromedp.ByQuery),
		chromedp.WaitVisible("main#page", chromedp.ByQuery)); err != nil {
		return err
	}
	for _, picture := range pictures {
		name, path, _ := strings.Cut(picture, "=")
		if err := chromedp.Run(ctx, chromedp.Navigate(l.base+path), chromedp.WaitVisible("main h1", chromedp.ByQuery),
			before[name]); err != nil {
			return fmt.Errorf("%s: %w", picture, err)
		}
		if l.press != "" {
			if err := chromedp.Run(ctx, chromedp.Click(l.press, chromedp.ByQuery, chromedp.NodeVisible)); err != nil {
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
	return person, passwords[person], nil
}

// fill fills the form for a new account.
func fill() chromedp.Tasks {
	return chromedp.Tasks{
		chromedp.SendKeys("#domain", "https://WWW.ternferries.example/", chromedp.ByQuery),
		chromedp.Click("#plan", chromedp.ByQuery), click(".el-select-dropdown__item", "harbour"),
		chromedp.Click("#customer", chromedp.ByQuery), chromedp.SendKeys("#customer", "tern f", chromedp.ByQuery),
		click(".el-select-dropdown__item", "Tern Ferries"),
		chromedp.Sleep(500 * time.Millisecond),
	}
}

// click clicks the first visible element of a kind that has a text in it.
func click(selector, text string) chromedp.Action {
	find := fmt.Sprintf(
		`[...document.querySelectorAll(%q)].find(e => e.textContent.includes(%q) && e.getClientRects().length)`,
		selector, text)
	return chromedp.Tasks{chromedp.Poll(find+" !== undefined", nil), chromedp.Evaluate(find+".click()", nil)}
}
