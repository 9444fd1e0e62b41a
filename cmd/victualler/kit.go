package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/hosting/kits"
	"victualler/internal/hosting/plans"
)

func kitPath(c *call) string { return "/kits/" + url.PathEscape(c.args[0]) }

func siteKitPath(ctx context.Context, c *call) (string, error) {
	path, err := c.domainPath(ctx)
	return path + "/kit", err
}

func kitCommands() []command {
	return []command{
		{noun: "kit", verb: "list", args: "[ACCOUNT]", list: true, run: listKits,
			short: "List the kits; of an account, those that it is offered"},
		{noun: "kit", verb: "show", args: "KIT", short: "Show a kit with its versions", run: showKit},
		{noun: "kit", verb: "sites", args: "ACCOUNT", short: "List the kits that an account's sites have", list: true,
			run: listSiteKits},
		{noun: "kit", verb: "install", args: "DOMAIN KIT [NAME=VALUE]…", preview: true, waits: true,
			short: "Have a site begin with a kit",
			long: "NAME=VALUE answers what the kit asks; what is left open is asked for. All of it or nothing: what " +
				"fails leaves the site as it was.",
			flags: []flagInfo{inAccountFlag, {name: "version", value: "VERSION", usage: "the newest otherwise"},
				{name: "replace", usage: "delete the files that are in the site now"}},
			run: installKit},
		{noun: "kit", verb: "update", args: "DOMAIN [NAME=VALUE]…", preview: true, waits: true,
			short: "Bring a site to a newer version of its kit, or give it other settings",
			long: "What would be done to which file is shown first. Files that were changed in the site stay, unless " +
				"--take names them. Files and database are copied before; what fails brings them back.",
			flags: []flagInfo{inAccountFlag, {name: "version", value: "VERSION", usage: "the newest otherwise"},
				{name: "new-password", usage: "another password of its database user, in the site's files too"},
				{name: "take", value: "LIST", usage: "files changed both here and in the kit in whose place the " +
					"kit's are to come, with commas between them"},
				{name: "keep-others", usage: "leave all other files as they were changed here"}, yesFlag},
			run: updateKit},
		{noun: "kit", verb: "remove", args: "DOMAIN", preview: true, waits: true,
			short: "Take a kit from a site, with all files of the site and its database",
			flags: []flagInfo{inAccountFlag, yesFlag}, run: removeSiteKit},
		{noun: "kit", verb: "check", args: "DIRECTORY", short: "Look whether a directory is a kit in order",
			stranger: true, stream: true, run: checkKit},
		{noun: "kit", verb: "pack", args: "DIRECTORY FILE", short: "Pack a kit's directory, so that it can be signed",
			stranger: true, stream: true, run: packKit},
		{noun: "kit", verb: "register", args: "DIRECTORY|FILE", short: "Register a version of a kit",
			long: "An archive is tar, packed with gzip or not at all. Where the settings have keys for kits, it " +
				"must be signed with one of them: with “minisign -S” or “ssh-keygen -Y sign -n kit”.",
			flags: []flagInfo{{name: "signature", value: "FILE", usage: "what was written beside the archive"}},
			run:   registerKit},
		{noun: "kit", verb: "offer", args: "KIT", short: "Choose which plans offer a kit", preview: true,
			flags: []flagInfo{{name: "plans", value: "LIST", required: true,
				usage: "all plans whose accounts are offered it, with commas between them; - is none"}},
			run: func(ctx context.Context, c *call) error {
				list := words(c.value("plans"))
				if c.value("plans") == "-" {
					list = nil
				}
				list = append([]string{}, list...)
				return changeKit(ctx, c, api.KitChange{Plans: &list})
			}},
		{noun: "kit", verb: "withdraw", args: "KIT VERSION", preview: true,
			short: "Have no other site get a version; those that have it keep it",
			run: func(ctx context.Context, c *call) error {
				return changeKit(ctx, c, api.KitChange{Withdraw: c.args[1:2]})
			}},
		{noun: "kit", verb: "reinstate", args: "KIT VERSION", short: "Have sites get a withdrawn version again",
			preview: true,
			run: func(ctx context.Context, c *call) error {
				return changeKit(ctx, c, api.KitChange{Reinstate: c.args[1:2]})
			}},
		{noun: "kit", verb: "unregister", args: "KIT VERSION", short: "Remove a version that no site has",
			preview: true,
			run: func(ctx context.Context, c *call) error {
				previewed, err := c.change(ctx, http.MethodDelete, kitPath(c)+"/versions/"+url.PathEscape(c.args[1]),
					nil, nil)
				if err == nil && !previewed {
					c.say("version %s of %s is removed", c.args[1], c.args[0])
				}
				return err
			}},
	}
}

// needsOf says in a few words what a kit cannot do without.
func needsOf(n api.KitNeeds) string {
	var list []string
	if n.PHP != "" {
		list = append(list, "PHP "+n.PHP)
	}
	if n.Database != "" {
		list = append(list, map[string]string{"mariadb": "MariaDB", "postgresql": "PostgreSQL"}[n.Database])
	}
	if len(list) == 0 {
		return "nothing"
	}
	return strings.Join(list, ", ")
}

func listKits(ctx context.Context, c *call) error {
	if len(c.args) > 0 {
		return listOffered(ctx, c)
	}
	var list api.KitList
	if err := c.client.Get(ctx, "/kits", nil, &list); err != nil {
		return err
	}
	// shown is the version that sites get, or the newest of a kit that none get any more.
	shown := func(k api.Kit) api.KitVersion {
		return k.Versions[max(0, slices.IndexFunc(k.Versions, func(v api.KitVersion) bool {
			return v.Version == k.Current
		}))]
	}
	return printList(c, list.Kits, false, "no kits; register one with: victualler kit register DIRECTORY",
		[]column[api.Kit]{
			col("KIT", 0, func(k api.Kit) any { return k.Name }),
			col("SITES GET", 0, func(k api.Kit) any { return cmp.Or(k.Current, "none") }),
			col("VERSIONS", 1, func(k api.Kit) any { return len(k.Versions) }),
			col("NEEDS", 0, func(k api.Kit) any { return needsOf(shown(k).Needs) }),
			col("SITES", 0, func(k api.Kit) any {
				sites := int64(0)
				for _, v := range k.Versions {
					sites += v.Sites
				}
				return sites
			}),
			col("PLANS", 0, func(k api.Kit) any { return strings.Join(k.Plans, ", ") }),
			col("SIGNED BY", 2, func(k api.Kit) any { return shown(k).Signer }),
			col("TITLE", 3, func(k api.Kit) any { return k.Title }),
		})
}

func (c *call) accountKits(ctx context.Context, account string) (api.AccountKits, error) {
	var kits api.AccountKits
	return kits, c.client.Get(ctx, accountPath(account)+"/kits", nil, &kits)
}

func listOffered(ctx context.Context, c *call) error {
	all, err := c.accountKits(ctx, c.args[0])
	if err != nil {
		return err
	}
	return printList(c, all.Kits, false, "this account is offered no kits", []column[api.OfferedKit]{
		col("KIT", 0, func(k api.OfferedKit) any { return k.Name }),
		col("VERSION", 0, func(k api.OfferedKit) any { return k.Version }),
		col("NEEDS", 0, func(k api.OfferedKit) any { return needsOf(k.Needs) }),
		col("SPACE", 1, func(k api.OfferedKit) any { return sizeOf(&k.Size) }),
		col("POSSIBLE", 0, func(k api.OfferedKit) any {
			if len(k.Missing) == 0 {
				return "yes"
			}
			return "no: " + strings.Join(k.Missing, "; ")
		}),
		col("ABOUT", 2, func(k api.OfferedKit) any { return k.About }),
	})
}

func listSiteKits(ctx context.Context, c *call) error {
	all, err := c.accountKits(ctx, c.args[0])
	if err != nil {
		return err
	}
	return printList(c, all.Sites, false, "no site of this account has a kit", []column[api.SiteKit]{
		col("DOMAIN", 0, func(s api.SiteKit) any { return s.Domain }),
		col("KIT", 0, func(s api.SiteKit) any { return s.Kit }),
		col("VERSION", 0, func(s api.SiteKit) any { return s.Version }),
		col("STATE", 0, func(s api.SiteKit) any { return s.State }),
		col("NEWER", 0, func(s api.SiteKit) any { return s.Newer }),
		col("DATABASE", 1, func(s api.SiteKit) any { return s.Database }),
		col("SINCE", 2, func(s api.SiteKit) any { return when(s.InstalledAt) }),
	})
}

func showKit(ctx context.Context, c *call) error {
	var k api.Kit
	if err := c.client.Get(ctx, kitPath(c), nil, &k); err != nil {
		return err
	}
	g := pairs("kit", k.Name, "title", k.Title, "about", k.About, "offered by", strings.Join(k.Plans, ", "))
	return c.show(k, g, func() error {
		c.table(g)
		versions := rows("VERSION|NEEDS|FILES|SIZE|SITES|SIGNED|STATE|ADDED")
		for _, v := range k.Versions {
			state, signed := "current", v.Signer
			if v.Withdrawn {
				state = "withdrawn"
			}
			if signed == "" {
				signed = "not signed"
			}
			versions.add(v.Version, needsOf(v.Needs), v.Files, plans.FormatSize(v.Size), v.Sites, signed, state,
				local(v.AddedAt))
		}
		c.table(versions)
		return nil
	})
}

func changeKit(ctx context.Context, c *call, body api.KitChange) error {
	var k api.Kit
	previewed, err := c.change(ctx, http.MethodPatch, kitPath(c), body, &k)
	if err == nil && !previewed {
		offered := strings.Join(k.Plans, ", ")
		if offered == "" {
			offered = "no plan"
		}
		c.say("%s is offered by %s", k.Name, offered)
	}
	return err
}

// split parts a list, and leaves out what is empty.
func split(text, separator string) (out []string) {
	for one := range strings.SplitSeq(text, separator) {
		if one = strings.TrimSpace(one); one != "" {
			out = append(out, one)
		}
	}
	return out
}

// answers reads NAME=VALUE.
func answers(given []string) (map[string]string, error) {
	out := map[string]string{}
	for _, one := range given {
		name, value, is := strings.Cut(one, "=")
		if !is || name == "" {
			return nil, usageError{fmt.Sprintf("%q is no answer; write NAME=VALUE", one)}
		}
		out[name] = value
	}
	return out, nil
}

// askOfKit asks what the newest version of a kit asks and nobody has answered. What is wrong with
// the kit is said by the service when it is asked for it.
func (c *call) askOfKit(ctx context.Context, name string, out map[string]string) error {
	var kit api.Kit
	if !c.term.asks() || c.client.Get(ctx, "/kits/"+url.PathEscape(name), nil, &kit) != nil {
		return nil
	}
	at := slices.IndexFunc(kit.Versions, func(v api.KitVersion) bool { return !v.Withdrawn })
	if at < 0 {
		return nil
	}
	return c.askOpen(ctx, kit.Versions[at].Asks, out)
}

// askOpen asks what a kit asks and nobody has answered, where somebody is there to be asked.
func (c *call) askOpen(ctx context.Context, asks []kits.Ask, out map[string]string) error {
	if !c.term.asks() {
		return nil
	}
	for _, a := range asks {
		if _, answered := out[a.Name]; answered {
			continue
		}
		if a.About != "" {
			c.note(a.About)
		}
		prompt := a.Title
		if len(a.Choices) > 0 {
			prompt += " (" + orList(a.Choices) + ")"
		}
		if a.Default != "" {
			prompt += " [" + a.Default + "]"
		} else if a.Optional {
			prompt += " [none]"
		}
		read := c.term.line
		if a.Kind == kits.AskSecret {
			read = c.term.secret
		}
		line, err := read(ctx, prompt+": ")
		if err != nil {
			return err
		}
		if line = strings.TrimSpace(line); line != "" {
			out[a.Name] = line
		}
	}
	return nil
}

func installKit(ctx context.Context, c *call) error {
	body := api.NewSiteKit{Kit: c.args[1], Version: c.value("version"), Replace: c.on("replace")}
	var err error
	if body.Answers, err = answers(c.args[2:]); err != nil {
		return err
	}
	account, err := c.accountWith(ctx, c.args[0])
	if err != nil {
		return err
	}
	all, err := c.accountKits(ctx, account)
	if err != nil {
		return err
	}
	if at := slices.IndexFunc(all.Kits, func(k api.OfferedKit) bool { return k.Name == body.Kit }); at >= 0 {
		if err := c.askOpen(ctx, all.Kits[at].Asks, body.Answers); err != nil {
			return err
		}
	}
	path, err := siteKitPath(ctx, c)
	if err != nil {
		return err
	}
	return c.work(ctx, http.MethodPost, path, body)
}

func updateKit(ctx context.Context, c *call) error {
	body := api.SiteKitUpdate{Version: c.value("version"), NewPassword: c.on("new-password"),
		Take:       words(c.value("take")),
		KeepOthers: c.on("keep-others")}
	var err error
	if body.Answers, err = answers(c.args[1:]); err != nil {
		return err
	}
	path, err := siteKitPath(ctx, c)
	if err != nil {
		return err
	}
	var plan api.SiteKitPlan
	if err := c.client.Post(ctx, path+"/plan", body, &plan); err != nil {
		return err
	}
	if c.forPeople() {
		c.showPlan(plan, body.Take)
	}
	if !c.previews() {
		if err := c.confirm(ctx, fmt.Sprintf("Update %s from version %s to %s?", c.args[0], plan.From,
			plan.To)); err != nil {
			return err
		}
	}
	return c.work(ctx, http.MethodPatch, path, body)
}

// fileActions say what an update does with a file.
var fileActions = map[string]string{kits.Add: "new", kits.Replace: "replaced", kits.Remove: "taken away",
	kits.Keep: "stays as it was changed here", kits.Conflict: "changed here and in the kit"}

func (c *call) showPlan(plan api.SiteKitPlan, take []string) {
	g := rows("FILE|WHAT")
	for _, f := range plan.Files {
		what := fileActions[f.Action]
		if f.Action == kits.Conflict && slices.Contains(take, f.Path) {
			what = "the kit's is taken"
		}
		g.add(f.Path, what)
	}
	if len(plan.Files) == 0 {
		c.note("no file is another one")
		return
	}
	c.table(g)
}

func removeSiteKit(ctx context.Context, c *call) error {
	if err := c.confirm(ctx, "Remove the kit of "+c.args[0]+
		" with all files of the site and its database? Nothing brings them back."); err != nil {
		return err
	}
	path, err := siteKitPath(ctx, c)
	if err != nil {
		return err
	}
	return c.work(ctx, http.MethodDelete, path+"?delete=true", nil)
}

// packed packs a kit's directory, or reads the archive that is there, and looks at what it is.
func packed(name string) ([]byte, kits.Package, error) {
	info, err := os.Stat(name)
	if err != nil {
		return nil, kits.Package{}, err
	}
	var archive []byte
	if info.IsDir() {
		var root *os.Root
		if root, err = os.OpenRoot(name); err != nil {
			return nil, kits.Package{}, err
		}
		defer root.Close()
		archive, err = kits.Pack(root.FS())
	} else if info.Size() > kits.MaxArchive {
		err = fmt.Errorf("%s is larger than %s", name, plans.FormatSize(kits.MaxArchive))
	} else {
		archive, err = os.ReadFile(name)
	}
	if err != nil {
		return nil, kits.Package{}, err
	}
	p, err := kits.ReadArchive(archive)
	return archive, p, err
}

func checkKit(_ context.Context, c *call) error {
	_, p, err := packed(c.args[0])
	if err != nil {
		return err
	}
	c.sayPackage(p)
	fmt.Fprintln(c.out, "in order")
	return nil
}

func (c *call) sayPackage(p kits.Package) {
	fmt.Fprintf(c.out, "%s %s, %s: %s with %s, %s filled in, %s, %s\n", p.Name, p.Version, p.Title,
		counted(len(p.Files), "file"), plans.FormatSize(p.Size), counted(len(p.Templates), "file"),
		counted(len(p.Asks), "question"), counted(len(p.Steps), "step"))
}

func packKit(_ context.Context, c *call) error {
	archive, p, err := packed(c.args[0])
	if err != nil {
		return err
	}
	file, err := os.OpenFile(c.args[1], os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return usageError{fmt.Sprintf("%s is there already; name a new file", c.args[1])}
	}
	if err != nil {
		return err
	}
	_, err = file.Write(archive)
	if err = errors.Join(err, file.Close()); err != nil {
		return errors.Join(err, os.Remove(c.args[1]))
	}
	c.sayPackage(p)
	return nil
}

func registerKit(ctx context.Context, c *call) error {
	archive, p, err := packed(c.args[0])
	if err != nil {
		return err
	}
	var signature []byte
	if name := c.value("signature"); name != "" {
		if signature, err = os.ReadFile(name); err != nil {
			return err
		}
	}
	k, err := c.client.RegisterKit(ctx, archive, signature, c.note)
	if err != nil {
		return err
	}
	c.outcome.answer = k
	c.say("version %s of %s is registered", p.Version, p.Name)
	return nil
}
