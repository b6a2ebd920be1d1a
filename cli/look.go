package cli

import (
	"cmp"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

// query makes the parameters of a standpoint.
func query(at wire.Standpoint, more ...string) url.Values {
	q := url.Values{}
	more = append(more, "as", at.As, "role", at.Role, "purpose", at.Purpose)
	for i := 0; i < len(more); i += 2 {
		if more[i+1] != "" {
			q.Set(more[i], more[i+1])
		}
	}
	return q
}

func (a *app) look(root *cobra.Command) {
	depth := 0
	tree := &cobra.Command{
		Use: "tree [OBJECT]", Short: "List what there is, as you or another subject sees it", GroupID: "look", Args: words(0, 1),
		Example: "  gneiss tree survey --as user:flint", ValidArgsFunction: a.completeObjects,
		RunE: func(c *cobra.Command, args []string) error {
			path := strings.Join(args, "")
			levels := depth
			if levels == 0 {
				levels = max(3-strings.Count(path, ".")-min(len(path), 1), 1)
			}
			n, err := client.Get[wire.Node](c.Context(), a.connect(), "/tree", query(a.at, "path", path, "depth", strconv.Itoa(levels)))
			if err != nil {
				return err
			}
			g := grid{head: []string{"object", "bands", "kind", "access"}}
			addNode(&g, n, 0)
			if err := a.show(n, g); err != nil {
				return err
			}
			if a.output == "table" {
				fmt.Fprintln(a.out, "\n"+glyphHelp)
			}
			return nil
		},
	}
	tree.Flags().IntVar(&depth, "depth", 0, "levels to show; down to the tables when not given")
	a.standpoint(tree)

	show := &cobra.Command{
		Use: "show OBJECT-OR-SUBJECT", Short: "Say what something is and what touches it", GroupID: "look", Args: words(1, 1),
		Example: "  gneiss show survey.drilling.boreholes\n  gneiss show role:survey_reader\n  gneiss show label:contact", ValidArgsFunction: a.completeAny,
		RunE: func(c *cobra.Command, args []string) error {
			kind, _, _ := strings.Cut(args[0], ":")
			if slices.Contains([]string{"user", "service", "group", "role", "public"}, kind) {
				return a.showSubject(c, args[0])
			}
			return a.showObject(c, args[0])
		},
	}
	a.standpoint(show)
	root.AddCommand(tree, show)
}

func addNode(g *grid, n wire.Node, depth int) {
	name := n.Name
	if depth == 0 {
		name = n.Path
	}
	kind := n.Kind
	switch {
	case n.Kind == "source" && n.Type != "":
		kind += ", " + n.Type
	case n.Kind == "routine":
		kind += ", gives " + n.Type
	case n.Type != "":
		kind = cmp.Or(n.Declared, n.Type)
	case n.Declared != "":
		kind = n.Declared
	}
	if n.Missing {
		kind += ", missing"
	}
	g.rows = append(g.rows, []string{strings.Repeat("  ", depth) + name, glyph(n.Bands), kind, n.Bands.Says})
	for _, child := range n.Children {
		addNode(g, child, depth+1)
	}
}

func (a *app) showObject(c *cobra.Command, path string) error {
	o, err := client.Get[wire.Object](c.Context(), a.connect(), "/object", query(a.at, "path", path))
	if err != nil || a.output == "json" || a.output == "yaml" {
		if err == nil {
			err = a.show(o, grid{})
		}
		return err
	}
	if a.output == "csv" {
		return a.show(o, columnGrid(o.Columns))
	}
	fmt.Fprintf(a.out, "%s  %s  %s\n%s; you may: %s\n", o.Path, o.Kind, glyph(o.Bands), o.Bands.Says, privilegesSay(o.Privileges))
	if o.Comment != "" {
		fmt.Fprintln(a.out, o.Comment)
	}
	if o.PastPolicies {
		fmt.Fprintln(a.out, "It may read tables: who may EXECUTE it gets what it gives, whatever policies hide.")
	}
	if len(o.Missing) > 0 {
		fmt.Fprintf(a.out, "To use it you would need %s.\n", strings.Join(o.Missing, ", "))
	}
	if o.Owner != "" {
		fmt.Fprintf(a.out, "Owned by %s%s.\n", o.Owner, map[bool]string{false: ", the owner of what it is in"}[o.OwnOwner])
	}
	if o.Limits != nil {
		fmt.Fprintf(
			a.out,
			"Limits: %d at once, %d seconds, %d rows, %d MiB.\n",
			o.Limits.Queries,
			o.Limits.Seconds,
			o.Limits.Rows,
			o.Limits.Bytes>>20,
		)
	}
	if len(o.ReadBy) > 0 {
		fmt.Fprintf(a.out, "Also read through %s: SELECT there gives what policies leave of it.\n", strings.Join(o.ReadBy, ", "))
	}
	if o.View != nil {
		a.head("View")
		fmt.Fprintf(
			a.out,
			"reads its tables with the rights of its %s\n%s\n",
			either(o.View.Rights, map[string]string{"owner": "owner " + o.View.Owner, "reader": "reader"}[o.View.Rights], ""),
			cmp.Or(o.View.Text, "its text is sealed"),
		)
	}
	if len(o.Columns) > 0 {
		a.head("Columns")
		if err := a.table(columnGrid(o.Columns)); err != nil {
			return err
		}
	}
	if len(o.Policies) > 0 {
		a.head("Policies")
		for _, p := range o.Policies {
			fmt.Fprintf(a.out, "%s (%s): %s.\n", p.Name, p.Status, p.Sentence)
			if p.Broken != "" {
				fmt.Fprintf(a.out, "  BROKEN: %s. The table is closed until this is fixed.\n", p.Broken)
			}
		}
	}
	if len(o.Grants) > 0 {
		a.head("Grants")
		return a.table(grantGrid(o.Grants))
	}
	return nil
}

func (a *app) head(title string) { fmt.Fprintf(a.out, "\n%s\n", title) }

func orNone(list []string) string { return joinedOr(list, "nothing") }

func columnGrid(columns []wire.ColumnView) grid {
	g := grid{head: []string{"column", "type", "labels", "appears", "by"}}
	for _, c := range columns {
		appears := c.Says
		switch {
		case !c.Readable:
			appears = "not granted"
		case c.Revealed:
			appears = "in clear, by REVEAL"
		case c.Conflict:
			appears += " (conflict)"
		}
		by := strings.Join(c.By, ", ")
		if len(c.Lost) > 0 {
			by += "; overruled: " + strings.Join(c.Lost, ", ")
		}
		g.rows = append(g.rows, []string{c.Name, cmp.Or(c.Declared, c.Type), strings.Join(c.Labels, ", "), appears, strings.TrimPrefix(by, "; ")})
	}
	return g
}

func (a *app) showSubject(c *cobra.Command, ref string) error {
	s, err := client.Get[wire.SubjectPage](c.Context(), a.connect(), "/subjects/"+url.PathEscape(ref), nil)
	if err != nil || a.output != "table" {
		if err == nil {
			err = a.show(s, grantGrid(append(s.Own, s.Inherited...)))
		}
		return err
	}
	fmt.Fprintf(a.out, "%s  %s\n", s.Ref, s.Title)
	if s.Disabled {
		fmt.Fprintln(a.out, "disabled")
	}
	for _, name := range slices.Sorted(maps.Keys(s.Attributes)) {
		fmt.Fprintf(a.out, "%s = {%s}\n", name, strings.Join(s.Attributes[name], ", "))
	}
	if s.Lead != "" {
		fmt.Fprintf(a.out, "reports to %s\n", s.Lead)
	}
	if len(s.Reports) > 0 {
		fmt.Fprintf(a.out, "leads %s\n", strings.Join(s.Reports, ", "))
	}
	for _, m := range s.Memberships {
		fmt.Fprintf(a.out, "has %s%s\n", m.Of, untilSays(m))
	}
	if s.Kind == "role" || s.Kind == "group" {
		fmt.Fprintf(a.out, "held by %s; users and services in all: %d\n", orNone(s.Members), s.Holders)
	}
	if len(s.Policies) > 0 {
		fmt.Fprintf(a.out, "named by the policies %s\n", strings.Join(s.Policies, ", "))
	}
	a.head("Own grants")
	if err := a.grantsOrNone(s.Own); err != nil {
		return err
	}
	a.head("Inherited grants")
	return a.grantsOrNone(s.Inherited)
}

func untilSays(m wire.Membership) string {
	says := ""
	if m.Until != nil {
		says += " until " + m.Until.Local().Format("2006-01-02")
	}
	if m.Option {
		says += ", with admin option"
	}
	if m.Ticket != "" {
		says += ", ticket " + m.Ticket
	}
	return says
}

func (a *app) grantsOrNone(list []wire.Grant) error {
	if len(list) == 0 {
		fmt.Fprintln(a.out, "none")
		return nil
	}
	return a.table(grantGrid(list))
}

func grantGrid(list []wire.Grant) grid {
	g := grid{head: []string{"privilege", "object", "to", "by", "since", "note"}}
	for _, x := range list {
		since := ""
		if !x.At.IsZero() {
			since = x.At.Format("2006-01-02")
		}
		var notes []string
		if len(x.Gives) > 0 {
			notes = append(notes, "gives "+strings.Join(x.Gives, ", "))
		}
		if x.Owns != "" {
			notes = append(notes, "as the owner of "+x.Owns)
		}
		if x.Option && x.Owns == "" {
			notes = append(notes, "grant option")
		}
		if x.Until != nil {
			notes = append(notes, "until "+x.Until.Format("2006-01-02"))
		}
		if x.Ticket != "" {
			notes = append(notes, x.Ticket)
		}
		if x.Dormant != "" {
			note := "DORMANT: " + x.Dormant
			if x.Fix != nil {
				note += "; to change that: " + strings.Join(commands(*x.Fix), "; ")
			}
			notes = append(notes, note)
		}
		g.rows = append(g.rows, []string{x.Privilege, x.Object, x.Subject, x.Grantor, since, strings.Join(notes, "; ")})
	}
	return g
}
