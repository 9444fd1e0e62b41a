// Command shots takes the pictures of the console in docs/screenshots, from a
// running demo with drift on skua and without ternferries.example.
//
//	go run ./e2e/shots [-out DIR] [-as PERSON] [-dark] [-width N] [-height N] [NAME=PATH …]
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

// documented are the pictures of the documentation.
var documented = []string{"accounts=/accounts", "open=/accounts/open", "preview=/accounts/open", "account=/accounts/trust", "servers=/servers", "server=/servers/skua", "operations=/operations"}

// before is what is done on a page before its picture is taken, by the picture's name.
var before = map[string]chromedp.Tasks{
	"open":    fill(),
	"preview": append(fill(), click("button", "Preview"), chromedp.WaitVisible(".preview", chromedp.ByQuery)),
}

func run() error {
	out := flag.String("out", "docs/screenshots", "`directory` for the pictures")
	base := flag.String("base", "http://127.0.0.1:8470", "`address` of the console")
	demo := flag.String("demo", "var/demo", "`directory` of the demo, where names and passwords are")
	as := flag.String("as", "", "`person` of the demo who signs in; empty is the operator")
	dark := flag.Bool("dark", false, "dark mode")
	width := flag.Int64("width", 1280, "in pixels")
	height := flag.Int64("height", 800, "in pixels")
	flag.Parse()
	pictures := flag.Args()
	if len(pictures) == 0 {
		pictures = documented
	}
	name, password, err := signIn(*demo, *as)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(*out, 0o755); err != nil {
		return err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.Flag("disable-background-networking", true))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	defer cancel()
	ctx, cancel = chromedp.NewContext(ctx)
	defer cancel()
	ctx, cancel = context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	shoot := func(name string) error {
		var png []byte
		if err := chromedp.Run(ctx, chromedp.Sleep(700*time.Millisecond), chromedp.CaptureScreenshot(&png)); err != nil {
			return err
		}
		path := filepath.Join(*out, name+".png")
		fmt.Println(path)
		return os.WriteFile(path, png, 0o644)
	}
	scheme := "light"
	if *dark {
		scheme = "dark"
	}
	media := emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}})
	if err := chromedp.Run(ctx, media, chromedp.EmulateViewport(*width, *height), chromedp.Navigate(*base), chromedp.WaitVisible("#sign-in-name", chromedp.ByQuery)); err != nil {
		return err
	}
	if err := shoot("sign-in"); err != nil {
		return err
	}
	if err := chromedp.Run(ctx, chromedp.SendKeys("#sign-in-name", name, chromedp.ByQuery), chromedp.SendKeys("#sign-in-password", password+"\r", chromedp.ByQuery),
		chromedp.WaitVisible("main#page", chromedp.ByQuery)); err != nil {
		return err
	}
	for _, picture := range pictures {
		name, path, _ := strings.Cut(picture, "=")
		if err := chromedp.Run(ctx, chromedp.Navigate(*base+path), chromedp.WaitVisible("main h1", chromedp.ByQuery), before[name]); err != nil {
			return fmt.Errorf("%s: %w", picture, err)
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
		chromedp.Click("#customer", chromedp.ByQuery), chromedp.SendKeys("#customer", "tern f", chromedp.ByQuery), click(".el-select-dropdown__item", "Tern Ferries"),
		chromedp.Sleep(500 * time.Millisecond),
	}
}

// click clicks the first visible element of a kind that has a text in it.
func click(selector, text string) chromedp.Action {
	find := fmt.Sprintf(`[...document.querySelectorAll(%q)].find(e => e.textContent.includes(%q) && e.getClientRects().length)`, selector, text)
	return chromedp.Tasks{chromedp.Poll(find+" !== undefined", nil), chromedp.Evaluate(find+".click()", nil)}
}
