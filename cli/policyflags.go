package cli

import (
	"errors"
	"fmt"
	"net/url"
	"reflect"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"gneiss/client"
	"gneiss/wire"
)

// rowFlags are what a row policy is written with: a condition in SQL, one in
// words, or a relationship to follow.
type rowFlags struct {
	table, rule, mode, commands, follow string
	via                                 []string
	column, attribute, listed, holder   string
	group, team, reader, come, all      bool
}

func (f *rowFlags) register(a *app, c *cobra.Command) {
	c.Flags().StringVar(&f.table, "on", "", "a table, a pattern such as survey.drilling.*, or label:NAME")
	c.Flags().StringVar(&f.rule, "where", "", "the condition, in SQL")
	c.Flags().StringVar(&f.mode, "mode", "", "allow or limit (allow when not given)")
	c.Flags().StringVar(&f.commands, "commands", "", "read, write or both (both when not given)")
	c.Flags().StringVar(&f.follow, "follow", "", "in place of a condition: a row is there when its row of this table is")
	c.Flags().StringSliceVar(&f.via, "via", nil, "the columns that lead there, where there are several ways")
	c.Flags().StringVar(&f.column, "column", "", "in place of --where: the column that is compared with the reader, by one of those that follow")
	c.Flags().StringVar(&f.attribute, "is-attribute", "", "  it is one of the values of this attribute of the reader's")
	c.Flags().BoolVar(&f.group, "is-group", false, "  it names one of the reader's groups")
	c.Flags().BoolVar(&f.team, "is-team", false, "  it is the reader, or who reports to them")
	c.Flags().BoolVar(&f.reader, "is-reader", false, "  it is the reader")
	c.Flags().BoolVar(&f.come, "has-come", false, "  it is a date that is not in the future")
	c.Flags().StringVar(&f.listed, "listed-in", "", "  it is in this column of an entitlement table: field.district_officers.district")
	c.Flags().StringVar(&f.holder, "listed-for", "", "  where this column of the table names the reader")
	c.Flags().BoolVar(&f.all, "all-rows", false, "every row")
	c.RegisterFlagCompletionFunc("on", a.completeObjects)
	c.RegisterFlagCompletionFunc("follow", a.completeObjects)
	c.RegisterFlagCompletionFunc("mode", cobra.FixedCompletions([]string{"allow", "limit"}, noFiles))
	c.RegisterFlagCompletionFunc("commands", cobra.FixedCompletions([]string{"read", "write", "both"}, noFiles))
}

// phrase is the condition in words, or nil where none is given.
func (f *rowFlags) phrase() (*wire.Phrase, error) {
	var found []wire.Phrase
	add := func(given bool, p wire.Phrase) {
		if given {
			found = append(found, p)
		}
	}
	add(f.attribute != "", wire.Phrase{Kind: "attribute", Column: f.column, Attribute: f.attribute})
	add(f.group, wire.Phrase{Kind: "group", Column: f.column})
	add(f.team, wire.Phrase{Kind: "team", Column: f.column})
	add(f.reader, wire.Phrase{Kind: "reader", Column: f.column})
	add(f.come, wire.Phrase{Kind: "come", Column: f.column})
	add(f.all, wire.Phrase{Kind: "all"})
	if dot := strings.LastIndexByte(f.listed, '.'); dot > 0 {
		add(true, wire.Phrase{Kind: "listed", Column: f.column, Table: f.listed[:dot], Key: f.listed[dot+1:], Holder: f.holder})
	} else if f.listed != "" {
		return nil, usageError{errors.New("--listed-in takes a table with its column: field.district_officers.district")}
	}
	switch {
	case len(found) == 0 && f.column != "":
		return nil, usageError{
			errors.New(
				"--column needs what it is compared with: --is-attribute NAME, --is-group, --is-team, --is-reader, --has-come, " +
					"or --listed-in TABLE.COLUMN --listed-for COLUMN",
			),
		}
	case len(found) == 0:
		return nil, nil
	case len(found) > 1 || f.rule != "":
		return nil, usageError{errors.New("give one condition; for more, write them in SQL with --where")}
	case f.column == "" && !f.all:
		return nil, usageError{errors.New("--column is missing: the column that is compared")}
	}
	return &found[0], nil
}

// apply puts what was given into a policy; what says which rows takes the place
// of what said it before.
func (f *rowFlags) apply(p *wire.Policy) error {
	phrase, err := f.phrase()
	if err != nil {
		return err
	}
	p.Table, p.Mode, p.Commands = pick(f.table, p.Table), pick(f.mode, p.Mode), pick(f.commands, p.Commands)
	switch {
	case f.follow != "" && (phrase != nil || f.rule != ""):
		return usageError{errors.New("a row policy has a condition, or follows a relationship; for both, write two policies")}
	case f.follow != "":
		p.Rule, p.Phrases, p.Follow, p.Via = "", nil, f.follow, f.via
	case phrase != nil:
		p.Rule, p.Phrases, p.Follow, p.Via = "", []wire.Phrase{*phrase}, "", nil
	case f.rule != "":
		p.Rule, p.Phrases, p.Follow, p.Via = f.rule, nil, "", nil
	}
	if p.Table == "" || p.Rule == "" && len(p.Phrases) == 0 && p.Follow == "" {
		return usageError{
			errors.New("a row policy needs --on TABLE, and --where CONDITION, --column with what it is compared with, or --follow TABLE"),
		}
	}
	return nil
}

func (a *app) rowPolicy(verb string) *cobra.Command {
	var scope scopeFlags
	var f rowFlags
	c := &cobra.Command{
		Use: verb + " NAME", Args: words(1, 1),
		Short: map[string]string{"add": "Add a row policy", "edit": "Change a row policy; what is not named stays"}[verb],
		Long: `A row policy in mode allow lets its readers see the rows that its condition is
true for; a table with a live allow policy shows no rows to whom none applies. One
in mode limit takes rows away. It counts for reading, for writing, or for both.

The common conditions are written in words: --column with what it is compared
with. Others are SQL over the table's columns, with sub-queries over tables of the
same source and the facts of the session: CURRENT_USER, CURRENT_DATE,
in_group(column), has_role('name'), purpose(), and attribute('name') or team() in
a list. Or the policy follows a relationship: gneiss relationship list.`,
		Example: `  gneiss policy rows add wells-of-districts --on survey.monitoring.wells --column district --is-attribute districts
  gneiss policy rows add boreholes-covered --on survey.drilling.boreholes --column district \
      --listed-in field.district_officers.district --listed-for officer
  gneiss policy rows add samples-of-boreholes --on survey.assay.samples --follow survey.drilling.boreholes
  gneiss policy rows add visits-of-crews --on survey.field.visits --for role:district_geologist \
      --where "crew_id IN (SELECT id FROM field.crews WHERE district IN (attribute('districts')))" --try`,
		RunE: func(c *cobra.Command, args []string) error {
			in, err := a.start(c, verb, "rows", args[0])
			if err != nil {
				return err
			}
			scope.apply(c, &in.Policy, verb == "add")
			if err := f.apply(&in.Policy); err != nil {
				return err
			}
			return a.send(c, in, &scope)
		},
	}
	f.register(a, c)
	scope.register(a, c)
	return c
}

func pick(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// treatments are the kinds of treatments, as they are written on a command line.
func treatments() []string {
	field, _ := reflect.TypeFor[wire.Treatment]().FieldByName("Kind")
	return strings.Split(strings.ReplaceAll(field.Tag.Get("enum"), " ", "-"), ",")
}

// treatmentFlags has a flag for each argument of a treatment, described as the API
// describes it.
func treatmentFlags(flags *pflag.FlagSet, t *wire.Treatment) {
	v := reflect.ValueOf(t).Elem()
	for i := range v.NumField() {
		field := v.Type().Field(i)
		name, _, _ := strings.Cut(field.Tag.Get("json"), ",")
		name, usage := strings.ReplaceAll(name, "_", "-"), field.Tag.Get("description")
		switch to := v.Field(i).Addr().Interface().(type) {
		case *int:
			flags.IntVar(to, name, 0, usage)
		case *float64:
			flags.Float64Var(to, name, 0, usage)
		case *bool:
			flags.BoolVar(to, name, false, usage)
		case *map[string]string:
			flags.StringToStringVar(to, name, nil, usage)
		case *string:
			if name == "kind" {
				name, usage = "treat", "how the values appear"
			}
			flags.StringVar(to, name, "", usage)
		}
	}
}

func (a *app) columnPolicy(verb string) *cobra.Command {
	var f scopeFlags
	var table, when string
	var columns []string
	var t wire.Treatment
	c := &cobra.Command{
		Use: verb + " NAME", Args: words(1, 1),
		Short: map[string]string{"add": "Add a column policy", "edit": "Change a column policy; what is not named stays"}[verb],
		Long: `A column policy says how the values of columns appear: of the columns that it
names, of those whose names match a pattern, or of all that have a label. From the
strictest:

  withhold-refuse   naming the column is refused; * leaves it out
  withhold-absent   the column does not exist
  withhold-blank    the column is there and always NULL, so that reports keep working
  suppress          NULL
  constant          the --value
  pseudonym         a keyed hash by which equal values stay equal
  mask              part of a text kept, the rest filled
  generalize        a number to its --bucket, a date to its --unit, a text to its --prefix or by --mapping
  round             to --decimals, or to multiples of --multiple
  noise             moved by up to --range either way, freshly at each query or --stable
  expression        what the SQL of --expression gives

Where several apply, the strictest wins. Filters, joins, groups and sorts see the
treated value. With --when, only the rows that a condition is true for are treated.`,
		Example: `  gneiss policy columns add visit-notes --on survey.field.visits --columns note \
      --treat mask --keep-first 3 --except role:regional_lead
  gneiss policy columns add contacts --on label:contact --treat suppress --except role:licensing_officer
  gneiss policy columns add positions --on survey.drilling.boreholes --columns latitude,longitude \
      --treat round --decimals 1 --when "release_on > CURRENT_DATE OR release_on IS NULL"`,
		RunE: func(c *cobra.Command, args []string) error {
			in, err := a.start(c, verb, "columns", args[0])
			if err != nil {
				return err
			}
			label := strings.HasPrefix(table, "label:")
			if verb == "add" && (table == "" || len(columns) == 0 && !label || t.Kind == "") {
				return usageError{errors.New("a column policy needs --treat, and --on TABLE with --columns or --on label:NAME")}
			}
			f.apply(c, &in.Policy, verb == "add")
			in.Table = pick(table, in.Table)
			if len(columns) > 0 || label {
				in.Columns = columns
			}
			if t.Kind != "" {
				in.Treatment = &t
			}
			if c.Flags().Changed("when") {
				in.When = when
			}
			return a.send(c, in, &f)
		},
	}
	c.Flags().StringVar(&table, "on", "", "the table, or label:NAME")
	c.Flags().StringSliceVar(&columns, "columns", nil, "its columns, or one pattern such as *_number")
	c.Flags().StringVar(&when, "when", "", "a SQL condition: only rows that it is true for are treated")
	treatmentFlags(c.Flags(), &t)
	c.RegisterFlagCompletionFunc("treat", cobra.FixedCompletions(treatments(), noFiles))
	c.RegisterFlagCompletionFunc("on", a.completeObjects)
	f.register(a, c)
	return c
}

// tryPolicy shows what a policy, above all a draft, would do if it were live.
func (a *app) tryPolicy() *cobra.Command {
	return &cobra.Command{
		Use:               "try NAME",
		Short:             "Say what a policy would do if it were live: whose rows and columns would change",
		Args:              words(1, 1),
		ValidArgsFunction: a.completePolicies,
		RunE: func(c *cobra.Command, args []string) error {
			for _, kind := range []string{"rows", "columns"} {
				in, err := a.start(c, "edit", kind, args[0])
				if err != nil {
					return err
				}
				if in.Table != "" {
					return a.trial(c, in.Policy)
				}
			}
			return usageError{fmt.Errorf("there is no policy %s; gneiss policy list has them", args[0])}
		},
	}
}

// trial asks what a policy would do, as whom --as names or to all whom it
// touches.
func (a *app) trial(c *cobra.Command, p wire.Policy) error {
	in := wire.PolicyTrial{Policy: p, Standpoints: []wire.Standpoint{}}
	if a.at != (wire.Standpoint{}) {
		in.Standpoints = []wire.Standpoint{a.at}
	}
	out, err := client.Send[wire.TrialResult](c.Context(), a.connect(), "POST", "/policies/trial", in)
	if err != nil {
		return err
	}
	g := grid{head: []string{"who", "table", "rows now", "then", "of", "columns that look different"}, right: map[int]bool{2: true, 3: true, 4: true}}
	for _, n := range out.Counts {
		if n.Problem != "" {
			g.rows = append(g.rows, []string{n.Standpoint, n.Table, "", "", "", n.Problem})
			continue
		}
		g.rows = append(
			g.rows,
			[]string{n.Standpoint, n.Table, fmt.Sprint(n.Now), fmt.Sprint(n.Then), fmt.Sprint(n.Total), strings.Join(n.Columns, ", ")},
		)
	}
	if a.output != "table" {
		return a.show(out, g)
	}
	fmt.Fprintln(a.out, "It would say: "+out.Sentence+".")
	if len(g.rows) == 0 {
		fmt.Fprintln(a.out, "It would change nothing for anybody.")
	} else if err := a.table(g); err != nil {
		return err
	}
	if out.More > 0 {
		fmt.Fprintf(a.out, "and for %d more, which were not counted; --as SUBJECT counts one.\n", out.More)
	}
	for _, n := range out.Notes {
		fmt.Fprintln(a.out, "Note: "+n)
	}
	fmt.Fprintln(a.out, "Nothing was changed.")
	return nil
}

// matrix shows what everybody gets of a table or a column.
func (a *app) matrix() *cobra.Command {
	return &cobra.Command{
		Use:               "matrix TABLE-OR-COLUMN",
		Short:             "Who gets how many rows of a table, and how its columns appear to them",
		Args:              words(1, 1),
		ValidArgsFunction: a.completeObjects,
		Example:           "  gneiss policy matrix survey.drilling.boreholes\n  gneiss policy matrix survey.licensing.holders.email",
		RunE: func(c *cobra.Command, args []string) error {
			m, err := client.Get[wire.Matrix](c.Context(), a.connect(), "/matrix", url.Values{"object": {args[0]}})
			if err != nil {
				return err
			}
			g := grid{head: append([]string{"who", "rows"}, m.Columns...), right: map[int]bool{1: true}}
			for _, r := range m.Rows {
				rows := fmt.Sprintf("%d of %d", r.Rows, m.Total)
				switch {
				case !r.Reads:
					rows = "may not read"
				case r.Problem != "":
					rows = r.Problem
				}
				g.rows = append(g.rows, append([]string{r.Subject, rows}, r.Cells...))
			}
			if len(g.rows) == 0 && a.output == "table" {
				fmt.Fprintf(a.out, "Nobody may read %s.\n", m.Table)
				return nil
			}
			if err := a.show(m, g); err != nil || a.output != "table" {
				return err
			}
			if m.More > 0 {
				fmt.Fprintf(a.out, "and %d more.\n", m.More)
			}
			return nil
		},
	}
}
