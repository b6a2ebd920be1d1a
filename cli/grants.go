package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

func (a *app) grants(root *cobra.Command) {
	var f changeFlags
	var option, entry bool
	grant := &cobra.Command{
		Use: "grant PRIVILEGES on OBJECT… to SUBJECT…", Short: "Grant privileges or bundles", GroupID: "change", Args: words(5, -1),
		Long: `Grant privileges on objects and all below them, present and future. USAGE is the
exception: it opens only the source, schema or lane that it names. Without USAGE
on what an object is in, the object can't be reached, and without a lane no query
runs; --with-entry adds what is missing.

Privileges: usage, select, insert, update, delete, references, execute, create,
describe, reveal, manage, audit, all; or a bundle, as gneiss bundle list has them.
On a table, most may name columns. An object may be a pattern: survey.assay.res*.`,
		Example: `  gneiss grant select on survey.drilling to role:core_archivist --with-entry
  gneiss grant reader on survey.assay.* to role:lab_analyst
  gneiss grant usage on lane:batch to role:data_curator
  gneiss grant "select(name, depth_m)" on survey.drilling.boreholes to user:marl
  gneiss grant usage,select on survey.assay to role:lab_analyst --until 2027-01-31 --ticket GS-40`,
		ValidArgsFunction: a.completeAny,
		RunE: func(c *cobra.Command, args []string) error {
			in, err := parseGrant(c, args, "to")
			if err != nil {
				return err
			}
			if in.Until, err = f.end(); err != nil {
				return err
			}
			in.Option, in.WithEntry, in.Ticket, in.Reason = option, entry, f.ticket, f.reason
			out, err := client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/grants", in)
			if err != nil {
				return err
			}
			return a.done(out)
		},
	}
	f.register(grant)
	grant.Flags().BoolVar(&option, "grant-option", false, "with grant option: they may grant it to others")
	grant.Flags().BoolVar(&entry, "with-entry", false, "also grant the USAGE that is missing on the way there")

	var cascade, optionOnly bool
	var grantor string
	revoke := &cobra.Command{
		Use: "revoke PRIVILEGES on OBJECT… from SUBJECT…", Short: "Revoke privileges or bundles", GroupID: "change", Args: words(5, -1),
		Long: `Revoke grants: everybody's where you manage the object, your own elsewhere. A grant that
others depend on is refused, with a list of those; --cascade revokes them too.`,
		Example: "  gneiss revoke select on survey.drilling from role:core_archivist", ValidArgsFunction: a.completeAny,
		RunE: func(c *cobra.Command, args []string) error {
			in, err := parseGrant(c, args, "from")
			if err != nil {
				return err
			}
			in.Cascade, in.OptionOnly, in.Grantor, in.Reason = cascade, optionOnly, grantor, f.reason
			return a.twice(c, func() (wire.Changed, error) {
				return client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/grants/revoke", in)
			})
		},
	}
	revoke.Flags().BoolVar(&cascade, "cascade", false, "also revoke the grants that depend on it; they are listed first")
	revoke.Flags().BoolVar(&optionOnly, "grant-option", false, "revoke the grant option alone")
	revoke.Flags().StringVar(&grantor, "by", "", "only what this grantor granted")
	revoke.Flags().StringVar(&f.reason, "reason", "", "why; kept in the journal")
	var object, subject string
	var dormant bool
	list := &cobra.Command{
		Use: "grants", Short: "List grants, and why they have no effect where they have none", GroupID: "look", Args: words(0, 0),
		Example: "  gneiss grants --dormant\n  gneiss grants --to role:lab_analyst",
		RunE: func(c *cobra.Command, _ []string) error {
			q := query(wire.Standpoint{}, "object", object, "subject", subject)
			if dormant {
				q.Set("dormant", "true")
			}
			found, err := client.All[wire.Grant](c.Context(), a.connect(), "/grants", q)
			if err != nil {
				return err
			}
			if len(found) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "No such grants.")
				return nil
			}
			return a.show(found, grantGrid(found))
		},
	}
	list.Flags().StringVar(&object, "on", "", "at and below this object")
	list.Flags().StringVar(&subject, "to", "", "to this subject itself")
	list.Flags().BoolVar(&dormant, "dormant", false, "only those that have no effect now")
	list.RegisterFlagCompletionFunc("on", a.completeObjects)
	list.RegisterFlagCompletionFunc("to", a.completeSubjects(""))
	root.AddCommand(grant, revoke, list)
}

// parseGrant reads "PRIVILEGES on OBJECT… to SUBJECT…".
func parseGrant(c *cobra.Command, args []string, word string) (wire.GrantRequest, error) {
	var in wire.GrantRequest
	privileges, rest, err := split(c, args, "on")
	if err != nil {
		return in, err
	}
	object, subjects, err := split(c, rest, word)
	if err != nil {
		return in, err
	}
	text := strings.Join(privileges, " ")
	if open := strings.IndexByte(text, '('); open >= 0 {
		if !strings.HasSuffix(text, ")") {
			return in, usageError{fmt.Errorf("columns are written select(name, depth_m), not %q", text)}
		}
		for _, column := range strings.Split(text[open+1:len(text)-1], ",") {
			in.Columns = append(in.Columns, strings.TrimSpace(column))
		}
		text = text[:open]
	}
	in.Privileges = commas([]string{text})
	in.Objects = commas(object)
	in.Subjects = commas(subjects)
	return in, nil
}
