package internal_test

import (
	"flag"
	"go/ast"
	"go/token"
	"go/types"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/go/packages"
)

var update = flag.Bool("update", false, "write the refusals and locks of use cases into their comments")

// lockWords are what the functions of usecase/locks.go lock, for comments.
var lockWords = map[string]string{
	"LockDomainName": "the domain's name", "LockSignInName": "the sign-in name", "LockSettings": "the settings",
	"LockPlan": "the plan", "LockTemplate": "the template", "LockTemplateForShare": "the template (shared)",
	"LockReseller": "the reseller", "LockResellerByID": "the reseller", "LockCustomer": "the customer",
	"LockResellerForKeyShare": "the reseller (shared)", "LockCustomerForKeyShare": "the customer (shared)",
	"LockPlanForShare": "the plan (shared)", "LockAccount": "the account", "LockAccountRows": "accounts",
	"LockAccounts": "accounts", "LockAccountsOn": "accounts", "LockSiteCertificate": "the site's certificate",
	"LockAuthority": "the authority", "LockPeople": "operators", "LockPerson": "the person", "LockServer": "the server",
}

// everywhere are refusals that are not said of each use case: any change may meet them.
var everywhere = []string{"KeyReused", "DatabaseUnreachable"}

// reach is what a function does itself, and what it calls.
type reach struct {
	declared        *ast.FuncDecl
	file            *token.File
	pkg             string
	refusals, locks []string
	calls           []string
}

// TestRefusalsAndLocks holds the comments of use cases to what they may come to: which refusals
// they return and what they lock, as far as calls lead that are known before the program runs.
// After a change: go test ./internal -run RefusalsAndLocks -update
func TestRefusalsAndLocks(t *testing.T) {
	if testing.Short() {
		t.Skip("types of the whole service are checked: make test")
	}
	loaded, err := packages.Load(&packages.Config{Dir: "..", Mode: packages.NeedName | packages.NeedFiles |
		packages.NeedSyntax | packages.NeedTypes | packages.NeedTypesInfo | packages.NeedImports | packages.NeedDeps},
		"./internal/service/...", "./internal/hosting/...")
	require.NoError(t, err)
	all := map[string]*reach{}
	for _, p := range loaded {
		require.Empty(t, p.Errors)
		for _, file := range p.Syntax {
			for _, d := range file.Decls {
				if declared, is := d.(*ast.FuncDecl); is && declared.Body != nil {
					name := p.TypesInfo.Defs[declared.Name].(*types.Func).FullName()
					all[name] = reachOf(p.TypesInfo, declared)
					all[name].file, all[name].pkg = p.Fset.File(declared.Pos()), p.PkgPath
				}
			}
		}
	}
	wanted := map[string]map[int][]string{} // by file and line of the declaration
	for name, f := range all {
		if !ast.IsExported(f.declared.Name.Name) || f.declared.Doc == nil || !returnsError(f.declared) ||
			!strings.HasPrefix(f.pkg, "victualler/internal/service/") || strings.HasSuffix(f.pkg, "/servicetest") ||
			f.pkg == "victualler/internal/service/usecase" {
			continue
		}
		refusals, locks := map[string]bool{}, map[string]bool{}
		follow(all, name, map[string]bool{}, refusals, locks)
		want := commentOf(refusals, locks)
		if *update {
			file := f.file.Name()
			if wanted[file] == nil {
				wanted[file] = map[int][]string{}
			}
			wanted[file][f.file.Line(f.declared.Pos())] = want
			continue
		}
		assert.Equal(t, want, saidIn(f.declared.Doc.List), "%s (go test ./internal -run RefusalsAndLocks -update)",
			name)
	}
	for file, lines := range wanted {
		require.NoError(t, rewrite(file, lines))
	}
}

// reachOf reads one function; what is in functions within it counts as its own.
func reachOf(info *types.Info, declared *ast.FuncDecl) *reach {
	f := &reach{declared: declared}
	ast.Inspect(declared.Body, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.CallExpr:
			callee, is := info.Uses[calledName(n.Fun)].(*types.Func)
			if !is || callee.Pkg() == nil {
				return true
			}
			f.calls = append(f.calls, callee.Origin().FullName())
			switch name := callee.Name(); {
			case strings.HasSuffix(callee.Pkg().Path(), "/refusal") && name == "Input":
				f.refusals = append(f.refusals, "InvalidInput")
			case strings.HasSuffix(callee.Pkg().Path(), "/refusal") && name == "New":
				f.refusals = append(f.refusals, kindNamed(n.Args[0])...)
			case strings.HasSuffix(callee.Pkg().Path(), "/usecase") && lockWords[name] != "":
				f.locks = append(f.locks, lockWords[name])
			}
		case *ast.KeyValueExpr:
			if key, is := n.Key.(*ast.Ident); is && key.Name == "Kind" {
				f.refusals = append(f.refusals, kindNamed(n.Value)...)
			}
		}
		return true
	})
	return f
}

// calledName is the name of what is called, whatever it is a part of.
func calledName(fun ast.Expr) *ast.Ident {
	switch fun := fun.(type) {
	case *ast.Ident:
		return fun
	case *ast.SelectorExpr:
		return fun.Sel
	case *ast.IndexExpr:
		return calledName(fun.X)
	case *ast.IndexListExpr:
		return calledName(fun.X)
	}
	return nil
}

// kindNamed is the kind of refusal that an expression such as refusal.NotFound names.
func kindNamed(e ast.Expr) []string {
	if s, is := e.(*ast.SelectorExpr); is {
		if x, is := s.X.(*ast.Ident); is && x.Name == "refusal" {
			return []string{s.Sel.Name}
		}
	}
	return nil
}

func returnsError(f *ast.FuncDecl) bool {
	results := f.Type.Results
	if results == nil {
		return false
	}
	last, is := results.List[len(results.List)-1].Type.(*ast.Ident)
	return is && last.Name == "error"
}

func follow(all map[string]*reach, name string, seen, refusals, locks map[string]bool) {
	f := all[name]
	if f == nil || seen[name] {
		return
	}
	seen[name] = true
	for _, r := range f.refusals {
		refusals[r] = refusals[r] || !slices.Contains(everywhere, r)
	}
	for _, l := range f.locks {
		locks[l] = true
	}
	for _, callee := range f.calls {
		follow(all, callee, seen, refusals, locks)
	}
}

// commentOf is what a comment says of refusals and locks, a line each, or several.
func commentOf(refusals, locks map[string]bool) (lines []string) {
	for _, part := range []struct {
		title string
		set   map[string]bool
	}{{"Refusals", refusals}, {"Locks", locks}} {
		var list []string
		for word, is := range part.set {
			if is {
				list = append(list, word)
			}
		}
		if len(list) == 0 {
			continue
		}
		slices.Sort(list)
		line := "//"
		for _, word := range strings.Fields(part.title + ": " + strings.Join(list, ", ") + ".") {
			if len(line)+1+len(word) > 100 {
				lines = append(lines, line)
				line = "//"
			}
			line += " " + word
		}
		lines = append(lines, line)
	}
	return lines
}

// saidIn is the part of a comment that commentOf makes.
func saidIn(comment []*ast.Comment) (lines []string) {
	for _, c := range comment {
		if len(lines) > 0 || strings.HasPrefix(c.Text, "// Refusals: ") || strings.HasPrefix(c.Text, "// Locks: ") {
			lines = append(lines, c.Text)
		}
	}
	return lines
}

// rewrite puts comments before declarations, by their lines, in the place of what they said before.
func rewrite(file string, comments map[int][]string) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	lines := strings.Split(string(text), "\n")
	var at []int
	for line := range comments {
		at = append(at, line)
	}
	slices.Sort(at)
	slices.Reverse(at)
	for _, line := range at {
		end := line - 1 // of the comment
		begin := end
		for n := end - 1; n >= 0 && strings.HasPrefix(lines[n], "//"); n-- {
			if strings.HasPrefix(lines[n], "// Refusals: ") || strings.HasPrefix(lines[n], "// Locks: ") {
				begin = n
			}
		}
		if begin < end && lines[begin-1] == "//" {
			begin--
		}
		said := comments[line]
		if len(said) > 0 {
			said = append([]string{"//"}, said...)
		}
		lines = slices.Concat(lines[:begin], said, lines[end:])
	}
	return os.WriteFile(file, []byte(strings.Join(lines, "\n")), 0o644)
}
