package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/kits"
)

func settingsCommands() []command {
	return []command{
		{noun: "settings", verb: "show", short: "Show the installation's settings",
			run: func(ctx context.Context, c *call) error {
				var s api.Settings
				if err := c.client.Get(ctx, "/settings", nil, &s); err != nil {
					return err
				}
				return c.showFields(s, settingsFields(s))
			}},
		{noun: "settings", verb: "change", short: "Change the installation's settings", preview: true,
			long: "What is left out stays; - empties it.",
			flags: []flagInfo{{name: "title", value: "TEXT", usage: "what the installation is called"},
				{name: "console", value: "ADDRESS",
					usage: "where people reach the console, such as https://console.ternisland.example"},
				{name: "name-servers", value: "LIST", usage: "to be entered at registrars"},
				{name: "second-factor", value: "ROLES",
					usage: "roles that must have a second factor: operator, reseller, customer"},
				{name: "session-minutes", value: "MINUTES",
					usage: "how long a session lasts without use, such as 90 or 2h"},
				{name: "mail-server", value: "HOST:PORT", usage: "that takes mail"},
				{name: "mail-security", value: "HOW", usage: "tls, starttls or none",
					values: []string{"tls", "starttls", "none"}},
				{name: "mail-name", value: "NAME", usage: "sign-in name there"},
				{name: "mail-password-stdin", usage: "read the password there from standard input"},
				{name: "sender", value: "ADDRESS", usage: "of notices"},
				{name: "mail-days", value: "DAYS", usage: "for how many days messages wait that cannot be delivered"},
				{name: "kit-keys", value: "FILE", usage: "public keys of minisign or SSH, one on each line: kits " +
					"must be signed with one of them then; - is none"},
				{name: "domain-proof", value: "HOW", values: []string{"off", "warn", "require"},
					usage: "what is asked of domains that customers and resellers bring: off (nothing), warn (told " +
						"until DNS shows whose they are) or require (not served until then)"},
				{name: "junk-above", value: "POINTS", usage: "from which score on messages go to Junk, such as 6"},
				{name: "refuse-above", value: "POINTS", usage: "from which score on they are not taken at all"},
				{name: "greylisting", value: "on|off", values: []string{"on", "off"},
					usage: "whether suspicious messages must be sent once more, minutes later"},
				{name: "blocklists", value: "ZONES", usage: "zones of DNS that name addresses which nothing is " +
					"taken from"},
				{name: "forbid-attachments", value: "LIST",
					usage: "what names of attachments must not end with, such as exe,scr"},
				{name: "virus-scanner", value: "WHERE", usage: "a scanner that speaks clamd's protocol: a path on " +
					"the mail servers, or host:port"},
				{name: "challenge-zone", value: "NAME", usage: "below which domains elsewhere have their names " +
					"proved, such as challenges.ternisland.example; it lies in a zone of yours"}},
			run: changeSettings},
		{noun: "settings", verb: "test-mail", args: "ADDRESS", short: "Send a message to see whether mail goes out",
			run: func(ctx context.Context, c *call) error {
				if err := c.client.Post(ctx, "/settings/test-mail", api.MailTest{To: c.args[0]}, nil); err != nil {
					return err
				}
				c.say("the mail server has accepted it; check that it arrives at %s", c.args[0])
				return nil
			}},
	}
}

func settingsFields(s api.Settings) *grid {
	return rows("SETTING|VALUE", []any{"title", s.Title}, []any{"console", s.Console},
		[]any{"name servers", strings.Join(s.NameServers, ", ")},
		[]any{"second factor for", strings.Join(s.SecondFactor, ", ")},
		[]any{"session without use", fmt.Sprint(s.SessionMinutes, " min")}, []any{"mail server", s.MailServer},
		[]any{"mail security", s.MailSecurity}, []any{"mail name", s.MailName},
		[]any{"mail password", map[bool]string{true: "set", false: "none"}[s.MailPassword]},
		[]any{"sender", s.Sender}, []any{"domain proof", s.DomainProof}, []any{"challenge zone", s.ChallengeZone},
		[]any{"undelivered mail waits", fmt.Sprint(s.MailDays, " days")},
		[]any{"spam goes to Junk from", fmt.Sprintf("%g points on", s.Spam.JunkAbove)},
		[]any{"spam is refused from", fmt.Sprintf("%g points on", s.Spam.RefuseAbove)},
		[]any{"greylisting", s.Spam.Greylisting}, []any{"blocklists", strings.Join(s.Spam.Blocklists, ", ")},
		[]any{"forbidden attachments", strings.Join(s.Spam.Forbidden, ", ")},
		[]any{"virus scanner", s.Spam.Scanner}, []any{"kits signed with", signers(s.KitKeys)})
}

// signers names the keys that kits must be signed with.
func signers(keys []string) string {
	var out []string
	for _, text := range keys {
		if k, err := kits.ParseKey(text); err == nil {
			out = append(out, k.ID)
		}
	}
	if len(out) == 0 {
		return "nothing needed"
	}
	return strings.Join(out, ", ")
}

// keysGiven reads a file of public keys; nil where none is given.
func (c *call) keysGiven() (*[]string, error) {
	name := c.given("kit-keys")
	if name == nil {
		return nil, nil
	}
	list := []string{}
	if *name == "" {
		return &list, nil
	}
	text, err := os.ReadFile(*name)
	if err != nil {
		return nil, err
	}
	for _, line := range split(string(text), "\n") {
		if !strings.HasPrefix(line, "#") && !strings.HasPrefix(line, "untrusted comment:") {
			list = append(list, line)
		}
	}
	return &list, nil
}

// wordsGiven is a flag with several words, or none of them; nil where it is not given.
func (c *call) wordsGiven(name string) *[]string {
	text := c.given(name)
	if text == nil {
		return nil
	}
	items := append([]string{}, words(*text)...)
	return &items
}

// spamGiven reads what is said about unwanted messages.
func (c *call) spamGiven() (spam api.SpamChange, err error) {
	if spam.JunkAbove, err = c.pointsGiven("junk-above"); err != nil {
		return spam, err
	}
	if spam.RefuseAbove, err = c.pointsGiven("refuse-above"); err != nil {
		return spam, err
	}
	if spam.Greylisting, err = c.switchGiven("greylisting"); err != nil {
		return spam, err
	}
	spam.Blocklists, spam.Forbidden = c.wordsGiven("blocklists"), c.wordsGiven("forbid-attachments")
	spam.Scanner = c.given("virus-scanner")
	return spam, nil
}

func changeSettings(ctx context.Context, c *call) error {
	var s api.Settings
	if err := c.client.Get(ctx, "/settings", nil, &s); err != nil {
		return err
	}
	body := api.SettingsChange{Title: c.given("title"), Console: c.given("console"), MailServer: c.given("mail-server"),
		MailSecurity: c.given("mail-security"),
		MailName:     c.given("mail-name"), Sender: c.given("sender"), ChallengeZone: c.given("challenge-zone"),
		DomainProof: c.given("domain-proof")}
	spam, err := c.spamGiven()
	if err != nil {
		return err
	}
	if days, err := c.numberGiven("mail-days"); err != nil {
		return err
	} else if days != nil {
		n := int(*days)
		body.MailDays = &n
	}
	if body.KitKeys, err = c.keysGiven(); err != nil {
		return err
	}
	if spam != (api.SpamChange{}) {
		body.Spam = &spam
	}
	for name, to := range map[string]**[]string{"name-servers": &body.NameServers,
		"second-factor": &body.SecondFactor} {
		*to = c.wordsGiven(name)
	}
	minutes, err := c.duration("session-minutes", time.Minute)
	if err != nil {
		return err
	}
	if minutes != nil {
		n := int(*minutes)
		body.SessionMinutes = &n
	}
	if c.on("mail-password-stdin") {
		password, err := c.term.line(ctx, "")
		if errors.Is(err, io.EOF) {
			err = usageError{"there is nothing on standard input"}
		}
		if err != nil {
			return err
		}
		body.MailPassword = &password
	}
	if body == (api.SettingsChange{}) {
		return c.nothingToChange()
	}
	previewed, err := c.changeIf(ctx, http.MethodPatch, "/settings", body, &s, tag(s.Version))
	if err != nil || previewed {
		return err
	}
	return c.showFields(s, settingsFields(s))
}
