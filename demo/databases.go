package demo

import (
	"context"
	"fmt"
	"strings"

	"victualler/internal/api"
	"victualler/internal/client"
)

// databases are those of the island, by account, in the order in which they are added; rows fills
// one, and a second time it leaves nothing to do.
var databases = []struct {
	account string
	api.NewDatabase
	rows string
}{
	{"coop", api.NewDatabase{Name: "members", User: "members"},
		"CREATE TABLE IF NOT EXISTS members (id int PRIMARY KEY, name varchar(80), joined date); " +
			"INSERT IGNORE INTO members SELECT seq, concat('Member ', seq), date_add('2019-03-01', INTERVAL seq DAY) " +
			"FROM seq_1_to_4000"},
	{"coop", api.NewDatabase{Name: "ledger", Engine: "postgresql", User: "ledger_app"},
		"CREATE TABLE IF NOT EXISTS entries (id int PRIMARY KEY, day date, amount numeric(10, 2)); " +
			"INSERT INTO entries SELECT n, date '2026-01-01' + n % 330, (n * 37 % 9000) / 100.0 " +
			"FROM generate_series(1, 1200) n ON CONFLICT DO NOTHING"},
	{"trust", api.NewDatabase{Name: "visits", User: "visits"},
		"CREATE TABLE IF NOT EXISTS visits (id int PRIMARY KEY, day date, people int); " +
			"INSERT IGNORE INTO visits SELECT seq, date_add('2024-01-01', INTERVAL seq DAY), seq % 40 FROM " +
			"seq_1_to_900"},
	// On another server than the site, where that one keeps no databases.
	{"guillemot", api.NewDatabase{Name: "articles", User: "articles", Collation: "utf8mb4_german2_ci"},
		"CREATE TABLE IF NOT EXISTS articles (id int PRIMARY KEY, title varchar(200), text longtext); " +
			"INSERT IGNORE INTO articles SELECT seq, concat('Tide table, week ', seq), repeat('High water. ', 300) " +
			"FROM seq_1_to_600"},
	// More than its plan lets it hold.
	{"northquay-bakery.example", api.NewDatabase{Name: "orders", User: "shop"},
		"CREATE TABLE IF NOT EXISTS orders (id int PRIMARY KEY, customer varchar(80), slip longblob); " +
			"INSERT IGNORE INTO orders SELECT seq, concat('Customer ', seq), random_bytes(1024) FROM seq_1_to_22000"},
}

// databaseUsers are those beside the ones that came with databases.
var databaseUsers = []struct {
	account string
	api.NewDatabaseUser
}{
	{"coop", api.NewDatabaseUser{Name: "reports", Hosts: []string{"198.51.100.7"},
		Levels: []api.DatabaseLevel{{Database: "members", Level: "read"}}}},
}

// store adds the databases of the island, with users whose passwords nobody has: who wants to use
// one gives it another.
func store(ctx context.Context, c *client.Client) error {
	for _, d := range databases {
		var made struct {
			Password string `json:"password"`
		}
		if err := c.Get(ctx, "/generate/password", nil, &made); err != nil {
			return err
		}
		d.Password = made.Password
		if err := ignoreExisting(c.Post(ctx, "/accounts/"+d.account+"/databases", d.NewDatabase, nil)); err != nil {
			return fmt.Errorf("database %s of %s: %w", d.Name, d.account, err)
		}
	}
	for _, u := range databaseUsers {
		if err := ignoreExisting(c.Post(ctx, "/accounts/"+u.account+"/database-users", u.NewDatabaseUser,
			nil)); err != nil {
			return fmt.Errorf("database user %s of %s: %w", u.Name, u.account, err)
		}
	}
	return nil
}

// fill writes rows into the databases, so that they have sizes: as somebody who administers
// MariaDB, and as a user of PostgreSQL.
func fill(ctx context.Context, c *client.Client, run Runner) error {
	for _, d := range databases {
		if d.rows == "" {
			continue
		}
		var list api.DatabaseList
		if err := c.Get(ctx, "/accounts/"+d.account+"/databases", nil, &list); err != nil {
			return err
		}
		for _, one := range list.Databases {
			if !strings.HasSuffix(one.Name, "_"+d.Name) {
				continue
			}
			if one.Engine == "postgresql" {
				for statement := range strings.SplitSeq(d.rows, "; ") {
					if err := c.Post(ctx, "/accounts/"+d.account+"/databases/"+d.Name+"/statements",
						api.NewStatement{Statement: statement}, nil); err != nil {
						return fmt.Errorf("rows of %s: %w", one.Name, err)
					}
				}
				continue
			}
			if out, err := run(ctx, one.Server, "mariadb", one.Name, "--execute", d.rows); err != nil {
				return fmt.Errorf("rows of %s: %w: %s", one.Name, err, out)
			}
		}
	}
	return nil
}
