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
		Use: "add NAME FOLDER", Short: "Connect a folder of SQLite files, one a schema, and scan it", Args: words(2, 2),
		Long:    "Connect a folder of SQLite files on the service's machine as a source: DIR/drilling.db\nholds the tables of the schema drilling. A folder that is not absolute is below the\nservice's data folder. Nobody can read it until it is granted.",
		Example: "  gneiss source add survey /srv/survey",
		RunE: func(c *cobra.Command, args []string) error {
			out, err := client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/sources", wire.SourceRequest{Name: args[0], Folder: args[1]})
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
			g := grid{head: []string{"source", "kind", "tables", "available", "folder", "note"}, right: map[int]bool{2: true}}
			for _, s := range list.Items {
				g.rows = append(g.rows, []string{s.Name, s.Kind, fmt.Sprint(s.Tables), map[bool]string{true: "yes", false: "NO"}[s.Available], s.Folder, s.Problem})
			}
			if len(g.rows) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "No source is connected, or none is yours to see. Connect one: gneiss source add NAME FOLDER")
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
