package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

func (a *app) record(root *cobra.Command) {
	var actor, action, decision, contains, label, before string
	var limit int
	var running bool
	c := &cobra.Command{
		Use: "audit [REFERENCE | verify]", Short: "The record of who did what, and of what was refused", GroupID: "look", Args: words(0, 1),
		Example: "  gneiss audit --decision refused\n  gneiss audit --label contact\n  gneiss audit R-17\n  gneiss audit verify",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 1 && args[0] == "verify" {
				return a.verified(c, "/records/verification")
			}
			if len(args) == 1 {
				return a.showRecord(c, args[0])
			}
			q := query(
				wire.Standpoint{},
				"actor",
				actor,
				"action",
				action,
				"decision",
				decision,
				"contains",
				contains,
				"label",
				label,
				"running",
				map[bool]string{true: "true"}[running],
				"before",
				before,
				"limit",
				strconv.Itoa(limit),
			)
			list, err := client.Get[wire.List[wire.Record]](c.Context(), a.connect(), "/records", q)
			if err != nil {
				return err
			}
			g := grid{head: []string{"record", "at", "who", "as", "with", "did", "decision", "rows", "what"}, right: map[int]bool{7: true}}
			for _, r := range list.Items {
				what := strings.Join(strings.Fields(r.Text), " ")
				if r.Reason != "" && r.Decision != "allowed" {
					what += " — " + r.Reason
				}
				rows := fmt.Sprint(r.Rows)
				if r.Status == "running" {
					rows = "runs"
				}
				g.rows = append(g.rows, []string{r.Reference, r.At.Local().Format("01-02 15:04:05"), r.Actor, r.Standpoint, r.Client, r.Action,
					r.Decision, rows, what})
			}
			if len(g.rows) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "No such records.")
				return nil
			}
			if err := a.show(list, g); err != nil || a.output != "table" {
				return err
			}
			if list.Next != "" {
				fmt.Fprintf(a.out, "\nOlder: gneiss audit --before %s\n", list.Next)
			}
			return nil
		},
	}
	c.Flags().StringVar(&actor, "who", "", "a subject: as itself, or stood in for")
	c.Flags().StringVar(&action, "action", "", "what the record is of, such as query, change or sign-in")
	c.Flags().StringVar(&decision, "decision", "", "allowed, refused or failed")
	c.Flags().StringVar(&contains, "contains", "", "a text in the statement, the objects or the reason")
	c.Flags().StringVar(&label, "label", "", "a label that what was read or written has")
	c.Flags().BoolVar(&running, "running", false, "only what has not ended")
	c.Flags().StringVar(&before, "before", "", "only records before this one")
	c.Flags().IntVar(&limit, "limit", 50, "records at the most")
	c.RegisterFlagCompletionFunc("who", a.completeSubjects(""))
	c.RegisterFlagCompletionFunc("label", a.completeLabels)
	root.AddCommand(c)
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
