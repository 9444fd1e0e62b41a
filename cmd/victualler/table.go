package main

import (
	"cmp"
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"golang.org/x/text/width"

	"victualler/internal/hosting/nearest"
	"victualler/internal/hosting/plans"
)

// grid is what a table shows. Cells are strings, int, int64, bool, byteCount, time.Time,
// time.Duration, amount, []string, or nil where nothing is known; each of them has a form for
// people and one for programs.
type grid struct {
	columns []heading
	rows    [][]any
}

// heading is that of a column.
type heading struct {
	// title is in capitals, as people read it.
	title string
	// minor columns give way where the terminal is narrow, those with
	// the highest number first; 0 stays.
	minor int
}

// key is how a column is called in CSV, in --columns and in --sort.
func (h heading) key() string {
	return strings.ToLower(strings.NewReplacer(" ", "_", "-", "_").Replace(h.title))
}

type (
	// byteCount is a size.
	byteCount int64
	// amount is a limit, or what is used of it, in its unit; nil is unlimited.
	amount struct {
		value *int64
		unit  plans.Unit
	}
)

// sizeOf is a size that may not be known.
func sizeOf(n *int64) any {
	if n == nil {
		return nil
	}
	return byteCount(*n)
}

// timeOf is a time that may not be known.
func timeOf(t *time.Time) any {
	if t == nil {
		return nil
	}
	return *t
}

// forPeople writes a cell as people read it.
func forPeople(cell any) string {
	switch v := cell.(type) {
	case nil:
		return "-"
	case bool:
		return yes(v)
	case byteCount:
		return plans.FormatSize(int64(v))
	case amount:
		if v.value == nil {
			return plans.Unlimited.Format(v.unit).String()
		}
		return plans.Of(*v.value).Format(v.unit).String()
	case time.Time:
		return local(v)
	case time.Duration:
		return seconds(v)
	case []string:
		return visible(strings.Join(v, " "))
	}
	return visible(fmt.Sprint(cell))
}

// visible writes characters that a terminal would obey, or that change the direction of a text, as
// numbers: much of what is shown was written by customers, or by whoever sends them messages.
func visible(text string) string {
	obeyed := func(r rune) bool {
		return unicode.IsControl(r) && r != '\n' && r != '\t' || unicode.Is(unicode.Bidi_Control, r)
	}
	if strings.IndexFunc(text, obeyed) < 0 {
		return text
	}
	var out strings.Builder
	for _, r := range text {
		if obeyed(r) {
			fmt.Fprintf(&out, "\\u%04x", r)
		} else {
			out.WriteRune(r)
		}
	}
	return out.String()
}

// forPrograms writes a cell as programs read it: sizes in bytes, times in UTC (RFC 3339), durations
// in seconds, nothing for what is not known or has no bound.
func forPrograms(cell any) string {
	switch v := cell.(type) {
	case nil:
		return ""
	case bool:
		return strconv.FormatBool(v)
	case byteCount:
		return strconv.FormatInt(int64(v), 10)
	case amount:
		if v.value == nil {
			return ""
		}
		return strconv.FormatInt(*v.value, 10)
	case time.Time:
		return v.UTC().Format(time.RFC3339)
	case time.Duration:
		return strconv.FormatFloat(v.Seconds(), 'f', -1, 64)
	}
	return forPeople(cell)
}

// isFigure reports whether a cell is aligned to the right.
func isFigure(cell any) bool {
	switch cell.(type) {
	case int, int64, byteCount, amount, time.Duration:
		return true
	}
	return false
}

// compareCells orders cells of one column. What is not known comes first, what has no bound last.
func compareCells(a, b any) int {
	if a == nil || b == nil {
		return cmp.Compare(boundless(a), boundless(b))
	}
	switch a := a.(type) {
	case int:
		return cmp.Compare(a, b.(int))
	case int64:
		return cmp.Compare(a, b.(int64))
	case byteCount:
		return cmp.Compare(a, b.(byteCount))
	case time.Duration:
		return cmp.Compare(a, b.(time.Duration))
	case time.Time:
		return a.Compare(b.(time.Time))
	case amount:
		b := b.(amount)
		if a.value == nil || b.value == nil {
			return cmp.Compare(boundless(a), boundless(b))
		}
		return cmp.Compare(*a.value, *b.value)
	}
	return strings.Compare(strings.ToLower(forPeople(a)), strings.ToLower(forPeople(b)))
}

// boundless is 0 for what is not known, 2 for a limit without a bound, and 1 for all between them.
func boundless(cell any) int {
	switch v := cell.(type) {
	case nil:
		return 0
	case amount:
		if v.value == nil {
			return 2
		}
	}
	return 1
}

// sortBy sorts rows by columns, such as "disk" and "-opened". Order tells of each row where it was.
func (g *grid) sortBy(keys []string) (order []int, err error) {
	type by struct {
		column  int
		reverse bool
	}
	var columns []by
	for _, key := range keys {
		name, reverse := strings.CutPrefix(key, "-")
		column, err := g.column("sort", name)
		if err != nil {
			return nil, err
		}
		columns = append(columns, by{column, reverse})
	}
	for n := range g.rows {
		order = append(order, n)
	}
	slices.SortStableFunc(order, func(a, b int) int {
		for _, by := range columns {
			if n := compareCells(g.rows[a][by.column], g.rows[b][by.column]); n != 0 {
				if by.reverse {
					return -n
				}
				return n
			}
		}
		return 0
	})
	sorted := make([][]any, len(order))
	for to, from := range order {
		sorted[to] = g.rows[from]
	}
	g.rows = sorted
	return order, nil
}

// pick leaves only some columns, in the order in which they are named.
func (g *grid) pick(keys []string) error {
	var picked []int
	var columns []heading
	for _, key := range keys {
		column, err := g.column("columns", key)
		if err != nil {
			return err
		}
		picked = append(picked, column)
		columns = append(columns, heading{title: g.columns[column].title}) // asked for, so it stays
	}
	g.keep(picked)
	g.columns = columns
	return nil
}

func (g *grid) column(flag, key string) (int, error) {
	key = heading{title: key}.key()
	n := slices.IndexFunc(g.columns, func(h heading) bool { return h.key() == key })
	if n < 0 {
		var keys []string
		for _, h := range g.columns {
			keys = append(keys, h.key())
		}
		return 0, usageError{fmt.Sprintf("--%s: there is no column %q; there are %s%s", flag, key,
			strings.Join(keys, ", "), nearest.Hint(key, keys))}
	}
	return n, nil
}

// keep leaves only the columns of some numbers.
func (g *grid) keep(numbers []int) {
	columns := make([]heading, len(numbers))
	for i, n := range numbers {
		columns[i] = g.columns[n]
	}
	g.columns = columns
	for r, row := range g.rows {
		cells := make([]any, len(numbers))
		for i, n := range numbers {
			cells[i] = row[n]
		}
		g.rows[r] = cells
	}
}

// writeCSV writes what programs read (RFC 4180, with line feeds).
func (g *grid) writeCSV(out io.Writer) error {
	w := csv.NewWriter(out)
	keys := make([]string, len(g.columns))
	for i, h := range g.columns {
		keys[i] = h.key()
	}
	if err := w.Write(keys); err != nil {
		return err
	}
	for _, row := range g.rows {
		cells := make([]string, len(row))
		for i, cell := range row {
			cells[i] = forPrograms(cell)
		}
		if err := w.Write(cells); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

// narrowest is how narrow the last column may become before the line is left to be too long.
const narrowest = 20

// write writes what people read. Where there is no terminal, columns is 0,
// and the cells of a line have tabs between them. On a terminal, nothing is
// cut: if a line does not fit, minor columns are left out, whose titles are
// returned, and then the last column is wrapped. Wide keeps all as it is.
func (g *grid) write(out io.Writer, columns int, wide bool) (left []string) {
	if columns == 0 {
		g.writeTabs(out)
		return nil
	}
	texts := g.texts()
	widths := g.widths(texts)
	for !wide && lineWidth(widths) > columns {
		n := mostMinor(g.columns)
		if n < 0 {
			break
		}
		left = append(left, g.columns[n].title)
		var others []int
		for i := range g.columns {
			if i != n {
				others = append(others, i)
			}
		}
		g.keep(others)
		texts = g.texts()
		widths = g.widths(texts)
	}
	if !wide {
		g.shrink(widths, texts, columns)
	}
	for _, row := range texts {
		g.writeLine(out, row, widths)
	}
	slices.Reverse(left)
	return left
}

// texts are all cells in words, and the titles before them.
func (g *grid) texts() [][]string {
	titles := make([]string, len(g.columns))
	for i, h := range g.columns {
		titles[i] = h.title
	}
	texts := [][]string{titles}
	for _, row := range g.rows {
		cells := make([]string, len(row))
		for i, cell := range row {
			cells[i] = strings.ReplaceAll(forPeople(cell), "\n", " ")
		}
		texts = append(texts, cells)
	}
	return texts
}

func (g *grid) widths(texts [][]string) []int {
	widths := make([]int, len(g.columns))
	for _, row := range texts {
		for i, cell := range row {
			widths[i] = max(widths[i], displayWidth(cell))
		}
	}
	return widths
}

// figures reports whether all cells of a column are figures.
func (g *grid) figures(column int) bool {
	any := false
	for _, row := range g.rows {
		switch cell := row[column]; {
		case isFigure(cell):
			any = true
		case cell != nil && cell != "":
			return false
		}
	}
	return any
}

// shrink makes columns narrower in which words can be wrapped, until a line fits: the last one, and
// then the widest. None becomes narrower than its longest word.
func (g *grid) shrink(widths []int, texts [][]string, columns int) {
	last := len(widths) - 1
	widest := 0
	for i := range widths {
		if !g.figures(i) && (g.figures(widest) || widths[i] > widths[widest]) {
			widest = i
		}
	}
	for _, i := range []int{last, widest} {
		over := lineWidth(widths) - columns
		if over <= 0 || g.figures(i) {
			continue
		}
		least := narrowest
		for _, row := range texts {
			for _, word := range strings.Fields(row[i]) {
				least = max(least, displayWidth(word))
			}
		}
		widths[i] = max(widths[i]-over, min(widths[i], least))
	}
}

func (g *grid) writeLine(out io.Writer, row []string, widths []int) {
	lines := make([][]string, len(row))
	height := 0
	for i, cell := range row {
		lines[i] = wrapWords(cell, widths[i])
		height = max(height, len(lines[i]))
	}
	for n := range height {
		var line strings.Builder
		for i := range row {
			text := ""
			if n < len(lines[i]) {
				text = lines[i][n]
			}
			line.WriteString(pad(text, widths[i], g.figures(i)) + "  ")
		}
		fmt.Fprintln(out, strings.TrimRight(line.String(), " "))
	}
}

func (g *grid) writeTabs(out io.Writer) {
	for _, row := range g.texts() {
		for i, cell := range row {
			row[i] = strings.ReplaceAll(cell, "\t", " ")
		}
		fmt.Fprintln(out, strings.Join(row, "\t"))
	}
}

// mostMinor is the column that gives way first, or -1.
func mostMinor(columns []heading) int {
	most := -1
	for i, h := range columns {
		if h.minor > 0 && (most < 0 || h.minor >= columns[most].minor) {
			most = i
		}
	}
	return most
}

func lineWidth(widths []int) int {
	sum := 2 * (len(widths) - 1)
	for _, w := range widths {
		sum += w
	}
	return sum
}

func pad(text string, columns int, right bool) string {
	space := strings.Repeat(" ", max(columns-displayWidth(text), 0))
	if right {
		return space + text
	}
	return text + space
}

// wrapWords breaks text between words into lines of so many columns; a word that is longer has a
// line of its own.
func wrapWords(text string, columns int) []string {
	if displayWidth(text) <= columns {
		return []string{text}
	}
	var lines []string
	line := ""
	for _, word := range strings.Fields(text) {
		switch {
		case line == "":
			line = word
		case displayWidth(line)+1+displayWidth(word) <= columns:
			line += " " + word
		default:
			lines = append(lines, line)
			line = word
		}
	}
	return append(lines, line)
}

// displayWidth is how many columns a terminal takes for text (Unicode Standard Annex 11).
func displayWidth(text string) int {
	n := 0
	for _, r := range text {
		switch width.LookupRune(r).Kind() {
		case width.EastAsianWide, width.EastAsianFullwidth:
			n += 2
		default:
			if !unicode.In(r, unicode.Mn, unicode.Me, unicode.Cf) { // takes no column of its own
				n++
			}
		}
	}
	return n
}
