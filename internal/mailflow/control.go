package mailflow

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"time"

	"victualler/internal/mailflow/definition"
)

// ServeControl answers the agent until the listener is closed, one question on each connection.
func (f *Flow) ServeControl(l net.Listener) error {
	return serve(l, func(conn net.Conn) error {
		if err := conn.SetDeadline(time.Now().Add(time.Minute)); err != nil {
			return err
		}
		var asked definition.Control
		if err := json.NewDecoder(io.LimitReader(conn, 1<<16)).Decode(&asked); err != nil {
			return err
		}
		return json.NewEncoder(conn).Encode(f.control(asked))
	})
}

func (f *Flow) control(asked definition.Control) (told definition.Controlled) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	var err error
	switch asked.Do {
	case "left":
		told.Left = f.Leaves()
		_, err = f.HeldPosts(ctx, "") // those of lists that are gone go, too
	case "held":
		told.Held, err = f.HeldPosts(ctx, asked.List)
	case "approve":
		err = f.Approve(ctx, asked.List, asked.Post)
	case "drop":
		err = f.Drop(asked.List, asked.Post)
	default:
		err = fmt.Errorf("nobody knows how to %q", asked.Do)
	}
	if told.Gone = errors.Is(err, fs.ErrNotExist); err != nil && !told.Gone {
		told.Error = err.Error()
	}
	return told
}
