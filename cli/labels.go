package cli

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

// labels adds what data are about, and how tables belong together.
func (a *app) labels(root *cobra.Command) {
	parent := &cobra.Command{Use: "label", Short: "Labels: what data are about, and how far they may spread", GroupID: "change",
		Long: `A label says what the data of a column are about. Put on a table or schema, it goes
down to every column below. A policy on label:NAME treats every column that has
it, also those labelled tomorrow; REVEAL on label:NAME shows them in clear.`}
	parent.AddCommand(a.putLabel("add"), a.putLabel("set"), a.listLabels(), a.labelColumns(), a.placeLabel("put", "on"), a.placeLabel("lift", "from"),
		a.placeLabel("dismiss", "for"), a.suggestLabels(), a.acceptLabels(), a.removeLabel())
	root.AddCommand(parent, a.relationships(), a.key())
}

// key is that of pseudonyms.
func (a *app) key() *cobra.Command {
	parent := &cobra.Command{Use: "key", Short: "The key of pseudonyms and stable noise", GroupID: "change"}
	var in wire.Change
	rotate := &cobra.Command{
		Use:   "rotate",
		Short: "Replace the key: every pseudonym changes with the next query",
		Args:  words(0, 0),
		RunE: func(c *cobra.Command, _ []string) error {
			return a.twice(c, func() (wire.Changed, error) {
				return client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/pseudonym-key", in)
			})
		},
	}
	rotate.Flags().StringVar(&in.Reason, "reason", "", "why; kept in the record")
	parent.AddCommand(rotate)
	return parent
}

func (a *app) putLabel(verb string) *cobra.Command {
	in := wire.LabelRequest{Replace: verb == "set"}
	c := &cobra.Command{
		Use:     verb + " NAME",
		Short:   map[string]string{"add": "Add a label", "set": "Change the topic and level of a label"}[verb],
		Args:    words(1, 1),
		Example: "  gneiss label " + verb + " contact --topic contact --level confidential",
		RunE: func(c *cobra.Command, args []string) error {
			in.Name = args[0]
			return a.doneOr(client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/labels", in))
		},
	}
	if verb == "set" {
		c.ValidArgsFunction = a.completeLabels
	}
	otherwise := map[string][2]string{"add": {"; the name when not given", "; confidential when not given"}}[verb] // set leaves them as they are
	c.Flags().StringVar(&in.Topic, "topic", "", "what the data are about, in a word"+otherwise[0])
	c.Flags().StringVar(&in.Level, "level", "", "public, internal, confidential or restricted"+otherwise[1])
	c.Flags().StringVar(&in.Reason, "reason", "", "why; kept in the journal")
	c.RegisterFlagCompletionFunc("level", cobra.FixedCompletions([]string{"public", "internal", "confidential", "restricted"}, noFiles))
	return c
}

func (a *app) listLabels() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List the labels, how many columns have them, and which policies use them",
		Args:  words(0, 0),
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := client.Get[wire.List[wire.Label]](c.Context(), a.connect(), "/labels", nil)
			if err != nil {
				return err
			}
			if len(list.Items) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "There are no labels. What the data look like: gneiss label suggest")
				return nil
			}
			g := grid{
				head:  []string{"label", "topic", "level", "columns", "treated", "policies", "in clear for"},
				right: map[int]bool{3: true, 4: true},
			}
			for _, l := range list.Items {
				g.rows = append(
					g.rows,
					[]string{
						l.Path,
						l.Topic,
						l.Level,
						fmt.Sprint(l.Columns),
						fmt.Sprint(l.Covered),
						strings.Join(l.Policies, ", "),
						strings.Join(l.Revealed, ", "),
					},
				)
			}
			return a.show(list.Items, g)
		},
	}
}

func (a *app) labelColumns() *cobra.Command {
	var uncovered bool
	c := &cobra.Command{
		Use:               "columns [LABEL]",
		Short:             "List the columns that have a label, with the policies that treat them",
		Args:              words(0, 1),
		ValidArgsFunction: a.completeLabels,
		Example:           "  gneiss label columns --uncovered",
		RunE: func(c *cobra.Command, args []string) error {
			q := url.Values{"label": {strings.Join(args, "")}}
			if uncovered {
				q.Set("uncovered", "true")
			}
			list, err := client.Get[wire.List[wire.LabelledColumn]](c.Context(), a.connect(), "/labelled-columns", q)
			if err != nil {
				return err
			}
			if len(list.Items) == 0 && a.output == "table" {
				fmt.Fprintln(
					a.out,
					map[bool]string{true: "Every labelled column is treated by some live policy.", false: "No column has a label."}[uncovered],
				)
				return nil
			}
			g := grid{head: []string{"column", "type", "labels", "level", "treated by"}}
			for _, l := range list.Items {
				g.rows = append(g.rows, []string{l.Column, l.Type, strings.Join(l.Labels, ", "), l.Level, joinedOr(l.Policies, "no policy")})
			}
			return a.show(list.Items, g)
		},
	}
	c.Flags().BoolVar(&uncovered, "uncovered", false, "only those that no live policy treats")
	return c
}

func joinedOr(list []string, none string) string {
	if len(list) == 0 {
		return none
	}
	return strings.Join(list, ", ")
}

func (a *app) placeLabel(verb, word string) *cobra.Command {
	var in wire.LabelPlacement
	c := &cobra.Command{Use: fmt.Sprintf("%s LABEL %s OBJECT…", verb, word), Args: words(3, -1), ValidArgsFunction: a.completeLabelThenObjects,
		Short: map[string]string{
			"put":     "Put a label on columns, tables, schemas or a source",
			"lift":    "Take a label off",
			"dismiss": "Remember that a suggested label does not belong",
		}[verb],
		Example: map[string]string{
			"put":     "  gneiss label put contact on survey.licensing.holders.email survey.licensing.holders.phone",
			"lift":    "  gneiss label lift contact from survey.licensing.holders.phone",
			"dismiss": "  gneiss label dismiss position for survey.monitoring.readings.level_m",
		}[verb],
		RunE: func(c *cobra.Command, args []string) error {
			label, objects, err := split(c, args, word)
			if err != nil {
				return err
			}
			in.Do, in.Objects = verb, commas(objects)
			send := func() (wire.Changed, error) {
				return client.Send[wire.Changed](
					c.Context(),
					a.connect(),
					"POST",
					"/labels/"+url.PathEscape(strings.TrimPrefix(label[0], "label:"))+"/placements",
					in,
				)
			}
			if verb == "lift" {
				return a.twice(c, send) // what it protected is then shown
			}
			return a.doneOr(send())
		}}
	c.Flags().StringVar(&in.Reason, "reason", "", "why; kept in the journal")
	return c
}

func (a *app) suggestions(c *cobra.Command, object string, again, dismissed bool) (wire.Suggestions, error) {
	q := url.Values{"object": {object}}
	if again {
		q.Set("again", "true")
	}
	if dismissed {
		q.Set("dismissed", "true")
	}
	return client.Get[wire.Suggestions](c.Context(), a.connect(), "/label-suggestions", q)
}

func (a *app) suggestLabels() *cobra.Command {
	var again, dismissed bool
	c := &cobra.Command{
		Use:               "suggest [OBJECT]",
		Short:             "Suggest labels for columns, with the evidence",
		Args:              words(0, 1),
		ValidArgsFunction: a.completeObjects,
		RunE: func(c *cobra.Command, args []string) error {
			found, err := a.suggestions(c, strings.Join(args, ""), again, dismissed)
			if err != nil {
				return err
			}
			g := grid{head: []string{"column", "label", "level", "sure", "why"}, right: map[int]bool{3: true}}
			for _, s := range found.Items {
				g.rows = append(
					g.rows,
					[]string{s.Column, s.Label, s.Level, fmt.Sprintf("%.0f %%", s.Confidence*100), s.Form + ": " + strings.Join(s.Evidence, "; ")},
				)
			}
			if len(found.Items) == 0 && a.output == "table" {
				fmt.Fprintf(
					a.out,
					"Nothing to suggest in %d tables, sampled %s. To look again: gneiss label suggest --again\n",
					found.Tables,
					found.Scanned,
				)
				return nil
			}
			if err := a.show(found, g); err != nil || a.output != "table" {
				return err
			}
			fmt.Fprintf(
				a.out,
				"\n%d suggestions for %d tables, sampled %s.\nTo accept one: gneiss label accept LABEL for COLUMN. All above 80 %%: gneiss label accept --above 80\n",
				len(found.Items),
				found.Tables,
				found.Scanned,
			)
			for _, t := range found.Failed {
				fmt.Fprintln(a.out, "The values of "+t+" could not be read; its names and types were looked at.")
			}
			return nil
		},
	}
	c.Flags().BoolVar(&again, "again", false, "sample the values again")
	c.Flags().BoolVar(&dismissed, "dismissed", false, "those that were dismissed, instead")
	return c
}

func (a *app) acceptLabels() *cobra.Command {
	var in wire.Acceptance
	var above float64
	c := &cobra.Command{
		Use:               "accept [LABEL for COLUMN…]",
		Short:             "Put suggested labels on their columns",
		Args:              words(0, -1),
		ValidArgsFunction: a.completeLabelThenObjects,
		Example:           "  gneiss label accept contact for survey.licensing.holders.email\n  gneiss label accept --above 80",
		RunE: func(c *cobra.Command, args []string) error {
			found, err := a.suggestions(c, "", false, false)
			if err != nil {
				return err
			}
			wanted := func(s wire.Suggestion) bool { return s.Confidence*100 >= above }
			if above == 0 {
				label, columns, err := split(c, args, "for")
				if err != nil {
					return err
				}
				chosen := map[string]bool{}
				for _, column := range commas(columns) {
					chosen[column] = true
				}
				wanted = func(s wire.Suggestion) bool {
					return s.Label == strings.TrimPrefix(label[0], "label:") && chosen[s.Column]
				}
			}
			for _, s := range found.Items {
				if wanted(s) {
					in.Items = append(in.Items, wire.AcceptedLabel{Column: s.Column, Label: s.Label, Topic: s.Topic, Level: s.Level})
				}
			}
			if len(in.Items) == 0 {
				return usageError{fmt.Errorf("no such suggestion; to put a label on all the same: gneiss label put LABEL on OBJECT")}
			}
			return a.doneOr(client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/label-suggestions", in))
		},
	}
	c.Flags().Float64Var(&above, "above", 0, "all suggestions at least so sure, in per cent")
	c.Flags().StringVar(&in.Reason, "reason", "", "why; kept in the journal")
	return c
}

func (a *app) removeLabel() *cobra.Command {
	return &cobra.Command{
		Use:               "remove NAME",
		Short:             "Remove a label that no policy uses",
		Args:              words(1, 1),
		ValidArgsFunction: a.completeLabels,
		RunE: func(c *cobra.Command, args []string) error {
			return a.remove(c, "/labels/"+url.PathEscape(strings.TrimPrefix(args[0], "label:")))
		},
	}
}

func (a *app) completeLabels(c *cobra.Command, _ []string, start string) ([]string, cobra.ShellCompDirective) {
	list, err := client.Get[wire.List[wire.Label]](c.Context(), a.connect(), "/labels", nil)
	if err != nil {
		return nil, noFiles
	}
	var out []string
	for _, l := range list.Items {
		if strings.HasPrefix(l.Name, start) {
			out = append(out, l.Name+"\t"+l.Topic)
		}
	}
	return out, noFiles
}

func (a *app) completeLabelThenObjects(c *cobra.Command, args []string, start string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 0 {
		return a.completeLabels(c, args, start)
	}
	return a.completeObjects(c, args, start)
}

// relationships are which tables' rows belong to which.
func (a *app) relationships() *cobra.Command {
	parent := &cobra.Command{Use: "relationship", Short: "Which tables' rows belong to which, for policies to follow", GroupID: "change"}
	list := &cobra.Command{
		Use:               "list [TABLE]",
		Short:             "List relationships: the source's foreign keys and those declared",
		Args:              words(0, 1),
		ValidArgsFunction: a.completeObjects,
		RunE: func(c *cobra.Command, args []string) error {
			found, err := client.Get[wire.List[wire.Relationship]](
				c.Context(),
				a.connect(),
				"/relationships",
				url.Values{"table": {strings.Join(args, "")}},
			)
			if err != nil {
				return err
			}
			if len(found.Items) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "There are none. Declare one: gneiss relationship add TABLE.COLUMN to OTHER.COLUMN")
				return nil
			}
			g := grid{head: []string{"rows of", "belong to", "by", "followed by"}}
			for _, r := range found.Items {
				g.rows = append(
					g.rows,
					[]string{
						strings.Join(r.From, ", "),
						strings.Join(r.To, ", "),
						map[bool]string{true: "declaration", false: "foreign key"}[r.Declared],
						strings.Join(r.Followed, ", "),
					},
				)
			}
			return a.show(found.Items, g)
		},
	}
	change := func(verb, short string) *cobra.Command {
		in := wire.RelationshipRequest{Remove: verb == "remove"}
		c := &cobra.Command{Use: verb + " COLUMN… to COLUMN…", Short: short, Args: words(3, -1), ValidArgsFunction: a.completeObjects,
			Example: "  gneiss relationship " + verb + " survey.assay.samples.borehole_id to survey.drilling.boreholes.id",
			RunE: func(c *cobra.Command, args []string) error {
				from, to, err := split(c, args, "to")
				if err != nil {
					return err
				}
				in.From, in.To = commas(from), commas(to)
				return a.doneOr(client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/relationships", in))
			}}
		c.Flags().StringVar(&in.Reason, "reason", "", "why; kept in the journal")
		return c
	}
	parent.AddCommand(
		list,
		change("add", "Declare that rows of a table belong to rows of another"),
		change("remove", "Forget a relationship that no policy follows"),
	)
	return parent
}
