package main

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"victualler/internal/api"
	"victualler/internal/hosting/plans"
)

// outcome is what an action comes to, for programs.
type outcome struct {
	// answer is what the service said; operation the work that was waited for.
	answer    any
	operation *api.Operation
	// printed says that something else has been printed as the document.
	printed bool
}

// format is the form of output that was asked for: table, json or csv.
func (c *call) format() string {
	if c.stream || c.value("o") == "" {
		return "table"
	}
	return c.value("o")
}

// forPeople reports whether people are to read what is printed.
func (c *call) forPeople() bool { return c.format() == "table" }

// say prints a line for people; programs get a document instead.
func (c *call) say(format string, args ...any) {
	if c.forPeople() {
		fmt.Fprintln(c.out, visible(fmt.Sprintf(format, args...)))
	}
}

// showPassword shows a password that was made here and cannot be looked up again.
func (c *call) showPassword(whose, password string) {
	c.say("%s: %s", whose, password)
	c.outcome.answer = map[string]any{"answer": c.outcome.answer, "password": password}
}

// note says what one should know beside what was asked for.
func (c *call) note(text string) {
	if !c.forPeople() {
		return
	}
	text = visible(text)
	lines := []string{text}
	if columns := c.term.columns(); columns > 0 {
		lines = wrapWords(text, max(columns-len("note: "), narrowest))
	}
	fmt.Fprintln(c.term.err, "note:", strings.Join(lines, "\n      "))
}

// json prints the document of a command.
func (c *call) json(document any) error {
	c.outcome.printed = true
	return writeJSON(c.out, document)
}

func writeJSON(out io.Writer, document any) error {
	encoder := json.NewEncoder(out)
	encoder.SetIndent("", "  ")
	encoder.SetEscapeHTML(false)
	return encoder.Encode(document)
}

// finish prints what an action came to, unless it has printed something itself. In CSV, one that is
// done has nothing to list.
func (c *call) finish() error {
	if c.stream || c.outcome.printed || c.format() != "json" {
		return nil
	}
	return c.json(struct {
		Result    any            `json:"result"`
		Operation *api.Operation `json:"operation"`
	}{c.outcome.answer, c.outcome.operation})
}

// show prints one thing: as a document, as CSV, or as people writes it; without people, as a table.
func (c *call) show(document any, g *grid, people func() error) error {
	switch c.format() {
	case "json":
		return c.json(document)
	case "csv":
		c.outcome.printed = true
		return g.writeCSV(c.out)
	}
	if people != nil {
		return people()
	}
	c.table(g)
	return nil
}

// showFields shows one thing by names and values.
func (c *call) showFields(document any, g *grid) error {
	return c.show(document, g, func() error {
		c.writeFields(g)
		return nil
	})
}

// table writes a table for people.
func (c *call) table(g *grid) { g.write(c.out, c.term.columns(), false) }

// rows makes a table of lines without columns that give way.
func rows(titles string, lines ...[]any) *grid {
	g := &grid{rows: lines}
	for _, title := range strings.Split(titles, "|") {
		g.columns = append(g.columns, heading{title: title})
	}
	return g
}

func (g *grid) add(cells ...any) { g.rows = append(g.rows, cells) }

// pairs makes a table of names and values, of those that have one.
func pairs(namesAndValues ...any) *grid {
	g := rows("WHAT|VALUE")
	for i := 0; i < len(namesAndValues); i += 2 {
		value := namesAndValues[i+1]
		if list, is := value.([]string); value == nil || value == "" || is && len(list) == 0 {
			continue
		}
		g.add(namesAndValues[i], value)
	}
	return g
}

// fields writes names and values below each other; values that are too long go on below their
// beginning.
func (c *call) fields(namesAndValues ...any) { c.writeFields(pairs(namesAndValues...)) }

func (c *call) writeFields(g *grid) {
	columns := c.term.columns()
	longest := 0
	for _, row := range g.rows {
		longest = max(longest, displayWidth(forPeople(row[0])))
	}
	for _, row := range g.rows {
		name, value := forPeople(row[0]), strings.ReplaceAll(forPeople(row[1]), "\n", " ")
		if columns == 0 {
			fmt.Fprintf(c.out, "%s\t%s\n", name, value)
			continue
		}
		for n, line := range wrapWords(value, max(columns-longest-2, narrowest)) {
			if n > 0 {
				name = ""
			}
			fmt.Fprintf(c.out, "%s  %s\n", pad(name, longest, false), line)
		}
	}
}

// paragraph writes text for people, wrapped where there is a terminal.
func (c *call) paragraph(indent, text string) { c.hanging(indent, indent, text) }

// hanging writes text for people whose first line begins in another way than those that follow;
// both beginnings have the same width.
func (c *call) hanging(first, others, text string) {
	lines := []string{text}
	if columns := c.term.columns(); columns > 0 {
		lines = wrapWords(text, max(columns-displayWidth(first), narrowest))
	}
	for n, line := range lines {
		if n > 0 {
			first = others
		}
		fmt.Fprintln(c.out, first+line)
	}
}

func local(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

func when(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return local(*t)
}

// size writes bytes; nil is none known.
func size(bytes *int64) string {
	if bytes == nil {
		return "-"
	}
	return plans.FormatSize(*bytes)
}

// limit writes a limit; nil is unlimited.
func limit(bytes *int64) string {
	if bytes == nil {
		return "unlimited"
	}
	return plans.FormatSize(*bytes)
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}
