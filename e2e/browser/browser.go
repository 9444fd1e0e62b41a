// Package browser drives the console in headless Chromium as somebody with a keyboard and a mouse
// does. Actions wait, for a minute at most, for what they need to be there; they never sleep.
package browser

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
)

// Action is something that is done in a page.
type Action = chromedp.Action[chromedp.Void]

// Options are how a browser is opened.
type Options struct {
	Width, Height int64
	// Dark prefers dark pages.
	Dark bool
	// Path is the program that is started; Debian's Chromium where it is empty.
	Path string
	// Only are addresses of loopback (host and port) of which the browser reaches nothing else, in
	// a network of its own; without any, it is in the machine's. It needs root.
	Only []string
}

// Open starts Chromium with one tab. It ends with the context, or when close is called.
func Open(ctx context.Context, o Options) (tab context.Context, close func(), err error) {
	flags := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox)
	// Nothing of its own may go to a network that is not there.
	for _, name := range []string{"disable-background-networking", "disable-component-update", "disable-sync",
		"disable-quic"} {
		flags = append(flags, chromedp.Flag(name, true))
	}
	if o.Path != "" {
		flags = append(flags, chromedp.ExecPath(o.Path))
	}
	own := &ownNetwork{}
	if len(o.Only) > 0 {
		flags = append(flags, chromedp.ModifyCmdFunc(own.wrap))
	}
	allocator, endAllocator := chromedp.NewExecAllocator(ctx, flags...)
	tab, endTab := chromedp.NewContext(allocator, chromedp.WithErrorf(func(string, ...any) {}))
	close = func() { endTab(); endAllocator(); own.close() }
	scheme := "light"
	if o.Dark {
		scheme = "dark"
	}
	media := emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{
		{Name: "prefers-color-scheme", Value: scheme}}}
	err = chromedp.Do(tab, command(network.Enable, network.EnableParams{}), command(emulation.SetEmulatedMedia, media),
		chromedp.EmulateViewport(o.Width, o.Height))
	if err == nil {
		// Whoever leaves a page with something typed in it means to.
		err = chromedp.Listen(tab, func(event any) {
			if _, is := event.(*page.EventJavascriptDialogOpening); is {
				go chromedp.Do(tab,
					command(page.HandleJavaScriptDialog, page.HandleJavaScriptDialogParams{Accept: true}))
			}
		})
	}
	if err == nil && len(o.Only) > 0 {
		err = own.open(chromedp.FromContext(tab).Browser.Process(), o.Only)
	}
	if err != nil {
		close()
	}
	return tab, close, err
}

func command[P, R any](cmd cdp.Command[P, R], params P) Action {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, cmd, params)
		return err
	})
}

// Block lets no request go out that a pattern fits; none lets all go.
func Block(patterns ...string) Action {
	rules := []*network.BlockPattern{}
	for _, p := range patterns {
		rules = append(rules, &network.BlockPattern{URLPattern: p, Block: true})
	}
	return command(network.SetBlockedURLs, network.SetBlockedURLsParams{URLPatterns: rules})
}

// Into keeps what an action returns.
func Into[T any](to *T, a chromedp.Action[T]) Action {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) (err error) {
		*to, err = a(ctx, t)
		return err
	})
}

// Eval runs an expression in the page and keeps its value, waiting for it if it is a promise.
func Eval[T any](to *T, expression string) Action {
	return Into(to, chromedp.Evaluate[T](expression, chromedp.EvalAwaitPromise))
}

// Script runs a statement in the page.
func Script(statement string) Action { return chromedp.Evaluate[chromedp.Void](statement) }

// passing reports whether an error comes of a page that is just being left for another one.
func passing(err error) bool {
	return strings.Contains(err.Error(), "Cannot find context") ||
		strings.Contains(err.Error(), "navigated or closed") ||
		strings.Contains(err.Error(), "context was destroyed")
}

// Until waits until an expression is true. A page that is just being
// left is asked again when it is the next one.
func Until(expression string) Action {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		ctx, cancel := context.WithTimeoutCause(ctx, time.Minute,
			fmt.Errorf("never true within a minute: %s", expression))
		defer cancel()
		for {
			is, err := chromedp.Evaluate[bool]("Boolean("+expression+")")(ctx, t)
			if err == nil && is {
				return nil
			}
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			if err != nil && !passing(err) {
				return err
			}
			select {
			case <-ctx.Done():
			case <-time.After(20 * time.Millisecond):
			}
		}
	})
}

// withText is an expression for the elements of a kind that have a text
// in it, as it is read: any space is one space.
func withText(selector, text string) string {
	return fmt.Sprintf(
		`[...document.querySelectorAll(%q)].filter(e => e.textContent.replace(/\s+/g, ' ').includes(%q))`,
		selector, text)
}

// Sees waits until an element has a text in it.
func Sees(selector, text string) Action { return Until(withText(selector, text) + ".length") }

// Gone waits until no element of a kind is there.
func Gone(selector string) Action { return Until(fmt.Sprintf(`!document.querySelector(%q)`, selector)) }

// Shows waits until an element of a kind is visible.
func Shows(selector string) Action {
	return Until(fmt.Sprintf(`document.querySelector(%q)?.getClientRects().length`, selector))
}

// Hides waits until no element of a kind is visible. A dialog that is
// closing keeps the keyboard until then.
func Hides(selector string) Action {
	return Until(fmt.Sprintf(`![...document.querySelectorAll(%q)].some(e => e.getClientRects().length)`, selector))
}

// Click clicks the first visible element of a kind that has a text in it.
func Click(selector, text string) Action {
	find := withText(selector, text) + ".find(e => e.getClientRects().length)"
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		for {
			if _, err := Until(find+" !== undefined")(ctx, t); err != nil {
				return fmt.Errorf("no %s with %q: %w", selector, text, err)
			}
			// A page that shows something anew may have taken it out meanwhile.
			clicked, err := chromedp.Evaluate[bool]("(e => e !== undefined && (e.click(), true))("+find+")")(ctx, t)
			if err != nil && passing(err) {
				return nil // the click has led elsewhere before it could be told of
			}
			if err != nil || clicked {
				return err
			}
		}
	})
}

// Confirm answers the question that the page asks, with the button that says what will be done, and
// waits until the question is gone: until then it has the keyboard.
func Confirm(button string) Action {
	return chromedp.Steps(Click(".question button", button), Hides(".question"))
}

// Type types into a field behind what it holds. A text that ends with a
// carriage return presses Enter.
func Type(selector, text string) Action { return fill(selector, text, false) }

// Retype types over what a field holds.
func Retype(selector, text string) Action { return fill(selector, text, true) }

// fill types until a field holds what was typed: what a page that is still loading takes away, is
// typed again. A field that puts text right itself may hold something else in the end.
func fill(selector, text string, over bool) Action {
	typed, enter := strings.CutSuffix(text, "\r")
	field := fmt.Sprintf("document.querySelector(%q)", selector)
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		if _, err := chromedp.Focus(chromedp.CSS(selector), chromedp.NodeVisible)(ctx, t); err != nil {
			return err
		}
		var before string
		if _, err := Eval(&before, field+".value ?? ''")(ctx, t); err != nil {
			return err
		}
		want := before + typed
		if over {
			want = typed
		}
		for try := range 3 {
			keys := typed
			if over || try > 0 {
				keys = want
				if _, err := Script(field+".focus(), "+field+".select()")(ctx, t); err != nil {
					return err
				}
			} else if _, err := Script(field+".focus()")(ctx, t); err != nil {
				return err
			}
			if _, err := chromedp.KeyEvent(keys)(ctx, t); err != nil {
				return err
			}
			if holds, err := soon(ctx, t, fmt.Sprintf("%s?.value === %q", field, want)); err != nil || holds {
				if err != nil {
					return err
				}
				break
			}
		}
		if !enter {
			return nil
		}
		_, err := chromedp.KeyEvent("\r")(ctx, t)
		return err
	})
}

// soon reports whether an expression is true within a second.
func soon(ctx context.Context, t *chromedp.Target, expression string) (is bool, err error) {
	for end := time.Now().Add(time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if _, err := Eval(&is, "Boolean("+expression+")")(ctx, t); err != nil && !passing(err) || is {
			return is, err
		}
	}
	return false, nil
}

// Paste puts a long text into a field, which notices.
func Paste(selector, text string) Action {
	return chromedp.Steps(chromedp.SetValue(chromedp.CSS(selector), text),
		chromedp.SendKeys(chromedp.CSS(selector), " "))
}

// Choose picks an option of a select field, by a part of its text.
func Choose(field, option string) Action { return pick(field, "", option) }

// Find types into a select field that searches, and picks an option.
func Find(field, text, option string) Action { return pick(field, text, option) }

// pick opens a select field until it offers an option: a click on one that still moves, as the
// dialog around it opens, may miss it.
func pick(field, text, option string) Action {
	const item = ".el-select-dropdown__item"
	offered := withText(item, option) + ".some(e => e.getClientRects().length)"
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		for range 10 {
			if _, err := chromedp.Click(chromedp.CSS(field), chromedp.NodeVisible)(ctx, t); err != nil {
				return err
			}
			if text != "" {
				if _, err := Retype(field, text)(ctx, t); err != nil {
					return err
				}
			}
			if is, err := soon(ctx, t, offered); err != nil {
				return err
			} else if is {
				break
			}
		}
		_, err := Click(item, option)(ctx, t)
		return err
	})
}

// Keys presses one key after another, as somebody without a mouse does, in what has the keyboard.
func Keys(list ...string) Action {
	var actions []Action
	for _, key := range list {
		actions = append(actions, chromedp.KeyEvent(key))
	}
	return chromedp.Steps(actions...)
}

// Press is a key that a page takes for itself. Chromium's debugging protocol would type the
// character all the same, which a keyboard does not.
func Press(key string) Action {
	return Script(fmt.Sprintf("document.body.dispatchEvent(new KeyboardEvent('keydown', "+
		"{key: %q, bubbles: true, cancelable: true}))", key))
}

// SignIn fills the form of the sign-in.
func SignIn(name, password string) Action {
	return chromedp.Steps(Type("#sign-in-name", name), Type("#sign-in-password", password), Click("button", "Sign in"))
}

// Dark has pages know that whoever looks prefers dark ones.
func Dark() Action {
	return command(emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{
		{Name: "prefers-color-scheme", Value: "dark"}}})
}
