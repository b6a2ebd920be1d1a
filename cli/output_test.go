package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

func TestTablesFitTheTerminal(t *testing.T) {
	g := grid{head: []string{"object", "says"}, rows: [][]string{{"survey.drilling.boreholes", strings.Repeat("some rows, by a policy; ", 12)}, {"survey", "∅"}}}
	for _, width := range []string{"60", "90", "200"} {
		t.Setenv("COLUMNS", width)
		var out bytes.Buffer
		if err := (&app{out: &out}).table(g); err != nil {
			t.Fatal(err)
		}
		var most int
		fmt.Sscan(width, &most)
		for line := range strings.Lines(out.String()) {
			if n := len([]rune(strings.TrimRight(line, "\n"))); n > most {
				t.Errorf("at %s columns a line has %d:\n%s", width, n, line)
			}
		}
	}
	t.Setenv("COLUMNS", "")
	var out bytes.Buffer
	if err := (&app{out: &out}).table(g); err != nil || strings.Count(out.String(), "\n") != 4 {
		t.Errorf("without a terminal nothing is wrapped: %v\n%s", err, out.String())
	}
}

func TestOutputs(t *testing.T) {
	value := []wire.ResultColumn{{Name: "a<b", Type: "text"}}
	g := grid{head: []string{"name", "type"}, rows: [][]string{{"a<b", "x, \"y\""}}}
	for output, want := range map[string]string{
		"json": "[\n  {\n    \"name\": \"a<b\",\n    \"type\": \"text\"\n  }\n]\n",
		"yaml": "- name: a<b\n  type: text\n",
		"csv":  "name,type\na<b,\"x, \"\"y\"\"\"\n",
	} {
		var out bytes.Buffer
		a := &app{out: &out}
		a.output = output
		if err := a.show(value, g); err != nil || out.String() != want {
			t.Errorf("%s: %v\ngot  %q\nwant %q", output, err, out.String(), want)
		}
	}
	a := &app{out: &bytes.Buffer{}}
	a.output = "pdf"
	if err := a.show(value, g); !errors.As(err, new(usageError)) {
		t.Errorf("an unknown output: %v", err)
	}
}

func TestCellsTellNullFromEmpty(t *testing.T) {
	for _, c := range []struct {
		in   any
		want string
	}{{nil, "∅"}, {"", ""}, {json.Number("9007199254740993"), "9007199254740993"}, {true, "true"}, {"x", "x"}} {
		if got := cell(c.in); got != c.want {
			t.Errorf("%v is shown as %q, want %q", c.in, got, c.want)
		}
	}
}

func TestGlyph(t *testing.T) {
	if got := glyph(wire.Bands{Door: "full", Verbs: "hatched", Rows: "empty", Columns: "full"}); got != "█▒·█" {
		t.Errorf("got %s", got)
	}
}

func TestExitCodes(t *testing.T) {
	for _, c := range []struct {
		name string
		err  error
		code int
		says string
	}{
		{"done", nil, ExitDone, ""},
		{"refused", &wire.Problem{Status: 403, Code: "refused", Detail: "you lack SELECT", Reference: "R-7", Fixes: []wire.Fix{{Says: "give role:x", Give: &wire.Member{Member: "user:y", Of: "role:x"}}}}, ExitRefused, "gneiss role give x to user:y\nReference: R-7"},
		{"not found", &wire.Problem{Status: 404, Code: "not_found", Detail: "no table x"}, ExitFailed, "no table x"},
		{"not signed in", &wire.Problem{Status: 401, Code: "not_signed_in", Detail: "sign in first"}, ExitFailed, "gneiss sign-in --user NAME"},
		{"unreachable", &client.Unreachable{Server: "http://127.0.0.1:1", Err: errors.New("refused")}, ExitUnreachable, "gneiss demo"},
		{"wrong usage", usageError{errors.New("usage: x")}, ExitUsage, "gneiss --help"},
		{"said already", &exit{ExitRefused}, ExitRefused, ""},
		{"another failure", errors.New("broken"), ExitFailed, "gneiss: broken"},
	} {
		var out bytes.Buffer
		if code := Report(c.err, &out); code != c.code || !strings.Contains(out.String(), c.says) {
			t.Errorf("%s: exit code %d with %q, want %d with %q", c.name, code, out.String(), c.code, c.says)
		}
	}
}

func TestGrantsAreRead(t *testing.T) {
	c := &cobra.Command{Use: "grant PRIVILEGES on OBJECT to SUBJECT…"}
	for _, x := range []struct{ words, want string }{
		{"select on survey to role:x", "[select] [survey] [] [role:x]"},
		{"select,usage on survey.assay to role:x user:y", "[select usage] [survey.assay] [] [role:x user:y]"},
		{"select usage on survey.assay to role:x,user:y", "[select usage] [survey.assay] [] [role:x user:y]"},
		{"select(name, depth_m) on survey.drilling.boreholes to user:y", "[select] [survey.drilling.boreholes] [name depth_m] [user:y]"},
		{"reader on survey.assay, survey.field.v* lane:batch to role:x", "[reader] [survey.assay survey.field.v* lane:batch] [] [role:x]"},
		{"select on survey", "error"}, {"on survey to x", "error"}, {"select(name on survey to x", "error"}, {"select on to x", "error"},
	} {
		in, err := parseGrant(c, strings.Fields(x.words), "to")
		got := fmt.Sprint(in.Privileges, " ", in.Objects, " ", in.Columns, " ", in.Subjects)
		if err != nil {
			got = "error"
		}
		if got != x.want {
			t.Errorf("%s: got %s, want %s", x.words, got, x.want)
		}
	}
}

// TestEveryCommandHasHelp holds that no command is without a word of what it
// does, and that groups of commands are listed under a heading.
func TestEveryCommandHasHelp(t *testing.T) {
	root := New(strings.NewReader(""), &bytes.Buffer{}, &bytes.Buffer{})
	var visit func(c *cobra.Command)
	visit = func(c *cobra.Command) {
		if c.Short == "" {
			t.Errorf("%s says nothing of what it does", c.CommandPath())
		}
		if c.Parent() == root && c.GroupID == "" {
			t.Errorf("%s stands under no heading", c.CommandPath())
		}
		if c.Runnable() && c.Args == nil {
			t.Errorf("%s takes any number of words", c.CommandPath())
		}
		for _, child := range c.Commands() {
			visit(child)
		}
	}
	visit(root)
}

// TestUnknownCommands: a word that is no command is refused, also behind one that
// only has others below it.
func TestUnknownCommands(t *testing.T) {
	for _, c := range []struct{ args, says string }{
		{"polcy", "policy"}, {"policy row", "there is no command gneiss policy row; did you mean rows?"}, {"label nothing", "there is no command gneiss label nothing"}, {"lane put batch --queries 3", "there is no command gneiss lane put; did you mean set?"},
		{"lane --queries 3", "unknown flag: --queries"}, {"lane set batch --wide 3", "unknown flag: --wide"}, {"view lst", "did you mean list?"},
		{"role put partner", "did you mean give?"}, {"role tre", "did you mean tree?"}, {"group give north", "did you mean put?"},
	} {
		var out, errOut bytes.Buffer
		root := New(strings.NewReader(""), &out, &errOut)
		if code := Run(context.Background(), root, strings.Fields(c.args), &errOut); code != ExitUsage || !strings.Contains(errOut.String(), c.says) {
			t.Errorf("gneiss %s ends with %d: %s", c.args, code, errOut.String())
		}
	}
}
