package cli

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

// matrixFlags are what a matrix is asked with.
type matrixFlags struct {
	on, schemas, writes, direct, has, differs                       bool
	tables, columns, kind, within, label, beside, besideDraft, with string
	unused                                                          int
}

func (m *matrixFlags) register(c *cobra.Command, a *app) {
	f := c.Flags()
	f.BoolVar(&m.on, "matrix", false, "who has what at a glance: subjects down, sources across")
	f.BoolVar(&m.schemas, "schemas", false, "with --matrix: the schemas of all sources across")
	f.StringVar(&m.tables, "tables", "", "with --matrix: the tables of this schema across, or the schemas of a source")
	f.StringVar(&m.columns, "columns", "", "with --matrix: the columns of this table across")
	f.StringVar(&m.kind, "kind", "", "with --matrix: user (when not given), service, group or role")
	f.StringVar(&m.within, "within", "", "with --matrix: only members of this group, or holders of this role")
	f.StringVar(&m.label, "label", "", "with --matrix: only who sees a column of this label in clear")
	f.BoolVar(&m.writes, "writes", false, "with --matrix: only who can write something there")
	f.BoolVar(&m.direct, "direct", false, "with --matrix: only who has a grant of their own")
	f.IntVar(&m.unused, "unused", 0, "with --matrix: only who used nothing within so many days")
	f.StringVar(&m.beside, "beside", "", "with --matrix: compare each row with what this standpoint has: user:flint, \"user:flint in role:NAME\"")
	f.StringVar(&m.besideDraft, "beside-draft", "", "with --matrix: compare with this draft")
	f.StringVar(&m.with, "beside-at", "", "with --matrix: compare with this moment")
	f.BoolVar(&m.differs, "differs", false, "with --matrix: only rows that differ from what is compared with")
	c.RegisterFlagCompletionFunc("tables", a.completeObjects)
	c.RegisterFlagCompletionFunc("columns", a.completeObjects)
	c.RegisterFlagCompletionFunc("within", a.completeSubjects(""))
	c.RegisterFlagCompletionFunc("beside", a.completeSubjects(""))
}

// run fetches all rows and columns, and shows them.
func (m *matrixFlags) run(c *cobra.Command, a *app) error {
	q := url.Values{"in": {m.tables + m.columns}, "kind": {m.kind}, "within": {m.within}, "label": {m.label}, "beside": {m.beside},
		"beside_draft": {m.besideDraft}, "beside_at": {m.with}, "limit": {"1000"}, "columns": {"500"}}
	for name, on := range map[string]bool{"writes": m.writes, "direct": m.direct, "has": m.has, "differs": m.differs} {
		if on {
			q.Set(name, "true")
		}
	}
	if m.schemas {
		q.Set("level", "schemas")
	}
	if m.unused > 0 {
		q.Set("unused", strconv.Itoa(m.unused))
	}
	var all wire.AccessMatrix
	for {
		got, err := client.Get[wire.AccessMatrix](c.Context(), a.connect(), "/access-matrix", q)
		if err != nil {
			return err
		}
		got.Rows = append(all.Rows, got.Rows...)
		if all = got; all.Next == "" {
			return a.showMatrix(all)
		}
		q.Set("after", all.Next)
	}
}

func (a *app) showMatrix(all wire.AccessMatrix) error {
	g := grid{head: []string{"subject"}}
	for _, c := range all.Columns {
		g.head = append(g.head, c.Name)
	}
	for _, r := range all.Rows {
		line := []string{r.Subject}
		for i, cell := range r.Cells {
			shown := digits(cell)
			if slices.Contains(r.Lit, i) {
				shown += " " + a.mark("→", text.FgYellow) + " " + digits(r.Other[i])
			}
			line = append(line, shown)
		}
		g.rows = append(g.rows, line)
	}
	if a.output != "table" {
		return a.show(all, g)
	}
	if len(all.Rows) == 0 {
		fmt.Fprintln(a.out, "No subject is like that.")
		return nil
	}
	if err := a.show(all, g); err != nil {
		return err
	}
	if all.Behind > 0 {
		fmt.Fprintf(a.out, "… and %d more across.\n", all.Behind)
	}
	if all.Beside != "" {
		fmt.Fprintf(a.out, "After an arrow: what differs %s.\n", all.Beside)
	}
	fmt.Fprintln(a.out, "\n"+glyphHelp)
	return nil
}

// digits shows a cell of a matrix as the band glyph.
func digits(cell string) string {
	return strings.NewReplacer("2", "█", "1", "▒", "0", "·").Replace(cell)
}
