package cli

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

// requests adds asking to be given something.
func (a *app) requests(root *cobra.Command) {
	parent := &cobra.Command{Use: "request", Short: "Ask for access, and decide what others ask for", GroupID: "session",
		Example: `  gneiss request access select on survey.assay.results --reason "results for the spring report"
  gneiss request access --refusal R-5120 --reason "results for the spring report"
  gneiss request list
  gneiss request grant 3 --until 2027-03-31`}
	var status string
	list := &cobra.Command{Use: "list", Short: "List your requests, and those that are yours to decide", Args: words(0, 0),
		RunE: func(c *cobra.Command, _ []string) error {
			found, err := client.Get[wire.List[wire.Requested]](c.Context(), a.connect(), "/requests", query(wire.Standpoint{}, "status", status))
			if err != nil {
				return err
			}
			if len(found.Items) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "There is no request. Ask for something: gneiss request access PRIVILEGE on OBJECT --reason WHY")
				return nil
			}
			g := grid{head: []string{"request", "when", "by", "asks for", "why", "status", "answer"}, right: map[int]bool{0: true}}
			for _, r := range found.Items {
				answer := r.Word
				if r.DecidedBy != "" {
					answer = strings.TrimSuffix("by "+r.DecidedBy+": "+r.Word, ": ")
				}
				state := r.Status
				if r.Status == "open" && r.Decides {
					state = "open, yours to decide"
				}
				g.rows = append(g.rows, []string{fmt.Sprint(r.Number), r.At.Local().Format("01-02 15:04"), r.By, r.Asks, r.Reason, state, answer})
			}
			return a.show(found.Items, g)
		}}
	list.Flags().StringVar(&status, "status", "", "open, granted, declined or withdrawn")
	show := &cobra.Command{Use: "show NUMBER", Short: "One request, with the ways to grant it", Args: words(1, 1)}
	show.RunE = func(c *cobra.Command, args []string) error {
		r, err := client.Get[wire.Requested](c.Context(), a.connect(), "/requests/"+args[0], nil)
		if err != nil {
			return err
		}
		return a.showRequest(r)
	}
	decline := a.decide("decline", "Decline a request")
	decline.Flags().Lookup("word").Usage = "why, for who asked"
	parent.AddCommand(a.askAccess(), list, show, a.decide("grant", "Grant a request"), decline, a.decide("withdraw", "Withdraw a request of your own"))
	root.AddCommand(parent)
}

func (a *app) requestAccess(c *cobra.Command, in wire.AccessRequest) error {
	r, err := client.Send[wire.Requested](c.Context(), a.connect(), "POST", "/requests", in)
	if err != nil {
		return err
	}
	if a.output != "table" {
		return a.show(r, grid{})
	}
	fmt.Fprintf(a.out, "Asked for %s, as request %d. What becomes of it: gneiss request show %d\n", r.Asks, r.Number, r.Number)
	return nil
}

// ask is the command that asks.
func (a *app) askAccess() *cobra.Command {
	var in wire.AccessRequest
	c := &cobra.Command{Use: "access [PRIVILEGE on OBJECT]", Short: "Ask to be given something", Args: words(0, 3), ValidArgsFunction: a.completeAny,
		Long: `Ask to be given something: a privilege on an object, or with --refusal what a query of yours
lacked. Who manages it sees the request, and decides.`,
		Example: `  gneiss request access select on survey.assay.results --reason "results for the spring report"
  gneiss request access --refusal R-5120 --reason "results for the spring report"`,
		RunE: func(c *cobra.Command, args []string) error {
			switch {
			case len(args) == 3 && strings.EqualFold(args[1], "on"):
				in.Privilege, in.Object = args[0], args[2]
			case len(args) > 0 || in.Reference == "":
				return usageError{errors.New("usage: gneiss request access PRIVILEGE on OBJECT --reason WHY, or --refusal R-17 --reason WHY")}
			}
			return a.requestAccess(c, in)
		}}
	c.Flags().StringVar(&in.Reason, "reason", "", "why; who decides reads it")
	c.Flags().StringVar(&in.Reference, "refusal", "", "instead of an object: the reference of a refusal of yours")
	return c
}

// decide is a command that decides a request.
func (a *app) decide(decision, short string) *cobra.Command {
	in := wire.RequestDecision{Decision: decision}
	var until string
	c := &cobra.Command{Use: decision + " NUMBER", Short: short, Args: words(1, 1), RunE: func(c *cobra.Command, args []string) error {
		if until != "" {
			end, err := time.ParseInLocation(time.DateOnly, until, time.Local)
			if err != nil {
				return usageError{fmt.Errorf("an end is a day, as in 2027-03-31, not %q", until)}
			}
			in.Until = &end
		}
		if decision != "grant" {
			return a.doneOr(client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/requests/"+args[0]+"/decision", in))
		}
		return a.twice(c, func() (wire.Changed, error) {
			in.DryRun = a.dry
			return client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/requests/"+args[0]+"/decision", in)
		})
	}}
	if decision == "grant" {
		c.Flags().IntVar(&in.Fix, "fix", 1, "which of the ways to grant it, as gneiss request show numbers them")
		c.Flags().StringVar(&until, "until", "", "the day it ends, as in 2027-03-31")
	}
	c.Flags().StringVar(&in.Word, "word", "", "a word for who asked")
	return c
}

func (a *app) showRequest(r wire.Requested) error {
	if a.output != "table" {
		return a.show(r, grid{})
	}
	fmt.Fprintf(a.out, "Request %d of %s, %s: %s\n  why: %s\n", r.Number, r.By, r.At.Local().Format("2006-01-02 15:04"), r.Asks, r.Reason)
	if r.Reference != "" {
		fmt.Fprintf(a.out, "  from the refusal %s\n", r.Reference)
	}
	status := r.Status
	if r.DecidedBy != "" {
		status += " by " + r.DecidedBy + ", " + r.Decided.Local().Format("2006-01-02 15:04")
	}
	if r.Until != "" {
		status += ", until " + r.Until[:10]
	}
	if r.Word != "" {
		status += ": " + r.Word
	}
	fmt.Fprintf(a.out, "  status: %s\n", status)
	if !r.Decides || r.Status != "open" {
		return nil
	}
	if r.Note != "" {
		fmt.Fprintf(a.out, "  note: %s\n", r.Note)
	}
	if len(r.Missing) > 0 {
		fmt.Fprintf(a.out, "  missing: %s\n", strings.Join(r.Missing, ", "))
	}
	for i, n := range r.Nearest {
		if i == 0 {
			fmt.Fprintln(a.out, "How the nearest colleagues have it:")
		}
		fmt.Fprintf(a.out, "  %s\n", n)
	}
	for i, f := range r.Fixes {
		if i == 0 {
			fmt.Fprintln(a.out, "Ways to grant it, smallest first:")
		}
		fmt.Fprintf(a.out, "  %d  %s\n", i+1, f.Says)
	}
	fmt.Fprintf(a.out, "Decide: gneiss request grant %d [--fix N] [--until DAY], or gneiss request decline %d --word WHY\n", r.Number, r.Number)
	return nil
}
