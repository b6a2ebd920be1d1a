package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

// allRecords writes records as the service sends them, so that any number takes the same memory.
func (a *app) allRecords(c *cobra.Command, q url.Values) error {
	if !c.Flags().Changed("limit") {
		q.Del("limit")
	}
	form := "application/jsonl"
	if a.output == "csv" {
		form = "text/csv"
	}
	body, err := a.connect().Raw(c.Context(), "GET", "/records", q, nil, form)
	if err != nil {
		return err
	}
	defer body.Close()
	if a.output != "table" {
		_, err = io.Copy(a.out, body)
		return err
	}
	for d := json.NewDecoder(body); ; {
		var r wire.Record
		if err := d.Decode(&r); err == io.EOF {
			return nil
		} else if err != nil {
			return fmt.Errorf("the record broke off: %w", err)
		}
		if _, err := fmt.Fprintln(a.out, strings.Join(recordLine(r), "  ")); err != nil {
			return err
		}
	}
}

// followAgain is how long after a stream of records has ended it is asked for again.
const followAgain = 300 * time.Millisecond

// followRecord writes records as they are made, from one stream after another.
func (a *app) followRecord(c *cobra.Command, q url.Values) error {
	q.Del("before")
	q.Del("limit")
	for c.Context().Err() == nil {
		body, err := a.connect().Raw(c.Context(), "GET", "/records", q, nil, "text/event-stream")
		if err != nil {
			if c.Context().Err() != nil {
				return nil // which is how following ends
			}
			return err
		}
		err = a.followed(body, func(last string) { q.Set("behind", last) })
		body.Close()
		if err != nil {
			return err
		}
		select {
		case <-time.After(followAgain):
		case <-c.Context().Done():
		}
	}
	return nil
}

// mostOfEvent bounds one line of a stream, in bytes.
const mostOfEvent = 1 << 20

// followed writes the records of one stream of server-sent events, and says which was the last.
func (a *app) followed(body io.Reader, last func(string)) error {
	lines := bufio.NewScanner(body)
	lines.Buffer(nil, mostOfEvent)
	for lines.Scan() {
		field, value, _ := strings.Cut(lines.Text(), ": ")
		switch field {
		case "id":
			last(value)
		case "data":
			var r wire.Record
			err := json.Unmarshal([]byte(value), &r)
			if err == nil && a.output == "table" {
				_, err = fmt.Fprintln(a.out, strings.Join(slices.DeleteFunc(recordLine(r), func(s string) bool { return s == "" }), "  "))
			} else if err == nil {
				_, err = fmt.Fprintln(a.out, value)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil // however it ended: it is asked for again, and then told why not
}

// anchor writes the heads of both chains.
func (a *app) anchor() *cobra.Command {
	return &cobra.Command{Use: "anchor", Short: "Write the heads of both chains, to be kept elsewhere", Args: words(0, 0),
		Long: `Write the heads of the record and of the journal as JSON. Kept where nobody who could alter the
records can reach it, it proves later that nothing before it was altered.`,
		Example: "  gneiss audit anchor > anchor-2026-11.json\n  gneiss audit verify --anchor anchor-2026-11.json",
		RunE: func(c *cobra.Command, _ []string) error {
			out, err := client.Get[wire.Anchor](c.Context(), a.connect(), "/anchor", nil)
			if err != nil {
				return err
			}
			return json.NewEncoder(a.out).Encode(out)
		}}
}

func (a *app) verifyAnchor(c *cobra.Command, path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	var anchor wire.Anchor
	if err := json.Unmarshal(text, &anchor); err != nil {
		return usageError{fmt.Errorf("%s is no anchor: %w", path, err)}
	}
	v, err := client.Send[wire.Verification](c.Context(), a.connect(), "POST", "/anchor/verification", anchor)
	if err != nil {
		return err
	}
	switch {
	case a.output != "table":
		err = a.show(v, grid{})
	case v.Holds:
		fmt.Fprintf(a.out, "Both chains are intact, and have the anchor of %s in them as it was.\n", anchor.At.Local().Format("2006-01-02 15:04"))
	default:
		fmt.Fprintf(a.out, "It does not hold: %s.\n", v.Problem)
	}
	if err == nil && !v.Holds {
		err = &exit{ExitCheck}
	}
	return err
}

// prune takes old records away.
func (a *app) prune() *cobra.Command {
	var in wire.Pruning
	c := &cobra.Command{Use: "prune", Short: "Take old records away", Args: words(0, 0),
		Long: `Take away the records from before a day. What was counted of them stays; the chain of the
others can be checked as before. The last 30 days are kept in any case. A service does so by
itself with --keep-record.`,
		Example: "  gneiss audit prune --before 2026-01-01 --reason \"kept for a year\"",
		RunE: func(c *cobra.Command, _ []string) error {
			return a.twice(c, func() (wire.Changed, error) {
				return client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/records/pruning", in)
			})
		}}
	c.Flags().StringVar(&in.Before, "before", "", "the day")
	c.Flags().StringVar(&in.Reason, "reason", "", "why; kept on record")
	c.Flags().BoolVar(&a.dry, "dry-run", false, "say how many there are, and do nothing")
	return c
}

// recordChart shows sensitive access over time.
func (a *app) recordChart() *cobra.Command {
	var days int
	var label, actor string
	c := &cobra.Command{Use: "chart", Short: "Sensitive access over time, and what stands out", Args: words(0, 0),
		Example: "  gneiss audit chart --days 90\n  gneiss audit chart --label finance --who user:garnet",
		RunE: func(c *cobra.Command, _ []string) error {
			if days < 1 {
				return usageError{errors.New("name a number of days from 1 on with --days")}
			}
			from := time.Now().UTC().AddDate(0, 0, 1-days).Format(time.DateOnly)
			out, err := client.Get[wire.RecordCounts](c.Context(), a.connect(), "/record-counts", query(wire.Standpoint{}, "from", from, "label", label, "actor", actor))
			if err != nil {
				return err
			}
			return a.showCounts(out, actor)
		}}
	c.Flags().IntVar(&days, "days", 90, "how far back")
	c.Flags().StringVar(&label, "label", "", "of one label only")
	c.Flags().StringVar(&actor, "who", "", "of one person only")
	c.RegisterFlagCompletionFunc("label", a.completeLabels)
	c.RegisterFlagCompletionFunc("who", a.completeSubjects("user"))
	return c
}

func (a *app) showCounts(out wire.RecordCounts, of string) error {
	g := grid{head: []string{"of", "rows a day", "records", "rows", "most in a day"}, right: map[int]bool{2: true, 3: true, 4: true}}
	for _, s := range out.Labels {
		g.rows = append(g.rows, []string{s.Name + either(s.Level, " ("+s.Level+")", ""), spark(s.Rows), fmt.Sprint(sum(s.N)), fmt.Sprint(sum(s.Rows)),
			fmt.Sprint(slices.Max(append(s.Rows, 0)))})
	}
	for _, s := range []struct {
		name string
		n    []int64
	}{{"statements", out.Queries}, {"refusals", out.Refused}, {"changes", out.Changes}} {
		if len(s.n) == 0 {
			continue // of one label or person
		}
		g.rows = append(g.rows, []string{s.name, spark(s.n), fmt.Sprint(sum(s.n)), "", fmt.Sprint(slices.Max(append(s.n, 0)))})
	}
	if len(g.rows) == 0 && a.output == "table" {
		fmt.Fprintf(a.out, "Nothing like that was read from %s to %s.\n", out.From, out.Until)
		return nil
	}
	if err := a.show(out, g); err != nil || a.output != "table" {
		return err
	}
	fmt.Fprintf(a.out, "From %s to %s; each mark is %s.\n", out.From, out.Until, markSays(len(out.Days)))
	for _, part := range []struct {
		title string
		list  []wire.CountTotal
	}{{"Who", out.People}, {"Tables", out.Tables}, {"Roles", out.Roles}, {"Purposes", out.Purposes}, {"From where", out.Addresses},
		{"As somebody else", out.ForOthers}} {
		if len(part.list) == 0 {
			continue
		}
		t := grid{head: []string{strings.ToLower(part.title), "records", "rows"}, right: map[int]bool{1: true, 2: true}}
		for _, p := range part.list {
			rows := fmt.Sprint(p.Rows)
			if of != "" && (part.title == "Tables" || part.title == "Roles") {
				rows = "" // of one person's statements, which are counted apart from their rows
			}
			t.rows = append(t.rows, []string{p.Name, fmt.Sprint(p.N), rows})
		}
		fmt.Fprintln(a.out)
		if err := a.show(nil, t); err != nil {
			return err
		}
	}
	fmt.Fprintln(a.out, "\nWhat stands out:")
	for _, u := range out.Unusual {
		fmt.Fprintf(a.out, "  %s  %s\n", u.Day, u.Says)
	}
	if len(out.Unusual) == 0 {
		fmt.Fprintln(a.out, "  nothing")
	}
	return nil
}

func sum(list []int64) (n int64) {
	for _, x := range list {
		n += x
	}
	return n
}

// mostMarks is how wide a chart in the terminal is.
const mostMarks = 45

// perMark is how many days one mark is.
func perMark(days int) int { return (days + mostMarks - 1) / mostMarks }

func markSays(days int) string {
	if n := perMark(days); n > 1 {
		return fmt.Sprintf("%d days", n)
	}
	return "a day"
}

// spark draws numbers, each mark higher with more.
func spark(list []int64) string {
	per := max(perMark(len(list)), 1)
	var sums []int64
	for i := 0; i < len(list); i += per {
		sums = append(sums, sum(list[i:min(i+per, len(list))]))
	}
	most := slices.Max(append(sums, 1))
	var b strings.Builder
	for _, n := range sums {
		if n == 0 {
			b.WriteRune('·')
			continue
		}
		b.WriteRune([]rune("▁▂▃▄▅▆▇█")[min(7*n/most, 7)])
	}
	return b.String()
}
