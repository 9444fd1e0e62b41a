package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/nearest"
	"victualler/internal/hosting/sites"
)

const settingHelp = "A setting is KEY=VALUE, such as compression=off, hsts=12h, largest_upload=256M, " +
	"index_files=index.php,index.html or error_pages=404=errors/missing.html; VALUE @FILE is read from a file. " +
	"Maps with several entries are JSON objects. The keys are those of site show."

func siteCommands() []command {
	unset := flagInfo{name: "unset", value: "KEYS",
		usage: "settings whose template's or usual value is to return, with commas between them"}
	return []command{
		{noun: "site", verb: "show", args: "DOMAIN", short: "Show the settings of a site", list: true,
			flags: []flagInfo{inAccountFlag},
			run: func(ctx context.Context, c *call) error {
				_, d, err := c.domainDetail(ctx)
				if err != nil {
					return err
				}
				return printList(c, d.Settings, false, "this domain has no site", []column[api.Setting]{
					col("SETTING", 1, func(s api.Setting) any {
						info, _ := readSetting(s.Key, s.Value)
						return info.Title
					}),
					col("KEY", 0, func(s api.Setting) any { return s.Key }),
					col("FROM", 0, func(s api.Setting) any {
						if s.Bounded != "" {
							return s.Source + "; " + s.Bounded
						}
						return s.Source
					}),
					col("VALUE", 0, func(s api.Setting) any {
						_, value := readSetting(s.Key, s.Value)
						return value
					}),
				})
			}},
		{noun: "site", verb: "change", args: "DOMAIN [SETTING]…", short: "Change settings of a site",
			preview: true, waits: true, long: settingHelp,
			flags: []flagInfo{inAccountFlag, unset, {name: "hsts-accepted",
				usage: "confirm strict transport security for longer than a day, which cannot be taken back"}},
			run: func(ctx context.Context, c *call) error {
				settings, err := c.settings(c.args[1:])
				if err != nil {
					return err
				}
				path, err := c.domainPath(ctx)
				if err != nil {
					return err
				}
				var done api.DomainChanged
				previewed, err := c.change(ctx, http.MethodPatch, path, api.DomainChange{Settings: settings,
					HSTSAccepted: c.on("hsts-accepted")}, &done)
				if err != nil || previewed {
					return err
				}
				return c.domainChanged(ctx, done, "changing")
			}},
		{noun: "site", verb: "log", args: "DOMAIN", short: "Show the access log of a site", stream: true,
			long: "The last lines; with --follow, each new one until it is interrupted.",
			flags: []flagInfo{inAccountFlag, {name: "lines", value: "N",
				usage: "how many of the last lines; 20 at first"},
				{name: "follow", usage: "go on with new lines"}},
			run: siteLog},
		{noun: "template", verb: "add", args: "NAME [SETTING]…", short: "Add a template of settings for sites",
			preview: true, long: settingHelp,
			flags: []flagInfo{{name: "about", value: "TEXT", usage: "what it is good for"}, recordsFlag,
				{name: "reseller", value: "NAME", usage: "add it for this reseller"}},
			run: func(ctx context.Context, c *call) error {
				settings, err := c.settings(c.args[1:])
				if err != nil {
					return err
				}
				records, err := c.records()
				if err != nil {
					return err
				}
				body := api.NewTemplate{Name: c.args[0], Reseller: c.value("reseller"), About: c.value("about"),
					Settings: settings}
				if records != nil {
					body.Records = *records
				}
				var t api.Template
				previewed, err := c.change(ctx, http.MethodPost, "/templates", body, &t)
				if err != nil || previewed {
					return err
				}
				return c.printTemplate(t)
			}},
		{noun: "template", verb: "list", short: "List templates of settings for sites", list: true,
			run: func(ctx context.Context, c *call) error {
				var l api.TemplateList
				if err := c.client.Get(ctx, "/templates", nil, &l); err != nil {
					return err
				}
				return printList(c, l.Templates, false, "no templates; add one with: victualler template add NAME",
					[]column[api.Template]{
						col("TEMPLATE", 0, func(t api.Template) any { return qualified(t.Reseller, t.Name) }),
						col("SETTINGS", 1, func(t api.Template) any { return len(t.Settings) }),
						col("SITES", 0, func(t api.Template) any { return t.Sites }),
						col("PLANS", 1, func(t api.Template) any { return t.Plans }),
						col("ABOUT", 0, func(t api.Template) any { return t.About }),
					})
			}},
		{noun: "template", verb: "show", args: "TEMPLATE", short: "Show a template",
			run: func(ctx context.Context, c *call) error {
				var t api.Template
				if err := c.client.Get(ctx, "/templates/"+url.PathEscape(c.args[0]), nil, &t); err != nil {
					return err
				}
				return c.printTemplate(t)
			}},
		{noun: "template", verb: "change", args: "TEMPLATE [SETTING]…",
			short: "Change a template, and with it the sites that follow it", preview: true, waits: true,
			long:  settingHelp,
			flags: []flagInfo{unset, recordsFlag, {name: "about", value: "TEXT", usage: "what it is good for"}},
			run: func(ctx context.Context, c *call) error {
				settings, err := c.settings(c.args[1:])
				if err != nil {
					return err
				}
				records, err := c.records()
				if err != nil {
					return err
				}
				if len(settings) == 0 && records == nil && c.given("about") == nil {
					return c.nothingToChange()
				}
				var done api.TemplateChanged
				previewed, err := c.change(ctx, http.MethodPatch, "/templates/"+url.PathEscape(c.args[0]),
					api.TemplateChange{About: c.given("about"), Settings: settings, Records: records}, &done)
				if err != nil || previewed {
					return err
				}
				c.say("%s changed; sites served differently: %d", c.args[0], done.Sites)
				return c.startedIf(ctx, done.Operation)
			}},
		{noun: "template", verb: "remove", args: "TEMPLATE", short: "Remove a template that nothing follows",
			preview: true, flags: []flagInfo{yesFlag},
			run: func(ctx context.Context, c *call) error {
				return c.removed(ctx, "/templates/"+url.PathEscape(c.args[0]), "template "+c.args[0])
			}},
		{noun: "folder", verb: "add", args: "DOMAIN PATH [USER]…",
			short: "Protect a folder of a site with names and passwords", preview: true, waits: true,
			long: "PATH is below the document root; / is the whole site. The password of each USER is asked for. A " +
				"folder that is protected already gets the title and the people named.",
			flags: []flagInfo{inAccountFlag, {name: "title", value: "TEXT", usage: "what browsers show when they ask"},
				{name: "password-stdin", usage: "read the passwords from standard input, a line for each"}},
			run: addFolder},
		{noun: "folder", verb: "list", args: "DOMAIN", short: "List the protected folders of a site", list: true,
			flags: []flagInfo{inAccountFlag},
			run: func(ctx context.Context, c *call) error {
				_, d, err := c.domainDetail(ctx)
				if err != nil {
					return err
				}
				return printList(c, d.Protected, false, "no folder is protected", []column[api.Folder]{
					col("FOLDER", 0, func(f api.Folder) any { return "/" + f.Path }),
					col("TITLE", 1, func(f api.Folder) any { return f.Title }),
					col("WHO MAY SEE IT", 0, func(f api.Folder) any { return strings.Join(f.Users, ", ") }),
				})
			}},
		{noun: "folder", verb: "remove", args: "DOMAIN PATH [USER]",
			short: "Let everybody see a folder again, or shut one person out", preview: true, waits: true,
			flags: []flagInfo{inAccountFlag, yesFlag},
			run:   removeFolder},
	}
}

func siteLog(ctx context.Context, c *call) error {
	query := url.Values{"lines": {"20"}}
	if lines := c.value("lines"); lines != "" {
		if n, err := strconv.Atoi(lines); err != nil || n < 1 || n > 1000 {
			return usageError{"--lines takes a number from 1 to 1000"}
		}
		query.Set("lines", lines)
	}
	path, err := c.domainPath(ctx)
	if err != nil {
		return err
	}
	for {
		var page api.LogPage
		if err := c.client.Get(ctx, path+"/log", query, &page); err != nil {
			if ctx.Err() != nil {
				return nil // interrupted, as was meant
			}
			return err
		}
		for _, line := range page.Lines {
			fmt.Fprintln(c.out, line)
		}
		if !c.on("follow") {
			return nil
		}
		query = url.Values{"after": {page.Next}, "wait": {"15"}}
	}
}

func (c *call) printTemplate(tpl api.Template) error {
	g := rows("SETTING|KEY|VALUE")
	for _, info := range sites.All {
		if v, set := tpl.Settings[string(info.Key)]; set {
			_, value := readSetting(string(info.Key), v)
			g.add(info.Title, string(info.Key), value)
		}
	}
	for _, r := range tpl.Records {
		g.add("Record", "", strings.TrimSpace(r.Name+" "+r.Type+" "+r.Data))
	}
	return c.show(tpl, g, nil)
}

// recordsFlag gives a template the records that it adds to zones.
var recordsFlag = flagInfo{name: "records", value: "FILE",
	usage: "records that it adds to zones, each on a line as NAME TYPE DATA; - for none"}

// records reads the records of a template; nil where the flag is left out.
func (c *call) records() (*[]api.NewRecord, error) {
	file := c.value("records")
	if file == "" {
		return nil, nil
	}
	records := []api.NewRecord{}
	if file == "-" {
		return &records, nil
	}
	text, err := readFile(file)
	if err != nil {
		return nil, err
	}
	for n, line := range strings.Split(string(text), "\n") {
		if strings.TrimSpace(line) == "" {
			continue
		}
		parts := strings.Fields(line)
		if len(parts) < 3 {
			return nil, usageError{fmt.Sprintf("%s, line %d: write NAME TYPE DATA", file, n+1)}
		}
		data := strings.TrimSpace(line[strings.Index(line, parts[1])+len(parts[1]):])
		records = append(records, api.NewRecord{Name: parts[0], Type: parts[1], Data: data})
	}
	return &records, nil
}

// readSetting turns a value of the API into words.
func readSetting(key string, value any) (sites.Info, string) {
	info, known := sites.Of(sites.Key(key))
	text, err := json.Marshal(value)
	if !known || err != nil {
		return sites.Info{Title: key}, fmt.Sprint(value)
	}
	if v, err := info.Decode(text); err == nil {
		value = v
	}
	return info, strings.ReplaceAll(info.Format(value), "\n", " ")
}

// settings reads KEY=VALUE words and --unset.
func (c *call) settings(typed []string) (map[string]any, error) {
	given := map[string]any{}
	for _, word := range typed {
		key, value, found := strings.Cut(word, "=")
		info, known := sites.Of(sites.Key(key))
		if !found || !known {
			return nil, usageError{fmt.Sprintf("%q is not a setting; write KEY=VALUE with one of %s%s", word,
				strings.Join(settingKeys(), ", "), nearest.Hint(key, settingKeys()))}
		}
		if path, file := strings.CutPrefix(value, "@"); file {
			text, err := readFile(path)
			if err != nil {
				return nil, err
			}
			value = string(text)
		}
		parsed, err := info.Parse(value)
		if err != nil {
			return nil, usageError{fmt.Sprintf("%s: %v", key, err)}
		}
		given[key] = parsed
	}
	if c.has("unset") {
		for _, key := range words(c.value("unset")) {
			if !slices.Contains(settingKeys(), key) {
				return nil, usageError{fmt.Sprintf("--unset: there is no setting %q%s", key,
					nearest.Hint(key, settingKeys()))}
			}
			given[key] = nil
		}
		if len(given) == 0 && c.noun == "site" {
			return nil, c.nothingToChange()
		}
	}
	return given, nil
}

func settingKeys() []string {
	var keys []string
	for _, info := range sites.All {
		keys = append(keys, string(info.Key))
	}
	return keys
}

func addFolder(ctx context.Context, c *call) error {
	path, err := c.domainPath(ctx)
	if err != nil {
		return err
	}
	body := api.NewFolder{Path: strings.Trim(c.args[1], "/"), Title: c.value("title")}
	for _, user := range c.args[2:] {
		password, err := c.readPassword(ctx, "Password of "+user+": ")
		if err != nil {
			return err
		}
		body.Users = append(body.Users, api.NewFolderUser{Name: user, Password: password})
	}
	var done api.FolderChanged
	previewed, err := c.change(ctx, http.MethodPost, path+"/folders", body, &done)
	if err != nil || previewed {
		return err
	}
	c.say("protecting /%s: %s may see it", done.Folder.Path,
		nobody(strings.Join(done.Folder.Users, ", ")))
	return c.started(ctx, done.Operation)
}

func nobody(names string) string {
	if names == "" {
		return "nobody"
	}
	return names
}

func removeFolder(ctx context.Context, c *call) error {
	at, d, err := c.domainDetail(ctx)
	if err != nil {
		return err
	}
	for _, f := range d.Protected {
		if f.Path != strings.Trim(c.args[1], "/") {
			continue
		}
		path, question := fmt.Sprintf("%s/folders/%d", at, f.ID), "Let everybody see "+c.args[1]+"?"
		if len(c.args) > 2 {
			path, question = path+"/users/"+url.PathEscape(c.args[2]), "Keep "+c.args[2]+" out of "+c.args[1]+"?"
		}
		if err := c.confirm(ctx, question); err != nil {
			return err
		}
		return c.work(ctx, http.MethodDelete, path, nil)
	}
	return fmt.Errorf("no folder %s of %s is protected; see victualler folder list %s", c.args[1], c.args[0], c.args[0])
}
