package httpapi

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"victualler/internal/api"
	"victualler/internal/hosting/rights"
)

// inTheNameOf is who works with a database.
type inTheNameOf struct {
	User string `query:"user" maxLength:"64" doc:"In whose name; the one who may do the most otherwise."`
}

// ImportPath is how an import is named in a path.
type ImportPath struct {
	AccountPath
	Import string `path:"import" maxLength:"64"`
}

func (a *API) databaseContentRoutes() {
	const tag = "Databases"
	register(a, route{id: "list-tables", method: http.MethodGet,
		path:    "/accounts/{account}/databases/{database}/tables",
		summary: "List the tables of a database", permission: rights.DatabasesContents, tag: tag},
		func(ctx context.Context, in *struct {
			DatabasePath
			inTheNameOf
		}) (*struct{ Body api.DatabaseTables }, error) {
			out, err := a.service.Databases.Tables(ctx, actor(ctx), in.Account, in.Database, in.User)
			return &struct{ Body api.DatabaseTables }{out}, err
		})
	register(a, route{id: "show-table", method: http.MethodGet,
		path:    "/accounts/{account}/databases/{database}/structure",
		summary: "What a table is made of", permission: rights.DatabasesContents, tag: tag},
		func(ctx context.Context, in *struct {
			DatabasePath
			inTheNameOf
			Table string `query:"table" required:"true" maxLength:"200"`
		}) (*struct{ Body api.TableStructure }, error) {
			out, err := a.service.Databases.Structure(ctx, actor(ctx), in.Account, in.Database, in.User, in.Table)
			return &struct{ Body api.TableStructure }{out}, err
		})
	register(a, route{id: "list-rows", method: http.MethodGet, path: "/accounts/{account}/databases/{database}/rows",
		summary: "Some rows of a table", permission: rights.DatabasesContents, tag: tag},
		func(ctx context.Context, in *struct {
			DatabasePath
			inTheNameOf
			Table  string `query:"table" required:"true" maxLength:"200"`
			Offset int64  `query:"offset" minimum:"0" doc:"How many are left out at the beginning."`
			Rows   int    `query:"rows" minimum:"1" maximum:"1000" default:"100"`
		}) (*struct{ Body api.StatementResult }, error) {
			out, err := a.service.Databases.Rows(ctx, actor(ctx), in.Account, in.Database, in.User, in.Table, in.Offset,
				in.Rows)
			return &struct{ Body api.StatementResult }{out}, err
		})
	register(a, route{id: "execute-statement", method: http.MethodPost,
		path:    "/accounts/{account}/databases/{database}/statements",
		summary: "Execute a statement", permission: rights.DatabasesContents, tag: tag,
		description: "One at a time, in the name of a user, within bounds of time and rows. That it was executed is " +
			"recorded, with its beginning."},
		func(ctx context.Context, in *struct {
			DatabasePath
			Body api.NewStatement
		}) (*struct{ Body api.StatementResult }, error) {
			out, err := a.service.Databases.Execute(ctx, actor(ctx), in.Account, in.Database, in.Body)
			return &struct{ Body api.StatementResult }{out}, err
		})
	register(a, route{id: "list-running", method: http.MethodGet,
		path:    "/accounts/{account}/databases/{database}/running",
		summary: "What is being executed in a database", permission: rights.DatabasesContents, tag: tag},
		func(ctx context.Context, in *DatabasePath) (*struct{ Body api.RunningStatements }, error) {
			out, err := a.service.Databases.Running(ctx, actor(ctx), in.Account, in.Database)
			return &struct{ Body api.RunningStatements }{out}, err
		})
	register(a, route{id: "list-slow", method: http.MethodGet, path: "/accounts/{account}/databases/{database}/slow",
		summary: "What was slow in a database within the last day", permission: rights.DatabasesContents, tag: tag,
		description: "Statements that took a second or longer, without their values; those first that took most of " +
			"the database's time."},
		func(ctx context.Context, in *DatabasePath) (*struct{ Body api.SlowStatements }, error) {
			out, err := a.service.Databases.Slow(ctx, actor(ctx), in.Account, in.Database)
			return &struct{ Body api.SlowStatements }{out}, err
		})
	register(a, route{id: "stop-statement", method: http.MethodDelete,
		path:    "/accounts/{account}/databases/{database}/running/{id}",
		summary: "Stop a statement that is being executed", permission: rights.DatabasesContents, tag: tag},
		func(ctx context.Context, in *struct {
			DatabasePath
			ID int64 `path:"id"`
		}) (*struct{}, error) {
			return nil, a.service.Databases.StopStatement(ctx, actor(ctx), in.Account, in.Database, in.ID)
		})
	a.databaseExportRoute(tag)
	a.databaseImportRoutes(tag)
}

func (a *API) databaseExportRoute(tag string) {
	export := route{id: "export-database", method: http.MethodGet,
		path: "/accounts/{account}/databases/{database}/export", summary: "Export a database",
		permission: rights.DatabasesContents, tag: tag,
		description: "Statements of SQL with all of its contents at one moment. An answer that is cut off is not " +
			"whole."}.operation(a.huma.OpenAPI().Components.Schemas)
	export.Responses = map[string]*huma.Response{"200": {Description: "The file",
		Content: map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{Type: huma.TypeString,
			Format: "binary"}}}}}
	huma.Register(a.huma, export, func(ctx context.Context, in *struct {
		DatabasePath
		inTheNameOf
		Tables      []string `query:"tables" maxItems:"200" doc:"Only these; all otherwise."`
		Compression string   `query:"compression" enum:"none,gzip,zstd" default:"gzip"`
	}) (*huma.StreamResponse, error) {
		compression := in.Compression
		if compression == "none" {
			compression = ""
		}
		contents, name, err := a.service.Databases.Export(ctx, actor(ctx), in.Account, in.Database, in.User,
			compression, in.Tables)
		if err != nil {
			return nil, a.toProblem(ctx, err)
		}
		return &huma.StreamResponse{Body: func(hc huma.Context) {
			defer contents.Close()
			hc.SetHeader("Content-Type", "application/octet-stream")
			hc.SetHeader("Content-Disposition", `attachment; filename="`+name+`"`)
			if err := pour(hc.BodyWriter(), contents); err != nil {
				a.log.Warn("export ended early", "database", in.Database, "reason", err)
				panic(http.ErrAbortHandler) // whoever reads learns that it is not whole
			}
		}}, nil
	})
}

// pour writes all of a stream, and gives up on whoever does not read.
func pour(w io.Writer, from io.Reader) error {
	control := http.NewResponseController(w.(http.ResponseWriter)) // which it always is
	defer control.SetWriteDeadline(time.Time{})
	buffer := make([]byte, 256<<10)
	for {
		n, err := from.Read(buffer)
		if n > 0 {
			_ = control.SetWriteDeadline(time.Now().Add(longestRead))
			if _, wrong := w.Write(buffer[:n]); wrong != nil {
				return wrong
			}
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

const (
	// longestPart is how large a part of a file may be that is sent, in bytes, and partTime how
	// long it may take to come.
	longestPart = 4 << 20
	partTime    = 50 * time.Second
)

func (a *API) databaseImportRoutes(tag string) {
	register(a, route{id: "list-imports", method: http.MethodGet, path: "/accounts/{account}/database-imports",
		summary: "List the imports into databases", permission: rights.DatabasesContents, tag: tag},
		func(ctx context.Context, in *AccountPath) (*struct{ Body api.ImportList }, error) {
			out, err := a.service.Databases.Imports(ctx, actor(ctx), in.Account)
			return &struct{ Body api.ImportList }{out}, err
		})
	register(a, route{id: "add-import", method: http.MethodPost,
		path:    "/accounts/{account}/databases/{database}/imports",
		summary: "Prepare an import", permission: rights.DatabasesContents, tag: tag, status: http.StatusCreated,
		description: "Send the file in parts next, and start the import then. A file that is not started is kept " +
			"for a day."},
		func(ctx context.Context, in *struct {
			DatabasePath
			Body api.NewImport
		}) (*struct{ Body api.DatabaseImport }, error) {
			out, err := a.service.Databases.NewImport(ctx, actor(ctx), in.Account, in.Database, in.Body)
			return &struct{ Body api.DatabaseImport }{out}, err
		})
	register(a, route{id: "show-import", method: http.MethodGet, path: "/accounts/{account}/database-imports/{import}",
		summary: "How far an import is", permission: rights.DatabasesContents, tag: tag},
		func(ctx context.Context, in *ImportPath) (*struct{ Body api.DatabaseImport }, error) {
			out, err := a.service.Databases.Import(ctx, actor(ctx), in.Account, in.Import)
			return &struct{ Body api.DatabaseImport }{out}, err
		})
	part := route{id: "continue-import", method: http.MethodPut,
		path:    "/accounts/{account}/database-imports/{import}/file",
		summary: "Send the next part of a file", permission: rights.DatabasesContents, tag: tag,
		description: "The body is at most 4 MiB of the file, behind what has been received. After a failure, ask how " +
			"much that is, and go on there."}.operation(a.huma.OpenAPI().Components.Schemas)
	part.MaxBodyBytes, part.BodyReadTimeout = longestPart+1, partTime // up to it, and not with it
	huma.Register(a.huma, part, func(ctx context.Context, in *struct {
		ImportPath
		Offset  int64  `query:"offset" minimum:"0" doc:"How much of the file comes before this part, in bytes."`
		RawBody []byte `contentType:"application/octet-stream"`
	}) (*struct{ Body api.DatabaseImport }, error) {
		out, err := a.service.Databases.ContinueImport(ctx, actor(ctx), in.Account, in.Import, in.Offset,
			bytes.NewReader(in.RawBody))
		return &struct{ Body api.DatabaseImport }{out}, a.toProblem(ctx, err)
	})
	register(a, route{id: "look-at-import", method: http.MethodGet,
		path:    "/accounts/{account}/database-imports/{import}/contents",
		summary: "What is in the file of an import", permission: rights.DatabasesContents, tag: tag},
		func(ctx context.Context, in *ImportPath) (*struct{ Body api.FileContents }, error) {
			out, err := a.service.Databases.ImportContents(ctx, actor(ctx), in.Account, in.Import)
			return &struct{ Body api.FileContents }{out}, err
		})
	register(a, route{id: "start-import", method: http.MethodPost,
		path:    "/accounts/{account}/database-imports/{import}/start",
		summary: "Start an import", permission: rights.DatabasesContents, tag: tag,
		description: "It goes on by itself; ask for it to see how far it is."},
		func(ctx context.Context, in *struct {
			ImportPath
			Body api.StartImport
		}) (*struct{ Body api.DatabaseImport }, error) {
			out, err := a.service.Databases.StartImport(ctx, actor(ctx), in.Account, in.Import, in.Body)
			return &struct{ Body api.DatabaseImport }{out}, err
		})
	register(a, route{id: "stop-import", method: http.MethodPost,
		path:    "/accounts/{account}/database-imports/{import}/stop",
		summary: "Stop an import; what it has executed stays", permission: rights.DatabasesContents, tag: tag},
		func(ctx context.Context, in *ImportPath) (*struct{ Body api.DatabaseImport }, error) {
			out, err := a.service.Databases.StopImport(ctx, actor(ctx), in.Account, in.Import)
			return &struct{ Body api.DatabaseImport }{out}, err
		})
	register(a, route{id: "remove-import", method: http.MethodDelete,
		path: "/accounts/{account}/database-imports/{import}",
		summary: "Remove the file of an import, and what is known of " +
			"it", permission: rights.DatabasesContents, tag: tag},
		func(ctx context.Context, in *ImportPath) (*struct{}, error) {
			return nil, a.service.Databases.ForgetImport(ctx, actor(ctx), in.Account, in.Import)
		})
}
