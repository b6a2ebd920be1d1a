package cli

import (
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

// accounts adds the own password, tokens, and the roster.
func (a *app) accounts(root *cobra.Command) {
	password := &cobra.Command{Use: "password", Short: "Change your own password", GroupID: "session", Args: words(0, 0),
		Long: "Change your own password. Without a terminal, the old and the new one are read from\nstandard input, a line each.",
		RunE: func(c *cobra.Command, _ []string) error {
			old, next, err := a.twoPasswords()
			if err != nil {
				return err
			}
			return a.doneOr(client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/password", wire.PasswordRequest{Old: old, New: next}))
		}}
	root.AddCommand(password, a.tokens(), a.sessions(), a.roster())
}

// twoPasswords asks for the old password and the new one.
func (a *app) twoPasswords() (old, next string, err error) {
	if a.asks() {
		if old, err = a.secret("Old password: ", false); err != nil {
			return "", "", err
		}
		next, err = a.chosen(false)
		return old, next, err
	}
	text, err := io.ReadAll(a.in)
	lines := strings.Split(strings.TrimRight(string(text), "\r\n"), "\n")
	if err == nil && len(lines) != 2 {
		err = usageError{errors.New("standard input has the old and the new password, a line each")}
	}
	if err != nil {
		return "", "", err
	}
	return strings.TrimRight(lines[0], "\r"), strings.TrimRight(lines[1], "\r"), nil
}

func (a *app) tokens() *cobra.Command {
	parent := &cobra.Command{Use: "token", Short: "Sessions and tokens: for people, programs and services", GroupID: "session"}
	var of string
	list := &cobra.Command{
		Use:   "list",
		Short: "List your sessions and tokens, or another account's",
		Args:  words(0, 0),
		RunE: func(c *cobra.Command, _ []string) error {
			found, err := client.Get[wire.List[wire.Token]](c.Context(), a.connect(), "/tokens", query(wire.Standpoint{}, "subject", of))
			if err != nil {
				return err
			}
			g := grid{head: []string{"id", "account", "what for", "since", "until", "note"}}
			for _, t := range found.Items {
				note := map[bool]string{true: "session", false: "token"}[t.Session]
				if t.Current {
					note += ", this one"
				}
				g.rows = append(
					g.rows,
					[]string{t.ID, t.Subject, t.Name, t.Created.Local().Format(time.DateOnly), t.Expires.Local().Format("2006-01-02 15:04"), note},
				)
			}
			if len(g.rows) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "No sessions and no tokens.")
				return nil
			}
			return a.show(found.Items, g)
		},
	}
	var f changeFlags
	add := &cobra.Command{Use: "add NAME", Short: "Make a token; it is printed once", Args: words(1, 1),
		Example: "  gneiss token add nightly-export --of service:pumice --until 2027-01-31",
		RunE: func(c *cobra.Command, args []string) error {
			until, err := f.end()
			if err != nil {
				return err
			}
			t, err := client.Send[wire.NewToken](
				c.Context(),
				a.connect(),
				"POST",
				"/tokens",
				wire.TokenRequest{Name: args[0], Subject: of, Expires: until},
			)
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.show(
					t,
					grid{
						head: []string{"id", "account", "what for", "until", "secret"},
						rows: [][]string{{t.ID, t.Subject, t.Name, t.Expires.Format(time.RFC3339), t.Secret}},
					},
				)
			}
			fmt.Fprintf(
				a.err,
				"A token of %s for %s, until %s. It is shown only once; use it as GNEISS_TOKEN:\n",
				t.Subject,
				t.Name,
				t.Expires.Local().Format("2006-01-02 15:04"),
			)
			fmt.Fprintln(a.out, t.Secret)
			return nil
		}}
	add.Flags().StringVar(&f.until, "until", "", "the day on which it ends; in 90 days when not given")
	end := &cobra.Command{Use: "end ID…", Short: "End sessions or tokens", Args: words(1, -1), RunE: func(c *cobra.Command, args []string) error {
		for _, id := range args {
			if err := a.doneOr(client.Send[wire.Changed](c.Context(), a.connect(), "DELETE", "/tokens/"+url.PathEscape(id), nil)); err != nil {
				return err
			}
		}
		return nil
	}}
	list.Flags().StringVar(&of, "of", "", "an account that you administer, or all")
	add.Flags().StringVar(&of, "of", "", "a service that you administer")
	for _, c := range []*cobra.Command{list, add} {
		c.RegisterFlagCompletionFunc("of", a.completeSubjects(""))
	}
	parent.AddCommand(list, add, end)
	return parent
}

// sessions are the connections of people's own tools to the SQL port.
func (a *app) sessions() *cobra.Command {
	parent := &cobra.Command{Use: "session", Short: "Connections of people's own tools to the SQL port", GroupID: "session"}
	list := &cobra.Command{Use: "list", Short: "List your connections; who administers or audits sees all", Args: words(0, 0),
		Example: "  gneiss session list",
		RunE: func(c *cobra.Command, _ []string) error {
			found, err := client.Get[wire.List[wire.SQLSession]](c.Context(), a.connect(), "/sql-sessions", nil)
			if err != nil {
				return err
			}
			g := grid{head: []string{"id", "who", "as", "with", "from", "database", "since", "state", "for", "statement"}, right: map[int]bool{8: true}}
			for _, s := range found.Items {
				g.rows = append(g.rows, []string{s.ID, s.User, s.Standpoint, s.Client, s.Address, s.Database,
					s.Since.Local().Format("01-02 15:04"), s.State, time.Since(s.StateSince).Round(time.Second).String(), strings.Join(strings.Fields(s.Statement), " ")})
			}
			if len(g.rows) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "Nobody is connected to the SQL port.")
				return nil
			}
			return a.show(found.Items, g)
		}}
	end := &cobra.Command{Use: "end ID…", Short: "End connections, and what they run", Args: words(1, -1), Example: "  gneiss session end 17",
		RunE: func(c *cobra.Command, args []string) error {
			for _, id := range args {
				if err := a.doneOr(client.Send[wire.Changed](c.Context(), a.connect(), "DELETE", "/sql-sessions/"+url.PathEscape(id), nil)); err != nil {
					return err
				}
			}
			return nil
		}}
	parent.AddCommand(list, end)
	return parent
}

func (a *app) roster() *cobra.Command {
	parent := &cobra.Command{Use: "roster", Short: "Import or export subjects and memberships", GroupID: "change"}
	var memberships, safe bool
	export := &cobra.Command{Use: "export", Short: "Write all subjects, attributes and memberships", Args: words(0, 0),
		Long: `Write all subjects with their attributes and memberships, in the form that
gneiss roster import reads: as JSON with -o json, or as CSV, which has the subjects, or with
--memberships the memberships.`,
		Example: "  gneiss roster export -o json > roster.json\n  gneiss roster export -o csv --memberships > memberships.csv",
		RunE: func(c *cobra.Command, _ []string) error {
			if a.output == "json" || a.output == "yaml" {
				r, err := client.Get[wire.Roster](c.Context(), a.connect(), "/roster", nil)
				if err != nil {
					return err
				}
				return a.show(r, grid{})
			}
			part := map[bool]string{true: "memberships", false: "subjects"}[memberships]
			body, err := a.connect().
				Raw(c.Context(), "GET", "/roster", url.Values{"part": {part}, "csv_safe": {strconv.FormatBool(safe)}}, nil, "text/csv")
			if err != nil {
				return err
			}
			defer body.Close()
			_, err = io.Copy(a.out, body)
			return err
		}}
	export.Flags().BoolVar(&safe, "csv-safe", false, "in CSV, put an apostrophe before texts that a spreadsheet would take for formulas")
	export.Flags().BoolVar(&memberships, "memberships", false, "of CSV: the memberships, not the subjects")
	var f changeFlags
	take := &cobra.Command{Use: "import FILE…", Short: "Import subjects and memberships: all of them, or none", Args: words(1, -1),
		Long: `Import subjects and memberships from JSON or CSV files, in one revision. What is
there already is changed where it differs; nothing is removed. One bad line and
nothing is imported. A - reads standard input.

CSV of subjects:     subject,title,disabled,lead,attribute:districts
CSV of memberships:  member,of,until,option,reason,ticket
Values of an attribute stand between semicolons.`,
		Example: "  gneiss roster import people.csv memberships.csv --dry-run",
		RunE: func(c *cobra.Command, args []string) error {
			in := wire.RosterRequest{Change: wire.Change{Reason: f.reason}}
			for _, name := range args {
				content, err := a.read(name)
				if err != nil {
					return err
				}
				in.Files = append(in.Files, wire.RosterFile{Name: filepath.Base(name), Content: content})
			}
			return a.doneOr(client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/roster", in))
		}}
	take.Flags().StringVar(&f.reason, "reason", "", "why; kept in the journal")
	parent.AddCommand(export, take)
	return parent
}

// read reads a file, or standard input for -.
func (a *app) read(name string) (string, error) {
	if name == "-" {
		content, err := io.ReadAll(a.in)
		return string(content), err
	}
	content, err := os.ReadFile(name)
	return string(content), err
}
