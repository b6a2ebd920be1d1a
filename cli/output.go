package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"

	"gneiss/wire"
)

// grid is what is shown as a table or CSV.
type grid struct {
	head []string
	rows [][]string
	// right marks columns of numbers.
	right map[int]bool
}

// show writes an answer in the form that is asked for. Value is what programs
// get; g is what people get.
func (a *app) show(value any, g grid) error {
	switch a.output {
	case "json":
		return writeJSON(a.out, value)
	case "yaml":
		// By way of JSON, so that names and omissions are the same.
		encoded, err := json.Marshal(value)
		if err != nil {
			return err
		}
		converted, err := yaml.JSONToYAML(encoded)
		if err != nil {
			return err
		}
		_, err = a.out.Write(converted)
		return err
	case "csv":
		return writeCSV(a.out, g)
	case "table":
		return a.table(g)
	}
	return usageError{fmt.Errorf("--output is one of table, json, yaml and csv, not %q", a.output)}
}

func writeJSON(w io.Writer, value any) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(value)
}

func writeCSV(w io.Writer, g grid) error {
	c := csv.NewWriter(w)
	if err := c.Write(g.head); err != nil {
		return err
	}
	if err := c.WriteAll(g.rows); err != nil {
		return err
	}
	c.Flush()
	return c.Error()
}

// table writes an aligned table, fitted to the terminal where there is one.
func (a *app) table(g grid) error {
	t := table.NewWriter()
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	head := make(table.Row, len(g.head))
	for i, h := range g.head {
		head[i] = h
	}
	t.AppendHeader(head)
	for _, r := range g.rows {
		row := make(table.Row, len(r))
		for i, v := range r {
			row[i] = strings.ReplaceAll(v, "\n", "⏎")
		}
		t.AppendRow(row)
	}
	var configs []table.ColumnConfig
	fitted := g.fit(a.width())
	for i := range g.head {
		c := table.ColumnConfig{Number: i + 1, WidthMax: fitted[i], WidthMaxEnforcer: text.WrapSoft}
		if g.right[i] {
			c.Align, c.AlignHeader = text.AlignRight, text.AlignRight
		}
		configs = append(configs, c)
	}
	t.SetColumnConfigs(configs)
	for _, line := range strings.Split(t.Render(), "\n") {
		if _, err := fmt.Fprintln(a.out, strings.TrimRight(line, " ")); err != nil {
			return err
		}
	}
	return nil
}

// narrowest is what a column keeps when a table is fitted to the terminal.
const narrowest = 16

// fit gives each column its width, so that the table fits the width of the
// terminal: the widest give way first. Width zero is no bound.
func (g grid) fit(width int) []int {
	widths := make([]int, len(g.head))
	total := 0
	for i, h := range g.head {
		widths[i] = text.StringWidthWithoutEscSequences(h)
		for _, r := range g.rows {
			widths[i] = max(widths[i], text.StringWidthWithoutEscSequences(r[i]))
		}
		total += widths[i] + 2
	}
	for width > 0 && total > width {
		widest := 0
		for i := range widths {
			if widths[i] > widths[widest] {
				widest = i
			}
		}
		if widths[widest] <= narrowest {
			break
		}
		widths[widest]--
		total--
	}
	return widths
}

// width is that of the terminal, or what COLUMNS says; zero when the output goes
// elsewhere.
func (a *app) width() int {
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n > 0 {
		return n
	}
	return a.terminal()
}

func (a *app) terminal() int {
	f, ok := file(a.out)
	if !ok {
		return 0
	}
	w, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return w
}

// coloured reports whether colour is wanted: on a terminal, unless NO_COLOR.
func (a *app) coloured() bool { return a.terminal() > 0 && os.Getenv("NO_COLOR") == "" }

func (a *app) mark(s string, colours ...text.Color) string {
	if !a.coloured() {
		return s
	}
	return text.Colors(colours).EscapeSeq() + s + text.Reset.EscapeSeq()
}

// glyph is the band glyph in four characters: door, verbs, rows, columns.
func glyph(b wire.Bands) string {
	marks := map[string]string{"full": "█", "hatched": "▒", "empty": "·"}
	return marks[b.Door] + marks[b.Verbs] + marks[b.Rows] + marks[b.Columns]
}

const glyphHelp = "Bands: door, verbs, rows, columns; each █ full, ▒ in part, · not"

// done prints what a change did, to whom.
func (a *app) done(c wire.Changed) error {
	if a.output != "table" {
		return a.show(c, changedGrid(c))
	}
	for _, s := range c.Says {
		switch {
		case c.DryRun:
			s = "would have " + s
		case c.Draft != "":
			s = "in the draft: " + s
		}
		fmt.Fprintln(a.out, strings.ToUpper(s[:1])+s[1:]+".")
	}
	a.effects(c)
	switch {
	case c.Done && c.Draft != "":
		fmt.Fprintf(a.out, "It is in the draft %[1]s, and takes effect when that is published: gneiss draft publish %[1]s\n", c.Draft)
	case c.Revised:
		fmt.Fprintf(a.out, "Revision %d.\n", c.Revision)
	case !c.Done:
		fmt.Fprintln(a.out, "Nothing was changed.")
	}
	return nil
}

func (a *app) effects(c wire.Changed) {
	for _, e := range c.Effects {
		for _, g := range e.Gains {
			fmt.Fprintf(a.out, "  %s %s gains %s\n", a.mark("+", text.FgGreen), e.Subject, g)
		}
		for _, l := range e.Loses {
			fmt.Fprintf(a.out, "  %s %s loses %s\n", a.mark("-", text.FgRed), e.Subject, l)
		}
	}
	if c.More {
		fmt.Fprintln(a.out, "  … and more than can be listed")
	}
	for _, n := range c.Notes {
		fmt.Fprintf(a.out, "Note: %s.\n", n)
	}
}

func changedGrid(c wire.Changed) grid {
	g := grid{head: []string{"subject", "change", "what"}}
	for _, e := range c.Effects {
		for _, x := range e.Gains {
			g.rows = append(g.rows, []string{e.Subject, "gains", x})
		}
		for _, x := range e.Loses {
			g.rows = append(g.rows, []string{e.Subject, "loses", x})
		}
	}
	return g
}

// confirm shows what a change would do and asks whether to make it. Without an
// answer nothing is changed.
func (a *app) confirm(would wire.Changed) error {
	if a.yes {
		return nil
	}
	fmt.Fprintln(a.err, "This would have "+strings.Join(would.Says, "; ")+".")
	for _, e := range would.Effects {
		for _, x := range e.Gains {
			fmt.Fprintf(a.err, "  + %s gains %s\n", e.Subject, x)
		}
		for _, x := range e.Loses {
			fmt.Fprintf(a.err, "  - %s loses %s\n", e.Subject, x)
		}
	}
	for _, n := range would.Notes {
		fmt.Fprintf(a.err, "Note: %s.\n", n)
	}
	fmt.Fprint(a.err, "Go on? [y/N] ")
	var answer string
	fmt.Fscanln(a.in, &answer)
	if strings.HasPrefix(strings.ToLower(answer), "y") {
		return nil
	}
	fmt.Fprintln(a.err, "Nothing was changed. (--yes does not ask.)")
	return &exit{ExitFailed}
}
