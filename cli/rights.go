package cli

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

// rights adds what grants are made of beside privileges: bundles, lanes and
// owners.
func (a *app) rights(root *cobra.Command) {
	root.AddCommand(a.bundles(), a.lanes(), a.owners())
}

func (a *app) bundles() *cobra.Command {
	parent := &cobra.Command{Use: "bundle", Short: "Named sets of privileges that are granted like one", GroupID: "change"}
	put := func(use, short, example string, replace bool) *cobra.Command {
		var f changeFlags
		c := &cobra.Command{
			Use:     use + " NAME PRIVILEGE…",
			Short:   short,
			Example: example,
			Args:    words(2, -1),
			RunE: func(c *cobra.Command, args []string) error {
				in := wire.BundleRequest{Name: args[0], Privileges: commas(args[1:]), Replace: replace}
				send := func() (wire.Changed, error) {
					in.Change = wire.Change{Reason: f.reason}
					return client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/bundles", in)
				}
				if !replace {
					return a.doneOr(send())
				}
				return a.twice(c, send) // it can take from whoever was granted it
			},
		}
		c.Flags().StringVar(&f.reason, "reason", "", "why; kept in the journal")
		return c
	}
	list := &cobra.Command{
		Use:   "list",
		Short: "List the bundles, and what is in them",
		Args:  words(0, 0),
		RunE: func(c *cobra.Command, _ []string) error {
			found, err := client.Get[wire.List[wire.Bundle]](c.Context(), a.connect(), "/bundles", nil)
			if err != nil {
				return err
			}
			g := grid{head: []string{"bundle", "privileges", "grants", "note"}, right: map[int]bool{2: true}}
			for _, b := range found.Items {
				g.rows = append(
					g.rows,
					[]string{b.Name, strings.Join(b.Privileges, ", "), fmt.Sprint(b.Grants), map[bool]string{true: "built in"}[b.BuiltIn]},
				)
			}
			return a.show(found.Items, g)
		},
	}
	remove := &cobra.Command{
		Use:   "remove NAME",
		Short: "Remove a bundle that nothing is granted by",
		Args:  words(1, 1),
		RunE: func(c *cobra.Command, args []string) error {
			return a.remove(c, "/bundles/"+url.PathEscape(args[0]))
		},
	}
	parent.AddCommand(list, put("add", "Add a bundle", "  gneiss bundle add sampler select insert", false),
		put("set", "Change what a bundle and all its grants give", "  gneiss bundle set sampler select insert update", true), remove)
	return parent
}

// commas takes words apart at commas too, but not within quotes.
func commas(args []string) []string {
	quoted := false
	return strings.FieldsFunc(strings.Join(args, " "), func(r rune) bool {
		if r == '"' {
			quoted = !quoted
		}
		return !quoted && (r == ',' || r == ' ')
	})
}

// doneOr prints what a change did, unless it failed.
func (a *app) doneOr(out wire.Changed, err error) error {
	if err != nil {
		return err
	}
	return a.done(out)
}

func (a *app) lanes() *cobra.Command {
	parent := &cobra.Command{Use: "lane", Short: "Where queries run, with limits of their own", GroupID: "change"}
	put := func(use, short string, replace bool) *cobra.Command {
		in := wire.LaneRequest{Replace: replace}
		var mib int64
		c := &cobra.Command{
			Use:     use + " NAME",
			Short:   short,
			Args:    words(1, 1),
			Example: "  gneiss lane " + use + " batch --queries 2 --seconds 600 --rows 1000000 --mib 1024",
			RunE: func(c *cobra.Command, args []string) error {
				in.Name, in.Limits.Bytes = args[0], mib<<20
				for _, l := range []struct {
					flag  string
					value int64
				}{{"queries", int64(in.Limits.Queries)}, {"seconds", int64(in.Limits.Seconds)}, {"rows", int64(in.Limits.Rows)}, {"mib", mib}} {
					if c.Flags().Changed(l.flag) && l.value < 1 {
						return usageError{fmt.Errorf("--%s takes a whole number from 1", l.flag)}
					}
				}
				return a.doneOr(client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/lanes", in))
			},
		}
		c.Flags().IntVar(&in.Limits.Queries, "queries", 0, "queries at once")
		c.Flags().IntVar(&in.Limits.Seconds, "seconds", 0, "seconds that one query may take")
		c.Flags().IntVar(&in.Limits.Rows, "rows", 0, "rows of one result")
		c.Flags().Int64Var(&mib, "mib", 0, "mebibytes of one result")
		c.Flags().StringVar(&in.Reason, "reason", "", "why; kept in the journal")
		return c
	}
	list := &cobra.Command{Use: "list", Short: "List the lanes", Args: words(0, 0), RunE: func(c *cobra.Command, _ []string) error {
		found, err := client.Get[wire.List[wire.Lane]](c.Context(), a.connect(), "/lanes", nil)
		if err != nil {
			return err
		}
		g := grid{
			head:  []string{"lane", "at once", "running", "seconds", "rows", "MiB", "may run", "open to you"},
			right: map[int]bool{1: true, 2: true, 3: true, 4: true, 5: true, 6: true},
		}
		for _, l := range found.Items {
			g.rows = append(
				g.rows,
				[]string{l.Path, fmt.Sprint(l.Limits.Queries), fmt.Sprint(l.Running), fmt.Sprint(l.Limits.Seconds), fmt.Sprint(l.Limits.Rows),
					fmt.Sprint(l.Limits.Bytes >> 20), fmt.Sprint(l.Users), map[bool]string{true: "yes", false: "no"}[l.Open]},
			)
		}
		if len(g.rows) == 0 && a.output == "table" {
			fmt.Fprintln(a.out, "No lane is open to you, so that no query of yours can run. Ask an administrator for USAGE on lane:interactive.")
			return nil
		}
		return a.show(found.Items, g)
	}}
	remove := &cobra.Command{
		Use:   "remove NAME",
		Short: "Remove a lane and the grants on it",
		Args:  words(1, 1),
		RunE: func(c *cobra.Command, args []string) error {
			return a.remove(c, "/lanes/"+url.PathEscape(strings.TrimPrefix(args[0], "lane:")))
		},
	}
	parent.AddCommand(list, put("add", "Add a lane", false), put("set", "Change the limits of a lane; those not named stay", true), remove)
	return parent
}

func (a *app) owners() *cobra.Command {
	parent := &cobra.Command{Use: "owner", Short: "Who owns an object: ALL on it and below, and USAGE on the way to it", GroupID: "change"}
	put := func(c *cobra.Command, f *changeFlags, objects []string, owner string) error {
		return a.twice(c, func() (wire.Changed, error) {
			return client.Send[wire.Changed](
				c.Context(),
				a.connect(),
				"POST",
				"/owners",
				wire.OwnerRequest{Objects: commas(objects), Owner: owner, Change: wire.Change{Reason: f.reason}},
			)
		})
	}
	var f changeFlags
	set := &cobra.Command{Use: "set OBJECT… to SUBJECT", Short: "Give objects another owner", Args: words(3, -1), ValidArgsFunction: a.completeAny,
		Example: "  gneiss owner set survey.assay to role:lab_keeper",
		RunE: func(c *cobra.Command, args []string) error {
			objects, to, err := split(c, args, "to")
			if err != nil {
				return err
			}
			return put(c, &f, objects, to[0])
		}}
	drop := &cobra.Command{
		Use:               "drop OBJECT…",
		Short:             "Leave objects to the owner of what they are in",
		Args:              words(1, -1),
		ValidArgsFunction: a.completeObjects,
		RunE:              func(c *cobra.Command, args []string) error { return put(c, &f, args, "") },
	}
	for _, c := range []*cobra.Command{set, drop} {
		c.Flags().StringVar(&f.reason, "reason", "", "why; kept in the journal")
	}
	parent.AddCommand(set, drop)
	return parent
}
