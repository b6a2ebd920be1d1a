package say_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"gneiss/service/say"
)

func TestCount(t *testing.T) {
	for want, got := range map[string]string{"1 table": say.Count(1, "table"), "0 tables": say.Count(0, "table"), "12 tables": say.Count(12, "table")} {
		if got != want {
			t.Errorf("%q, wanted %q", got, want)
		}
	}
}

// TestSentences: each sentence is told somewhere, and gets as many values as it has places.
func TestSentences(t *testing.T) {
	places := map[string]int{}
	each(t, "sentences.go", func(n ast.Node) {
		spec, ok := n.(*ast.ValueSpec)
		if !ok {
			return
		}
		text := ""
		ast.Inspect(spec.Values[0], func(n ast.Node) bool {
			if part, ok := n.(*ast.BasicLit); ok {
				unquoted, err := strconv.Unquote(part.Value)
				if err != nil {
					t.Fatal(err)
				}
				text += unquoted
			}
			return true
		})
		if _, twice := places[spec.Names[0].Name]; twice || text == "" {
			t.Errorf("%s is there twice, or empty", spec.Names[0].Name)
		}
		places[spec.Names[0].Name] = len(regexp.MustCompile(`%(\[\d\])?[a-z]`).FindAllString(text, -1))
	})
	told := map[string]bool{}
	for _, room := range []string{"admin", "review", "identity"} {
		files, err := filepath.Glob(filepath.Join("..", room, "*.go"))
		if err != nil {
			t.Fatal(err)
		}
		for _, file := range files {
			each(t, file, func(n ast.Node) {
				if name := sentence(n); name != "" {
					told[name] = true
				}
				call, ok := n.(*ast.CallExpr)
				if !ok {
					return
				}
				with, ok := call.Fun.(*ast.SelectorExpr)
				if !ok || with.Sel.Name != "With" {
					return
				}
				if name := sentence(with.X); name != "" && places[name] != len(call.Args) {
					t.Errorf("%s: %s has %d places and gets %d values", file, name, places[name], len(call.Args))
				}
			})
		}
	}
	for name := range places {
		if !told[name] {
			t.Errorf("%s is told nowhere", name)
		}
	}
	if len(places) < 150 {
		t.Errorf("only %d sentences were found", len(places))
	}
}

// sentence is the name of a sentence of this package that a node is; empty: it is none.
func sentence(n ast.Node) string {
	s, ok := n.(*ast.SelectorExpr)
	if !ok {
		return ""
	}
	if x, ok := s.X.(*ast.Ident); !ok || x.Name != "say" || s.Sel.Name == "Count" || s.Sel.Name == "Sentence" {
		return ""
	}
	return s.Sel.Name
}

func each(t *testing.T, file string, look func(ast.Node)) {
	t.Helper()
	content, err := os.ReadFile(file)
	if err != nil || strings.HasSuffix(file, "_test.go") {
		return
	}
	parsed, err := parser.ParseFile(token.NewFileSet(), file, content, 0)
	if err != nil {
		t.Fatal(err)
	}
	ast.Inspect(parsed, func(n ast.Node) bool {
		if n != nil {
			look(n)
		}
		return true
	})
}
