package mail

import (
	"bytes"
	"errors"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net/textproto"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDecide(t *testing.T) {
	is := func(address string) (member, owner bool, err error) {
		return address == "anna@boats.example", address == "bo@boats.example", nil
	}
	for _, c := range []struct {
		posting      Posting
		moderated    bool
		sender, from string
		more         [2]string
		spam         bool
		want         Verdict
	}{
		{AnyonePosts, false, "kit@quay.test", "kit@quay.test", [2]string{}, false, PassOn},
		{AnyonePosts, false, "kit@quay.test", "kit@quay.test", [2]string{}, true, RefusePost},
		{AnyonePosts, true, "kit@quay.test", "kit@quay.test", [2]string{}, true, HoldPost},
		{MembersPost, false, "x@quay.test", "Anna <Anna@boats.example>", [2]string{}, false, PassOn},
		{MembersPost, false, "x@quay.test", "bo@boats.example", [2]string{}, false, PassOn},
		{MembersPost, false, "anna@boats.example", "kit@quay.test", [2]string{}, false, RefusePost},
		{MembersPost, true, "kit@quay.test", "kit@quay.test", [2]string{}, false, HoldPost},
		{OwnersPost, false, "x@quay.test", "anna@boats.example", [2]string{}, false, RefusePost},
		{OwnersPost, true, "x@quay.test", "anna@boats.example", [2]string{}, false, HoldPost},
		{OwnersPost, true, "x@quay.test", "bo@boats.example", [2]string{}, false, PassOn},
		// Two authors are none.
		{MembersPost, false, "x@quay.test", "anna@boats.example, kit@quay.test", [2]string{}, false, RefusePost},
		// What programs write: failures, replies.
		{AnyonePosts, true, "", "mailer-daemon@quay.test", [2]string{}, false, IgnorePost},
		{AnyonePosts, true, "anna@boats.example", "anna@boats.example", [2]string{"Auto-Submitted", "auto-replied"},
			false, IgnorePost},
		{AnyonePosts, true, "anna@boats.example", "anna@boats.example", [2]string{"Auto-Submitted", "No"}, false,
			PassOn},
	} {
		header := textproto.MIMEHeader{"From": {c.from}}
		if c.more[0] != "" {
			header.Set(c.more[0], c.more[1])
		}
		got, err := List{Posting: c.posting, Moderated: c.moderated}.Decide(c.sender, header, c.spam, is)
		require.NoError(t, err)
		assert.Equal(t, c.want, got, "%+v", c)
	}
	_, err := List{Posting: MembersPost}.Decide("x@quay.test", textproto.MIMEHeader{"From": {"a@b.test"}}, false,
		func(string) (bool, bool, error) { return false, false, errors.New("locked") })
	assert.Error(t, err)
}

func TestListCodes(t *testing.T) {
	key := []byte("0123456789abcdef")
	code := LeaveCode(key, "crew@boats.example", "anna@boats.example", 7)
	assert.NotEqual(t, code, LeaveCode(key, "crew@boats.example", "anna@boats.example", 8), "came back")
	assert.NotEqual(t, code, LeaveCode(key, "crew@boats.exampl", "eanna@boats.example", 7))
	assert.NotEqual(t, code, ApprovalCode(key, "crew@boats.example", "anna@boats.example"))
	for subject, want := range map[string]ListRequest{
		"leave " + code: {"leave", code}, "Re: [Crew] Leave " + strings.ToUpper(code): {"leave", code},
		"AW: approve abcdefghij234567abcd": {"approve", "abcdefghij234567abcd"},
		"[drop abcdefghij234567abcd]":      {"drop", "abcdefghij234567abcd"},
	} {
		got, ok := ParseListRequest(subject)
		assert.True(t, ok, subject)
		assert.Equal(t, want, got)
	}
	for _, subject := range []string{"", "leave", "I leave tomorrow", "approve all", "disapprove abcdefghij234567abcd",
		"leave " + code + "x.y"} {
		_, ok := ParseListRequest(subject)
		assert.False(t, ok, subject)
	}
	assert.Equal(t, "crew-request@boats.example", RequestAddress("crew@boats.example"))
	assert.Equal(t, "crew@boats.example", ListOfRequest("crew-request@boats.example"))
	assert.Empty(t, ListOfRequest("crew@boats.example"))
	assert.Empty(t, ListOfRequest("-request@boats.example"))
}

func copyOf(footer string) Copy {
	return Copy{List: List{Address: "crew@boats.example", Name: "Crew", Posting: MembersPost, Footer: footer},
		Own: func(address string) bool { return strings.HasSuffix(address, "@boats.example") }, LeaveCode: "abc",
		Leave: "https://console.example/leave/crew@boats.example/abc"}
}

func TestCopyHeader(t *testing.T) {
	c := copyOf("")
	header := []HeaderField{{"From", "Kit Quay <kit@quay.test>"}, {"Subject", "Tide"}, {"List-Id", "<other>"},
		{"DKIM-Signature", "v=1"}, {"Delivered-To", "other@boats.example"}, {"Sender", "kit@quay.test"},
		{"Disposition-Notification-To", "kit@quay.test"}, {"Content-Type", "text/plain"}}
	out := c.Header(header)
	text := fieldText(out)
	assert.Contains(t, text, `From: "Kit Quay (Crew)" <crew@boats.example>`)
	assert.Contains(t, text, `Reply-To: "Kit Quay" <kit@quay.test>`)
	assert.Contains(t, text, "List-Id: Crew <crew.boats.example>\r\n")
	assert.Contains(t, text, "List-Unsubscribe: <https://console.example/leave/crew@boats.example/abc>, "+
		"<mailto:crew-request@boats.example?subject=leave%20abc>\r\nList-Unsubscribe-Post: List-Unsubscribe=One-Click")
	assert.Contains(t, text, "Delivered-To: crew@boats.example\r\n")
	assert.Contains(t, text, "Delivered-To: other@boats.example\r\n", "so that lists that lead to each other are found")
	for _, gone := range []string{"<other>", "DKIM", "Disposition", "Sender:", "Content-Type"} {
		assert.NotContains(t, text, gone)
	}
	assert.Equal(t, "crew@boats.example", c.From(header))

	own := []HeaderField{{"From", "Anna <anna@boats.example>"}}
	assert.Contains(t, fieldText(c.Header(own)), "From: Anna <anna@boats.example>\r\n")
	assert.NotContains(t, fieldText(c.Header(own)), "Reply-To")
	assert.Equal(t, "anna@boats.example", c.From(own))

	c.Leave, c.List.Posting = "", OwnersPost
	text = fieldText(c.Header(own))
	assert.NotContains(t, text, "One-Click")
	assert.Contains(t, text, "List-Post: NO")
}

func TestCopyBody(t *testing.T) {
	c := copyOf("Leave: {leave}")
	plain := func(fields []HeaderField, body []byte) string {
		assert.Equal(t, "text/plain; charset=utf-8", valueOf(fields, "Content-Type"))
		text, err := io.ReadAll(quotedprintable.NewReader(bytes.NewReader(body)))
		require.NoError(t, err)
		return string(text)
	}
	const leave = "Leave: https://console.example/leave/crew@boats.example/abc"
	for name, content := range map[string][]HeaderField{
		"nothing said": nil,
		"8bit":         {{"Content-Type", "text/plain; charset=utf-8"}, {"Content-Transfer-Encoding", "8bit"}},
	} {
		fields, body, err := c.Body(content, []byte("Tide at six – mind the step\r\n"))
		require.NoError(t, err)
		assert.Equal(t, "Tide at six – mind the step\r\n\r\n"+leave+"\r\n", plain(fields, body), name)
	}
	fields, body, err := c.Body([]HeaderField{{"Content-Type", "text/plain"}, {"Content-Transfer-Encoding", "base64"}},
		[]byte("VGlkZQ==\r\n"))
	require.NoError(t, err)
	assert.Equal(t, "Tide\r\n\r\n"+leave+"\r\n", plain(fields, body))

	// Anything else is put whole beside the footer, so that signatures within it hold.
	original := "--b\r\nContent-Type: text/html\r\n\r\n<p>Tide</p>\r\n--b--\r\n"
	fields, body, err = c.Body([]HeaderField{{"Content-Type", `multipart/alternative; boundary="b"`}}, []byte(original))
	require.NoError(t, err)
	kind, values, err := mime.ParseMediaType(valueOf(fields, "Content-Type"))
	require.NoError(t, err)
	assert.Equal(t, "multipart/mixed", kind)
	parts := multipart.NewReader(bytes.NewReader(body), values["boundary"])
	first, err := parts.NextRawPart()
	require.NoError(t, err)
	assert.Equal(t, `multipart/alternative; boundary="b"`, first.Header.Get("Content-Type"))
	text, err := io.ReadAll(first)
	require.NoError(t, err)
	assert.Equal(t, original, string(text))
	second, err := parts.NextPart()
	require.NoError(t, err)
	text, err = io.ReadAll(second)
	require.NoError(t, err)
	assert.Contains(t, string(text), leave)

	// Without a footer nothing changes.
	fields, body, err = copyOf("").Body([]HeaderField{{"Content-Type", "text/html"}}, []byte("<p>"))
	require.NoError(t, err)
	assert.Equal(t, "<p>", string(body))
	assert.Equal(t, "text/html", valueOf(fields, "Content-Type"))
}

func TestFitsList(t *testing.T) {
	assert.True(t, FitsList(100_000, MostMembers))
	assert.False(t, FitsList(1_000_000, MostMembers))
	assert.True(t, FitsList(1_000_000, 1000))
	assert.False(t, FitsList(LargestListText+1, 1))
}

func FuzzCopy(f *testing.F) {
	f.Add("From: kit@quay.test\nContent-Type: text/plain; charset=utf-8", "Tide")
	f.Add("From: a@boats.example\nContent-Type: multipart/mixed; boundary=x", "--x--")
	f.Fuzz(func(t *testing.T, head, body string) {
		var header []HeaderField
		for line := range strings.SplitSeq(head, "\n") {
			if name, value, has := strings.Cut(line, ":"); has && name != "" && !strings.ContainsAny(name,
				" \t\r\n\x00") &&
				!strings.ContainsAny(value, "\r\n\x00") {
				header = append(header, HeaderField{name, value})
			}
		}
		c := copyOf("footer {leave}")
		fields, _, err := c.Body(header, []byte(body))
		if err != nil {
			return
		}
		for _, h := range append(c.Header(header), fields...) {
			assert.NotContains(t, h.Value, "\r", "a field cannot begin another")
			assert.NotContains(t, h.Value, "\n")
		}
		assert.Contains(t, fieldText(c.Header(header)), "List-Unsubscribe: ")
	})
}
