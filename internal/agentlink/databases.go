package agentlink

import (
	"time"

	"victualler/internal/hosting/databases"
	"victualler/internal/hosting/databases/dumps"
)

// DatabaseVisit is work with a database in the name of one of its users.
type DatabaseVisit struct {
	Account  int64            `json:"account"`
	Engine   databases.Engine `json:"engine"`
	Database string           `json:"database"`
	User     string           `json:"user"`
}

// What can be asked about a database.
const (
	// AskTables asks which tables and views there are.
	AskTables = "tables"
	// AskStructure asks for the columns and indexes of one.
	AskStructure = "structure"
	// AskRows asks for a page of its rows.
	AskRows = "rows"
	// AskStatement has a statement executed.
	AskStatement = "statement"
	// AskRunning asks what is being executed.
	AskRunning = "running"
	// AskSlow asks what was slow within the last day.
	AskSlow = "slow"
	// AskStop has one of these stopped.
	AskStop = "stop"
)

// DatabaseQuestion is one question about a database.
type DatabaseQuestion struct {
	DatabaseVisit
	Ask string `json:"ask"`
	// Table is which one, as [DatabaseTable.Name] has it.
	Table string `json:"table,omitempty"`
	// Statement is SQL.
	Statement string `json:"statement,omitempty"`
	// Offset is how many rows are left out at the beginning of a page, Limit how many there are at
	// most.
	Offset int64 `json:"offset,omitempty"`
	Limit  int   `json:"limit,omitempty"`
	// Longest is how long a statement may take.
	Longest time.Duration `json:"longest,omitempty"`
	// ID is of what is to be stopped.
	ID int64 `json:"id,omitempty"`
}

// DatabaseAnswer is the answer; which members are there depends on the question.
type DatabaseAnswer struct {
	// Refused is what the engine says of a statement that it has not executed.
	Refused   string             `json:"refused,omitempty"`
	Tables    []DatabaseTable    `json:"tables,omitempty"`
	Structure *TableStructure    `json:"structure,omitempty"`
	Result    *StatementResult   `json:"result,omitempty"`
	Running   []RunningStatement `json:"running,omitempty"`
	// Slow are those first that took most of the database's time.
	Slow []databases.SlowStatement `json:"slow,omitempty"`
}

// DatabaseTable is a table or view.
type DatabaseTable struct {
	// Name is with the schema before it and a dot in PostgreSQL.
	Name string `json:"name"`
	View bool   `json:"view"`
	// Rows is about how many; nil is not known. Size is in bytes, with indexes.
	Rows *int64 `json:"rows"`
	Size int64  `json:"size"`
}

// TableStructure is what a table is made of.
type TableStructure struct {
	Columns []TableColumn `json:"columns"`
	Indexes []TableIndex  `json:"indexes"`
}

// TableColumn is one column of a table.
type TableColumn struct {
	Name    string  `json:"name"`
	Type    string  `json:"type"`
	Null    bool    `json:"null"`
	Default *string `json:"default"`
}

// TableIndex is one index of a table.
type TableIndex struct {
	Name    string   `json:"name"`
	Columns []string `json:"columns"`
	Unique  bool     `json:"unique"`
	Primary bool     `json:"primary"`
}

// StatementResult is what a statement has led to.
type StatementResult struct {
	// Columns are names; empty where the statement returns no rows.
	Columns []string `json:"columns"`
	// Rows are values as texts; nil is null. What is no text is in hexadecimal digits with \x
	// before them; what is longer than [LongestValue] is cut, with an ellipsis behind it.
	Rows [][]*string `json:"rows"`
	// More says that there are more rows.
	More bool `json:"more"`
	// Affected is how many rows were changed.
	Affected int64         `json:"affected"`
	Took     time.Duration `json:"took"`
}

// RunningStatement is one that is being executed.
type RunningStatement struct {
	ID        int64         `json:"id"`
	User      string        `json:"user"`
	For       time.Duration `json:"for"`
	State     string        `json:"state"`
	Statement string        `json:"statement"`
}

const (
	// MostRows is how many rows an answer has at most, LongestAnswer about how many bytes.
	MostRows      = 1000
	LongestAnswer = 4 << 20
	// LongestValue is how many characters of a value are shown.
	LongestValue = 4096
	// LargestFile is how large a file may be that is imported, as it is sent, in bytes.
	LargestFile = 10 << 30
)

// DatabaseExport asks for the contents of a database as statements, of one moment.
type DatabaseExport struct {
	DatabaseVisit
	// Tables are those that are wanted; none is all.
	Tables []string `json:"tables,omitempty"`
	// Compression is "gzip", "zstd", or empty.
	Compression string `json:"compression,omitempty"`
}

// NewImport says what is to be imported: a file that is going to be sent, or another database.
type NewImport struct {
	DatabaseVisit
	// Name is what the file is called, for people to see.
	Name string `json:"name,omitempty"`
	// Size is how large it is as it is sent, in bytes.
	Size int64 `json:"size,omitempty"`
	// Home is the file in the account's home that the service sends; nil is one that people send.
	Home *FileState `json:"home,omitempty"`
	// Copy is the database that is copied; nil is a file.
	Copy *DatabaseVisit `json:"copy,omitempty"`
	// CSV is for a file of rows; nil is one of statements.
	CSV *CSVImport `json:"csv,omitempty"`
}

// ImportOrder names an import of an account, and says what is to be done with it.
type ImportOrder struct {
	Account int64  `json:"account"`
	ID      string `json:"id"`
	Do      string `json:"do"`
	// Mend has statements mended that have one meaning here ([dumps.Mend]); without, what is not
	// allowed is refused by the engine. It is for [ImportStart].
	Mend bool `json:"mend,omitempty"`
	// Empty has everything dropped first that is in the database. It is for [ImportStart].
	Empty bool `json:"empty,omitempty"`
	// Failure is why the file does not come. It is for [ImportGiveUp].
	Failure string `json:"failure,omitempty"`
}

// What can be done with an import.
const (
	// ImportLook says what is in the file.
	ImportLook = "look"
	// ImportStart has it executed.
	ImportStart = "start"
	// ImportStop stops it; what has been executed stays.
	ImportStop = "stop"
	// ImportForget removes the file and what is known of it.
	ImportForget = "forget"
	// ImportGiveUp says that the file does not come, and why.
	ImportGiveUp = "give up"
)

// What an import is.
const (
	// ImportWaits for the rest of the file, or to be started.
	ImportWaits = "waiting"
	// ImportRuns now.
	ImportRuns = "running"
	// ImportDone says that all of it was executed.
	ImportDone = "done"
	// ImportFailed says that it ended before the end of the file.
	ImportFailed = "failed"
)

// Import is an import as the agent knows it.
type Import struct {
	NewImport
	ID string `json:"id"`
	// Received is how much of the file is there, in bytes.
	Received int64          `json:"received"`
	State    string         `json:"state"`
	Mend     bool           `json:"mend"`
	Empty    bool           `json:"empty,omitempty"`
	Progress ImportProgress `json:"progress"`
	AddedAt  time.Time      `json:"added_at"`
	BegunAt  time.Time      `json:"begun_at,omitzero"`
	EndedAt  time.Time      `json:"ended_at,omitzero"`
}

// SavedName is what the import is called that a database was saved as.
const SavedName = "before an update"

// ImportAnswer is what an order leads to.
type ImportAnswer struct {
	Import   Import          `json:"import"`
	Contents *dumps.Contents `json:"contents,omitempty"`
}

// ImportsOf asks for the imports into databases of an account, the newest first.
type ImportsOf struct {
	Account int64 `json:"account"`
}

// ImportList is the answer.
type ImportList struct {
	Imports []Import `json:"imports"`
}

// CSVImport says how a file of rows is read (RFC 4180).
type CSVImport struct {
	Table string `json:"table"`
	// Separator stands between values; one byte.
	Separator string `json:"separator"`
	// Header says that the first line has the names of columns.
	Header bool `json:"header"`
}

// ImportProgress is how far an import has come.
type ImportProgress struct {
	// Taken is how many bytes of the file have been taken; Size how much it is without compression,
	// so far.
	Taken int64 `json:"taken"`
	Size  int64 `json:"size"`
	// Line is the one that was reached.
	Line int64 `json:"line"`
	// Statements is how many have been executed, Rows how many rows of CSV were added.
	Statements int64 `json:"statements"`
	Rows       int64 `json:"rows"`
	// Mended is how many statements were mended, by what was found.
	Mended map[dumps.Finding]int64 `json:"mended,omitempty"`
	// Failure is why it has ended before the end of the file; Statement what it ended at.
	Failure   string `json:"failure,omitempty"`
	Statement string `json:"statement,omitempty"`
}
