package cli

import (
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

// ask adds the questions about access.
func (a *app) ask(root *cobra.Command) {
	var of, to, below string
	var paths, columns bool
	var matrix matrixFlags
	accessCmd := &cobra.Command{
		Use:     "access (--of SUBJECT | --to OBJECT | --matrix)",
		Short:   "Effective permissions: what a subject can do, or who can use an object",
		GroupID: "look", Args: words(0, 0),
		Example: "  gneiss access --of user:flint -o json\n  gneiss access --to survey.drilling.boreholes --paths\n" +
			"  gneiss access --matrix --schemas\n  gneiss access --matrix --tables survey.licensing --kind role",
		RunE: func(c *cobra.Command, _ []string) error {
			if matrix.on {
				return matrix.run(c, a)
			}
			if (of == "") == (to == "") {
				return usageError{errors.New("name a subject with --of, or an object with --to")}
			}
			q := query(a.at, "of", of, "to", to, "below", below)
			if paths {
				q.Set("paths", "true")
			}
			if columns {
				q.Set("columns", "true")
			}
			list, err := client.Get[wire.AccessList](c.Context(), a.connect(), "/access", q)
			for err == nil && list.Next != "" {
				q.Set("after", list.Next)
				var more wire.AccessList
				more, err = client.Get[wire.AccessList](c.Context(), a.connect(), "/access", q)
				list.Items, list.Next = append(list.Items, more.Items...), more.Next
			}
			if err != nil {
				return err
			}
			return a.showAccess(list, of != "", paths)
		},
	}
	accessCmd.Flags().StringVar(&of, "of", "", "the subject")
	accessCmd.Flags().StringVar(&to, "to", "", "the object")
	accessCmd.Flags().StringVar(&below, "below", "", "with --of: only at and below this object")
	accessCmd.Flags().BoolVar(&columns, "by-column", false, "with --of: column by column, too")
	accessCmd.Flags().BoolVar(&paths, "paths", false, "show every way to each privilege")
	accessCmd.RegisterFlagCompletionFunc("of", a.completeSubjects(""))
	accessCmd.RegisterFlagCompletionFunc("to", a.completeObjects)
	accessCmd.RegisterFlagCompletionFunc("below", a.completeObjects)

	matrix.register(accessCmd, a)
	why := &cobra.Command{
		Use: "why SUBJECT PRIVILEGE OBJECT", Short: "Why a subject may do something, or what is missing", GroupID: "look", Args: words(3, 3),
		Long:    "Why a subject may do something, by all paths; or what is missing, with the\nsmallest fix first. The exit code is 3 where the answer is no.",
		Example: "  gneiss why user:marl select survey.assay.results", ValidArgsFunction: a.completeWhy,
		RunE: func(c *cobra.Command, args []string) error {
			w, err := client.Get[wire.Why](
				c.Context(),
				a.connect(),
				"/why",
				query(wire.Standpoint{Role: a.at.Role, Purpose: a.at.Purpose}, "subject", args[0], "privilege", args[1], "object", args[2]),
			)
			if err != nil {
				return err
			}
			if err := a.showWhy(w); err != nil {
				return err
			}
			if !w.Allowed {
				return &exit{ExitRefused}
			}
			return nil
		},
	}
	why.Flags().StringVar(&a.at.Role, "role", "", "the subject acts in this role only")
	why.Flags().StringVar(&a.at.Purpose, "purpose", "", "the subject declares this purpose")
	var part string
	var with string
	compare := &cobra.Command{
		Use: "compare (SUBJECT SUBJECT | [SUBJECT-OR-OBJECT] --at MOMENT)", Short: "Where two subjects or roles differ in what they can do; or two " +
			"moments", GroupID: "look", Args: words(0, 2),
		Long: `Where two subjects or roles differ in what they can do, and by which grants; or, with
--at, who gained and who lost what between two moments.`,
		Example: "  gneiss compare user:flint user:garnet\n" +
			"  gneiss compare role:regional_lead role:district_geologist --below survey.drilling\n" +
			"  gneiss compare --at 2026-11-01 --with now\n  gneiss compare user:flint --at 118",
		ValidArgsFunction: a.completeSubjects(""),
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) < 2 && a.moment.At != "" {
				at := a.moment.At
				a.moment = wire.Moment{}
				return a.showBetween(c, at, with, strings.Join(args, ""))
			}
			if len(args) < 2 {
				return usageError{errors.New("name two subjects, or a moment with --at")}
			}
			list, err := client.Get[wire.Comparison](
				c.Context(),
				a.connect(),
				"/comparison",
				query(wire.Standpoint{}, "a", args[0], "b", args[1], "below", part),
			)
			if err != nil {
				return err
			}
			return a.showComparison(list)
		},
	}
	compare.Flags().StringVar(&with, "with", "now", "with --at and at most one name: the other moment")
	compare.Flags().StringVar(&part, "below", "", "only at and below this object")
	compare.RegisterFlagCompletionFunc("below", a.completeObjects)
	most := 40
	find := &cobra.Command{
		Use: "find TEXT", Short: "Find subjects, objects and policies by a text in their names", GroupID: "look", Args: words(1, 1),
		Example: "  gneiss find bore\n  gneiss find licens --limit 500 -o csv",
		RunE: func(c *cobra.Command, args []string) error {
			if most < 1 {
				return usageError{errors.New("name a number from 1 on with --limit")}
			}
			q := query(a.at, "text", args[0])
			var found []wire.Found
			more := true
			for more && len(found) < most {
				q.Set("limit", fmt.Sprint(min(most-len(found), 1000)))
				list, err := client.Get[wire.List[wire.Found]](c.Context(), a.connect(), "/search", q)
				if err != nil {
					return err
				}
				found = append(found, list.Items...)
				more = list.Next != ""
				q.Set("after", list.Next)
			}
			if len(found) == 0 && a.output == "table" {
				fmt.Fprintf(a.out, "Nothing that you see has %q in its name.\n", args[0])
				return nil
			}
			g := grid{head: []string{"kind", "name", "says"}}
			for _, f := range found {
				g.rows = append(g.rows, []string{f.Kind, f.Name, f.Says})
			}
			if err := a.show(wire.List[wire.Found]{Items: found}, g); err != nil || a.output != "table" {
				return err
			}
			if more {
				fmt.Fprintf(a.out, "\nThere are more: --limit %d\n", 10*most)
			}
			return nil
		},
	}
	find.Flags().IntVar(&most, "limit", most, "how many at the most")
	a.standpoint(find)
	few := 0
	findings := &cobra.Command{
		Use: "findings", Short: "List findings: rights, subjects and policies to review, each with its fix", GroupID: "look", Args: words(0, 0),
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := client.Get[wire.List[wire.Finding]](c.Context(), a.connect(), "/findings", url.Values{"administrators": {fmt.Sprint(few)}})
			if err != nil {
				return err
			}
			return a.showFindings(list.Items)
		},
	}
	findings.Flags().IntVar(&few, "administrators", 3, "how many administrators are not too many")
	root.AddCommand(accessCmd, why, compare, find, findings)
}

func (a *app) showAccess(list wire.AccessList, of, paths bool) error {
	g := grid{head: []string{"subject", "bands", "may", "rows and columns"}}
	if of {
		g.head[0] = "object"
	}
	for _, x := range list.Items {
		name := x.Subject
		if of {
			name = x.Object
		}
		says := x.Rows
		if x.Columns != "" {
			says += "; " + x.Columns
		}
		g.rows = append(g.rows, []string{name, glyph(x.Bands), privilegesSay(x.Privileges), says})
	}
	if a.output == "table" && len(list.Items) == 0 {
		fmt.Fprintf(
			a.out,
			"Nothing: %s\n",
			map[bool]string{true: list.About + " has no rights.", false: "nobody has a right on " + list.About + "."}[of],
		)
		return nil
	}
	if err := a.show(list, g); err != nil || a.output != "table" {
		return err
	}
	if paths {
		for _, x := range list.Items {
			a.head(either(x.Object, x.Subject+" on "+x.Object, x.Subject))
			for _, p := range x.Paths {
				fmt.Fprintln(a.out, "  "+p.Says)
			}
		}
	}
	fmt.Fprintln(a.out, "\n"+glyphHelp)
	return nil
}

// privilegesSay lists privileges for people: ALL says the rest but REVEAL.
func privilegesSay(list []string) string {
	if !slices.Contains(list, "ALL") {
		return orNone(list)
	}
	if slices.Contains(list, "REVEAL") {
		return "ALL, REVEAL"
	}
	return "ALL"
}

func (a *app) showComparison(c wire.Comparison) error {
	g := grid{head: []string{"object", "A", "B", "only " + c.A + " (A)", "only " + c.B + " (B)"}}
	for _, x := range c.Items {
		g.rows = append(g.rows, []string{x.Object, glyph(x.A.Bands), glyph(x.B.Bands), strings.Join(x.OnlyA, "; "), strings.Join(x.OnlyB, "; ")})
	}
	if a.output == "table" && len(c.Items) == 0 {
		fmt.Fprintf(a.out, "%s and %s can do the same, on %s.\n", c.A, c.B, objectsSay(c.Alike))
		return nil
	}
	if err := a.show(c, g); err != nil || a.output != "table" {
		return err
	}
	if len(c.Grants) == 0 {
		fmt.Fprintf(a.out, "\nAlike on %s. No grant makes the difference: the policies do, by the attributes, groups and roles of the two.\n", objectsSay(c.Alike))
		return nil
	}
	a.head(fmt.Sprintf("Alike on %s. The grants that make the difference", objectsSay(c.Alike)))
	return a.grantsOrNone(c.Grants)
}

func objectsSay(n int) string {
	if n == 1 {
		return "1 object"
	}
	return fmt.Sprintf("%d objects", n)
}

func (a *app) showFindings(list []wire.Finding) error {
	g := grid{head: []string{"finding", "what", "why it matters", "fix"}}
	for _, f := range list {
		var fixes []string
		for _, fix := range f.Fixes {
			fixes = append(fixes, commands(fix)...)
		}
		g.rows = append(g.rows, []string{f.Kind, f.Says, f.Why, strings.Join(fixes, "; or ")})
	}
	if a.output != "table" {
		return a.show(list, g)
	}
	if len(list) == 0 {
		fmt.Fprintln(a.out, "There are no findings.")
		return nil
	}
	for _, f := range list {
		fmt.Fprintf(a.out, "%s  %s.\n", a.mark(f.Kind, text.Bold), f.Says)
		fmt.Fprintf(a.out, "    %s\n", f.Why)
		for _, fix := range f.Fixes {
			for _, c := range commands(fix) {
				fmt.Fprintf(a.out, "    $ %s\n", c)
			}
		}
	}
	return nil
}

func (a *app) showWhy(w wire.Why) error {
	if a.output != "table" {
		g := grid{head: []string{"allowed", "path"}}
		for _, p := range w.Paths {
			g.rows = append(g.rows, []string{fmt.Sprint(w.Allowed), p.Says})
		}
		return a.show(w, g)
	}
	fmt.Fprintf(a.out, "%s  %s.\n", glyph(w.Bands), w.Says)
	if len(w.Paths) > 0 {
		if w.Allowed {
			a.head("Because")
		} else {
			a.head("It is held, but cannot be used")
		}
		for _, p := range w.Paths {
			fmt.Fprintln(a.out, "  "+p.Says)
		}
	}
	if len(w.Policies) > 0 {
		a.head("Policies")
		for _, p := range w.Policies {
			fmt.Fprintln(a.out, "  "+p)
		}
	}
	if len(w.Fixes) > 0 {
		fmt.Fprintln(a.out)
		printFixes(a.out, w.Fixes)
	}
	return nil
}
