// Command shots takes the pictures of the console in docs/screenshots, from a
// running demo.
//
//	go run ./e2e/shots [-out DIR] [-password PASSWORD] [-dark] [-width N] [-height N] [NAME=PATH …]
package main

import (
	"context"
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

func run() error {
	out := flag.String("out", "docs/screenshots", "`directory` for the pictures")
	base := flag.String("base", "http://127.0.0.1:8470", "`address` of the console")
	operator := flag.String("operator", "var/demo/operator", "`file` with the operator's name and password")
	dark := flag.Bool("dark", false, "dark mode")
	width := flag.Int64("width", 1280, "in pixels")
	height := flag.Int64("height", 800, "in pixels")
	script := flag.String("script", "", "JavaScript to run on each page first")
	flag.Parse()
	text, err := os.ReadFile(*operator)
	if err != nil {
		return err
	}
	var name, password string
	if _, err := fmt.Sscan(string(text), &name, &password); err != nil {
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
	scheme := "light"
	if *dark {
		scheme = "dark"
	}
	media := emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}})
	if err := chromedp.Run(ctx, media, chromedp.EmulateViewport(*width, *height), chromedp.Navigate(*base),
		chromedp.WaitVisible("#sign-in-name")); err != nil {
		return err
	}
	shoot := func(name string) error {
		var png []byte
		if err := chromedp.Run(ctx, chromedp.Sleep(600*time.Millisecond), chromedp.CaptureScreenshot(&png)); err != nil {
			return err
		}
		path := filepath.Join(*out, name+".png")
		fmt.Println(path)
		return os.WriteFile(path, png, 0o644)
	}
	for _, arg := range flag.Args() {
		if arg == "sign-in" {
			if err := shoot("sign-in"); err != nil {
				return err
			}
		}
	}
	if err := chromedp.Run(ctx, chromedp.SendKeys("#sign-in-name", name), chromedp.SendKeys("#sign-in-password", password+"\r"),
		chromedp.WaitVisible("main#page", chromedp.ByQuery)); err != nil {
		return err
	}
	for _, arg := range flag.Args() {
		name, path, found := strings.Cut(arg, "=")
		if !found {
			continue
		}
		if err := chromedp.Run(ctx, chromedp.Navigate(*base+path), chromedp.WaitVisible("main h1", chromedp.ByQuery)); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		if *script != "" {
			if err := chromedp.Run(ctx, chromedp.Sleep(500*time.Millisecond), chromedp.Evaluate(*script, nil)); err != nil {
				return err
			}
		}
		if err := shoot(name); err != nil {
			return err
		}
	}
	return nil
}
