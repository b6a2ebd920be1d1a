package cli

import (
	"encoding/xml"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

// checks adds what must stay true: access tests and guardrails.
func (a *app) checks(root *cobra.Command) {
	var report string
	check := &cobra.Command{Use: "check [NAME…]", Short: "Run the access tests and guardrails", GroupID: "look", Args: words(0, -1),
		Long: `Run the access tests and guardrails: all, or those that are named. The exit code is 4
where one does not hold.`,
		Example: "  gneiss check\n  gneiss check --draft portal-2027 --junit report.xml",
		RunE: func(c *cobra.Command, args []string) error {
			out, err := client.Get[wire.CheckResults](c.Context(), a.connect(), "/check-results", query(wire.Standpoint{}, "names", strings.Join(args, ",")))
			if err != nil {
				return err
			}
			if report != "" {
				if err := writeJUnit(report, out); err != nil {
					return err
				}
			}
			return a.showChecks(out)
		}}
	check.Flags().StringVar(&report, "junit", "", "write the results into this file, in the XML form of JUnit")
	record := a.recordTest()
	a.dryRun(record)
	check.AddCommand(record)
	root.AddCommand(check, a.accessTests(), a.guardrails())
}

// recordTest is the command that makes a baseline.
func (a *app) recordTest() *cobra.Command {
	var in wire.BaselineRequest
	record := &cobra.Command{Use: "record SUBJECT TABLE", Short: "Make a test of how things stand", Args: words(2, 2), ValidArgsFunction: a.completeAny,
		Example: "  gneiss check record user:flint survey.drilling.boreholes",
		RunE: func(c *cobra.Command, args []string) error {
			in.Subject, in.Table = args[0], args[1]
			return a.doneOr(client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/access-tests/baseline", in))
		}}
	record.Flags().StringVar(&in.Name, "name", "", "its name; of subject and table when not given")
	record.Flags().StringVar(&in.Role, "acting-in", "", "acting in this role only")
	record.Flags().StringVar(&in.Purpose, "purpose", "", "with this purpose")
	record.Flags().BoolVar(&in.Replace, "replace", false, "in place of the test of that name")
	record.Flags().StringVar(&in.Reason, "reason", "", "why; kept in the journal")
	return record
}

func (a *app) showChecks(out wire.CheckResults) error {
	g := grid{head: []string{"", "check", "states", "but"}}
	marks := map[string]string{"holds": a.mark("●", text.FgGreen), "fails": a.mark("⊘", text.FgRed), "unknown": "?"}
	for _, r := range out.Results {
		name := r.Name
		if r.Kind == "guardrail" {
			name += " (" + r.Mode + ")"
		}
		g.rows = append(g.rows, []string{marks[r.Status], name, r.Sentence, strings.Join(r.Says, "; ")})
	}
	if a.output == "table" && len(out.Results) == 0 {
		fmt.Fprintln(a.out, "There is no access test and no guardrail yet. Make one: gneiss check record SUBJECT TABLE")
		return nil
	}
	if err := a.show(out, g); err != nil {
		return err
	}
	if a.output == "table" {
		about := ""
		if out.About != "" {
			about = ", " + out.About
		}
		fmt.Fprintf(a.out, "%d of %d hold, on revision %d%s.\n", len(out.Results)-out.Failed, len(out.Results), out.Revision, about)
	}
	if out.Failed > 0 {
		return &exit{ExitCheck}
	}
	return nil
}

// The XML form of JUnit, as far as build servers read it.
type (
	junitSuite struct {
		XMLName  xml.Name    `xml:"testsuite"`
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Class   string    `xml:"classname,attr"`
		Name    string    `xml:"name,attr"`
		Seconds string    `xml:"time,attr"`
		Failure *junitBut `xml:"failure,omitempty"`
		Skipped *junitBut `xml:"skipped,omitempty"`
	}
	junitBut struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
)

func writeJUnit(path string, out wire.CheckResults) error {
	suite := junitSuite{Name: "gneiss check", Tests: len(out.Results)}
	for _, r := range out.Results {
		c := junitCase{Class: r.Kind, Name: r.Name, Seconds: fmt.Sprintf("%.3f", r.TookMS/1000)}
		but := &junitBut{r.Sentence, strings.Join(r.Says, "\n")}
		switch r.Status {
		case "fails":
			suite.Failures++
			c.Failure = but
		case "unknown":
			c.Skipped = but
		}
		suite.Cases = append(suite.Cases, c)
	}
	body, err := xml.MarshalIndent(suite, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(path, append([]byte(xml.Header), append(body, '\n')...), 0o644)
}

// accessTests adds what one standpoint gets of one table.
func (a *app) accessTests() *cobra.Command {
	parent := &cobra.Command{Use: "test", Short: "Access tests: what one standpoint gets of one table", GroupID: "change"}
	parent.AddCommand(a.listChecks("List the access tests", func(c wire.Checks) (any, grid) {
		g := grid{head: []string{"test", "states"}}
		for _, t := range c.Tests {
			g.rows = append(g.rows, []string{t.Name, t.Sentence})
		}
		return c.Tests, g
	}), a.putTest("add", "Add an access test", false), a.putTest("set", "Change an access test", true),
		&cobra.Command{Use: "remove NAME", Short: "Remove an access test", Args: words(1, 1), RunE: func(c *cobra.Command, args []string) error {
			return a.remove(c, "/access-tests/"+url.PathEscape(args[0]))
		}})
	return parent
}

func (a *app) putTest(use, short string, replace bool) *cobra.Command {
	in := wire.AccessTestRequest{Replace: replace}
	var rows int64
	var columns []string
	c := &cobra.Command{Use: use + " NAME SUBJECT TABLE", Short: short, Args: words(3, 3), ValidArgsFunction: a.completeAny,
		Example: `  gneiss test ` + use + ` no-others user:flint survey.drilling.boreholes --rows 0 --where "district <> 'north'"
  gneiss test ` + use + ` phones user:flint survey.licensing.holders --column "phone=in clear" --may-not insert`,
		RunE: func(c *cobra.Command, args []string) error {
			in.Name, in.Subject, in.Table, in.Columns = args[0], args[1], args[2], map[string]string{}
			if c.Flags().Changed("rows") {
				in.Rows = &rows
			}
			for _, column := range columns {
				name, how, found := strings.Cut(column, "=")
				if !found {
					return usageError{fmt.Errorf("a column is written NAME=HOW, as in phone=in clear, not %q", column)}
				}
				in.Columns[strings.TrimSpace(name)] = strings.TrimSpace(how)
			}
			in.May, in.MayNot = commas(in.May), commas(in.MayNot)
			return a.doneOr(client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/access-tests", in))
		}}
	c.Flags().Int64Var(&rows, "rows", 0, "how many rows there are for it")
	c.Flags().StringVar(&in.Where, "where", "", "with --rows: of those for which this condition is true")
	c.Flags().StringArrayVar(&columns, "column", nil, "how a column appears: NAME=in clear, NAME=not granted, or the treatment in words")
	c.Flags().StringSliceVar(&in.May, "may", nil, "privileges that it has")
	c.Flags().StringSliceVar(&in.MayNot, "may-not", nil, "privileges that it has not")
	c.Flags().StringVar(&in.Role, "acting-in", "", "acting in this role only")
	c.Flags().StringVar(&in.Purpose, "purpose", "", "with this purpose")
	c.Flags().StringVar(&in.Comment, "comment", "", "a few words for people")
	c.Flags().StringVar(&in.Reason, "reason", "", "why; kept in the journal")
	return c
}

func (a *app) listChecks(short string, of func(wire.Checks) (any, grid)) *cobra.Command {
	return &cobra.Command{Use: "list", Short: short, Args: words(0, 0), RunE: func(c *cobra.Command, _ []string) error {
		found, err := client.Get[wire.Checks](c.Context(), a.connect(), "/checks", nil)
		if err != nil {
			return err
		}
		value, g := of(found)
		if len(g.rows) == 0 && a.output == "table" {
			fmt.Fprintln(a.out, "None yet.")
			return nil
		}
		return a.show(value, g)
	}}
}

// guardrails adds what must hold for everyone.
func (a *app) guardrails() *cobra.Command {
	parent := &cobra.Command{Use: "guardrail", Short: "What must hold for everyone, now and after every change", GroupID: "change",
		Long: `A guardrail states what must hold for everyone. In mode block a change that would break
it is refused, with the person and the path; in mode warn it is said. Kinds:

  clear           nobody but --except sees what has a label, a table or a column in clear
  treated         what has a label is treated for everyone
  apart           nobody holds both roles (--role twice)
  to-public       nothing at or below an object is granted to PUBLIC
  to-users        nothing is granted straight to a user or service
  without-end     nothing is granted without an end
  whole-source    nothing but USAGE is granted on a whole source
  administrators  there are at most --most administrators
  owned           every table at or below an object has an owner
  second-person   changes at or below an object are published by a second person`}
	parent.AddCommand(a.listChecks("List the guardrails", func(c wire.Checks) (any, grid) {
		g := grid{head: []string{"guardrail", "mode", "states"}}
		for _, r := range c.Guardrails {
			g.rows = append(g.rows, []string{r.Name, r.Mode, r.Sentence})
		}
		return c.Guardrails, g
	}), a.putGuardrail("add", "Add a guardrail", false), a.putGuardrail("set", "Change a guardrail", true),
		&cobra.Command{Use: "remove NAME", Short: "Remove a guardrail", Args: words(1, 1), RunE: func(c *cobra.Command, args []string) error {
			return a.remove(c, "/guardrails/"+url.PathEscape(args[0]))
		}})
	return parent
}

func (a *app) putGuardrail(use, short string, replace bool) *cobra.Command {
	in := wire.GuardrailRequest{Replace: replace}
	var given wire.Guardrail
	c := &cobra.Command{Use: use + " NAME KIND [OBJECT]", Short: short, Args: words(2, 3),
		Example: "  gneiss guardrail " + use + " finance clear label:finance --except role:licensing_officer --except role:administrator --mode block\n" +
			"  gneiss guardrail " + use + " four-eyes second-person survey.licensing --mode block",
		RunE: func(c *cobra.Command, args []string) error {
			if given.Mode != "" && given.Mode != "warn" && given.Mode != "block" {
				return usageError{errors.New("--mode is warn or block")}
			}
			if replace {
				checks, err := client.Get[wire.Checks](c.Context(), a.connect(), "/checks", nil)
				if err != nil {
					return err
				}
				for _, g := range checks.Guardrails {
					if g.Name == strings.ToLower(args[0]) && g.Kind == args[1] {
						in.Guardrail = g
					}
				}
			}
			in.Name, in.Kind = args[0], args[1]
			if len(args) > 2 {
				in.Object = args[2]
			}
			for flag, take := range map[string]func(){
				"mode": func() { in.Mode = given.Mode }, "comment": func() { in.Comment = given.Comment }, "most": func() { in.Most = given.Most },
				"except": func() { in.Except = given.Except }, "role": func() { in.Roles = given.Roles },
			} {
				if c.Flags().Changed(flag) {
					take()
				}
			}
			return a.doneOr(client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/guardrails", in))
		}}
	if replace {
		c.Long = short + ". What is not named stays as it is, while the kind does; --except '' leaves no exception."
	}
	c.Flags().StringVar(&given.Mode, "mode", "", "warn, or block"+map[bool]string{false: "; warn when not given"}[replace])
	c.Flags().StringSliceVar(&given.Except, "except", nil, "of clear: who may")
	c.Flags().StringSliceVar(&given.Roles, "role", nil, "of apart: the two roles")
	c.Flags().IntVar(&given.Most, "most", 0, "of administrators: how many there may be")
	c.Flags().StringVar(&given.Comment, "comment", "", "a few words for people")
	c.Flags().StringVar(&in.Reason, "reason", "", "why; kept in the journal")
	return c
}
