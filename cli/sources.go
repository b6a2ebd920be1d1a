package cli

import (
	"fmt"
	"net/url"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

func (a *app) sources(root *cobra.Command) {
	parent := &cobra.Command{Use: "source", Short: "Connected databases: add, list, scan", GroupID: "change"}
	add := &cobra.Command{
		Use: "add NAME LOCATION", Short: "Connect a folder of SQLite files or a PostgreSQL database, and scan it", Args: words(2, 2),
		Long: `Connect a database as a source, and scan it. Nobody can read it until it is granted.

A location is a folder of SQLite files on the service's machine, one a schema:
DIR/drilling.db holds the tables of the schema drilling. A folder that is not absolute
is below the service's data folder.

Or it is the URL of a PostgreSQL database, version 14 or later. The account in it needs
SELECT, INSERT, UPDATE and DELETE on what people are to use through Gneiss, and TEMPORARY
on the database; nothing is made there. Its password is no part of the URL, which is kept
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
	parent.AddCommand(add, list, scan)
	root.AddCommand(parent)
}
