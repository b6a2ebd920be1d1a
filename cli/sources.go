package cli

import (
	"fmt"
	"net/url"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

func (a *app) sources(root *cobra.Command) {
	parent := &cobra.Command{Use: "source", Short: "Connected databases: add, list, scan, check, set, remove; and their views", GroupID: "change"}
	add := &cobra.Command{
		Use: "add NAME LOCATION", Short: "Connect a folder of SQLite files or a PostgreSQL database, and scan it", Args: words(2, 2),
		Long: `Connect a database as a source, and scan it. Nobody can read it until it is granted.

A location is a folder of SQLite files on the service's machine, one a schema:
DIR/drilling.db holds the tables of the schema drilling. A folder that is not absolute
is below the service's data folder.

Or it is the URL of a PostgreSQL database, version 13 to 17. The account in it needs CONNECT
and TEMPORARY on the database, USAGE on the schemas, and SELECT on the tables that people are
to read through Gneiss, with INSERT, UPDATE and DELETE where they write; nothing is made there. Its password is no part of the URL, which is kept
and shown: put a line HOST:PORT:DATABASE:ACCOUNT:PASSWORD into a file that only the
service can read, and name the file in the URL.`,
		Example: "  gneiss source add survey /srv/survey\n  gneiss source add survey_pg 'postgresql://gneiss@db.north.test:5432/survey?passfile=/etc/gneiss/db'",
		RunE: func(c *cobra.Command, args []string) error {
			out, err := client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/sources", wire.SourceRequest{Name: args[0], Location: args[1]})
			if err != nil {
				return err
			}
			return a.done(out)
		},
	}
	list := &cobra.Command{
		Use: "list", Short: "List the sources, and whether they can be reached", Args: words(0, 0),
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := client.Get[wire.List[wire.Source]](c.Context(), a.connect(), "/sources", nil)
			if err != nil {
				return err
			}
			g := grid{head: []string{"source", "kind", "tables", "available", "location", "note"}, right: map[int]bool{2: true}}
			for _, s := range list.Items {
				g.rows = append(
					g.rows,
					[]string{s.Name, s.Kind, fmt.Sprint(s.Tables), map[bool]string{true: "yes", false: "NO"}[s.Available], s.Location, s.Problem},
				)
			}
			if len(g.rows) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "No source is connected, or you may see none. Connect one: gneiss source add NAME LOCATION")
				return nil
			}
			return a.show(list.Items, g)
		},
	}
	scan := &cobra.Command{
		Use: "scan NAME", Short: "Look at a source again: what appeared, changed, went missing", Args: words(1, 1), ValidArgsFunction: a.completeObjects,
		RunE: func(c *cobra.Command, args []string) error {
			out, err := client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/sources/"+url.PathEscape(args[0])+"/scan", struct{}{})
			if err != nil {
				return err
			}
			return a.done(out)
		},
	}
	check := &cobra.Command{
		Use: "check NAME", Short: "What the source's account may and may not, what is missing, how fast it answers, and values of wrong types",
		Args: words(1, 1), ValidArgsFunction: a.completeObjects,
		RunE: func(c *cobra.Command, args []string) error {
			out, err := client.Get[wire.SourceCheck](c.Context(), a.connect(), "/sources/"+url.PathEscape(args[0])+"/check", nil)
			if err != nil {
				return err
			}
			g := grid{head: []string{"", "what"}}
			bad := false
			for _, n := range out.Notes {
				g.rows = append(g.rows, []string{map[string]string{"fine": "●", "odd": "◐", "bad": "⊘"}[n.Worry], n.Says})
				bad = bad || n.Worry == "bad"
			}
			if err := a.show(out, g); err != nil || !bad {
				return err
			}
			return fmt.Errorf("something about %s is to be changed: see the lines with ⊘", args[0])
		},
	}
	var in wire.SourceSettings
	set := &cobra.Command{
		Use: "set NAME", Short: "Change where a source is", Args: words(1, 1), ValidArgsFunction: a.completeObjects,
		Long: `Change where a source is: its database has moved, or its account or password file is another.
What it holds is looked at again. Grants and policies stay with the objects of the same names.`,
		Example: "  gneiss source set survey_pg --location 'postgresql://gneiss@db2.north.test:5432/survey?passfile=/etc/gneiss/db'",
		RunE: func(c *cobra.Command, args []string) error {
			out, err := client.Send[wire.Changed](c.Context(), a.connect(), "PATCH", "/sources/"+url.PathEscape(args[0]), in)
			if err != nil {
				return err
			}
			return a.done(out)
		},
	}
	set.Flags().StringVar(&in.Location, "location", "", "the folder or URL where its database is now")
	set.MarkFlagRequired("location")
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Disconnect a source", Args: words(1, 1), ValidArgsFunction: a.completeObjects,
		Long: `Disconnect a source. Nothing in its database is touched. Grants, policies and views on it stay
and take no effect; they take effect again when a source is connected under its name.`,
		RunE: func(c *cobra.Command, args []string) error { return a.remove(c, "/sources/"+url.PathEscape(args[0])) },
	}
	views := &cobra.Command{
		Use: "views NAME", Short: "List the views of the source's database, and what they read", Args: words(1, 1), ValidArgsFunction: a.completeObjects,
		RunE: func(c *cobra.Command, args []string) error {
			list, err := client.Get[wire.List[wire.DatabaseView]](c.Context(), a.connect(), "/sources/"+url.PathEscape(args[0])+"/views", nil)
			if err != nil {
				return err
			}
			g := grid{head: []string{"view", "taken in", "note"}}
			for _, v := range list.Items {
				g.rows = append(g.rows, []string{v.View, map[bool]string{true: "yes", false: "no"}[v.Adopted], v.Says})
			}
			if len(g.rows) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "Its database has no views that the account may read.")
				return nil
			}
			return a.show(list.Items, g)
		},
	}
	var taken wire.AdoptRequest
	adopt := &cobra.Command{
		Use: "adopt NAME SCHEMA.VIEW", Short: "Take a view of the source's database in, as a table", Args: words(2, 2), ValidArgsFunction: a.completeObjects,
		Long: `Take a view of the source's database in. It reads its tables with its owner's rights, past
Gneiss: policies on them do not reach it, so it needs its own. It is a table like others then,
which nobody can read until it is granted.`,
		Example: "  gneiss source views survey_pg\n  gneiss source adopt survey_pg drilling.open_holes",
		RunE: func(c *cobra.Command, args []string) error {
			taken.View = args[1]
			out, err := client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/sources/"+url.PathEscape(args[0])+"/views", taken)
			if err != nil {
				return err
			}
			return a.done(out)
		},
	}
	disown := &cobra.Command{
		Use: "disown NAME SCHEMA.VIEW", Short: "Leave a view of the source's database out again", Args: words(2, 2), ValidArgsFunction: a.completeObjects,
		RunE: func(c *cobra.Command, args []string) error {
			return a.remove(c, "/sources/"+url.PathEscape(args[0])+"/views/"+url.PathEscape(args[1]))
		},
	}
	parent.AddCommand(add, list, scan, check, set, remove, views, adopt, disown)
	root.AddCommand(parent)
}
