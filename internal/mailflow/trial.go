package mailflow

import (
	"bufio"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"path/filepath"

	"victualler/internal/mailflow/definition"
)

// Trial is a policy service with tables of its own in a directory, to be measured: the holder of
// anna@boats.example may send to as many recipients as said.
func Trial(dir string, most int) (serve func(net.Listener) error, stop func() error, err error) {
	path := filepath.Join(dir, "flow.db")
	rows, err := sql.Open("sqlite", "file:"+path)
	if err != nil {
		return nil, nil, err
	}
	_, err = rows.ExecContext(context.Background(), definition.Schema+fmt.Sprintf(`;
		insert into accounts (name, hourly, bounce_share, silent, account) values ('boats', %d, -1, 0, 7);
		insert into mailboxes (address, hourly, account) values ('anna@boats.example', %[1]d, 7)`, most))
	if err = errors.Join(err, rows.Close()); err != nil {
		return nil, nil, err
	}
	tables, err := OpenTables(path)
	if err != nil {
		return nil, nil, err
	}
	tally, err := OpenTally(filepath.Join(dir, "sent"), Hour)
	if err != nil {
		return nil, nil, errors.Join(err, tables.Close())
	}
	f := &Flow{Tables: tables, Tally: tally, Log: slog.New(slog.DiscardHandler)}
	return f.ServePolicy, func() error { return errors.Join(tables.Close(), tally.Close()) }, nil
}

// DecideNothing is a policy service that lets everything through.
func DecideNothing(l net.Listener) error {
	return serve(l, func(conn net.Conn) error {
		in := bufio.NewReader(conn)
		request := map[string]string{}
		for {
			if err := readRequest(in, request); err != nil {
				return err
			}
			if _, err := io.WriteString(conn, "action="+proceed+"\n\n"); err != nil {
				return err
			}
		}
	})
}
