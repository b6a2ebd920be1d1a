package cli

import (
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

func (a *app) record(root *cobra.Command) {
	f := recordFlags{}
	c := &cobra.Command{
		Use: "audit [REFERENCE]", Short: "The record of who did what, and of what was refused", GroupID: "look", Args: words(0, 1),
		Example: "  gneiss audit --decision refused\n  gneiss audit --label contact --from 2026-11-01\n  gneiss audit R-17\n" +
			"  gneiss audit --follow\n  gneiss audit --all -o jsonl > record.jsonl\n  gneiss audit chart --days 90\n  gneiss audit verify",
		RunE: func(c *cobra.Command, args []string) error {
			switch {
			case len(args) == 1:
				return a.showRecord(c, args[0])
			case f.follow && (f.before != "" || c.Flags().Changed("limit")):
				return usageError{errors.New("--follow shows new records as they come; leave out --before and --limit")}
			case f.follow:
				return a.followRecord(c, f.query())
			case f.all || a.output == "jsonl":
				return a.allRecords(c, f.query())
			}
			list, err := client.Get[wire.List[wire.Record]](c.Context(), a.connect(), "/records", f.query())
			if err != nil {
				return err
			}
			if len(list.Items) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "No such records.")
				return nil
			}
			if err := a.show(list, recordGrid(list.Items)); err != nil || a.output != "table" {
				return err
			}
			if list.Next != "" {
				fmt.Fprintf(a.out, "\nOlder: gneiss audit --before %s\n", list.Next)
			}
			return nil
		},
	}
	f.register(c, a)
	verify := a.verify("Check that no entry was altered or is gone", "/records/verification")
	var anchor string
	verify.Flags().StringVar(&anchor, "anchor", "", "a file that gneiss audit anchor wrote: it is in both chains as it was")
	checked := verify.RunE
	verify.RunE = func(c *cobra.Command, args []string) error {
		if anchor == "" {
			return checked(c, args)
		}
		return a.verifyAnchor(c, anchor)
	}
	c.AddCommand(verify, a.anchor(), a.recordChart(), a.prune())
	root.AddCommand(c)
}

// recordFlags are what records are searched by.
type recordFlags struct {
	actor, action, decision, contains, label, before, from, until, address, client, object, purpose, role string
	limit                                                                                                 int
	running, others, all, follow                                                                          bool
}

func (f *recordFlags) register(c *cobra.Command, a *app) {
	flags := c.Flags()
	flags.StringVar(&f.actor, "who", "", "a subject: as itself, or stood in for")
	flags.StringVar(&f.action, "action", "", "what the record is of, such as query, change or sign-in")
	flags.StringVar(&f.decision, "decision", "", "allowed, refused, failed or unknown")
	flags.StringVar(&f.contains, "contains", "", "a text in the statement, the objects or the reason")
	flags.StringVar(&f.label, "label", "", "a label that what was read or written has")
	flags.StringVar(&f.object, "object", "", "a source, schema, table or column that was read or written")
	flags.StringVar(&f.from, "from", "", "a day or time: then or later")
	flags.StringVar(&f.until, "until", "", "a day, which is included, or a time")
	flags.StringVar(&f.address, "address", "", "where it came from")
	flags.StringVar(&f.client, "with", "", "the program that it came from")
	flags.StringVar(&f.purpose, "purpose", "", "a purpose that was declared")
	flags.StringVar(&f.role, "role", "", "a role by which it was allowed, or that was acted in")
	flags.BoolVar(&f.others, "others", false, "only what somebody did as somebody else")
	flags.BoolVar(&f.running, "running", false, "only what has not ended")
	flags.StringVar(&f.before, "before", "", "only records before this one")
	flags.IntVar(&f.limit, "limit", 50, "records at the most")
	flags.BoolVar(&f.all, "all", false, "all of them, newest first, as they come: with -o csv or -o jsonl for programs")
	flags.BoolVar(&f.follow, "follow", false, "those that come from now on, until Ctrl-C")
	c.RegisterFlagCompletionFunc("who", a.completeSubjects(""))
	c.RegisterFlagCompletionFunc("role", a.completeSubjects("role"))
	c.RegisterFlagCompletionFunc("label", a.completeLabels)
	c.RegisterFlagCompletionFunc("object", a.completeObjects)
}

func (f *recordFlags) query() url.Values {
	yes := map[bool]string{true: "true"}
	return query(wire.Standpoint{}, "actor", f.actor, "action", f.action, "decision", f.decision, "contains", f.contains, "label", f.label,
		"object", f.object, "from", f.from, "until", f.until, "address", f.address, "client", f.client, "purpose", f.purpose, "role", f.role, "others", yes[f.others],
		"running", yes[f.running], "before", f.before, "limit", strconv.Itoa(f.limit))
}

func recordGrid(list []wire.Record) grid {
	g := grid{head: []string{"record", "at", "who", "as", "with", "did", "decision", "rows", "what"}, right: map[int]bool{7: true}}
	for _, r := range list {
		g.rows = append(g.rows, recordLine(r))
	}
	return g
}

func recordLine(r wire.Record) []string {
	what := strings.Join(strings.Fields(r.Text), " ")
	if r.Reason != "" && r.Decision != "allowed" {
		what += " — " + r.Reason
	}
	rows := fmt.Sprint(r.Rows)
	if r.Status == "running" {
		rows = "runs"
	}
	return []string{r.Reference, r.At.Local().Format("01-02 15:04:05"), r.Actor, r.Standpoint, r.Client, r.Action, r.Decision, rows, what}
}

// verify is a command that checks a chain.
func (a *app) verify(short, path string) *cobra.Command {
	return &cobra.Command{
		Use:   "verify",
		Short: short,
		Args:  words(0, 0),
		RunE:  func(c *cobra.Command, _ []string) error { return a.verified(c, path) },
	}
}

// verified says whether a chain holds. The exit code is 4 where it does not.
func (a *app) verified(c *cobra.Command, path string) error {
	v, err := client.Get[wire.Verification](c.Context(), a.connect(), path, nil)
	if err != nil {
		return err
	}
	switch {
	case a.output != "table":
		err = a.show(v, grid{})
	case v.Holds:
		_, err = fmt.Fprintf(a.out, "The %s is intact: %d entries. The last is %d, with the hash\n%s\n", v.Chain, v.Entries, v.Last, v.Hash)
	default:
		_, err = fmt.Fprintf(a.out, "The %s is not intact: %s. The %d entries before that are.\n", v.Chain, v.Problem, v.Entries)
	}
	if err == nil && !v.Holds {
		err = &exit{ExitCheck}
	}
	return err
}

// statuses are what is said of whether something has ended.
var statuses = map[string]string{"ended": "ended", "running": "running", "unknown": "not known: the service stopped before it ended"}

func (a *app) showRecord(c *cobra.Command, ref string) error {
	r, err := client.Get[wire.Record](c.Context(), a.connect(), "/records/"+url.PathEscape(ref), nil)
	if err != nil {
		return err
	}
	g := grid{head: []string{"what", "value"}, rows: [][]string{{"record", r.Reference}, {"at", r.At.Local().Format("2006-01-02 15:04:05.000")},
		{"who", r.Actor + either(r.Standpoint, " as "+r.Standpoint, "")}, {"did", r.Action}, {"decision", r.Decision}, {"reason", r.Reason},
		{
			"missing",
			strings.Join(r.Missing, ", "),
		}, {"objects", strings.Join(r.Objects, ", ")}, {"labels", strings.Join(r.Labels, ", ")}, {"rows", fmt.Sprint(r.Rows)},
		{"took", fmt.Sprintf("%.1f ms", r.TookMS)}, {"from", r.Address}, {"with", r.Client}, {"status", statuses[r.Status]}, {"text", r.Text}}}
	if err := a.show(r, g); err != nil || a.output != "table" {
		return err
	}
	if len(r.Fixes) > 0 {
		fmt.Fprintln(a.out)
	}
	printFixes(a.out, r.Fixes)
	return nil
}
