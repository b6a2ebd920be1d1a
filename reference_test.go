package gneiss

import (
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/spf13/cobra"

	"gneiss/cli"
	"gneiss/core/sqltype"
	"gneiss/service/review"
)

var update = flag.Bool("update", false, "write docs/reference.md instead of comparing it")

// TestReference holds that docs/reference.md and docs/functions.md say what the code says: make
// reference.
func TestReference(t *testing.T) {
	for file, text := range map[string]string{"docs/reference.md": reference(t), "docs/functions.md": functions()} {
		if *update {
			if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
			continue
		}
		if kept, err := os.ReadFile(file); err != nil || string(kept) != text {
			t.Errorf("%s is not what the code says (%v): make reference", file, err)
		}
	}
}

// functions lists what a query on a PostgreSQL source can call, and what it never can.
func functions() string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# Functions and operators on a PostgreSQL source\n\nMade from the code by `make reference`, which knows them from the catalog of a server of version %d. See also\n[sql.md](sql.md).\n", sqltype.Version)
	line("Allowed are those of the server's own that are immutable, or stable and harmless, and by name %s. A source's own\nroutines are objects: whoever holds EXECUTE on one can call it, by its schema and name.\n", "`random`, `gen_random_uuid` and `clock_timestamp`")
	types := func(list []*sqltype.Type) string {
		names := make([]string, len(list))
		for i, t := range list {
			names[i] = t.String()
		}
		return strings.Join(names, ", ")
	}
	for _, kind := range []struct {
		kind  sqltype.RoutineKind
		title string
	}{{sqltype.Function, "Functions"}, {sqltype.Aggregate, "Aggregates"}, {sqltype.Window, "Window functions"}} {
		line("## %s\n", kind.title)
		for _, name := range slices.Sorted(sqltype.Names()) {
			var forms []string
			for _, r := range sqltype.Routines(name) {
				if r.Kind == kind.kind {
					forms = append(forms, fmt.Sprintf("(%s) → %s", types(r.Args), r.Result))
				}
			}
			if len(forms) > 0 {
				line("- `%s` %s", name, strings.Join(forms, "; "))
			}
		}
		line("")
	}
	line("## Operators\n")
	for _, name := range slices.Sorted(sqltype.OperatorNames()) {
		var forms []string
		for _, o := range sqltype.Operators(name) {
			forms = append(forms, strings.TrimPrefix(fmt.Sprintf("%v, %v → %v", o.Left, o.Right, o.Result), "unknown, "))
		}
		line("- `%s` %s", name, strings.Join(forms, "; "))
	}
	line("\n## Never called\n")
	why := map[string][]string{}
	for name, reason := range sqltype.Forbidden() {
		why[reason] = append(why[reason], "`"+name+"`")
	}
	for _, reason := range slices.Sorted(maps.Keys(why)) {
		slices.Sort(why[reason])
		line("**%s:** %s.\n", strings.ToUpper(reason[:1])+reason[1:], strings.Join(why[reason], ", "))
	}
	return strings.TrimSuffix(b.String(), "\n")
}

func reference(t *testing.T) string {
	t.Helper()
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# Reference\n\nMade from the code by `make reference`.\n")
	names := review.Vocabulary()
	line("## Privileges\n\n| privilege | on | lets its holder |\n|---|---|---|")
	for _, p := range names.Privileges {
		line("| %s | %s | %s |", p.Name, strings.Join(p.Levels, ", "), p.Says)
	}
	line("\n## Treatments\n\nThe strictest first: where several apply to a value, the strictest wins.\n\n| treatment | a value is | works on |\n|---|---|---|")
	for _, k := range names.Treatments {
		types := "every type"
		if len(k.Types) > 0 {
			types = strings.Join(k.Types, ", ")
		}
		line("| %s | %s | %s |", k.Kind, k.Says, types)
	}
	line("\n## The record\n\nA line of the record is of one of these actions: %s. It ended as one of these: %s.", strings.Join(names.Actions, ", "), strings.Join(names.Decisions, ", "))
	line("\n## Error codes\n\nThe `code` of a problem (RFC 9457) is stable, for programs.\n\n| code | status |\n|---|---|")
	for _, c := range errorCodes(t) {
		line("| %s | %s |", c[0], c[1])
	}
	line("\n## Commands\n\nEach has `--help` with its options and examples.\n\n| command | does |\n|---|---|")
	commandLines(cli.New(nil, io.Discard, io.Discard), line)
	return b.String()
}

func commandLines(c *cobra.Command, line func(string, ...any)) {
	for _, child := range c.Commands() {
		if child.Hidden || child.Name() == "help" || child.Name() == "completion" {
			continue
		}
		if child.Runnable() {
			use := strings.TrimPrefix(child.UseLine(), "gneiss ")
			line("| `gneiss %s` | %s |", strings.ReplaceAll(strings.TrimSuffix(use, " [flags]"), "|", "\\|"), child.Short)
		}
		commandLines(child, line)
	}
}

// errorCodes finds the codes in the calls of fault.New and the like.
func errorCodes(t *testing.T) [][2]string {
	t.Helper()
	kinds := map[string]string{"Malformed": "400", "NotSignedIn": "401", "Refused": "403", "NotFound": "404", "Conflict": "409", "Stale": "412",
		"Invalid": "422", "TooMany": "429", "Cancelled": "499", "Internal": "500", "Unavailable": "503"}
	codes := map[string]string{"syntax": "400", "unsupported": "422", "unknown_name": "404", "ambiguous_name": "422", "type_mismatch": "422",
		"grouping": "422", "refused": "403", "view_closed": "409", "policy_broken": "409"}
	note := func(call *ast.CallExpr) {
		name := ""
		switch f := call.Fun.(type) {
		case *ast.SelectorExpr:
			name = f.Sel.Name
		case *ast.Ident:
			name = f.Name
		}
		literal := func(i int) string {
			if i < len(call.Args) {
				if l, ok := call.Args[i].(*ast.BasicLit); ok && l.Kind == token.STRING {
					text, _ := strconv.Unquote(l.Value)
					return text
				}
			}
			return ""
		}
		switch {
		case name == "New" && literal(1) != "":
			kind := ""
			switch k := call.Args[0].(type) {
			case *ast.SelectorExpr:
				kind = k.Sel.Name
			case *ast.Ident:
				kind = k.Name
			}
			if status, ok := kinds[kind]; ok {
				codes[literal(1)] = status
			}
		case name == "invalid" && literal(0) != "" && codes[literal(0)] == "":
			codes[literal(0)] = "422"
		}
	}
	for _, root := range []string{"core", "service", "api"} {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
			if err != nil {
				return err
			}
			ast.Inspect(file, func(n ast.Node) bool {
				if call, ok := n.(*ast.CallExpr); ok {
					note(call)
				}
				return true
			})
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	codes["exists"] = "409"
	var list [][2]string
	for code, status := range codes {
		list = append(list, [2]string{code, status})
	}
	slices.SortFunc(list, func(a, b [2]string) int { return strings.Compare(a[0], b[0]) })
	return list
}
