package mail_test

import (
	"encoding/base64"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/agentlink"
	"victualler/internal/api"
	"victualler/internal/hosting/mail"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/service/servicetest"
)

func TestDistributionLists(t *testing.T) {
	ctx := t.Context()
	b, _, account := boats(t, plans.Limits{plans.Mailboxes: plans.Of(2), plans.MailboxSize: plans.Of(plans.GiB),
		plans.Lists: plans.Of(2), plans.SendsPerHour: plans.Of(3), plans.Addresses: plans.Of(5)})
	_, err := b.Mail.AddMailbox(ctx, b.Operator, "boats", api.NewMailbox{Address: "anna", Password: password})
	require.NoError(t, err)

	add := func(in api.NewDistributionList) (api.DistributionListChanged, error) {
		done, err := b.Mail.AddList(ctx, b.Operator, "boats", in)
		b.Work()
		return done, err
	}
	for _, c := range []struct {
		in   api.NewDistributionList
		kind refusal.Kind
		says string
	}{
		{api.NewDistributionList{Address: "crew"}, refusal.InvalidInput, "somebody looks after a list"},
		{api.NewDistributionList{Address: "crew", Owners: []string{"nobody"}}, refusal.InvalidInput,
			"no address of this account"},
		{api.NewDistributionList{Address: "crew", Owners: []string{"anna"}, Members: []string{"kit"}},
			refusal.InvalidInput, "kit@boats.example is no address"},
		{api.NewDistributionList{Address: "crew", Owners: []string{"crew-request"}}, refusal.InvalidInput, ""},
		{api.NewDistributionList{Address: "anna", Owners: []string{"anna"}}, refusal.NameTaken, "a mailbox anna@"},
		{api.NewDistributionList{Address: "postmaster", Owners: []string{"anna"}}, refusal.InvalidInput,
			"cannot be a list"},
		{api.NewDistributionList{Address: "*", Owners: []string{"anna"}}, refusal.InvalidInput, "cannot be a list"},
		{api.NewDistributionList{Address: strings.Repeat("a", 57), Owners: []string{"anna"}}, refusal.InvalidInput,
			"too long"},
		{api.NewDistributionList{Address: "crew", Owners: []string{"anna"}, Name: "two\nlines"}, refusal.InvalidInput,
			"one line"},
		{api.NewDistributionList{Address: "crew@other.example", Owners: []string{"anna"}}, refusal.InvalidInput,
			"no domain"},
	} {
		_, err := add(c.in)
		assert.Contains(t, servicetest.Refused(t, c.kind, err).Detail, c.says, c.in)
	}
	done, err := add(api.NewDistributionList{Address: "Crew", Owners: []string{"anna"}, Name: "Crew", Footer: "{leave}",
		Members: []string{"anna", "bo@harbourmail.test", "Bo@Harbourmail.test", "cy@harbourmail.test"}})
	require.NoError(t, err)
	assert.Equal(t, api.DistributionList{Address: "crew@boats.example", Unicode: "crew@boats.example",
		OwnersAddress: "crew-request@boats.example", Name: "Crew", Posting: "members", Footer: "{leave}",
		Owners: []string{"anna@boats.example"}, Members: 3, Domain: "boats.example", AddedAt: done.List.AddedAt,
		Version: 1}, done.List)
	for _, address := range []string{"crew", "crew-request"} {
		_, err = b.Mail.AddAddress(ctx, b.Operator, "boats", api.NewMailAddress{Address: address,
			Targets: []string{"anna"}})
		servicetest.Refused(t, refusal.NameTaken, err)
	}
	m, _ := b.Agents.On(1).InForce(account.ID)
	require.Len(t, m.Mail.Lists, 1)
	assert.NoError(t, m.Validate())
	assert.Len(t, m.Mail.Lists[0].Members, 3)

	t.Run("an address may lead to a list", func(t *testing.T) {
		_, err := b.Mail.AddAddress(ctx, b.Operator, "boats", api.NewMailAddress{Address: "all",
			Targets: []string{"crew"}})
		require.NoError(t, err)
		b.Work()
		m, _ := b.Agents.On(1).InForce(account.ID)
		assert.Equal(t, []string{"crew@boats.example"}, m.Mail.Addresses[0].Targets)
		assert.NoError(t, m.Validate())
		path, err := b.Mail.MailPath(ctx, b.Operator, "boats", "all@boats.example")
		require.NoError(t, err)
		assert.Equal(t, "list", path.Next[0].Hop)
		path, err = b.Mail.MailPath(ctx, b.Operator, "boats", "crew-request@boats.example")
		require.NoError(t, err)
		assert.Equal(t, "list_owners", path.Hop)
		_, err = b.Mail.RemoveList(ctx, b.Operator, "boats", "crew")
		servicetest.Refused(t, refusal.InUse, err)
		_, err = b.Mail.RemoveAddress(ctx, b.Operator, "boats", "all")
		require.NoError(t, err)
	})
	t.Run("it is changed", func(t *testing.T) {
		on, posting, owners := true, "owners", []string{"bo@harbourmail.test"}
		_, err := b.Mail.ChangeList(ctx, b.Operator, "boats", "crew", 7, api.DistributionListChange{Moderated: &on})
		servicetest.Refused(t, refusal.Changed, err)
		changed, err := b.Mail.ChangeList(ctx, b.Operator, "boats", "crew", 1,
			api.DistributionListChange{Moderated: &on, Posting: &posting, Owners: &owners})
		require.NoError(t, err)
		assert.Equal(t, owners, changed.List.Owners)
		assert.Equal(t, int64(3), changed.List.Members, "who was an owner stays a member")
		none := []string{}
		_, err = b.Mail.ChangeList(ctx, b.Operator, "boats", "crew", 0, api.DistributionListChange{Owners: &none})
		servicetest.Refused(t, refusal.InvalidInput, err)
	})
	t.Run("members come and go", func(t *testing.T) {
		members := func(in api.ListMemberChange) (api.ListMembersChanged, error) {
			done, err := b.Mail.ChangeListMembers(ctx, b.Operator, "boats", "crew", in)
			b.Work()
			return done, err
		}
		done, err := members(api.ListMemberChange{Add: []string{"di@harbourmail.test", "cy@harbourmail.test"},
			Remove: []string{"ANNA", "bo@harbourmail.test", "nobody@quay.test"}})
		require.NoError(t, err)
		assert.Equal(t, [3]int{1, 2, 2}, [3]int{done.Added, done.Removed, done.Members})
		list, err := b.Mail.ListMembers(ctx, b.Operator, "boats", "crew")
		require.NoError(t, err)
		assert.Equal(t, "cy@harbourmail.test", list.Members[0].Address)
		lists, err := b.Mail.Lists(ctx, b.Operator, "boats")
		require.NoError(t, err)
		assert.Equal(t, []string{"bo@harbourmail.test"}, lists.Lists[0].Owners, "who leaves as a member stays an owner")
		joined := func(address string) int64 {
			m, _ := b.Agents.On(1).InForce(account.ID)
			for _, one := range m.Mail.Lists[0].Members {
				if one.Address == address {
					return one.Joined
				}
			}
			return 0
		}
		before := joined("bo@harbourmail.test")
		b.Pass(time.Minute)
		_, err = members(api.ListMemberChange{Add: []string{"bo@harbourmail.test"}})
		require.NoError(t, err)
		assert.Greater(t, joined("bo@harbourmail.test"), before-60, "an owner who is a member again has joined anew")
		_, err = members(api.ListMemberChange{Remove: []string{"bo@harbourmail.test"}})
		require.NoError(t, err)
		_, err = members(api.ListMemberChange{Remove: []string{"nobody@quay.test"}})
		servicetest.Refused(t, refusal.InvalidInput, err)
		many := []string{}
		for n := range mail.MostMembers {
			many = append(many, fmt.Sprintf("m%d@quay.test", n))
		}
		_, err = members(api.ListMemberChange{Add: many})
		servicetest.Refused(t, refusal.LimitReached, err)
	})
	t.Run("members leave by themselves", func(t *testing.T) {
		m, _ := b.Agents.On(1).InForce(account.ID)
		key, err := base64.StdEncoding.DecodeString(string(b.Agents.On(1).Server.Mail.ReturnKey))
		require.NoError(t, err)
		code := func(address string) string {
			for _, one := range m.Mail.Lists[0].Members {
				if one.Address == address {
					return mail.LeaveCode(key, "crew@boats.example", address, one.Joined)
				}
			}
			return ""
		}
		left, err := b.Mail.LeaveList(ctx, "crew@boats.example", code("di@harbourmail.test"))
		require.NoError(t, err)
		assert.Equal(t, "Crew", left.List)
		for _, wrong := range [][2]string{{"crew@boats.example", code("di@harbourmail.test")}, {"crew@boats.example",
			"a"},
			{"none@boats.example", code("cy@harbourmail.test")}, {"crew", code("cy@harbourmail.test")}} {
			_, err = b.Mail.LeaveList(ctx, wrong[0], wrong[1])
			servicetest.Refused(t, refusal.NotFound, err)
		}
		b.Agents.On(1).Left = []agentlink.ListLeave{{Account: account.ID, Code: code("cy@harbourmail.test")},
			{Account: account.ID, Code: "nobody"}, {Account: 999, Code: "x"}}
		require.NoError(t, b.Mail.CollectLogs(ctx))
		list, err := b.Mail.ListMembers(ctx, b.Operator, "boats", "crew")
		require.NoError(t, err)
		assert.Empty(t, list.Members)
		b.Work()
		m, _ = b.Agents.On(1).InForce(account.ID)
		assert.Len(t, m.Mail.Lists[0].Members, 1, "the owner")
	})
	t.Run("what waits for owners", func(t *testing.T) {
		b.Agents.On(1).Posts = []mail.HeldPost{{Name: "one", List: "crew@boats.example", From: "eve@quay.test",
			Subject: "tide", At: time.Now()}, {Name: "two", List: "other@quay.example"}}
		held, err := b.Mail.HeldPosts(ctx, b.Operator, "boats", "crew")
		require.NoError(t, err)
		require.Len(t, held.Posts, 1)
		_, err = b.Mail.ChangeHeldPost(ctx, b.Operator, "boats", "crew", "two", api.HeldPostChange{Do: "drop"})
		servicetest.Refused(t, refusal.NotFound, err)
		_, err = b.Mail.ChangeHeldPost(ctx, b.Operator, "boats", "crew", "one", api.HeldPostChange{Do: "approve"})
		require.NoError(t, err)
		assert.Len(t, b.Agents.On(1).Posts, 1)
	})
	done, err = add(api.NewDistributionList{Address: "second", Owners: []string{"anna"}})
	require.NoError(t, err)
	_, err = b.Mail.RemoveMailbox(ctx, b.Operator, "boats", "anna")
	assert.Contains(t, servicetest.Refused(t, refusal.InUse, err).Detail, "anna@boats.example alone looks after")
	two := []string{"anna", "bo@harbourmail.test"}
	_, err = b.Mail.ChangeList(ctx, b.Operator, "boats", "second", 0, api.DistributionListChange{Owners: &two})
	require.NoError(t, err)
	_, err = b.Mail.RemoveMailbox(ctx, b.Operator, "boats", "anna")
	require.NoError(t, err)
	lists, err := b.Mail.Lists(ctx, b.Operator, "boats")
	require.NoError(t, err)
	assert.Equal(t, []string{"bo@harbourmail.test"}, lists.Lists[1].Owners)
	_, err = b.Mail.AddMailbox(ctx, b.Operator, "boats", api.NewMailbox{Address: "anna", Password: password})
	require.NoError(t, err)
	_, err = add(api.NewDistributionList{Address: "third", Owners: []string{"anna"}})
	servicetest.Refused(t, refusal.LimitReached, err)
	_, err = b.Mail.RemoveList(ctx, b.Operator, "boats", "crew")
	require.NoError(t, err)
}
