package main

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"victualler/internal/api"
)

func settingsCommands() []command {
	return []command{
		{noun: "settings", verb: "show", short: "Show the installation's settings", output: true,
			run: func(ctx context.Context, c *call) error {
				var s api.Settings
				if err := c.client.Get(ctx, "/settings", nil, &s); err != nil {
					return err
				}
				return c.print(s, settingsTable(s))
			}},
		{noun: "settings", verb: "change", short: "Change the installation's settings", output: true, preview: true,
			long: "What is left out stays; - empties it.",
			flags: []flagInfo{{name: "title", value: "TEXT", usage: "what the installation is called"},
				{name: "console", value: "ADDRESS",
					usage: "where people reach the console, such as https://console.ternisland.example"},
				{name: "name-servers", value: "LIST", usage: "to be entered at registrars"},
				{name: "second-factor", value: "ROLES",
					usage: "roles that must have a second factor: operator, reseller, customer"},
				{name: "session-minutes", value: "N", usage: "how long a session lasts without use"},
				{name: "mail-server", value: "HOST:PORT", usage: "that takes mail"},
				{name: "mail-security", value: "HOW", usage: "tls, starttls or none"},
				{name: "mail-name", value: "NAME", usage: "sign-in name there"},
				{name: "mail-password-stdin", usage: "read the password there from standard input"},
				{name: "sender", value: "ADDRESS", usage: "of notices"},
				{name: "domain-proof", value: "HOW", usage: "what is asked of domains that customers and resellers " +
					"bring: off (nothing), warn (told until DNS shows whose they are) or require (not served until " +
					"then)"},
				{name: "challenge-zone", value: "NAME", usage: "below which domains elsewhere have their names " +
					"proved, such as challenges.ternisland.example; it lies in a zone of yours"}},
			run: changeSettings},
		{noun: "settings", verb: "test-mail", args: "ADDRESS", short: "Send a message to see whether mail goes out",
			run: func(ctx context.Context, c *call) error {
				if err := c.client.Post(ctx, "/settings/test-mail", api.MailTest{To: c.args[0]}, nil); err != nil {
					return err
				}
				fmt.Fprintf(c.out, "the mail server has taken it; look whether it arrives at %s\n", c.args[0])
				return nil
			}},
	}
}

func settingsTable(s api.Settings) table {
	return table{{"SETTING", "VALUE"}, {"title", s.Title}, {"console", s.Console},
		{"name servers", strings.Join(s.NameServers, ", ")}, {"second factor for", strings.Join(s.SecondFactor, ", ")},
		{"session without use", strconv.Itoa(s.SessionMinutes) + " min"}, {"mail server", s.MailServer},
		{"mail security", s.MailSecurity}, {"mail name", s.MailName},
		{"mail password", map[bool]string{true: "set", false: "none"}[s.MailPassword]}, {"sender", s.Sender},
		{"domain proof", s.DomainProof}, {"challenge zone", s.ChallengeZone}}
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
	for name, to := range map[string]**[]string{"name-servers": &body.NameServers,
		"second-factor": &body.SecondFactor} {
		if text := c.given(name); text != nil {
			items := append([]string{}, list(*text)...)
			*to = &items
		}
	}
	if text := c.value("session-minutes"); text != "" {
		minutes, err := strconv.Atoi(text)
		if err != nil {
			return usageError{"--session-minutes takes a number"}
		}
		body.SessionMinutes = &minutes
	}
	if c.on("mail-password-stdin") {
		line, err := bufio.NewReader(c.in).ReadString('\n')
		if err != nil && line == "" {
			return usageError{"there is nothing on standard input"}
		}
		password := strings.TrimRight(line, "\r\n")
		body.MailPassword = &password
	}
	previewed, err := c.changeIf(ctx, http.MethodPatch, "/settings", body, &s, tag(s.Version))
	if err != nil || previewed {
		return err
	}
	return c.print(s, settingsTable(s))
}
