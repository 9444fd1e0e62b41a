package mail

import (
	"errors"
	"fmt"
	"net/mail"
	"strings"
)

// SenderFields are the fields of a message that say who sends it (RFC 5322, sections 3.6.2 and
// 3.6.6).
var SenderFields = []string{"From", "Sender", "Resent-From", "Resent-Sender"}

// CheckSender refuses a message whose fields name a sender who is somebody else. Fields are the
// values of those of [SenderFields] that it has, by name; mayUse reports whether an address, in
// lower case and without what follows a plus, belongs to whoever sends it. The address of the first
// author is returned.
func CheckSender(fields map[string][]string, mayUse func(address string) (bool, error)) (string, error) {
	if n := len(fields["From"]); n != 1 {
		return "", fmt.Errorf("a message has one field From, this one has %d (RFC 5322, section 3.6)", n)
	}
	first := ""
	for _, name := range SenderFields {
		for _, value := range fields[name] {
			list, err := mail.ParseAddressList(value)
			if err != nil {
				return "", fmt.Errorf("the field %s cannot be read", name)
			}
			for _, a := range list {
				address := WithoutDetail(a.Address)
				if first == "" {
					first = address
				}
				switch may, err := mayUse(address); {
				case err != nil:
					return "", err
				case !may:
					return "", &ForeignSender{Field: name, Address: a.Address}
				}
			}
		}
	}
	if first == "" {
		return "", errors.New("the field From names nobody")
	}
	return first, nil
}

// ForeignSender says that a message names somebody else as its sender.
type ForeignSender struct{ Field, Address string }

func (e *ForeignSender) Error() string {
	return fmt.Sprintf("%s: %s is not an address of yours", e.Field, e.Address)
}

// WithoutDetail is an address in lower case, without what follows a plus in its local part.
func WithoutDetail(address string) string {
	local, domain, _ := strings.Cut(strings.ToLower(address), "@")
	if before, _, has := strings.Cut(local, Separator); has && before != "" {
		local = before
	}
	return local + "@" + domain
}
