package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

// reviews adds deciding whether people's access is right, and signing that.
func (a *app) reviews(root *cobra.Command) {
	parent := &cobra.Command{Use: "review", Short: "Review who has what, decide, and sign it", GroupID: "session",
		Long: `A review lists what people have in a scope: by person, and by the group or role that gives it
to them. Reviewers keep it, revoke it, or keep it until a day. Closing makes the revocations one
revision, and signs the review: its digest goes into the journal's chain.`,
		Example: `  gneiss review open q4 --scope survey.licensing --due 2026-12-15
  gneiss review show q4
  gneiss review decide q4 3 5-9 keep
  gneiss review decide q4 4 until --day 2027-03-31 --word "leaves in spring"
  gneiss review close q4
  gneiss review verify q4`}
	parent.AddCommand(a.openReview(), a.listReviews(), a.showReview(), a.decideReview(), a.handReview(), a.closeReview(), a.verifyReview())
	root.AddCommand(parent)
}

func (a *app) openReview() *cobra.Command {
	var in wire.ReviewRequest
	var scope []string
	c := &cobra.Command{Use: "open NAME", Short: "Open a review", Args: words(1, 1),
		Example: "  gneiss review open q4 --scope survey.licensing --due 2026-12-15\n" +
			"  gneiss review open partners --scope role:partner,label:finance --due 2026-12-15",
		RunE: func(c *cobra.Command, args []string) error {
			in.Name = args[0]
			for _, s := range commas(scope) {
				switch kind, _, _ := strings.Cut(s, ":"); kind {
				case "role":
					in.Scope.Roles = append(in.Scope.Roles, s)
				case "label":
					in.Scope.Labels = append(in.Scope.Labels, s)
				case "user", "service", "group":
					in.Scope.Subjects = append(in.Scope.Subjects, s)
				default:
					in.Scope.Objects = append(in.Scope.Objects, s)
				}
			}
			return a.doneOr(client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/reviews", in))
		}}
	c.Flags().StringSliceVar(&scope, "scope", nil, "what to review: objects, role:NAME, label:NAME, user:NAME, group:NAME")
	c.Flags().StringVar(&in.Due, "due", "", "the day by which it is to be done")
	c.Flags().StringVar(&in.Reviewer, "reviewer", "", "who decides; the owners of the objects when not given")
	c.Flags().StringVar(&in.Reason, "reason", "", "why; it becomes the reason of what is revoked")
	c.Flags().BoolVar(&in.DryRun, "dry-run", false, "say how many items there would be, and do nothing")
	return c
}

func (a *app) listReviews() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the reviews, and how far they are", Args: words(0, 0), RunE: func(c *cobra.Command, _ []string) error {
		found, err := client.Get[wire.List[wire.Review]](c.Context(), a.connect(), "/reviews", nil)
		if err != nil {
			return err
		}
		if len(found.Items) == 0 && a.output == "table" {
			fmt.Fprintln(a.out, "There is no review, or none with anything of yours to decide.\n"+
				"Administrators open one: gneiss review open NAME --scope OBJECT --due DAY")
			return nil
		}
		g := grid{head: []string{"review", "of", "due", "status", "decided", "to revoke", "yours", "waits for"}, right: map[int]bool{4: true, 5: true, 6: true}}
		for _, r := range found.Items {
			status := r.Status
			switch {
			case r.Late:
				status = a.mark("late", text.FgRed)
			case r.Signed > 0:
				status = fmt.Sprintf("signed by revision %d", r.Signed)
			}
			g.rows = append(g.rows, []string{r.Name, r.Says, r.Due, status, fmt.Sprintf("%d of %d", r.Decided, r.Items), fmt.Sprint(r.Revokes),
				fmt.Sprint(r.Yours), waitsFor(r)})
		}
		return a.show(found.Items, g)
	}}
}

func waitsFor(r wire.Review) string {
	var parts []string
	for _, w := range r.Waiting {
		who := either(w.Reviewer, w.Reviewer, "administrators")
		if w.Gone {
			who += ", who is gone"
		}
		parts = append(parts, fmt.Sprintf("%s (%d)", who, w.Open))
	}
	return strings.Join(parts, "; ")
}

func (a *app) showReview() *cobra.Command {
	var open, mine bool
	c := &cobra.Command{Use: "show NAME", Short: "What there is to decide in a review", Args: words(1, 1),
		Example: "  gneiss review show q4 --open\n  gneiss review show q4 -o csv > q4.csv",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := client.Get[wire.ReviewPage](c.Context(), a.connect(), "/reviews/"+url.PathEscape(args[0]), url.Values{"all": {"true"}})
			if err != nil {
				return err
			}
			g := grid{head: []string{"item", "who", "through", "has", "since", "by", "queries", "last", "look at", "beside last", "decision", "by whom", "word"},
				right: map[int]bool{0: true, 6: true}}
			for _, i := range r.List {
				if open && i.Decision != "" || mine && !i.Yours {
					continue
				}
				beside := i.Changed
				if i.Before != "" {
					beside += ", " + i.Before
				}
				g.rows = append(g.rows, []string{fmt.Sprint(i.Number), i.Subject, either(i.Via, i.Via, "own grants"), strings.Join(i.Has, ", "), i.Since, i.By,
					fmt.Sprint(i.Queries), i.Last, strings.Join(i.Findings, ", "), beside, strings.TrimSpace(i.Decision + " " + i.End), i.Decider, i.Word})
			}
			if a.output != "table" {
				return a.show(r, g)
			}
			fmt.Fprintf(a.out, "The review %s of %s, opened by %s on revision %d, due on %s: %d of %d decided, %d to revoke or end\n", r.Name, r.Says, r.By,
				r.Revision, r.Due, r.Decided, r.Items, r.Revokes)
			if len(g.rows) == 0 {
				fmt.Fprintln(a.out, "No item is like that.")
				return nil
			}
			return a.show(r, g)
		}}
	c.Flags().BoolVar(&open, "open", false, "only what is not decided")
	c.Flags().BoolVar(&mine, "mine", false, "only what is yours to decide")
	return c
}

// numbers reads items: 3, or 5-9.
func numbers(args []string) ([]int, error) {
	var out []int
	for _, arg := range commas(args) {
		first, last, isRange := strings.Cut(arg, "-")
		from, err := strconv.Atoi(first)
		until := from
		if err == nil && isRange {
			until, err = strconv.Atoi(last)
		}
		if err != nil || from < 1 || until < from || until-from > 100_000 {
			return nil, usageError{fmt.Errorf("an item is a number, or some are 5-9, not %q", arg)}
		}
		for n := from; n <= until; n++ {
			out = append(out, n)
		}
	}
	return out, nil
}

// sendDecision decides items as the caller has just seen them.
func (a *app) sendDecision(c *cobra.Command, name string, items []string, in wire.ReviewDecision) error {
	var err error
	if in.Items, err = numbers(items); err != nil {
		return err
	}
	now, err := client.Get[wire.ReviewPage](c.Context(), a.connect(), "/reviews/"+url.PathEscape(name), nil)
	if err != nil {
		return err
	}
	in.Version = now.Version
	return a.doneOr(client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/reviews/"+url.PathEscape(name)+"/decisions", in))
}

func (a *app) decideReview() *cobra.Command {
	var in wire.ReviewDecision
	c := &cobra.Command{Use: "decide NAME ITEM… (keep | revoke | until | undo)", Short: "Decide items", Args: words(3, -1),
		Example: "  gneiss review decide q4 3 5-9 keep\n  gneiss review decide q4 4 until --day 2027-03-31",
		RunE: func(c *cobra.Command, args []string) error {
			in.Decision = args[len(args)-1]
			return a.sendDecision(c, args[0], args[1:len(args)-1], in)
		}}
	c.Flags().StringVar(&in.Until, "day", "", "with until: the day")
	c.Flags().StringVar(&in.Word, "word", "", "why")
	return c
}

func (a *app) handReview() *cobra.Command {
	return &cobra.Command{Use: "hand NAME ITEM… SUBJECT", Short: "Hand items on to somebody who knows", Args: words(3, -1),
		Example: "  gneiss review hand q4 4-6 user:garnet", RunE: func(c *cobra.Command, args []string) error {
			return a.sendDecision(c, args[0], args[1:len(args)-1], wire.ReviewDecision{Decision: "hand", To: args[len(args)-1]})
		}}
}

func (a *app) closeReview() *cobra.Command {
	var in wire.ReviewClose
	c := &cobra.Command{Use: "close NAME", Short: "Revoke what is to be revoked, and sign the review", Args: words(1, 1),
		RunE: func(c *cobra.Command, args []string) error {
			return a.twice(c, func() (wire.Changed, error) {
				return client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/reviews/"+url.PathEscape(args[0])+"/closing", in)
			})
		}}
	c.Flags().StringVar(&in.Draft, "into", "", "put what is revoked into a new draft of this name, and not into force")
	c.Flags().StringVar(&in.Reason, "reason", "", "why; the review's reason when not given")
	c.Flags().BoolVar(&a.dry, "dry-run", false, "show what it would do to whom, and do nothing")
	return c
}

func (a *app) verifyReview() *cobra.Command {
	return &cobra.Command{Use: "verify NAME", Short: "Whether a closed review is what was signed", Args: words(1, 1),
		Long: "Whether a closed review is what was signed, by its digest in the journal, whose chain is\nchecked. The exit code is 4 where it is not.",
		RunE: func(c *cobra.Command, args []string) error {
			out, err := client.Get[wire.ReviewVerified](c.Context(), a.connect(), "/reviews/"+url.PathEscape(args[0])+"/verification", nil)
			if err != nil {
				return err
			}
			if a.output != "table" {
				err = a.show(out, grid{})
			} else {
				fmt.Fprintf(a.out, "%s.\nSHA-256: %s\n", strings.ToUpper(out.Says[:1])+out.Says[1:], out.Digest)
			}
			if err == nil && !out.Holds {
				return &exit{ExitCheck}
			}
			return err
		}}
}
