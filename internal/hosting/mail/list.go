package mail

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"io"
	"mime"
	"mime/quotedprintable"
	"net/mail"
	"net/textproto"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Posting says who may send to a list without asking.
type Posting string

// Who may send to a list.
const (
	AnyonePosts Posting = "anyone"
	MembersPost Posting = "members"
	OwnersPost  Posting = "owners"
)

// Postings are all of them.
var Postings = []Posting{AnyonePosts, MembersPost, OwnersPost}

// Bounds of lists.
const (
	MostMembers       = 5000
	MostOwners        = 20
	LongestListName   = 60   // in characters
	LongestFooter     = 2000 // in characters
	LargestListText   = 10 << 20
	largestListCopies = 1 << 30
)

// requestSuffix is what the address of a list's owners ends with (RFC 2142, section 6). What
// members cannot be reached with comes back there, too.
const requestSuffix = "-request"

// RequestAddress is the address of a list's owners.
func RequestAddress(list string) string {
	local, domain, _ := strings.Cut(list, "@")
	return local + requestSuffix + "@" + domain
}

// ListOfRequest is the list whose owners an address is of; empty where it is no such address.
func ListOfRequest(address string) string {
	local, domain, _ := strings.Cut(address, "@")
	if before, has := strings.CutSuffix(local, requestSuffix); has && before != "" {
		return before + "@" + domain
	}
	return ""
}

// List passes messages on to its members.
type List struct {
	// Address is local@domain.
	Address string
	// Name is what people call it; it may be empty.
	Name    string
	Posting Posting
	// Moderated lists have what others send wait until an owner has read it; the others refuse it.
	Moderated bool
	// Footer is put below each message; {leave} in it is where a member leaves the list.
	Footer string
}

// Verdict is what becomes of a message to a list.
type Verdict string

// What becomes of a message to a list.
const (
	PassOn Verdict = "pass_on"
	// HoldPost has it wait for an owner.
	HoldPost   Verdict = "hold"
	RefusePost Verdict = "refuse"
	// IgnorePost drops what no person has written to the list: failures and replies of programs.
	IgnorePost Verdict = "ignore"
)

// Decide says what becomes of a message to the list, from its envelope's sender and its header. Is
// reports whether an address, in lower case, is a member, and whether it is an owner. Spam, of
// which nobody knows who has sent it, is passed on to nobody unread.
//
// A From that is forged looks like its owner's: where that matters, a list is moderated.
func (l List) Decide(sender string, header textproto.MIMEHeader, spam bool,
	is func(address string) (member, owner bool, err error)) (Verdict, error) {
	if auto := strings.ToLower(strings.TrimSpace(header.Get("Auto-Submitted"))); sender == "" ||
		auto != "" && auto != "no" {
		return IgnorePost, nil
	}
	otherwise := RefusePost
	if l.Moderated {
		otherwise = HoldPost
	}
	author, err := mail.ParseAddress(header.Get("From"))
	if err != nil || spam {
		return otherwise, nil
	}
	if l.Posting == AnyonePosts {
		return PassOn, nil
	}
	member, owner, err := is(strings.ToLower(author.Address))
	switch {
	case err != nil:
		return "", err
	case owner, member && l.Posting == MembersPost:
		return PassOn, nil
	}
	return otherwise, nil
}

// What servers answer when they take a message and do not pass it on, to the members of a list or
// from a mailbox that has stored it; logs have it.
const (
	HeldAnswer    = "it waits for an owner of the list"
	IgnoredAnswer = "no person has written it, so it is left aside"
	SpamAnswer    = "spam is not passed on"
)

// IsKept reports whether a server's answer is one of those.
func IsKept(reply string) bool {
	return strings.Contains(reply, HeldAnswer) || strings.Contains(reply, IgnoredAnswer) ||
		strings.Contains(reply, SpamAnswer)
}

// LeaveCode lets a member leave a list, and nobody else: it is told to the member alone. Joined is
// when the member joined, so that the code of one who left and came back is another.
func LeaveCode(key []byte, list, member string, joined int64) string {
	return code(key, "leave", list, member, strconv.FormatInt(joined, 10))
}

// ApprovalCode lets a message through that an owner has approved.
func ApprovalCode(key []byte, list, post string) string { return code(key, "approve", list, post) }

func code(key []byte, parts ...string) string {
	sum := hmac.New(sha256.New, key)
	for _, p := range parts {
		sum.Write([]byte(p + "\x00"))
	}
	return strings.ToLower(returnLetters.EncodeToString(sum.Sum(nil)[:15]))
}

// ListRequest is what a message to a list's owners asks the server itself for, by its subject:
// “leave CODE”, “approve POST” or “drop POST”. Mail programs put words such as Re: before it.
type ListRequest struct {
	Do   string // leave, approve, drop
	Code string
}

var requestForm = regexp.MustCompile(`(?i)(?:^|[\s\[])(leave|approve|drop) ([a-z0-9]{16,32})(?:$|[\s\]])`)

// ParseListRequest reads the subject of a message to a list's owners; ok is false where it is for
// them.
func ParseListRequest(subject string) (r ListRequest, ok bool) {
	found := requestForm.FindStringSubmatch(subject)
	if found == nil {
		return r, false
	}
	return ListRequest{Do: strings.ToLower(found[1]), Code: strings.ToLower(found[2])}, true
}

// HeldPost is a message that waits for an owner of its list.
type HeldPost struct {
	// Name is secret: who knows it may have the message sent on.
	Name    string    `json:"name"`
	List    string    `json:"list"`
	From    string    `json:"from"`
	Subject string    `json:"subject"`
	Size    int64     `json:"size"`
	At      time.Time `json:"at"`
}

// Copy is a message as one member gets it.
type Copy struct {
	List List
	// Own reports whether the account of the list may send as an address: others' names are put
	// into words, as their servers have not allowed ours to send for them (RFC 7489).
	Own func(address string) bool
	// Leave is where the member leaves by a click (RFC 8058); empty where there is no such place.
	Leave string
	// LeaveCode is the code for leaving by a message.
	LeaveCode string
}

// dropped are fields that say something of the message as it came, or that would have members tell
// a stranger that they have read it.
var dropped = []string{"return-path", "dkim-signature", "disposition-notification-to", "return-receipt-to",
	"x-confirm-reading-to", "precedence", "authentication-results"}

// From is the address that the copy names as its author.
func (c Copy) From(header []HeaderField) string {
	author, err := mail.ParseAddress(valueOf(header, "From"))
	if err != nil || !c.Own(strings.ToLower(author.Address)) {
		return c.List.Address
	}
	return strings.ToLower(author.Address)
}

// Header is the header of the copy, without what describes its body.
func (c Copy) Header(header []HeaderField) []HeaderField {
	out := []HeaderField{{"Delivered-To", c.List.Address}}
	from := valueOf(header, "From")
	author, err := mail.ParseAddress(from)
	via := err != nil || !c.Own(strings.ToLower(author.Address))
	for _, h := range header {
		name := strings.ToLower(h.Name)
		switch {
		case slices.Contains(dropped, name), strings.HasPrefix(name, "list-"), strings.HasPrefix(name, "arc-"),
			strings.HasPrefix(name, "content-"), name == "mime-version":
			continue
		case via && (name == "from" || name == "sender"):
			continue
		}
		out = append(out, h)
	}
	if via {
		out = append(out, HeaderField{"From", c.via(author)})
		if author != nil && valueOf(header, "Reply-To") == "" {
			out = append(out, HeaderField{"Reply-To", author.String()})
		}
	}
	return append(out, c.listFields()...)
}

// via is the author of a message that somebody else has sent to the list.
func (c Copy) via(author *mail.Address) string {
	name := c.title()
	if author != nil {
		who := author.Name
		if who == "" {
			who, _, _ = strings.Cut(author.Address, "@")
		}
		name = who + " (" + name + ")"
	}
	return (&mail.Address{Name: name, Address: c.List.Address}).String()
}

func (c Copy) title() string {
	if c.List.Name != "" {
		return c.List.Name
	}
	local, _, _ := strings.Cut(c.List.Address, "@")
	return local
}

// listFields say what list it is, and how to leave it (RFC 2369, RFC 2919, RFC 8058).
func (c Copy) listFields() []HeaderField {
	request := RequestAddress(c.List.Address)
	id := strings.Replace(c.List.Address, "@", ".", 1)
	if c.List.Name != "" {
		id = mime.QEncoding.Encode("utf-8", c.List.Name) + " <" + id + ">"
	} else {
		id = "<" + id + ">"
	}
	leave := "<mailto:" + request + "?subject=leave%20" + c.LeaveCode + ">"
	if c.Leave != "" {
		leave = "<" + c.Leave + ">, " + leave
	}
	fields := []HeaderField{{"List-Id", id}, {"List-Owner", "<mailto:" + request + ">"}, {"List-Unsubscribe", leave}}
	if c.Leave != "" {
		fields = append(fields, HeaderField{"List-Unsubscribe-Post", "List-Unsubscribe=One-Click"})
	}
	post := "<mailto:" + c.List.Address + ">"
	if c.List.Posting == OwnersPost {
		post = "NO"
	}
	return append(fields, HeaderField{"List-Post", post}, HeaderField{"Precedence", "list"})
}

// Body writes the body with the footer, and returns the fields that describe it.
func (c Copy) Body(header []HeaderField, body []byte) ([]HeaderField, []byte, error) {
	var content []HeaderField
	for _, h := range header {
		if name := strings.ToLower(h.Name); strings.HasPrefix(name, "content-") {
			content = append(content, h)
		}
	}
	mimeVersion := HeaderField{"MIME-Version", "1.0"}
	if c.List.Footer == "" {
		return append(content, mimeVersion), body, nil
	}
	leave := c.Leave
	if leave == "" {
		leave = "mailto:" + RequestAddress(c.List.Address) + "?subject=leave%20" + c.LeaveCode
	}
	footer := strings.ReplaceAll(c.List.Footer, "{leave}", leave)
	footer = strings.ReplaceAll(strings.ReplaceAll(footer, "\r\n", "\n"), "\n", "\r\n") + "\r\n"
	if text, is := plainText(content, body); is {
		if text != "" && !strings.HasSuffix(text, "\n") {
			text += "\r\n"
		}
		encoded, err := quoted(text + "\r\n" + footer)
		return append(plainFields(), mimeVersion), encoded, err
	}
	sum := sha256.Sum256(append([]byte(c.List.Address), body...))
	boundary := "list-" + base64.RawURLEncoding.EncodeToString(sum[:18])
	encoded, err := quoted(footer)
	if err != nil {
		return nil, nil, err
	}
	var out bytes.Buffer
	out.WriteString("--" + boundary + "\r\n" + fieldText(content) + "\r\n")
	out.Write(body)
	fmt.Fprintf(&out, "\r\n--%s\r\n%s\r\n%s\r\n--%[1]s--\r\n", boundary,
		fieldText(append(plainFields(), HeaderField{"Content-Disposition", "inline"})), encoded)
	return []HeaderField{{"Content-Type", `multipart/mixed; boundary="` + boundary + `"`}, mimeVersion}, out.Bytes(), nil
}

func plainFields() []HeaderField {
	return []HeaderField{{"Content-Type", "text/plain; charset=utf-8"}, {"Content-Transfer-Encoding",
		"quoted-printable"}}
}

func quoted(text string) ([]byte, error) {
	var out bytes.Buffer
	w := quotedprintable.NewWriter(&out)
	if _, err := io.WriteString(w, text); err != nil {
		return nil, err
	}
	err := w.Close()
	return out.Bytes(), err
}

// plainText is the text of a body that is nothing else, in UTF-8.
func plainText(content []HeaderField, body []byte) (string, bool) {
	kind, values, err := mime.ParseMediaType(valueOf(content, "Content-Type"))
	if valueOf(content, "Content-Type") == "" {
		kind, err = "text/plain", nil
	}
	charset := strings.ToLower(values["charset"])
	if err != nil || kind != "text/plain" || !slices.Contains([]string{"", "us-ascii", "utf-8"}, charset) ||
		values["format"] != "" || strings.HasPrefix(strings.ToLower(valueOf(content, "Content-Disposition")),
		"attachment") {
		return "", false
	}
	var in io.Reader = bytes.NewReader(body)
	switch strings.ToLower(strings.TrimSpace(valueOf(content, "Content-Transfer-Encoding"))) {
	case "", "7bit", "8bit":
	case "quoted-printable":
		in = quotedprintable.NewReader(in)
	case "base64":
		in = base64.NewDecoder(base64.StdEncoding, in)
	default:
		return "", false
	}
	text, err := io.ReadAll(in)
	if err != nil || !isText(text) {
		return "", false
	}
	return string(text), true
}

func isText(text []byte) bool {
	return string(text) == strings.ToValidUTF8(string(text), "�") && !bytes.ContainsRune(text, 0)
}

// FitsList reports whether a message of a size in bytes may be passed on to a number of members:
// each copy lies in the server's queue.
func FitsList(size int64, members int) bool {
	return size <= LargestListText && size*int64(members) <= largestListCopies
}

// valueOf is the value of the first field of a name on one line; empty where there is none.
func valueOf(header []HeaderField, name string) string {
	for _, h := range header {
		if strings.EqualFold(h.Name, name) {
			return strings.NewReplacer("\r\n", "", "\n", "").Replace(h.Value)
		}
	}
	return ""
}

func fieldText(header []HeaderField) string {
	text := ""
	for _, h := range header {
		text += h.Name + ": " + h.Value + "\r\n"
	}
	return text
}
