package internal

import (
	"encoding/json"
	"flag"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var addTexts = flag.Bool("texts", false,
	"add texts to the languages that lack them, and drop what is not said any more")

// said tells which argument of a function is a text, in English.
var said = map[string]int{
	"language.New": 0, "language.Say": 1, "language.Errorf": 0, "language.Plain": 0,
	"refusal.New": 1, "refusal.Input": 1, "refusal.Wrong": 1, "refusal.Decision": 2,
	"Say": 0, "Note": 0, "Summarize": 0, "MissingFeature": 1, "NotFound": 0, "CheckName": 0,
	// closures and small functions of packages, which hand the text on
	"say": 0, "refuse": 0, "correct": 0, "fatal": 0, "note": 0, "warn": 1, "wrong": 1, "problem": 1,
	"drift": 1, "differs": 0,
}

// tables are variables whose texts are said: in maps all values, in lists those of these fields.
var tables = []string{"titles", "featureTitles", "counts", "kinds", "AllLimits", "All", "Reasons", "parameterSentences",
	"skipped", "words", "steps", "fieldTitles"}

var tableFields = []string{"Title", "About", "Group", "Means", "title", "one", "many"}

// Every text that people read is in each language, with the same values; none is there that nobody
// says. What only operators read may be missing.
func TestTexts(t *testing.T) {
	texts := map[string]bool{} // whether a customer or a reseller may read it
	for _, dir := range []string{"hosting", "service", "httpapi", "render", "agent", "mailflow"} {
		require.NoError(t, filepath.WalkDir(dir, func(path string, entry fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
			if err != nil {
				return err
			}
			for text := range textsIn(file) {
				texts[text] = texts[text] || !forOperators(path)
			}
			return nil
		}))
	}
	files, err := filepath.Glob("hosting/language/texts/*.json")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, name := range files {
		data, err := os.ReadFile(name)
		require.NoError(t, err)
		var catalogue map[string]any
		require.NoError(t, json.Unmarshal(data, &catalogue))
		if *addTexts {
			for text, needed := range texts {
				if _, there := catalogue[text]; !there && needed {
					catalogue[text] = ""
				}
			}
			for text := range catalogue {
				if _, used := texts[text]; !used {
					delete(catalogue, text)
				}
			}
			var out strings.Builder
			encoder := json.NewEncoder(&out)
			encoder.SetEscapeHTML(false)
			encoder.SetIndent("", "  ")
			require.NoError(t, encoder.Encode(catalogue))
			require.NoError(t, os.WriteFile(name, []byte(out.String()), 0o644))
		}
		var missing []string
		for text, needed := range texts {
			if translated, there := catalogue[text]; !there || translated == "" {
				if needed {
					missing = append(missing, text)
				}
			} else {
				for _, form := range formsOf(translated) {
					assert.Equal(t, valuesIn(text), valuesIn(form), "%s: %q has other values", name, text)
				}
			}
		}
		slices.Sort(missing)
		assert.Empty(t, missing, "%s lacks these; go test ./internal -run Texts -texts adds them, to be translated",
			name)
		for text := range catalogue {
			assert.True(t, slices.Contains(slices.Collect(maps.Keys(texts)), text), "%s: nobody says %q", name, text)
		}
	}
}

// forOperators reports whether what is said in a file is for operators alone.
func forOperators(path string) bool {
	return slices.ContainsFunc([]string{"service/fleet/", "service/settings/", "service/certs/authorities.go",
		"service/dns/nameservers.go"}, func(part string) bool { return strings.Contains(filepath.ToSlash(path), part) })
}

// textsIn finds the texts of a file.
func textsIn(file *ast.File) map[string]bool {
	texts := map[string]bool{}
	add := func(e ast.Expr) {
		if text, is := constant(e); is && strings.ContainsFunc(text, isLetter) && !verbsOnly(text) {
			texts[text] = true
		}
	}
	ast.Inspect(file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.CallExpr:
			if at, is := textArgument(n, file.Name.Name); is && at < len(n.Args) {
				add(n.Args[at])
			}
		case *ast.ValueSpec:
			for i, name := range n.Names {
				if i < len(n.Values) && slices.Contains(tables, name.Name) {
					inTable(n.Values[i], add)
				}
			}
		case *ast.AssignStmt:
			if s, is := n.Lhs[0].(*ast.SelectorExpr); is && strings.HasPrefix(s.Sel.Name, "Msg") {
				add(n.Rhs[0])
			}
		}
		return true
	})
	return texts
}

func textArgument(call *ast.CallExpr, in string) (int, bool) {
	switch f := call.Fun.(type) {
	case *ast.Ident:
		if at, is := said[in+"."+f.Name]; is {
			return at, true
		}
		at, is := said[f.Name]
		return at, is
	case *ast.SelectorExpr:
		if x, is := f.X.(*ast.Ident); is {
			if at, is := said[x.Name+"."+f.Sel.Name]; is {
				return at, true
			}
		}
		at, is := said[f.Sel.Name]
		return at, is
	}
	return 0, false
}

// inTable adds the texts of a composite literal.
func inTable(e ast.Expr, add func(ast.Expr)) {
	literal, is := e.(*ast.CompositeLit)
	if !is {
		return
	}
	_, isMap := literal.Type.(*ast.MapType)
	for _, element := range literal.Elts {
		pair, is := element.(*ast.KeyValueExpr)
		switch {
		case !is:
			if _, nested := element.(*ast.CompositeLit); nested {
				inTable(element, add)
			} else if text, is := constant(element); is && strings.ContainsAny(text, " ABCDEFGHIJKLMNOPQRSTUVWXYZ") {
				add(element) // others are identifiers
			}
		case isMap:
			add(pair.Value)
			inTable(pair.Value, add)
		default:
			if key, is := pair.Key.(*ast.Ident); is && slices.Contains(tableFields, key.Name) {
				add(pair.Value)
			}
			inTable(pair.Value, add)
		}
	}
}

// constant is the value of a string literal, or of several that are added up.
func constant(e ast.Expr) (string, bool) {
	switch e := e.(type) {
	case *ast.BasicLit:
		if e.Kind == token.STRING {
			text, err := strconv.Unquote(e.Value)
			return text, err == nil
		}
	case *ast.BinaryExpr:
		left, is := constant(e.X)
		right, too := constant(e.Y)
		return left + right, is && too
	}
	return "", false
}

func isLetter(r rune) bool { return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' }

var verb = regexp.MustCompile(`%(\[\d\])?[-+# 0-9.]*[a-zA-Z]`)

func verbsOnly(text string) bool {
	return !strings.ContainsFunc(verb.ReplaceAllString(text, ""), isLetter)
}

// valuesIn lists the verbs of a format by the argument that each takes.
func valuesIn(format string) []string {
	list := []string{}
	next := 1
	for _, v := range verb.FindAllString(strings.ReplaceAll(format, "%%", ""), -1) {
		at := next
		if v[1] == '[' {
			at = int(v[2] - '0')
		}
		next = at + 1
		list = append(list, strconv.Itoa(at)+v[len(v)-1:])
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// formsOf are the forms of a text: one, or one for each category of plurals.
func formsOf(translated any) []string {
	switch t := translated.(type) {
	case string:
		return []string{t}
	case map[string]any:
		var forms []string
		for _, form := range t {
			forms = append(forms, form.(string))
		}
		return forms
	}
	return nil
}
