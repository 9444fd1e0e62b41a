package mail

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"time"

	"victualler/internal/agentlink"
	"victualler/internal/mailflow/definition"
)

// controlPatience is how long victualler-mail may take to answer.
const controlPatience = time.Minute

// control asks victualler-mail.
func control(ctx context.Context, asked definition.Control) (told definition.Controlled, err error) {
	conn, err := new(net.Dialer).DialContext(ctx, "unix", definition.ControlSocket)
	if err != nil {
		return told, err
	}
	defer conn.Close()
	if err := conn.SetDeadline(time.Now().Add(controlPatience)); err != nil {
		return told, err
	}
	if err := json.NewEncoder(conn).Encode(asked); err != nil {
		return told, err
	}
	if err := json.NewDecoder(conn).Decode(&told); err != nil {
		return told, err
	}
	if told.Error != "" {
		return told, errors.New(told.Error)
	}
	return told, nil
}

// left are the members who have left lists by a message; none while nobody can be asked.
func left(ctx context.Context) []agentlink.ListLeave {
	told, err := control(ctx, definition.Control{Do: "left"})
	if err != nil {
		return nil
	}
	var list []agentlink.ListLeave
	for _, one := range told.Left {
		list = append(list, agentlink.ListLeave(one))
	}
	return list
}

// ListPosts implements agent.Mailer.
func (m *Mailer) ListPosts(ctx context.Context, asked agentlink.ListPosts) (agentlink.HeldPosts, error) {
	out := agentlink.HeldPosts{}
	if asked.Do != "" {
		told, err := control(ctx, definition.Control{Do: asked.Do, List: asked.List, Post: asked.Post})
		if err != nil {
			return out, err
		}
		out.Gone = told.Gone
	}
	told, err := control(ctx, definition.Control{Do: "held", List: asked.List})
	out.Posts = told.Held
	return out, err
}
