package cli

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

// views adds named queries.
func (a *app) views(root *cobra.Command) {
	parent := &cobra.Command{Use: "view", Short: "Views: named queries in a schema", GroupID: "change",
		Long: `A view is a named query over tables of its source, granted like a table. It reads
them with the rights of its owner, or with its reader's; row and column policies are
always the reader's. Who lends a right passes it on, so the owner needs SELECT with
grant option, or MANAGE, on what the view reads.`}
	parent.AddCommand(a.addView(), a.listViews(), a.removeView())
	root.AddCommand(parent)
}

func (a *app) addView() *cobra.Command {
	var in wire.ViewRequest
	var file, names string
	c := &cobra.Command{
		Use:               "add PATH [SELECT…]",
		Short:             "Make a view, or with --replace replace one",
		Args:              words(1, -1),
		ValidArgsFunction: a.completeObjects,
		Example: "  gneiss view add survey.drilling.deep 'SELECT id, name, depth_m FROM drilling.boreholes WHERE depth_m > 500'\n" +
			"  gneiss view add survey.drilling.deep --file deep.sql --rights reader --sealed --replace",
		RunE: func(c *cobra.Command, args []string) error {
			in.Path, in.Text = args[0], strings.Join(args[1:], " ")
			if file != "" {
				if in.Text != "" {
					return usageError{errors.New("give the text, or --file, not both")}
				}
				content, err := os.ReadFile(file)
				if err != nil {
					return err
				}
				in.Text = string(content)
			}
			if names != "" {
				in.Columns = commas([]string{names})
			}
			return a.doneOr(client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/views", in))
		},
	}
	c.Flags().StringVar(&file, "file", "", "a file with the SELECT")
	c.Flags().StringVar(&names, "columns", "", "names of its columns, with commas between them, in place of those of the text")
	c.Flags().StringVar(&in.Rights, "rights", "", "owner or reader: whose privileges it reads its tables with; the owner's when not given")
	c.Flags().BoolVar(&in.Sealed, "sealed", false, "show its text to nobody without DESCRIBE on it")
	c.Flags().StringVar(&in.Owner, "owner", "", "who owns it: a role that you hold; else the role that you act in, or you")
	c.Flags().BoolVar(&in.Replace, "replace", false, "replace the view of that name; grants on it stay")
	c.Flags().StringVar(&in.Reason, "reason", "", "why; kept in the journal")
	c.RegisterFlagCompletionFunc("rights", cobra.FixedCompletions([]string{"owner", "reader"}, noFiles))
	c.RegisterFlagCompletionFunc("owner", a.completeSubjects("role"))
	return c
}

func (a *app) listViews() *cobra.Command {
	return &cobra.Command{
		Use:               "list [BELOW]",
		Short:             "List the views that you see",
		Args:              words(0, 1),
		ValidArgsFunction: a.completeObjects,
		RunE: func(c *cobra.Command, args []string) error {
			list, err := client.Get[wire.List[wire.View]](
				c.Context(),
				a.connect(),
				"/views",
				query(wire.Standpoint{}, "below", strings.Join(args, "")),
			)
			if err != nil {
				return err
			}
			if len(list.Items) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "There are no views, or you may see none. Make one: gneiss view add SOURCE.SCHEMA.NAME 'SELECT …'")
				return nil
			}
			g := grid{head: []string{"view", "columns", "rights of", "text"}}
			for _, v := range list.Items {
				g.rows = append(
					g.rows,
					[]string{
						v.Path,
						strings.Join(v.Columns, ", "),
						either(v.Rights, map[string]string{"owner": "its owner " + v.Owner, "reader": "its reader"}[v.Rights], ""),
						viewText(v),
					},
				)
			}
			return a.show(list.Items, g)
		},
	}
}

// viewText is a view's text in one line.
func viewText(v wire.View) string {
	if v.Text == "" {
		return "(sealed)"
	}
	return strings.Join(strings.Fields(v.Text), " ")
}

func (a *app) removeView() *cobra.Command {
	return &cobra.Command{
		Use:               "remove PATH",
		Short:             "Remove a view",
		Args:              words(1, 1),
		ValidArgsFunction: a.completeObjects,
		RunE: func(c *cobra.Command, args []string) error {
			return a.remove(c, "/views/"+url.PathEscape(args[0]))
		},
	}
}
