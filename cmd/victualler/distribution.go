package main

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"victualler/internal/api"
)

func distributionCommands() []command {
	settings := []flagInfo{inAccountFlag,
		{name: "owners", value: "ADDRESS,…", usage: "who looks after it, and reads what waits"},
		{name: "name", value: "TEXT", usage: "what people call it"},
		{name: "posting", value: "WHO", values: []string{"anyone", "members", "owners"},
			usage: "who may send to it: anyone, its members, or its owners alone"},
		{name: "moderated", value: "on|off", values: []string{"on", "off"},
			usage: "what others send waits for an owner, or is refused"},
		{name: "footer-file", value: "FILE", usage: "what is put below each message; {leave} in it is where a member " +
			"leaves; - is standard input"}}
	file := flagInfo{name: "file", value: "FILE", usage: "further members, one in a line; - is standard input"}
	held := func(verb, short string, flags ...flagInfo) command {
		return command{noun: "list", verb: verb, args: "ADDRESS POST", short: short, preview: true,
			flags: append([]flagInfo{inAccountFlag}, flags...), run: func(ctx context.Context, c *call) error {
				return c.heldPost(ctx, verb)
			}}
	}
	return []command{
		{noun: "list", verb: "list", args: "ACCOUNT", list: true, run: listDistributions,
			short: "List the distribution lists of an account"},
		{noun: "list", verb: "add", args: "ADDRESS", preview: true, waits: true,
			short: "Add a distribution list",
			long: "What is sent to ADDRESS goes to its members. They leave by what their mail program offers, or by " +
				"the place that {leave} stands for in the footer; its owners have ADDRESS with -request before the @.",
			flags: append(settings, flagInfo{name: "members", value: "ADDRESS,…", usage: "its first members"}, file),
			run:   addDistribution},
		{noun: "list", verb: "show", args: "ADDRESS", short: "Show a distribution list",
			flags: []flagInfo{inAccountFlag},
			run:   showDistribution},
		{noun: "list", verb: "change", args: "ADDRESS", short: "Change a distribution list", preview: true, waits: true,
			long: "--name - takes the name away, --footer-file /dev/null the footer.", flags: settings,
			run: changeDistribution},
		{noun: "list", verb: "remove", args: "ADDRESS", short: "Remove a distribution list", preview: true, waits: true,
			flags: []flagInfo{inAccountFlag, yesFlag}, run: func(ctx context.Context, c *call) error {
				path, err := c.distributionPath(ctx)
				if err != nil {
					return err
				}
				if err := c.confirm(ctx, "Remove the list "+c.args[0]+" and what waits for its owners?"); err != nil {
					return err
				}
				return c.work(ctx, http.MethodDelete, path, nil)
			}},
		{noun: "list", verb: "members", args: "ADDRESS", list: true, flags: []flagInfo{inAccountFlag}, run: listMembers,
			short: "List the members of a distribution list"},
		{noun: "list", verb: "add-members", args: "ADDRESS [MEMBER]…", preview: true, waits: true,
			short: "Add members to a distribution list", flags: []flagInfo{inAccountFlag, file},
			long: "All of them or none. Those that are members already stay so.",
			run: func(ctx context.Context, c *call) error {
				return c.changeMembers(ctx,
					func(list []string) api.ListMemberChange { return api.ListMemberChange{Add: list} })
			}},
		{noun: "list", verb: "remove-members", args: "ADDRESS [MEMBER]…", preview: true, waits: true,
			short: "Take members out of a distribution list", flags: []flagInfo{inAccountFlag, file},
			run: func(ctx context.Context, c *call) error {
				return c.changeMembers(ctx,
					func(list []string) api.ListMemberChange { return api.ListMemberChange{Remove: list} })
			}},
		{noun: "list", verb: "held", args: "ADDRESS", list: true, flags: []flagInfo{inAccountFlag}, run: listHeld,
			short: "List the messages to a distribution list that wait for an owner"},
		held("approve", "Send a message on to the members that waits for an owner"),
		held("drop", "Drop a message that waits for an owner", yesFlag),
	}
}

func distributionsPath(account string) string { return accountPath(account) + "/lists" }

func (c *call) distributionPath(ctx context.Context) (string, error) {
	account, err := c.accountOfAddress(ctx)
	return distributionsPath(account) + "/" + url.PathEscape(c.args[0]), err
}

// whoSends says who may send to a list, and what becomes of what others send.
func whoSends(l api.DistributionList) string {
	otherwise := map[bool]string{true: "what others send waits", false: "what others send is refused"}[l.Moderated]
	if l.Posting == "anyone" {
		return "anyone"
	}
	return l.Posting + "; " + otherwise
}

func listDistributions(ctx context.Context, c *call) error {
	var list api.DistributionLists
	if err := c.client.Get(ctx, distributionsPath(c.args[0]), nil, &list); err != nil {
		return err
	}
	return printList(c, list.Lists, false, "no lists; add one with: victualler list add ADDRESS --owners ADDRESS",
		[]column[api.DistributionList]{
			col("ADDRESS", 0, func(l api.DistributionList) any { return l.Unicode }),
			col("NAME", 1, func(l api.DistributionList) any { return l.Name }),
			col("MEMBERS", 0, func(l api.DistributionList) any { return l.Members }),
			col("WHO SENDS", 0, func(l api.DistributionList) any { return whoSends(l) }),
			col("OWNERS", 0, func(l api.DistributionList) any { return strings.Join(l.Owners, ", ") }),
			col("ADDED", 1, func(l api.DistributionList) any { return l.AddedAt }),
		})
}

// distribution finds a list.
func (c *call) distribution(ctx context.Context) (api.DistributionList, error) {
	account, err := c.accountOfAddress(ctx)
	if err != nil {
		return api.DistributionList{}, err
	}
	var list api.DistributionLists
	if err := c.client.Get(ctx, distributionsPath(account), nil, &list); err != nil {
		return api.DistributionList{}, err
	}
	for _, l := range list.Lists {
		if strings.EqualFold(l.Address, c.args[0]) || strings.EqualFold(l.Unicode, c.args[0]) {
			return l, nil
		}
	}
	return api.DistributionList{}, fmt.Errorf("there is no list %s; see: victualler list list %s", c.args[0], account)
}

func showDistribution(ctx context.Context, c *call) error {
	l, err := c.distribution(ctx)
	if err != nil {
		return err
	}
	g := pairs("list", l.Unicode, "name", l.Name, "members", fmt.Sprint(l.Members), "who sends", whoSends(l),
		"owners", strings.Join(l.Owners, ", "), "owners' address", l.OwnersAddress, "footer", l.Footer,
		"added", local(l.AddedAt))
	return c.show(l, g, func() error {
		c.table(g)
		return nil
	})
}

// footerGiven is the text of --footer-file; nil where it is not given.
func (c *call) footerGiven(ctx context.Context) (*string, error) {
	file := c.value("footer-file")
	if file == "" {
		return nil, nil
	}
	text, err := c.readInput(ctx, file)
	footer := strings.TrimSpace(string(text))
	return &footer, err
}

// membersGiven are the addresses of a file, one in a line.
func (c *call) membersGiven(ctx context.Context) ([]string, error) {
	file := c.value("file")
	if file == "" {
		return nil, nil
	}
	text, err := c.readInput(ctx, file)
	if err != nil {
		return nil, err
	}
	var list []string
	for line := range strings.Lines(string(text)) {
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
			list = append(list, line)
		}
	}
	return list, nil
}

func addDistribution(ctx context.Context, c *call) error {
	account, err := c.accountOfAddress(ctx)
	if err != nil {
		return err
	}
	body := api.NewDistributionList{Address: c.args[0], Name: c.value("name"), Posting: c.value("posting")}
	owners := c.addressesGiven("owners")
	if owners == nil || len(*owners) == 0 {
		return usageError{"say who looks after it, such as --owners anna@ternferries.example"}
	}
	body.Owners = *owners
	moderated, err := c.switchGiven("moderated")
	if err != nil {
		return err
	}
	body.Moderated = moderated != nil && *moderated
	if footer, err := c.footerGiven(ctx); err != nil {
		return err
	} else if footer != nil {
		body.Footer = *footer
	}
	if body.Members, err = c.membersGiven(ctx); err != nil {
		return err
	}
	if typed := c.addressesGiven("members"); typed != nil {
		body.Members = append(body.Members, *typed...)
	}
	var done api.DistributionListChanged
	previewed, err := c.change(ctx, http.MethodPost, distributionsPath(account), body, &done)
	if err != nil || previewed {
		return err
	}
	c.say("list %s on %s, members: %d", done.List.Unicode, done.Server, done.List.Members)
	return c.startedIf(ctx, done.Operation)
}

func changeDistribution(ctx context.Context, c *call) error {
	path, err := c.distributionPath(ctx)
	if err != nil {
		return err
	}
	body := api.DistributionListChange{Name: c.given("name"), Posting: c.given("posting"),
		Owners: c.addressesGiven("owners")}
	if body.Moderated, err = c.switchGiven("moderated"); err != nil {
		return err
	}
	if body.Footer, err = c.footerGiven(ctx); err != nil {
		return err
	}
	if body == (api.DistributionListChange{}) {
		return c.nothingToChange()
	}
	var done api.DistributionListChanged
	previewed, err := c.change(ctx, http.MethodPatch, path, body, &done)
	if err != nil || previewed {
		return err
	}
	return c.startedIf(ctx, done.Operation)
}

func listMembers(ctx context.Context, c *call) error {
	path, err := c.distributionPath(ctx)
	if err != nil {
		return err
	}
	var list api.ListMembers
	if err := c.client.Get(ctx, path+"/members", nil, &list); err != nil {
		return err
	}
	return printList(c, list.Members, false, "no members; add some with: victualler list add-members "+c.args[0]+
		" MEMBER…", []column[api.ListMember]{
		col("ADDRESS", 0, func(m api.ListMember) any { return m.Address }),
		col("MEMBER SINCE", 0, func(m api.ListMember) any { return m.JoinedAt }),
	})
}

// changeMembers adds members or removes them.
func (c *call) changeMembers(ctx context.Context, body func([]string) api.ListMemberChange) error {
	path, err := c.distributionPath(ctx)
	if err != nil {
		return err
	}
	members, err := c.membersGiven(ctx)
	if err != nil {
		return err
	}
	if members = append(members, c.args[1:]...); len(members) == 0 {
		return usageError{"name members, or give a file with them: --file FILE"}
	}
	var done api.ListMembersChanged
	previewed, err := c.change(ctx, http.MethodPost, path+"/members", body(members), &done)
	if err != nil || previewed {
		return err
	}
	c.say("%d added, %d removed; members of %s: %d", done.Added, done.Removed, c.args[0], done.Members)
	return c.startedIf(ctx, done.Operation)
}

func listHeld(ctx context.Context, c *call) error {
	path, err := c.distributionPath(ctx)
	if err != nil {
		return err
	}
	var list api.HeldPosts
	if err := c.client.Get(ctx, path+"/held", nil, &list); err != nil {
		return err
	}
	return printList(c, list.Posts, false, "nothing waits", []column[api.HeldPost]{
		col("POST", 0, func(p api.HeldPost) any { return p.Post }),
		col("CAME", 0, func(p api.HeldPost) any { return p.CameAt }),
		col("FROM", 0, func(p api.HeldPost) any { return p.From }),
		col("SUBJECT", 0, func(p api.HeldPost) any { return p.Subject }),
	})
}

// heldPost does something with a message that waits.
func (c *call) heldPost(ctx context.Context, do string) error {
	path, err := c.distributionPath(ctx)
	if err != nil {
		return err
	}
	if do == "drop" {
		if err := c.confirm(ctx, "Drop the message? Nobody is told."); err != nil {
			return err
		}
	}
	var done api.HeldPostChanged
	previewed, err := c.change(ctx, http.MethodPost, path+"/held/"+url.PathEscape(c.args[1]),
		api.HeldPostChange{Do: do}, &done)
	if err != nil || previewed {
		return err
	}
	c.say("%s", map[string]string{"approve": "sent on to the members", "drop": "dropped"}[do])
	return nil
}
