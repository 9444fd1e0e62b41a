// Package submit is how a program in a sandbox sends mail: it hands the message to victualler-mail,
// over a socket that the sandbox shows. Whose message it is, the kernel tells.
package submit

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"
)

// Dir is the directory of the socket, which sandboxes show.
const Dir = "/run/victualler-mail/sites"

// Socket is where messages are taken.
const Socket = Dir + "/submit"

// Program is the name by which everybody's programs know what sends mail.
const Program = "/usr/sbin/sendmail"

// Request precedes the message, as JSON on a line of its own.
type Request struct {
	// Sender is where failures go to; empty is the author.
	Sender     string   `json:"sender"`
	Recipients []string `json:"recipients"`
	// FromFields says that those named in To, Cc and Bcc are recipients, too.
	FromFields bool `json:"from_fields"`
}

// Answer ends the conversation.
type Answer struct {
	// Exit is what the program ends with, as in sysexits.h; 0 is that the message was taken.
	Exit  int    `json:"exit"`
	Error string `json:"error,omitempty"`
}

// What a program ends with (sysexits.h).
const (
	Usage    = 64 // it was called in a way that is not known
	BadData  = 65 // the message cannot be sent as it is
	NotNow   = 75 // try again later
	Refused  = 77 // the account may not
	Internal = 70
)

// Parse reads the arguments of the command sendmail. Options that ask for what is done anyway, or
// that are of no use here, are ignored.
func Parse(args []string) (Request, error) {
	r := Request{}
	value := func(i *int, rest string) (string, error) {
		if rest != "" {
			return rest, nil
		}
		if *i++; *i >= len(args) {
			return "", errors.New("an option has no value")
		}
		return args[*i], nil
	}
	for i := 0; i < len(args); i++ {
		arg := args[i]
		switch {
		case arg == "--":
			r.Recipients = append(r.Recipients, args[i+1:]...)
			return r, nil
		case !strings.HasPrefix(arg, "-") || arg == "-":
			r.Recipients = append(r.Recipients, arg)
		case arg == "-t":
			r.FromFields = true
		case arg == "-ti" || arg == "-it":
			r.FromFields = true
		case strings.HasPrefix(arg, "-f"), strings.HasPrefix(arg, "-r"):
			sender, err := value(&i, arg[2:])
			if err != nil {
				return r, err
			}
			r.Sender = strings.Trim(sender, "<>")
		case strings.HasPrefix(arg, "-F"), strings.HasPrefix(arg, "-N"), strings.HasPrefix(arg, "-R"):
			if _, err := value(&i, arg[2:]); err != nil {
				return r, err
			}
		case arg == "-bm", strings.HasPrefix(arg, "-B"), strings.HasPrefix(arg, "-o"), arg == "-i", arg == "-n",
			arg == "-m", arg == "-v", arg == "-U":
		default:
			return r, fmt.Errorf("the option %s is not known here; messages are sent with: sendmail -t -i", arg)
		}
	}
	return r, nil
}

// Send hands a message over.
func Send(r Request, message io.Reader) Answer {
	conn, err := net.DialTimeout("unix", Socket, 10*time.Second)
	if err != nil {
		return Answer{NotNow, "mail is not taken just now: " + err.Error()}
	}
	defer conn.Close()
	head, err := json.Marshal(r)
	if err != nil {
		return Answer{Internal, err.Error()}
	}
	// Whoever refuses does not read on; the answer says why.
	_, writeErr := conn.Write(append(head, '\n'))
	if writeErr == nil {
		_, writeErr = io.Copy(conn, message)
	}
	if writeErr == nil {
		writeErr = conn.(*net.UnixConn).CloseWrite()
	}
	var a Answer
	if err := json.NewDecoder(io.LimitReader(conn, 64<<10)).Decode(&a); err != nil {
		return Answer{NotNow, fmt.Sprintf("mail is not taken just now: %v", errors.Join(writeErr, err))}
	}
	return a
}
