package api

import "time"

// Database is a database of an account.
type Database struct {
	Name      string `json:"name"`
	Engine    string `json:"engine" enum:"mariadb,postgresql"`
	Charset   string `json:"charset" doc:"Character set, such as utf8mb4; of PostgreSQL, the encoding."`
	Collation string `json:"collation" doc:"How texts are sorted; of PostgreSQL, the language (BCP 47), und for none, or C."`
	Size      *int64 `json:"size" doc:"On disk, in bytes; null while it has not been measured."`
	Growth    string `json:"growth" enum:",stopped,closed" doc:"Stopped: the account's databases are over their limit, rows can be read and deleted. Closed: they grew all the same, and nobody connects."`

	Server  string           `json:"server" doc:"Where it is."`
	Users   []DatabaseAccess `json:"users" doc:"Who may do what with it."`
	Connect []ConnectionLine `json:"connect" doc:"Ready lines that connect with it from the account's sites; PASSWORD stands in the password's place."`
	AddedAt time.Time        `json:"added_at"`
	Version int64            `json:"version" doc:"Counts changes; the ETag."`
}

// ConnectionLine is a ready line that connects with a database.
type ConnectionLine struct {
	Title string `json:"title" doc:"What it is for."`
	Text  string `json:"text"`
}

// DatabaseAccess is what a user may do with a database.
type DatabaseAccess struct {
	User  string `json:"user"`
	Level string `json:"level" enum:"read,write,all" doc:"Read: rows. Write: change rows, too. All: change tables, too."`
}

// DatabaseUser signs in to databases.
type DatabaseUser struct {
	Name     string          `json:"name"`
	Engine   string          `json:"engine" enum:"mariadb,postgresql"`
	Password bool            `json:"password" doc:"Whether it has one; without, nobody signs in."`
	Hosts    []string        `json:"hosts" doc:"Networks that it may connect from with TLS, beside the account's sites."`
	Levels   []DatabaseLevel `json:"levels"`
	AddedAt  time.Time       `json:"added_at"`
	Version  int64           `json:"version" doc:"Counts changes; the ETag."`
}

// DatabaseLevel is what a user may do with a database.
type DatabaseLevel struct {
	Database string `json:"database"`
	Level    string `json:"level" enum:"read,write,all"`
}

// DatabaseEngine is where an account's databases of an engine are.
type DatabaseEngine struct {
	Engine string `json:"engine" enum:"mariadb,postgresql"`
	Title  string `json:"title"`
	Server string `json:"server"`
	// Placement is for operators.
	Placement string   `json:"placement,omitempty" doc:"Why it is there; for operators."`
	Host      string   `json:"host" doc:"What sites of the account write as the host."`
	Socket    string   `json:"socket,omitempty" doc:"What they write as the socket instead; empty where the databases are on another server than the sites."`
	Addresses []string `json:"addresses" doc:"Where to connect to from elsewhere, with TLS, as far as the user may."`
	Port      int      `json:"port"`
}

// DatabaseList is all databases of an account and their users.
type DatabaseList struct {
	Databases []Database       `json:"databases"`
	Users     []DatabaseUser   `json:"users"`
	Engines   []DatabaseEngine `json:"engines" doc:"Where they are."`
	Used      int64            `json:"used" doc:"What all of them hold, in bytes."`
	Limit     *int64           `json:"limit" doc:"What they may hold together, in bytes; null is unlimited."`
}

// NewDatabase describes a database to be added.
type NewDatabase struct {
	Name      string `json:"name" minLength:"1" maxLength:"64" doc:"What follows the account's sign-in name and an underscore: lower-case letters, digits and underscores."`
	Engine    string `json:"engine,omitempty" enum:"mariadb,postgresql" doc:"The usual one is mariadb."`
	Charset   string `json:"charset,omitempty" maxLength:"32"`
	Collation string `json:"collation,omitempty" maxLength:"64"`
	Server    string `json:"server,omitempty" maxLength:"64" doc:"For operators, and the first database of the engine; chosen otherwise."`

	User     string `json:"user,omitempty" maxLength:"64" doc:"A user that may do everything with it: a new one, or one that is there."`
	Password string `json:"password,omitempty" maxLength:"128" doc:"Of a new user."`
}

// DatabaseChange changes a database; what is absent stays.
type DatabaseChange struct {
	Charset   *string `json:"charset,omitempty" maxLength:"32" doc:"Of MariaDB; for tables that are made from then on."`
	Collation *string `json:"collation,omitempty" maxLength:"64" doc:"Of MariaDB; for tables that are made from then on."`
}

// DatabaseChanged is a database that was added or changed.
type DatabaseChanged struct {
	Database  Database `json:"database"`
	Operation int64    `json:"operation"`
	Version   int64    `json:"version"`
}

// NewDatabaseUser describes a user to be added.
type NewDatabaseUser struct {
	Name     string          `json:"name" minLength:"1" maxLength:"64" doc:"What follows the account's sign-in name and an underscore."`
	Engine   string          `json:"engine,omitempty" enum:"mariadb,postgresql" doc:"That of its databases where it has any; else mariadb."`
	Password string          `json:"password,omitempty" maxLength:"128"`
	Hosts    []string        `json:"hosts,omitempty" maxItems:"20" doc:"Addresses and networks that it may connect from, beside the account's sites: none at first."`
	Levels   []DatabaseLevel `json:"levels,omitempty" maxItems:"500"`
}

// DatabaseUserChange changes a user; what is absent stays.
type DatabaseUserChange struct {
	Password *string         `json:"password,omitempty" maxLength:"128" doc:"Empty takes the password away."`
	Hosts    *[]string       `json:"hosts,omitempty" maxItems:"20"`
	Levels   []DatabaseLevel `json:"levels,omitempty" maxItems:"500" doc:"What it may do from now on; others stay."`
	Remove   []string        `json:"remove,omitempty" maxItems:"500" doc:"Databases that it may do nothing with from now on."`
}

// DatabaseUserChanged is a user that was added or changed.
type DatabaseUserChanged struct {
	User      DatabaseUser `json:"user"`
	Operation int64        `json:"operation"`
	Version   int64        `json:"version"`
}

// DatabasePage is a part of the databases of all accounts, the biggest first.
type DatabasePage struct {
	Databases []PlacedDatabase `json:"databases"`
	Next      string           `json:"next,omitempty" doc:"The cursor of the next page; absent on the last one."`
}

// PlacedDatabase is a database in a list of all.
type PlacedDatabase struct {
	Name         string    `json:"name"`
	Engine       string    `json:"engine" enum:"mariadb,postgresql"`
	Size         *int64    `json:"size" doc:"On disk, in bytes; null while it has not been measured."`
	Growth       string    `json:"growth" enum:",stopped,closed" doc:"As of a database of an account."`
	Account      string    `json:"account" doc:"The account's sign-in name."`
	AccountState string    `json:"account_state"`
	Customer     string    `json:"customer"`
	Server       string    `json:"server" doc:"Where it is; empty for those who are no operators."`
	AddedAt      time.Time `json:"added_at"`
}

// EngineList is the engines of all servers that keep databases.
type EngineList struct {
	Engines []Engine `json:"engines"`
}

// Engine is MariaDB or PostgreSQL on a server, with what accounts have in it.
type Engine struct {
	Server     string     `json:"server"`
	Engine     string     `json:"engine" enum:"mariadb,postgresql"`
	Title      string     `json:"title"`
	Version    string     `json:"version" doc:"Empty where it is not installed."`
	Running    bool       `json:"running" doc:"As the server said last."`
	Reachable  bool       `json:"reachable" doc:"Whether the server answers."`
	Accounts   int64      `json:"accounts"`
	Databases  int64      `json:"databases"`
	Size       int64      `json:"size" doc:"Of all databases, in bytes, as measured last."`
	MeasuredAt *time.Time `json:"measured_at" doc:"When sizes were measured last; null where they have not been."`
	MeasuredIn float64    `json:"measured_in" doc:"How long that took, in seconds."`
	Measured   int        `json:"measured" doc:"Of how many databases."`
	Limited    int64      `json:"limited" doc:"How many accounts are over their limit here."`
}
