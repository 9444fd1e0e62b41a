package demo

import (
	"context"
	"fmt"

	"victualler/internal/client"
)

// scripts are what some customers have on their sites: one that computes, and one that needs more
// memory than its plan has, so that there is something to see of what runs.
var scripts = []struct{ account, file, content string }{
	{"news1", "sites/ternislandnews.example/today.php",
		`<?php for ($n = 0; $n < 400000; $n++) $x = md5("$n"); echo "<h1>The Tern Island Log</h1>", date("l");`},
	{"northquaybakery", "sites/northquay-bakery.example/thumbnails.php",
		`<?php echo "made of ", shell_exec("head -c 700M /dev/zero | tail -c 600M | wc -c");`},
}

// Runner runs a command on a server.
type Runner func(ctx context.Context, server string, argv ...string) (string, error)

// Visit puts scripts into homes and has visitors come to them; others write to the island, and its
// sites to others.
func Visit(ctx context.Context, c *client.Client, run Runner) error {
	for _, s := range scripts {
		path := "/home/" + s.account + "/" + s.file
		for _, server := range []string{"skua", "fulmar"} {
			if _, err := run(ctx, server, "test", "-d", "/home/"+s.account); err != nil {
				continue // it is on another one
			}
			out, err := run(ctx, server, "sh", "-ec", `printf %s "$1" > "$2"; chown "$3": "$2"
				host=$(basename "$(dirname "$2")"); page=$(basename "$2")
				for n in 1 2 3; do curl -s -m 20 -o /dev/null -H "Host: $host" "http://127.0.0.1/$page" & done; wait`,
				"sh", s.content, path, s.account)
			if err != nil {
				return fmt.Errorf("visitors of %s: %w: %s", s.account, err, out)
			}
		}
	}
	if err := fill(ctx, c, run); err != nil {
		return err
	}
	if err := correspond(ctx, c, run); err != nil {
		return err
	}
	return notify(ctx, run)
}
