package cli

import (
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

// drafts adds what is tried before, and what is taken back after.
func (a *app) drafts(root *cobra.Command) {
	parent := &cobra.Command{Use: "draft", Short: "Sets of changes that are tried before they are made", GroupID: "change",
		Long: `A draft holds changes that take no effect until it is published. Every command that
changes something puts it into one with --draft NAME, and every command that looks
can look through it. Publishing makes all of it one revision.`,
		Example: `  gneiss draft open portal-2027 --reason "partners see depths"
  gneiss grant select on survey.drilling to role:partner --draft portal-2027
  gneiss draft impact portal-2027
  gneiss draft publish portal-2027`}
	var reason, from string
	open := &cobra.Command{Use: "open NAME", Short: "Open a draft", Args: words(1, 1),
		Example: "  gneiss draft open portal-2027 --reason \"partners see depths\"\n  gneiss draft open portal-2027 --from portal-2027.json",
		RunE: func(c *cobra.Command, args []string) error {
			in := wire.DraftRequest{}
			if from != "" {
				text, err := os.ReadFile(from)
				if err != nil {
					return err
				}
				if err := json.Unmarshal(text, &in); err != nil {
					return usageError{fmt.Errorf("%s is no draft that was exported: %w", from, err)}
				}
			}
			if in.Name = args[0]; reason != "" {
				in.Reason = reason
			}
			return a.doneOr(client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/drafts", in))
		}}
	open.Flags().StringVar(&from, "from", "", "a file that gneiss draft export wrote: with its changes")
	export := &cobra.Command{Use: "export NAME", Short: "Write a draft as JSON, to be opened elsewhere", Args: words(1, 1), ValidArgsFunction: a.completeDrafts,
		Example: "  gneiss draft export portal-2027 > portal-2027.json",
		RunE: func(c *cobra.Command, args []string) error {
			d, err := client.Get[wire.DraftText](c.Context(), a.connect(), "/drafts/"+url.PathEscape(args[0])+"/changes", nil)
			if err != nil {
				return err
			}
			text, err := json.MarshalIndent(d, "", "  ")
			if err != nil {
				return err
			}
			fmt.Fprintln(a.out, string(text))
			return nil
		}}
	open.Flags().StringVar(&reason, "reason", "", "why; it becomes the revision's")
	list := &cobra.Command{Use: "list", Short: "List the open drafts, and the last that were closed", Args: words(0, 0),
		RunE: func(c *cobra.Command, _ []string) error {
			found, err := client.Get[wire.List[wire.Draft]](c.Context(), a.connect(), "/drafts", nil)
			if err != nil {
				return err
			}
			if len(found.Items) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "There is no draft yet. Open one: gneiss draft open NAME")
				return nil
			}
			g := grid{head: []string{"draft", "status", "changes", "by", "opened", "reason", "note"}, right: map[int]bool{2: true}}
			for _, d := range found.Items {
				note := ""
				switch {
				case d.Revision != 0:
					note = fmt.Sprintf("revision %d, by %s", d.Revision, d.ClosedBy)
				case d.ClosedBy != "":
					note = "by " + d.ClosedBy
				case d.Misfits > 0:
					note = fmt.Sprintf("%d no longer fit", d.Misfits)
				}
				g.rows = append(g.rows, []string{d.Name, d.Status, fmt.Sprint(len(d.Steps)), d.By, d.Opened.Local().Format("2006-01-02 15:04"), d.Reason, note})
			}
			return a.show(found.Items, g)
		}}
	show := &cobra.Command{Use: "show NAME", Short: "What is in a draft", Args: words(1, 1), ValidArgsFunction: a.completeDrafts,
		RunE: func(c *cobra.Command, args []string) error {
			d, err := client.Get[wire.Draft](c.Context(), a.connect(), "/drafts/"+url.PathEscape(args[0]), nil)
			if err != nil {
				return err
			}
			return a.showDraft(d)
		}}
	impact := &cobra.Command{Use: "impact NAME", Short: "Who would gain and who would lose what by it", Args: words(1, 1), ValidArgsFunction: a.completeDrafts,
		RunE: func(c *cobra.Command, args []string) error {
			out, err := client.Get[wire.Impact](c.Context(), a.connect(), "/drafts/"+url.PathEscape(args[0])+"/impact", nil)
			if err != nil {
				return err
			}
			return a.showImpact(out)
		}}
	publish := &cobra.Command{Use: "publish NAME", Short: "Make all of it one revision", Args: words(1, 1), ValidArgsFunction: a.completeDrafts,
		RunE: func(c *cobra.Command, args []string) error {
			return a.twice(c, func() (wire.Changed, error) {
				return client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/drafts/"+url.PathEscape(args[0])+"/publication", wire.Change{Reason: reason})
			})
		}}
	publish.Flags().StringVar(&a.aside, "set-aside", "", "a guardrail that it may break; it takes a --reason")
	publish.Flags().StringVar(&reason, "reason", "", "why; the draft's reason when not given")
	drop := &cobra.Command{Use: "drop NAME", Short: "Drop it, with all that is in it", Args: words(1, 1), ValidArgsFunction: a.completeDrafts,
		RunE: func(c *cobra.Command, args []string) error {
			var out wire.Changed
			service := a.connect()
			if !a.yes && !a.dry {
				service.DryRun = true
				if err := service.Do(c.Context(), "DELETE", "/drafts/"+url.PathEscape(args[0]), nil, nil, &out); err != nil {
					return err
				}
				if err := a.confirm(out); err != nil {
					return err
				}
				service.DryRun = false
			}
			err := service.Do(c.Context(), "DELETE", "/drafts/"+url.PathEscape(args[0]), nil, nil, &out)
			return a.doneOr(out, err)
		}}
	remove := &cobra.Command{Use: "remove NAME NUMBER", Short: "Take one change out of a draft", Args: words(2, 2), ValidArgsFunction: a.completeDrafts,
		Example: "  gneiss draft remove portal-2027 3",
		RunE: func(c *cobra.Command, args []string) error {
			if _, err := strconv.Atoi(args[1]); err != nil {
				return usageError{fmt.Errorf("name the change by its number, as gneiss draft show %s lists it, not %q", args[0], args[1])}
			}
			var out wire.Changed
			err := a.connect().Do(c.Context(), "DELETE", "/drafts/"+url.PathEscape(args[0])+"/steps/"+url.PathEscape(args[1]), nil, nil, &out)
			return a.doneOr(out, err)
		}}
	parent.AddCommand(open, list, show, export, impact, publish, drop, remove)
	root.AddCommand(parent, a.history(), a.undo())
}

func (a *app) showDraft(d wire.Draft) error {
	g := grid{head: []string{"", "change", "by", "when", "note"}, right: map[int]bool{0: true}}
	for _, s := range d.Steps {
		note := s.Reason
		if s.Misfit != "" {
			note = "does not fit: " + s.Misfit
		}
		g.rows = append(g.rows, []string{fmt.Sprint(s.Number), strings.Join(s.Says, "; "), s.By, s.At.Local().Format("01-02 15:04"), note})
	}
	if a.output != "table" {
		return a.show(d, g)
	}
	fmt.Fprintf(a.out, "The draft %s, opened by %s on %s, on revision %d", d.Name, d.By, d.Opened.Local().Format("2006-01-02 15:04"), d.Base)
	if d.Reason != "" {
		fmt.Fprintf(a.out, ": %s", d.Reason)
	}
	fmt.Fprintln(a.out)
	if len(d.Steps) == 0 {
		fmt.Fprintf(a.out, "Nothing is in it yet. Commands that change something take --draft %s.\n", d.Name)
		return nil
	}
	if err := a.show(d, g); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "What it would do to whom: gneiss draft impact %s\n", d.Name)
	return nil
}

func (a *app) showImpact(x wire.Impact) error {
	g := grid{head: []string{"table", "subject", "rows now", "with it", "what"}, right: map[int]bool{2: true, 3: true}}
	rows := func(n *int64) string {
		if n == nil {
			return "–"
		}
		return strconv.FormatInt(*n, 10)
	}
	for _, t := range x.Tables {
		what := strings.Join(t.Columns, "; ")
		if t.Note != "" {
			what += " (" + t.Note + ")"
		}
		g.rows = append(g.rows, []string{t.Table, t.Subject, rows(t.Before), rows(t.After), what})
	}
	if a.output != "table" {
		return a.show(x, g)
	}
	fmt.Fprintf(a.out, "The draft %s, on revision %d:\n", x.Draft, x.Revision)
	for _, s := range x.Says {
		fmt.Fprintf(a.out, "  %s\n", s)
	}
	if len(x.Effects) == 0 {
		fmt.Fprintln(a.out, "Nobody gains or loses anything by it.")
	}
	a.effects(wire.Changed{Effects: x.Effects, More: x.More, Notes: x.Notes})
	if len(x.Tables) > 0 {
		fmt.Fprintln(a.out)
		if err := a.show(x, g); err != nil {
			return err
		}
	}
	for _, p := range x.Between {
		fmt.Fprintf(a.out, "Since it was opened: revision %d by %s: %s\n", p.Revision, p.By, strings.Join(p.Says, "; "))
	}
	for _, b := range x.Breaks {
		fmt.Fprintf(a.out, "%s It breaks the %s %s (%s): %s\n", a.mark("⊘", text.FgRed), map[string]string{"test": "access test",
			"guardrail": "guardrail"}[b.Kind], b.Name, b.Sentence,
			strings.Join(b.Says, "; "))
	}
	for _, m := range x.Misfits {
		fmt.Fprintf(a.out, "%s %s\n", a.mark("!", text.FgRed), m)
	}
	return nil
}

// history adds the journal, as people read it.
func (a *app) history() *cobra.Command {
	var of string
	var limit, before int
	c := &cobra.Command{Use: "history", Short: "Who changed what, when and why, newest first", GroupID: "look", Args: words(0, 0),
		Example: "  gneiss history --of survey.drilling.boreholes\n  gneiss history --of user:flint --limit 10",
		RunE: func(c *cobra.Command, _ []string) error {
			q := query(wire.Standpoint{}, "of", of, "limit", strconv.Itoa(limit))
			if before > 0 {
				q.Set("after", strconv.Itoa(before))
			}
			found, err := client.Get[wire.List[wire.Past]](c.Context(), a.connect(), "/history", q)
			if err != nil {
				return err
			}
			if len(found.Items) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "No revision is about that.")
				return nil
			}
			g := grid{head: []string{"revision", "when", "by", "what", "why"}, right: map[int]bool{0: true}}
			for _, p := range found.Items {
				why := p.Reason
				if p.Draft != "" {
					why = strings.TrimPrefix(why+"; the draft "+p.Draft, "; ")
				}
				if len(p.Names) > 0 {
					why = strings.TrimPrefix(why+"; named "+strings.Join(p.Names, ", "), "; ")
				}
				g.rows = append(g.rows, []string{fmt.Sprint(p.Revision), p.At.Local().Format("2006-01-02 15:04"), p.By, strings.Join(p.Says, "; "), why})
			}
			if err := a.show(found, g); err != nil {
				return err
			}
			if found.Next != "" && a.output == "table" {
				fmt.Fprintf(a.out, "There are older ones: --before %s\n", found.Next)
			}
			return nil
		}}
	c.Flags().StringVar(&of, "of", "", "only revisions about this object, subject or policy")
	c.Flags().IntVar(&limit, "limit", 20, "revisions at the most")
	c.Flags().IntVar(&before, "before", 0, "only revisions before this one")
	c.RegisterFlagCompletionFunc("of", a.completeAny)
	name := &cobra.Command{Use: "name REVISION NAME", Short: "Give a revision a name, by which --at finds it", Args: words(2, 2),
		Example: "  gneiss history name 118 audit-2026",
		RunE: func(c *cobra.Command, args []string) error {
			n, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil || n < 1 {
				return usageError{fmt.Errorf("a revision is a number, as gneiss history lists it, not %q", args[0])}
			}
			return a.doneOr(client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/revision-names", wire.RevisionName{Name: args[1], Revision: n}))
		}}
	c.AddCommand(name, a.verify("Check that no change in the journal was altered or is gone", "/journal/verification"))
	return c
}

func (a *app) showBetween(c *cobra.Command, at, with, of string) error {
	x, err := client.Get[wire.Between](c.Context(), a.connect(), "/moments", query(wire.Standpoint{}, "from", at, "with", with, "of", of))
	if err != nil {
		return err
	}
	if a.output != "table" {
		return a.show(x, changedGrid(wire.Changed{Effects: x.Effects}))
	}
	fmt.Fprintf(a.out, "From revision %d to %d:\n", x.At, x.With)
	if of == "" {
		for _, d := range x.Differs {
			fmt.Fprintf(a.out, "  %s %s\n", d.How, d.Name)
		}
		if x.More > 0 {
			fmt.Fprintf(a.out, "  … and %d more\n", x.More)
		}
	}
	if len(x.Effects) == 0 {
		fmt.Fprintln(a.out, "Nobody gained or lost anything.")
	}
	a.effects(wire.Changed{Effects: x.Effects, More: x.Bounded})
	return nil
}

// undo adds the command that takes revisions back.
func (a *app) undo() *cobra.Command {
	var reason string
	c := &cobra.Command{Use: "undo REVISION…", Short: "Take revisions back, by a new one", GroupID: "change", Args: words(1, -1),
		Example: "  gneiss undo 118\n  gneiss undo 118 117 --draft back-to-october",
		RunE: func(c *cobra.Command, args []string) error {
			in := wire.UndoRequest{Change: wire.Change{Reason: reason}}
			for _, text := range args {
				n, err := strconv.ParseInt(text, 10, 64)
				if err != nil {
					return usageError{fmt.Errorf("a revision is a number, as gneiss history lists it, not %q", text)}
				}
				in.Revisions = append(in.Revisions, n)
			}
			return a.twice(c, func() (wire.Changed, error) {
				return client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/undo", in)
			})
		}}
	c.Flags().StringVar(&reason, "reason", "", "why; kept in the journal")
	return c
}

// completeDrafts completes the names of open drafts.
func (a *app) completeDrafts(c *cobra.Command, _ []string, toComplete string) ([]string, cobra.ShellCompDirective) {
	service := a.connect()
	service.Moment = wire.Moment{}
	found, err := client.Get[wire.List[wire.Draft]](c.Context(), service, "/drafts", nil)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var names []string
	for _, d := range found.Items {
		if d.Status == "open" && strings.HasPrefix(d.Name, toComplete) {
			names = append(names, d.Name)
		}
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}
