package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

func (a *app) querying(root *cobra.Command) {
	var plan bool
	var limit int
	var lane string
	var params []string
	var safe bool
	run := &cobra.Command{
		Use: "query SQL", Short: "Run a governed query, or a statement that changes rows, rights or the role", GroupID: "look", Args: words(1, 1),
		Long: "Run a query as yourself or from another standpoint. The rows are those that the\n" +
			"standpoint may see, with treated values. A - as the SQL reads standard input.\n\n" +
			"SELECT, INSERT, UPDATE, DELETE, on PostgreSQL MERGE, and EXPLAIN of these; GRANT and REVOKE;\n" +
			"CREATE and DROP of ROLE and VIEW; SET ROLE.",
		Example: "  gneiss query \"select district, count(*) from survey.drilling.boreholes group by district\" --as user:flint -o csv\n" +
			"  gneiss query \"select name from survey.drilling.boreholes where id = \\$1\" --param 17 --show-plan",
		RunE: func(c *cobra.Command, args []string) error {
			in := wire.QueryRequest{SQL: args[0], Plan: plan, CSVSafe: safe, Limit: limit, Lane: lane, Standpoint: a.at}
			if args[0] == "-" {
				text, err := io.ReadAll(a.in)
				if err != nil {
					return err
				}
				in.SQL = string(text)
			}
			for _, p := range params {
				var v any
				d := json.NewDecoder(strings.NewReader(p))
				d.UseNumber() // whole numbers stay exact
				if d.Decode(&v) != nil || d.More() {
					v = p // a text without quotes
				}
				in.Params = append(in.Params, v)
			}
			if a.output == "csv" && !plan {
				return a.streamCSV(c, in)
			}
			out, err := client.Send[wire.Result](c.Context(), a.connect(), "POST", "/queries", in)
			if err != nil {
				return err
			}
			return a.showResult(out, plan, limit)
		},
	}
	run.Flags().BoolVar(&plan, "show-plan", false, "print the governed SQL, its policies and the database's plan")
	run.Flags().IntVar(&limit, "limit", 0, "rows at the most")
	run.Flags().BoolVar(&safe, "csv-safe", false, "in CSV, put an apostrophe before texts that a spreadsheet would take for formulas")
	run.Flags().StringVar(&lane, "lane", "", "run on this lane; the first that is open when not given")
	run.Flags().StringArrayVar(&params, "param", nil, "the value of $1, $2 and so on")
	a.standpoint(run)

	var beside, policies []string
	var shown int // which has a default of its own
	preview := &cobra.Command{
		Use: "preview TABLE", Short: "The rows of a table from two or more standpoints, side by side", GroupID: "look", Args: words(1, 1),
		Example: "  gneiss preview survey.licensing.holders --as user:flint --beside user:garnet\n" +
			"  gneiss preview survey.drilling.boreholes --as user:tuff --draft portal-2027 --beside user:tuff", ValidArgsFunction: a.completeObjects,
		RunE: func(c *cobra.Command, args []string) error {
			in := wire.PreviewRequest{Table: args[0], Limit: shown, Drafts: policies, Standpoints: []wire.PreviewPoint{{Standpoint: a.at, Moment: a.moment}}}
			for _, other := range beside {
				in.Standpoints = append(in.Standpoints, wire.PreviewPoint{Standpoint: wire.Standpoint{As: other, Purpose: a.at.Purpose}})
			}
			service := a.connect()
			service.Moment = wire.Moment{} // each side has its own
			out, err := client.Send[wire.Preview](c.Context(), service, "POST", "/previews", in)
			if err != nil {
				return err
			}
			return a.showPreview(out)
		},
	}
	preview.Flags().StringSliceVar(&policies, "with-policy", nil, "a policy that is not live: the rows are shown a second time, as if it were")
	preview.RegisterFlagCompletionFunc("with-policy", a.completePolicies)
	preview.Flags().IntVar(&shown, "limit", 10, "rows at the most")
	preview.Flags().StringArrayVar(&beside, "beside", nil, "another standpoint to compare with, as of now")
	preview.RegisterFlagCompletionFunc("beside", a.completeSubjects(""))
	a.standpoint(preview)
	root.AddCommand(run, preview)
}

// streamCSV copies the service's own CSV.
func (a *app) streamCSV(c *cobra.Command, in wire.QueryRequest) error {
	body, err := a.connect().Raw(c.Context(), "POST", "/queries", nil, in, "text/csv")
	if err != nil {
		return err
	}
	defer body.Close()
	from := &progress{Reader: body, out: a.err, shown: onTerminal(a.err)}
	_, err = io.Copy(a.out, from)
	from.end()
	if err != nil {
		return fmt.Errorf("the answer broke off, so the rows above are not all; gneiss audit has the reason (%w)", err)
	}
	return nil
}

// A progress tells on a terminal how much of a long answer has come.
type progress struct {
	io.Reader
	out     io.Writer
	shown   bool
	began   time.Time
	last    time.Time
	bytes   int64
	lines   int64
	printed bool
}

// progressAfter is how long an answer takes before its progress is told, and how often then.
const progressAfter = 500 * time.Millisecond

func (p *progress) Read(b []byte) (int, error) {
	n, err := p.Reader.Read(b)
	now := time.Now()
	if p.began.IsZero() {
		p.began, p.last = now, now
	}
	p.bytes += int64(n)
	p.lines += int64(bytes.Count(b[:n], []byte{'\n'}))
	if p.shown && now.Sub(p.last) > progressAfter {
		p.last, p.printed = now, true
		fmt.Fprintf(p.out, "\r%d lines, %.1f MB, %s ", p.lines, float64(p.bytes)/1e6, now.Sub(p.began).Round(time.Second))
	}
	return n, err
}

// end takes the last report away.
func (p *progress) end() {
	if p.printed {
		fmt.Fprint(p.out, "\r\x1b[K")
	}
}

func (a *app) showResult(r wire.Result, planned bool, limit int) error {
	g := grid{right: map[int]bool{}}
	for i, c := range r.Columns {
		g.head = append(g.head, c.Name)
		g.right[i] = isNumber(c.Type)
	}
	for _, row := range r.Rows {
		line := make([]string, len(row))
		for i, v := range row {
			line[i] = cell(v)
		}
		g.rows = append(g.rows, line)
	}
	if a.output != "table" {
		return a.show(r, g)
	}
	if err := a.table(g); err != nil {
		return err
	}
	more := ""
	switch {
	case r.Truncated && len(r.Rows) == limit:
		more = "; there are more, --limit shows them"
	case r.Truncated:
		more = "; there are more, and the lane lets no more through"
	}
	where := ""
	if r.Lane != "" {
		where = " on lane:" + r.Lane
	}
	fmt.Fprintf(a.out, "\n%s as %s%s in %.1f ms%s (%s)\n", rowsSay(int64(len(r.Rows))), r.Standpoint, where, r.TookMS, more, r.Record)
	if planned && r.Plan == nil {
		fmt.Fprintln(a.out, "What ran is shown only to those who may DESCRIBE the tables.")
	}
	if p := r.Plan; p != nil {
		a.head("Governed SQL")
		fmt.Fprintln(a.out, p.SQL)
		for _, v := range p.Args {
			fmt.Fprintf(a.out, "  %s\n", v)
		}
		a.head("Shaped by")
		fmt.Fprintln(a.out, orNoneLines(p.Policies, "no policy: the tables are read as they are"))
		a.head("The database's plan")
		fmt.Fprintln(a.out, orNoneLines(p.Database, "none"))
	}
	return nil
}

func rowsSay(n int64) string {
	if n == 1 {
		return "1 row"
	}
	return fmt.Sprintf("%d rows", n)
}

func orNoneLines(lines []string, none string) string {
	if len(lines) == 0 {
		return none
	}
	return strings.Join(lines, "\n")
}

// cell is a value in a table for people: NULL is shown, so that it is not taken
// for an empty text.
func cell(v any) string {
	switch v := v.(type) {
	case nil:
		return "∅"
	case string:
		return v
	case json.Number:
		return v.String()
	}
	return fmt.Sprint(v)
}

// showPreview writes each row once per side where they differ.
func (a *app) showPreview(p wire.Preview) error {
	g := grid{head: []string{"as"}, right: map[int]bool{}}
	for i, c := range p.Columns {
		g.head = append(g.head, c.Name)
		g.right[i+1] = isNumber(c.Type)
	}
	for _, row := range p.Rows {
		for i, side := range row.Sides {
			g.rows = append(g.rows, a.previewLine(p, row, i, side))
		}
	}
	if a.output != "table" {
		return a.show(p, g)
	}
	for _, s := range p.Sides {
		fmt.Fprintf(a.out, "%s  %s  %s; %s\n", glyph(s.Bands), s.Standpoint, rowsSay(s.Count), s.Bands.Says)
		if s.Problem != "" {
			fmt.Fprintf(a.out, "      %s\n", s.Problem)
		}
	}
	if len(p.Rows) == 0 {
		fmt.Fprintln(a.out, "\nNo rows.")
		return nil
	}
	fmt.Fprintln(a.out)
	if err := a.table(g); err != nil {
		return err
	}
	if len(p.Sides) > 1 {
		how := "rows are matched by " + p.Key
		if !p.Matched {
			how = "rows are matched by place, for no key is in clear on every side"
		}
		fmt.Fprintf(a.out, "\n≠ differs from the first; – is not there; %s\n", how)
	}
	return nil
}

func (a *app) previewLine(p wire.Preview, row wire.PreviewRow, i int, side []any) []string {
	line := []string{p.Sides[i].Standpoint}
	for j := range p.Columns {
		switch {
		case side == nil:
			line = append(line, "–")
		case i > 0 && row.Differs[j] && row.Sides[0] != nil && cell(row.Sides[0][j]) != cell(side[j]):
			line = append(line, a.mark("≠ "+cell(side[j]), text.Bold))
		default:
			line = append(line, cell(side[j]))
		}
	}
	return line
}

// isNumber reports whether a type's values are numbers, which stand at the right of their
// column.
func isNumber(name string) bool {
	base, _, _ := strings.Cut(name, "(")
	return slices.Contains([]string{"smallint", "integer", "bigint", "numeric", "real", "double precision"}, base)
}
