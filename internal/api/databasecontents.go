package api

import "time"

// DatabaseTables are the tables of a database, as one of its users sees them.
type DatabaseTables struct {
	User   string          `json:"user" doc:"In whose name the database was looked into."`
	Tables []DatabaseTable `json:"tables"`
}

// DatabaseTable is a table or view.
type DatabaseTable struct {
	Name string `json:"name" doc:"Of PostgreSQL, with the schema and a dot before it."`
	View bool   `json:"view"`
	Rows *int64 `json:"rows" doc:"About how many; null where that is not known."`
	Size int64  `json:"size" doc:"With indexes, in bytes."`
}

// TableStructure is what a table is made of.
type TableStructure struct {
	Columns []TableColumn `json:"columns"`
	Indexes []TableIndex  `json:"indexes"`
}

// TableColumn is one column of a table.
type TableColumn struct {
	Name    string  `json:"name"`
	Type    string  `json:"type" doc:"In the engine's words."`
	Null    bool    `json:"null" doc:"Whether it may be empty."`
	Default *string `json:"default" doc:"An expression; null where there is none."`
}

// TableIndex is one index of a table.
type TableIndex struct {
	Name    string   `json:"name"`
	Columns []string `json:"columns"`
	Unique  bool     `json:"unique"`
	Primary bool     `json:"primary"`
}

// NewStatement is a statement that is to be executed.
type NewStatement struct {
	Statement string `json:"statement" minLength:"1" maxLength:"1000000" doc:"One statement of SQL."`
	User      string `json:"user,omitempty" maxLength:"64" doc:"In whose name; the one who may do the most otherwise."`
	Rows      int    `json:"rows,omitempty" minimum:"1" maximum:"1000" doc:"How many rows are returned at most; 100 otherwise."`
	Seconds   int    `json:"seconds,omitempty" minimum:"1" maximum:"300" doc:"How long it may take; 30 otherwise."`
}

// StatementResult is what came of a statement, or a page of a table's rows.
type StatementResult struct {
	User     string      `json:"user" doc:"In whose name it was executed."`
	Columns  []string    `json:"columns" doc:"Names; none where the statement returns no rows."`
	Rows     [][]*string `json:"rows" doc:"Values as texts, null where there is none. Those that are no text are in hexadecimal digits behind \\x; long ones are cut, with an ellipsis."`
	More     bool        `json:"more" doc:"There are more rows."`
	Affected int64       `json:"affected" doc:"How many rows were changed."`
	Seconds  float64     `json:"seconds" doc:"How long it took."`
}

// RunningStatements is what is being executed in a database.
type RunningStatements struct {
	Running []RunningStatement `json:"running"`
}

// RunningStatement is one that is being executed.
type RunningStatement struct {
	ID        int64   `json:"id"`
	User      string  `json:"user"`
	Seconds   float64 `json:"seconds" doc:"For how long."`
	State     string  `json:"state" doc:"What it is doing or waiting for, in the engine's words."`
	Statement string  `json:"statement" doc:"Its beginning."`
}

// SlowStatements are those of a database that were slow within the last day, those first that took
// most of its time.
type SlowStatements struct {
	Slow []SlowStatement `json:"slow"`
}

// SlowStatement is a kind of statement that took a second or longer.
type SlowStatement struct {
	User      string    `json:"user"`
	Statement string    `json:"statement" doc:"Its beginning, without values: the same for all that differ in nothing else."`
	Count     int       `json:"count" doc:"How often it was slow."`
	Longest   float64   `json:"longest" doc:"In seconds, to half a second."`
	Total     float64   `json:"total" doc:"All of its slow executions together, in seconds."`
	LastAt    time.Time `json:"last_at"`
}

// NewImport describes a file that is going to be sent, or another database, to be imported.
type NewImport struct {
	User     string     `json:"user,omitempty" maxLength:"64" doc:"In whose name; the one who may do the most otherwise."`
	Name     string     `json:"name,omitempty" maxLength:"255" doc:"What the file is called."`
	Size     int64      `json:"size,omitempty" minimum:"0" maximum:"10737418240" doc:"How large the file is, in bytes: as it is, or compressed with gzip or zstd."`
	CopyOf   string     `json:"copy_of,omitempty" maxLength:"64" doc:"Another database of the account and the same engine, instead of a file."`
	HomeFile string     `json:"home_file,omitempty" maxLength:"4096" doc:"Path of a file in the account's home, instead of one that is sent. It is received by itself."`
	CSV      *CSVFormat `json:"csv,omitempty" doc:"For a file of rows; without, it has statements of SQL."`
}

// CSVFormat says how a file of rows is read (RFC 4180).
type CSVFormat struct {
	Table     string `json:"table" minLength:"1" maxLength:"200"`
	Separator string `json:"separator,omitempty" maxLength:"1" doc:"Between values; a comma otherwise."`
	Header    bool   `json:"header" doc:"The first line has the names of the columns."`
}

// DatabaseImport is an import.
type DatabaseImport struct {
	ID       string `json:"id"`
	Database string `json:"database"`
	User     string `json:"user"`
	Name     string `json:"name"`
	CopyOf   string `json:"copy_of"`
	Size     int64  `json:"size" doc:"Of the file, in bytes; 0 for a database."`
	Received int64  `json:"received" doc:"How much of the file is there."`
	FromHome bool   `json:"from_home" doc:"The file comes from the account's home, by itself."`
	State    string `json:"state" enum:"waiting,running,done,failed" doc:"Waiting: for the rest of the file, or to be started."`
	Table    string `json:"table" doc:"Where rows go; empty for statements."`

	Taken      int64          `json:"taken" doc:"How many bytes of the file have been executed."`
	Line       int64          `json:"line" doc:"The one that was reached; with a failure, where that is."`
	Statements int64          `json:"statements" doc:"How many have been executed."`
	Rows       int64          `json:"rows" doc:"How many rows of CSV were added."`
	Mended     []MendedInFile `json:"mended"`
	Failure    string         `json:"failure" doc:"Why it ended before the end of the file. What was executed before that stays."`
	Statement  string         `json:"statement" doc:"The one that failed."`
	AddedAt    time.Time      `json:"added_at"`
	BegunAt    *time.Time     `json:"begun_at"`
	EndedAt    *time.Time     `json:"ended_at"`
}

// MendedInFile is a kind of statement that was mended while it was imported.
type MendedInFile struct {
	What  string `json:"what"`
	Count int64  `json:"count"`
}

// ImportList is the imports into databases of an account, the newest first.
type ImportList struct {
	Imports []DatabaseImport `json:"imports"`
}

// FileContents is what is in a file that is to be imported.
type FileContents struct {
	Engine     string        `json:"engine" enum:",mariadb,postgresql" doc:"Whose tools have written it; empty where that cannot be told."`
	Version    string        `json:"version" doc:"Of the server that it came from."`
	Statements int64         `json:"statements"`
	Size       int64         `json:"size" doc:"Without compression, in bytes."`
	Tables     []string      `json:"tables" doc:"Those that are made."`
	Whole      bool          `json:"whole" doc:"The file was looked at to its end; otherwise, its first GiB."`
	Found      []FoundInFile `json:"found" doc:"What will not be executed as it is."`
}

// FoundInFile is a kind of statement that is not executed here as it is.
type FoundInFile struct {
	What    string `json:"what"`
	Text    string `json:"text" doc:"What it is, and what becomes of it."`
	Mended  bool   `json:"mended" doc:"Whether it can be mended."`
	Line    int64  `json:"line" doc:"Where the first one is."`
	Count   int64  `json:"count"`
	Example string `json:"example"`
}

// StartImport starts an import.
type StartImport struct {
	Mend bool `json:"mend,omitempty" doc:"Mend what has one meaning here, as what is in the file says."`
}
