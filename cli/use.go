package cli

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

// use adds which rights are used.
func (a *app) use(root *cobra.Command) {
	var of, draft string
	var days int
	var unused, tests bool
	c := &cobra.Command{Use: "use", Short: "Which grants, memberships and roles queries needed", GroupID: "look", Args: words(0, 0),
		Long: `Which grants, memberships and roles the queries of the last days needed, how often, of how
many people, and when last. With --unused: those that nobody used, and grants that are far wider
than their use. Rights that only serve to administer (MANAGE, DESCRIBE, AUDIT, CREATE) are left
out.`,
		Example: "  gneiss use --of role:survey_reader --days 90\n  gneiss use --unused --days 90\n" +
			"  gneiss use --unused --of user:flint --take-back less-for-flint --with-tests",
		RunE: func(c *cobra.Command, _ []string) error {
			if days < 1 {
				return usageError{errors.New("name a number of days from 1 on with --days")}
			}
			if draft != "" {
				return a.doneOr(client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/use/take-back",
					wire.TakeBackRequest{Of: of, Days: days, Draft: draft, Tests: tests}))
			}
			if of == "" && !unused {
				return usageError{errors.New("name a subject with --of, or ask for what nobody used with --unused")}
			}
			asked := query(wire.Standpoint{}, "of", of, "days", strconv.Itoa(days))
			if unused {
				asked.Set("unused", "true")
			}
			out, err := client.Get[wire.UseReport](c.Context(), a.connect(), "/use", asked)
			if err != nil {
				return err
			}
			return a.showUse(out, unused)
		}}
	c.Flags().StringVar(&of, "of", "", "a subject: what it has, and how that is used")
	c.Flags().IntVar(&days, "days", 90, "how far back to look")
	c.Flags().BoolVar(&unused, "unused", false, "what nobody used, and what is far wider than its use")
	c.Flags().StringVar(&draft, "take-back", "", "open a draft of this name with what takes back what nobody used")
	c.Flags().BoolVar(&tests, "with-tests", false, "with an access test of each table that was used")
	c.RegisterFlagCompletionFunc("of", a.completeSubjects(""))
	root.AddCommand(c)
}

func (a *app) showUse(out wire.UseReport, unused bool) error {
	g := grid{head: []string{"kind", "what", "queries", "people", "last", "note"}, right: map[int]bool{2: true, 3: true}}
	for _, i := range out.Items {
		note := i.Note
		switch {
		case i.New && i.Last == "":
			note = "new, since " + i.Since.Format("2006-01-02")
		case i.Last == "" && i.Note == "" && i.Since != nil && i.Since.Year() > 1:
			note = "given on " + i.Since.Format("2006-01-02")
		case note == "" && i.Of > 1:
			note = fmt.Sprintf("%d of %d tables", i.Reads, i.Of)
		}
		last := either(i.Last, i.Last, either(i.Note, "not counted", "never"))
		g.rows = append(g.rows, []string{i.Kind, i.Says, fmt.Sprint(i.Queries), fmt.Sprint(i.People), last, note})
	}
	if a.output != "table" {
		return a.show(out, g)
	}
	since := fmt.Sprintf("since %s", out.Since.Format("2006-01-02"))
	if out.Short {
		since += fmt.Sprintf(" (use has not been counted for %d days yet)", out.Days)
	}
	if len(out.Items) == 0 {
		what := map[bool]string{true: "There is nothing that nobody used", false: "There is nothing to use"}[unused]
		fmt.Fprintf(a.out, "%s, %s.\n", what, since)
		return nil
	}
	if err := a.show(out, g); err != nil {
		return err
	}
	if out.More > 0 {
		fmt.Fprintf(a.out, "… and %d more.\n", out.More)
	}
	if len(out.Tables) > 0 {
		t := grid{head: []string{"table", "queries", "last", "columns that were read"}, right: map[int]bool{1: true}}
		for _, x := range out.Tables {
			t.rows = append(t.rows, []string{x.Table, fmt.Sprint(x.Queries), x.Last, strings.Join(x.Columns, ", ")})
		}
		fmt.Fprintln(a.out)
		if err := a.show(out, t); err != nil {
			return err
		}
	}
	fmt.Fprintf(a.out, "%d queries counted, %s.\n", out.Queries, since)
	return nil
}
