package cli

import (
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

func (a *app) policies(root *cobra.Command) {
	parent := &cobra.Command{Use: "policy", Short: "Row and column policies: what rows exist for whom, and how values appear", GroupID: "change"}
	rows := &cobra.Command{Use: "rows", Short: "Row policies: which rows exist for whom"}
	rows.AddCommand(a.rowPolicy("add"), a.rowPolicy("edit"), a.listPolicies("rows"))
	columns := &cobra.Command{Use: "columns", Short: "Column policies: how values appear"}
	columns.AddCommand(a.columnPolicy("add"), a.columnPolicy("edit"), a.listPolicies("columns"))
	parent.AddCommand(rows, columns, a.listPolicies(""), a.policyStatus("publish", "live", "Put a policy in force"),
		a.policyStatus("stop", "off", "Take a policy out of force"), a.removePolicy())
	root.AddCommand(parent)
}

// scopeFlags are what both kinds of policy share.
type scopeFlags struct {
	to, except, purposes []string
	comment, reason      string
	draft, dry           bool
}

func (f *scopeFlags) register(a *app, c *cobra.Command) {
	c.Flags().StringSliceVar(&f.to, "for", nil, "subjects that it is about; everyone when not given")
	c.Flags().StringSliceVar(&f.except, "except", nil, "subjects that it leaves out")
	c.Flags().StringSliceVar(&f.purposes, "purpose", nil, "only when one of these purposes is declared")
	c.Flags().StringVar(&f.comment, "comment", "", "a few words for people")
	c.Flags().StringVar(&f.reason, "reason", "", "why; kept in the journal")
	c.Flags().BoolVar(&f.draft, "draft", false, "without effect until it is published")
	c.Flags().BoolVar(&f.dry, "dry-run", false, "say what it would do to whom, and do nothing")
	c.RegisterFlagCompletionFunc("for", a.completeSubjects(""))
	c.RegisterFlagCompletionFunc("except", a.completeSubjects(""))
}

// apply puts the flags that were given into a policy; for a new one, all.
func (f *scopeFlags) apply(c *cobra.Command, p *wire.Policy, adding bool) {
	set := func(name string, into *[]string, value []string) {
		if adding || c.Flags().Changed(name) {
			*into = slices.DeleteFunc(value, func(s string) bool { return s == "" })
		}
	}
	set("for", &p.For, f.to)
	set("except", &p.Except, f.except)
	set("purpose", &p.Purposes, f.purposes)
	if adding || c.Flags().Changed("comment") {
		p.Comment = f.comment
	}
	if adding {
		p.Status = "live"
	}
	if f.draft {
		p.Status = "draft"
	}
}

// start is the policy to change: an empty one, or the one there is.
func (a *app) start(c *cobra.Command, verb, kind, name string) (wire.PolicyRequest, error) {
	if verb == "add" {
		return wire.PolicyRequest{Policy: wire.Policy{Name: name, Kind: kind}}, nil
	}
	list, err := client.Get[wire.List[wire.Policy]](c.Context(), a.connect(), "/policies", nil)
	if err != nil {
		return wire.PolicyRequest{}, err
	}
	for _, p := range list.Items {
		if p.Name == name && p.Kind == kind {
			return wire.PolicyRequest{Policy: p, Replace: true}, nil
		}
	}
	// The service says it better, with the nearest name.
	return wire.PolicyRequest{Policy: wire.Policy{Name: name, Kind: kind}, Replace: true}, nil
}

func (a *app) send(c *cobra.Command, in wire.PolicyRequest, f *scopeFlags) error {
	in.Reason, in.DryRun = f.reason, f.dry
	out, err := client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/policies", in)
	if err != nil {
		return err
	}
	return a.done(out)
}

func (a *app) rowPolicy(verb string) *cobra.Command {
	var f scopeFlags
	var table, rule, mode string
	c := &cobra.Command{
		Use: verb + " NAME", Args: words(1, 1),
		Short: map[string]string{"add": "Add a row policy", "edit": "Change a row policy; what is not named stays"}[verb],
		Long: `A row policy in mode allow lets its readers see the rows that its condition is
true for; a table with a live allow policy shows no rows to whom none applies. One
in mode limit takes rows away.

The condition is SQL over the table's columns, with sub-queries over tables of
the same source and the facts of the session: CURRENT_USER, CURRENT_DATE,
in_group(column), has_role('name'), purpose(), and attribute('name') in a list.`,
		Example: `  gneiss policy rows add visits-of-crews --on survey.field.visits --for role:district_geologist \
      --where "crew_id IN (SELECT id FROM field.crews WHERE district IN (attribute('districts')))"`,
		RunE: func(c *cobra.Command, args []string) error {
			in, err := a.start(c, verb, "rows", args[0])
			if err != nil {
				return err
			}
			if verb == "add" && (table == "" || rule == "") {
				return usageError{errors.New("a row policy needs --on TABLE and --where CONDITION")}
			}
			f.apply(c, &in.Policy, verb == "add")
			in.Table, in.Rule, in.Mode = pick(table, in.Table), pick(rule, in.Rule), pick(mode, in.Mode)
			return a.send(c, in, &f)
		},
	}
	c.Flags().StringVar(&table, "on", "", "the table")
	c.Flags().StringVar(&rule, "where", "", "the condition, in SQL")
	c.Flags().StringVar(&mode, "mode", "", "allow or limit (allow when not given)")
	c.RegisterFlagCompletionFunc("on", a.completeObjects)
	f.register(a, c)
	return c
}

func pick(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

func (a *app) columnPolicy(verb string) *cobra.Command {
	var f scopeFlags
	var table string
	var columns []string
	var t wire.Treatment
	c := &cobra.Command{
		Use: verb + " NAME", Args: words(1, 1),
		Short: map[string]string{"add": "Add a column policy", "edit": "Change a column policy; what is not named stays"}[verb],
		Long: `A column policy says how the values of columns appear. From the strictest:

  withhold-refuse   naming the column is refused; * leaves it out
  withhold-absent   the column does not exist
  withhold-blank    the column is there and always NULL, so that reports keep working
  suppress          NULL
  constant          the --value
  pseudonym         a keyed hash by which equal values stay equal
  mask              part of a text kept, the rest filled
  generalize        a number to its --bucket, a date to its --unit, a text to its --prefix
  round             to --decimals, or to multiples of --multiple

Where several apply, the strictest wins. Filters, joins, groups and sorts see the
treated value.`,
		Example: `  gneiss policy columns add visit-notes --on survey.field.visits --columns note \
      --treat mask --keep-first 3 --except role:regional_lead`,
		RunE: func(c *cobra.Command, args []string) error {
			in, err := a.start(c, verb, "columns", args[0])
			if err != nil {
				return err
			}
			if verb == "add" && (table == "" || len(columns) == 0 || t.Kind == "") {
				return usageError{errors.New("a column policy needs --on TABLE, --columns and --treat")}
			}
			f.apply(c, &in.Policy, verb == "add")
			in.Table = pick(table, in.Table)
			if len(columns) > 0 {
				in.Columns = columns
			}
			if t.Kind != "" {
				in.Treatment = &t
			}
			return a.send(c, in, &f)
		},
	}
	c.Flags().StringVar(&table, "on", "", "the table")
	c.Flags().StringSliceVar(&columns, "columns", nil, "its columns")
	c.Flags().StringVar(&t.Kind, "treat", "", "how the values appear")
	c.Flags().IntVar(&t.KeepFirst, "keep-first", 0, "mask: characters kept at the start")
	c.Flags().IntVar(&t.KeepLast, "keep-last", 0, "mask: characters kept at the end")
	c.Flags().StringVar(&t.Keep, "keep", "", "mask: characters kept wherever they stand, such as @.-")
	c.Flags().StringVar(&t.Value, "value", "", "constant: the value")
	c.Flags().Float64Var(&t.Bucket, "bucket", 0, "generalize: the width of a number's bucket")
	c.Flags().StringVar(&t.Unit, "unit", "", "generalize: month, quarter or year of a date")
	c.Flags().IntVar(&t.Prefix, "prefix", 0, "generalize: characters kept of a text")
	c.Flags().IntVar(&t.Decimals, "decimals", 0, "round: decimal places")
	c.Flags().Float64Var(&t.Multiple, "multiple", 0, "round: to multiples of this instead")
	c.RegisterFlagCompletionFunc("treat", cobra.FixedCompletions([]string{"withhold-refuse", "withhold-absent", "withhold-blank", "suppress", "constant", "pseudonym", "mask", "generalize", "round"}, noFiles))
	c.Flags().StringVar(&t.Fill, "fill", "", "mask: the character for the others (* when not given)")
	c.RegisterFlagCompletionFunc("on", a.completeObjects)
	f.register(a, c)
	return c
}

func (a *app) listPolicies(kind string) *cobra.Command {
	return &cobra.Command{Use: "list [OBJECT]", Short: "List policies, as sentences", Args: words(0, 1), ValidArgsFunction: a.completeObjects, RunE: func(c *cobra.Command, args []string) error {
		list, err := client.Get[wire.List[wire.Policy]](c.Context(), a.connect(), "/policies", query(wire.Standpoint{}, "table", strings.Join(args, "")))
		if err != nil {
			return err
		}
		items := slices.DeleteFunc(list.Items, func(p wire.Policy) bool { return kind != "" && p.Kind != kind })
		g := grid{head: []string{"policy", "kind", "status", "says"}}
		for _, p := range items {
			says := p.Sentence
			if p.Broken != "" {
				says += " — BROKEN: " + p.Broken
			}
			g.rows = append(g.rows, []string{p.Name, p.Kind, p.Status, says})
		}
		if len(items) == 0 && a.output == "table" {
			fmt.Fprintln(a.out, "There are no such policies. Add one: gneiss policy rows add --help")
			return nil
		}
		return a.show(items, g)
	}}
}

func (a *app) policyStatus(verb, status, short string) *cobra.Command {
	return &cobra.Command{Use: verb + " NAME", Short: short, Args: words(1, 1), ValidArgsFunction: a.completePolicies, RunE: func(c *cobra.Command, args []string) error {
		change := func(dry bool) (wire.Changed, error) {
			return client.Send[wire.Changed](c.Context(), a.connect(), "PATCH", "/policies/"+url.PathEscape(args[0]), wire.PolicyStatus{Status: status, Change: wire.Change{DryRun: dry}})
		}
		return a.twice(c, change)
	}}
}

func (a *app) removePolicy() *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Remove a policy", Args: words(1, 1), ValidArgsFunction: a.completePolicies, RunE: func(c *cobra.Command, args []string) error {
		return a.remove(c, "/policies/"+url.PathEscape(args[0]))
	}}
}
