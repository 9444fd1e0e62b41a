package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"

	"victualler/internal/api"
	"victualler/internal/client"
	"victualler/internal/hosting/nearest"
	"victualler/internal/hosting/refusal"
)

// largestFile is how large a file of accounts to be opened may be.
const largestFile = 64 << 20

// opening is one line of such a file.
type opening struct {
	line int
	body api.OpenAccount
}

// openFromFile opens an account for each line of a file. Usual is what lines leave out.
func (c *call) openFromFile(ctx context.Context, file string, usual api.OpenAccount) error {
	for _, name := range []string{"sign-in-name", "key"} {
		if c.value(name) != "" {
			return usageError{fmt.Sprintf("--%s is for one account; with --file, each line has its own", name)}
		}
	}
	if c.on("password-stdin") {
		return usageError{"with --file, no password can be given; have a link mailed with --activation link"}
	}
	text, err := c.readInput(ctx, file)
	if err != nil {
		return err
	}
	openings, err := readOpenings(file, text, usual)
	if err != nil {
		return err
	}
	if c.previews() {
		return c.previewOpenings(ctx, openings)
	}
	if c.term.asks() {
		if err := c.confirm(ctx, fmt.Sprintf("Open %s? “--preview” shows what would be done.",
			counted(len(openings), "account"))); err != nil {
			return err
		}
	}
	b := newBoard(c)
	var results []one
	// Whoever adds a customer comes first, so that others find them.
	for _, adds := range []bool{true, false} {
		var tasks []task
		for _, o := range openings {
			if o.body.NewCustomer == adds {
				tasks = append(tasks, task{o.body.Domain, func(ctx context.Context) (any, int64, error) {
					return c.openOnce(ctx, o)
				}})
			}
		}
		results = append(results, c.runSideBySide(ctx, tasks, b)...)
	}
	return c.sumUp(results)
}

// openOnce opens an account, unless that was done before: then its operation is looked at again, or
// the account is there already, for the same customer and on the same plan.
func (c *call) openOnce(ctx context.Context, o opening) (any, int64, error) {
	text, err := json.Marshal(o.body)
	if err != nil {
		return nil, 0, err
	}
	digest := sha256.Sum256(text)
	var opened api.Opening
	err = c.client.Do(ctx, client.Call{Method: http.MethodPost, Path: "/accounts", Body: o.body,
		Key: "open-" + hex.EncodeToString(digest[:16])}, &opened)
	var problem *api.Problem
	if errors.As(err, &problem) && kindOf(problem) == refusal.DomainTaken {
		var a api.AccountDetail
		if c.client.Get(ctx, accountPath(o.body.Domain), nil, &a) == nil && a.Plan == o.body.Plan &&
			strings.EqualFold(a.Customer, o.body.Customer) {
			return a.Account, 0, nil
		}
	}
	if err != nil {
		return nil, 0, err
	}
	return opened, opened.Operation, nil
}

// previewOpenings says of each line what it would do. A customer whom an earlier line adds is not
// there yet for a later one, in a preview.
func (c *call) previewOpenings(ctx context.Context, openings []opening) error {
	var items []one
	var errs []error
	added := map[string]bool{}
	for _, o := range openings {
		who := strings.ToLower(o.body.Reseller + "/" + o.body.Customer)
		body := o.body
		body.NewCustomer = body.NewCustomer || added[who]
		p, err := c.askPreview(ctx, http.MethodPost, "/accounts", body, "")
		if ctx.Err() != nil {
			return errInterrupted
		}
		item := one{Account: o.body.Domain, Result: p}
		if err != nil {
			item.Result, item.Problem = nil, problemOf(err)
			errs = append(errs, err)
			c.say("line %d: %s would fail: %s", o.line, o.body.Domain, sentence(err))
		} else {
			added[who] = true
			c.say("line %d: would %s", o.line, p.Summary)
			for _, note := range p.Notes {
				c.say("  note: %s", note)
			}
		}
		items = append(items, item)
	}
	c.say("nothing was done; %d of %s would be opened", len(openings)-len(errs), counted(len(openings), "account"))
	if c.format() == "json" {
		if err := c.json(listOf[one]{items, false}); err != nil {
			return err
		}
	}
	if len(errs) > 0 {
		return severalFailed{errs, len(openings)}
	}
	return nil
}

// readOpenings reads CSV or JSON lines. All mistakes are told at once, with their lines.
func readOpenings(file string, text []byte, usual api.OpenAccount) ([]opening, error) {
	var all []opening
	var mistakes []string
	wrong := func(line int, format string, args ...any) {
		mistakes = append(mistakes, fmt.Sprintf("line %d: ", line)+fmt.Sprintf(format, args...))
	}
	read := readCSVLines
	if strings.HasPrefix(strings.TrimSpace(string(text)), "{") {
		read = readJSONLines
	}
	seen, added := map[string]int{}, map[string]bool{}
	err := read(text, func(line int, document []byte, err error) {
		o := opening{line, usual}
		if err == nil {
			err = decodeOpening(document, &o.body)
		}
		switch {
		case err != nil:
			wrong(line, "%v", err)
		case o.body.Domain == "":
			wrong(line, "there is no domain")
		case o.body.Plan == "":
			wrong(line, "there is no plan; give it in the line or with --plan")
		case o.body.Customer == "":
			wrong(line, "there is no customer; give it in the line or with --customer")
		case seen[strings.ToLower(o.body.Domain)] > 0:
			wrong(line, "%s is in line %d already", o.body.Domain, seen[strings.ToLower(o.body.Domain)])
		default:
			seen[strings.ToLower(o.body.Domain)] = line
			if who := strings.ToLower(o.body.Reseller + "/" + o.body.Customer); o.body.NewCustomer {
				o.body.NewCustomer = !added[who] // once is enough
				added[who] = true
			}
			all = append(all, o)
		}
	})
	if err != nil {
		return nil, usageError{file + ": " + err.Error()}
	}
	const told = 10
	if more := len(mistakes) - told; more > 0 {
		mistakes = append(mistakes[:told], fmt.Sprintf("and %d more", more))
	}
	if len(mistakes) > 0 {
		return nil, usageError{file + ": " + strings.Join(mistakes, "; ") + "; nothing was done"}
	}
	if len(all) == 0 {
		return nil, usageError{file + " has no lines; nothing was done"}
	}
	return all, nil
}

// openingFields are those of the API that a line can have.
var openingFields = []string{"domain", "plan", "customer", "new_customer", "customer_email", "language", "reseller",
	"sign_in_name", "server", "activation", "read_only"}

func decodeOpening(document []byte, body *api.OpenAccount) error {
	var fields map[string]json.RawMessage
	if err := json.Unmarshal(document, &fields); err != nil {
		return errors.New("this is no JSON object")
	}
	for name := range fields {
		if !slices.Contains(openingFields, name) {
			return unknownField(name)
		}
	}
	if err := json.Unmarshal(document, body); err != nil {
		return errors.New(decodeMessage(err))
	}
	return nil
}

// decodeMessage says in our words why a JSON document cannot be read.
func decodeMessage(err error) string {
	var kind *json.UnmarshalTypeError
	if errors.As(err, &kind) {
		return fmt.Sprintf("%s is a %s here and should be a %s", kind.Field, kind.Value,
			kindWord(kind.Type.Kind().String()))
	}
	if field, is := strings.CutPrefix(err.Error(), "json: unknown field "); is {
		return "there is no field " + field
	}
	return "this is no JSON object"
}

func kindWord(kind string) string {
	if kind == "bool" {
		return "true or false"
	}
	return kind
}

func unknownField(name string) error {
	return fmt.Errorf("there is no field %q; there are %s%s", name, strings.Join(openingFields, ", "),
		nearest.Hint(name, openingFields))
}

func readJSONLines(text []byte, line func(n int, document []byte, err error)) error {
	for n, document := range bytes.Split(text, []byte("\n")) {
		if len(bytes.TrimSpace(document)) > 0 {
			line(n+1, document, nil)
		}
	}
	return nil
}

// readCSVLines reads CSV (RFC 4180) whose first line names the fields; what is empty is left out.
func readCSVLines(text []byte, line func(n int, document []byte, err error)) error {
	r := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))))
	r.TrimLeadingSpace = true
	names, err := r.Read()
	if err == io.EOF {
		return errors.New("it is empty")
	}
	if err != nil {
		return csvError(err)
	}
	for i, name := range names {
		names[i] = heading{title: strings.TrimSpace(name)}.key()
		if !slices.Contains(openingFields, names[i]) {
			return fmt.Errorf("the first line names the fields: %w", unknownField(name))
		}
	}
	for {
		cells, err := r.Read()
		if err == io.EOF {
			return nil
		}
		if err != nil && !errors.Is(err, csv.ErrFieldCount) {
			return csvError(err)
		}
		n, _ := r.FieldPos(0)
		if err != nil {
			line(n, nil, fmt.Errorf("it has %d fields, and the first line %d", len(cells), len(names)))
			continue
		}
		fields := map[string]any{}
		for i, cell := range cells {
			cell = strings.TrimSpace(cell)
			switch name := names[i]; {
			case cell == "":
			case name != "new_customer" && name != "read_only":
				fields[name] = cell
			case slices.Contains([]string{"yes", "true"}, strings.ToLower(cell)):
				fields[name] = true
			case !slices.Contains([]string{"no", "false"}, strings.ToLower(cell)):
				err = fmt.Errorf("%s is yes or no, not %q", name, cell)
			}
		}
		document, failed := json.Marshal(fields)
		line(n, document, errors.Join(err, failed))
	}
}

func csvError(err error) error {
	var wrong *csv.ParseError
	if errors.As(err, &wrong) {
		return fmt.Errorf("line %d is no CSV: %w", wrong.Line, wrong.Err)
	}
	return err
}

// readFile reads a file that was named. Its errors are for people.
func readFile(path string) ([]byte, error) {
	text, err := os.ReadFile(path)
	var failed *os.PathError
	if errors.As(err, &failed) {
		err = usageError{fmt.Sprintf("%s cannot be read: %v", path, failed.Err)}
	}
	return text, err
}

// readInput reads a file, or standard input where its path is -.
func (c *call) readInput(ctx context.Context, path string) ([]byte, error) {
	if path == "-" {
		return c.term.rest(ctx, largestFile)
	}
	return readFile(path)
}

// textOf reads a file that a flag names; empty for none.
func textOf(path string) (string, error) {
	if path == "" {
		return "", nil
	}
	text, err := readFile(path)
	return string(text), err
}
