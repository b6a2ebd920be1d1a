// Package cli is the command line. It is a client of the service: whatever it
// does, it does through the API.
package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/agext/levenshtein"
	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

// Exit codes.
const (
	ExitDone        = 0
	ExitFailed      = 1
	ExitUsage       = 2
	ExitRefused     = 3
	ExitCheck       = 4
	ExitUnreachable = 5
)

// DefaultServer is where a service listens when nothing else is said.
const DefaultServer = "http://127.0.0.1:7464"

// options are what all client commands share.
type options struct {
	server string
	output string
	yes    bool
	at     wire.Standpoint
	moment wire.Moment
	aside  string // guardrails that are set aside
}

// app is what commands work with.
type app struct {
	options
	seen     int64 // the revision that a change was confirmed on
	dry      bool  // changes are shown and not made
	in       io.Reader
	lines    *bufio.Reader // of in, where secrets are read from it
	out, err io.Writer
}

// usageError is a mistake in the command's words.
type usageError struct{ error }

// New returns the root command with all client commands. The caller adds those
// that run a service.
func New(in io.Reader, out, errOut io.Writer) *cobra.Command {
	a := &app{in: in, out: out, err: screen{errOut}}
	root := &cobra.Command{
		Use:   "gneiss",
		Short: "Who may see and change what in shared tables: decide it, prove it, keep it true",
		Long: `Gneiss decides who may see and change what in shared tables, and enforces it:
people query the tables through Gneiss.

Try it on the demo platform:   gneiss demo
Objects are written survey.drilling.boreholes; subjects user:flint, group:north,
role:survey_reader, service:pumice, public.`,
		SilenceUsage: true, SilenceErrors: true,
		CompletionOptions: cobra.CompletionOptions{HiddenDefaultCmd: true},
	}
	root.PersistentPreRun = func(*cobra.Command, []string) {
		if a.output == "table" { // other forms are for programs, which want what is there
			a.out = screen{out}
		}
	}
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error { return usageError{err} })
	f := root.PersistentFlags()
	f.StringVar(&a.server, "server", envOr("GNEISS_SERVER", lastServer()), "the service's address (GNEISS_SERVER); else where you signed in last")
	f.StringVarP(&a.output, "output", "o", "table", "table, json, yaml or csv; jsonl for the record")
	f.BoolVarP(&a.yes, "yes", "y", false, "do not ask before something is taken away")
	root.AddGroup(&cobra.Group{ID: "look", Title: "Look and test:"}, &cobra.Group{ID: "change", Title: "Change:"},
		&cobra.Group{ID: "session", Title: "Session and service:"})
	a.session(root)
	a.look(root)
	a.ask(root)
	a.sources(root)
	a.subjects(root)
	a.grants(root)
	a.rights(root)
	a.accounts(root)
	a.policies(root)
	a.labels(root)
	a.views(root)
	a.querying(root)
	a.record(root)
	a.drafts(root)
	a.checks(root)
	a.files(root)
	a.webhooks(root)
	a.use(root)
	a.requests(root)
	a.reviews(root)
	root.AddCommand(a.version())
	for _, c := range root.Commands() {
		if c.GroupID == "change" {
			a.dryRun(c)
		}
		a.moments(c, c.GroupID == "change")
		if c.HasSubCommands() && c.RunE == nil {
			answerUnknown(c)
		}
	}
	return root
}

// reading are the commands among those that change which only look.
var reading = []string{"write", "compare", "schema", "list", "tree", "show", "try", "matrix", "columns", "suggest", "export", "views", "check", "run"}

// dryRun gives a command and those below it the flag by which they change nothing.
func (a *app) dryRun(c *cobra.Command) {
	for _, sub := range c.Commands() {
		if sub.HasSubCommands() || !slices.Contains(reading, sub.Name()) {
			a.dryRun(sub)
		}
	}
	if !c.HasSubCommands() {
		c.Flags().BoolVar(&a.dry, "dry-run", false, "show what it would do to whom, and do nothing")
	}
}

// immediate are the commands whose changes take effect outside of the model, or at once, or are about
// drafts themselves; and those that look at what has no moment.
var immediate = []string{"source", "draft", "audit", "query", "name", "verify", "key", "import", "try", "suggest", "export", "matrix", "token",
	"session", "password", "schema", "use"}

// moments gives a command and those below it the flags by which they look through a draft or at a
// moment, or put their change into a draft.
func (a *app) moments(c *cobra.Command, changes bool) {
	if c.GroupID != "change" && c.GroupID != "look" && c.Parent().Parent() == nil || slices.Contains(immediate, c.Name()) {
		return
	}
	for _, sub := range c.Commands() {
		a.moments(sub, changes || sub.Name() == "record")
	}
	if c.HasSubCommands() && c.RunE == nil {
		return
	}
	if looks := !changes || slices.Contains(reading, c.Name()); looks {
		c.Flags().StringVar(&a.moment.Draft, "draft", "", "look through this draft")
		c.Flags().StringVar(&a.moment.At, "at", "", "as of a revision (118), a day (2026-11-01), a time, or a name of a revision")
	} else {
		c.Flags().StringVar(&a.moment.Draft, "draft", "", "put it into this draft, where it takes no effect until that is published")
		c.Flags().StringVar(&a.aside, "set-aside", "", "a guardrail that this change may break; it takes a --reason")
	}
	c.RegisterFlagCompletionFunc("draft", a.completeDrafts)
}

// answerUnknown makes a command that only has others below it refuse a word that is
// none of them, and not show its help as if all were well.
func answerUnknown(group *cobra.Command) {
	group.Args = cobra.ArbitraryArgs
	group.SuggestionsMinimumDistance = 2
	usual := group.FlagErrorFunc()
	group.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		if words := c.Flags().Args(); c == group && len(words) > 0 { // which stand before the flag
			return group.RunE(group, words)
		}
		return usual(c, err)
	})
	group.RunE = func(c *cobra.Command, args []string) error {
		if len(args) == 0 {
			return c.Help()
		}
		says := fmt.Sprintf("there is no command %s %s", c.CommandPath(), args[0])
		near := c.SuggestionsFor(args[0])
		slices.SortStableFunc(near, func(x, y string) int {
			return cmp.Compare(levenshtein.Distance(args[0], x, nil), levenshtein.Distance(args[0], y, nil))
		})
		for _, child := range c.Commands() { // a command that lists the word as another name of it beats one that is only spelled alike
			if slices.Contains(child.SuggestFor, args[0]) {
				near = []string{child.Name()}
			}
		}
		if len(near) > 0 {
			says += "; did you mean " + near[0] + "?"
		}
		return usageError{errors.New(says)}
	}
}

func envOr(name, other string) string {
	if v := os.Getenv(name); v != "" {
		return v
	}
	return other
}

// Run runs a command line and returns its exit code.
func Run(ctx context.Context, root *cobra.Command, args []string, errOut io.Writer) int {
	root.SetArgs(args)
	return Report(root.ExecuteContext(ctx), errOut)
}

// Report prints an error as people read it and returns the exit code for it.
func Report(err error, w io.Writer) int {
	w = screen{w}
	var p *wire.Problem
	var unreachable *client.Unreachable
	var usage usageError
	var told *exit
	switch {
	case err == nil:
		return ExitDone
	case errors.As(err, &told):
		return told.code
	case errors.As(err, &p):
		printProblem(w, p)
		if p.Status == 403 {
			return ExitRefused
		}
		return ExitFailed
	case errors.As(err, &unreachable):
		fmt.Fprintf(w, "gneiss: %v\nStart one with gneiss demo, or name another with --server.\n", err)
		return ExitUnreachable
	case errors.Is(err, context.Canceled):
		fmt.Fprintln(w, "gneiss: stopped")
		return ExitFailed
	case errors.As(err, &usage), strings.HasPrefix(err.Error(), "unknown command"):
		fmt.Fprintf(w, "gneiss: %v\nSee gneiss --help.\n", err)
		return ExitUsage
	}
	fmt.Fprintf(w, "gneiss: %v\n", err)
	return ExitFailed
}

// exit ends a command that has already said what there is to say.
type exit struct{ code int }

func (e *exit) Error() string { return fmt.Sprintf("exit code %d", e.code) }

func printProblem(w io.Writer, p *wire.Problem) {
	fmt.Fprintf(w, "gneiss: %s\n", p.Detail)
	if p.Code == "not_signed_in" || p.Code == "session_expired" {
		fmt.Fprintln(w, "Sign in with: gneiss sign-in --user NAME")
	}
	printFixes(w, p.Fixes)
	if p.Reference != "" {
		fmt.Fprintf(w, "Reference: %s\n", p.Reference)
		if (p.Status == 403 || p.Status == 404) && len(p.Fixes) == 0 {
			fmt.Fprintf(w, "To ask for it: gneiss request access --refusal %s --reason WHY\n", p.Reference)
		}
	}
}

func printFixes(w io.Writer, fixes []wire.Fix) {
	if len(fixes) == 0 {
		return
	}
	fmt.Fprintln(w, "Ways to give it, smallest first:")
	for _, f := range fixes {
		fmt.Fprintf(w, "  %s\n", f.Says)
		for _, c := range commands(f) {
			fmt.Fprintf(w, "    %s\n", c)
		}
	}
}

// connect returns a client with the token that there is.
func (a *app) connect() *client.Client {
	c := client.New(a.server, token(a.server))
	c.IfMatch, c.DryRun, c.Moment, c.SetAside = a.seen, a.dry, a.moment, a.aside
	return c
}

// words checks the number of arguments, and says how the command is written.
func words(least, most int) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) < least || most >= 0 && len(args) > most {
			return usageError{fmt.Errorf("usage: %s", c.UseLine())}
		}
		return nil
	}
}

// standpoint adds the flags by which a command views as somebody else.
func (a *app) standpoint(c *cobra.Command) {
	c.Flags().StringVar(&a.at.As, "as", "", "view as this subject: user:flint, or role:NAME alone")
	c.Flags().StringVar(&a.at.Role, "role", "", "act in this role only")
	c.Flags().StringVar(&a.at.Purpose, "purpose", "", "declare this purpose")
	c.RegisterFlagCompletionFunc("as", a.completeSubjects(""))
	c.RegisterFlagCompletionFunc("role", a.completeSubjects("role"))
}
