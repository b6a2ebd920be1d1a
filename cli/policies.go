package cli

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

func (a *app) policies(root *cobra.Command) {
	parent := &cobra.Command{Use: "policy", Short: "Row and column policies: what rows exist for whom, and how values appear", GroupID: "change"}
	rows := &cobra.Command{Use: "rows", Short: "Row policies: which rows exist for whom"}
	rows.AddCommand(a.rowPolicy("add"), a.rowPolicy("edit"), a.listPolicies("rows"))
	columns := &cobra.Command{Use: "columns", Short: "Column policies: how values appear"}
	columns.AddCommand(a.columnPolicy("add"), a.columnPolicy("edit"), a.listPolicies("columns"))
	parent.AddCommand(rows, columns, a.listPolicies(""), a.policyStatus("publish", "live", "Publish a policy"),
		a.policyStatus("stop", "off", "Stop a policy"), a.removePolicy(), a.tryPolicy(), a.matrix())
	root.AddCommand(parent)
}

// scopeFlags are what both kinds of policy share.
type scopeFlags struct {
	to, except, purposes []string
	comment, reason      string
	try                  bool
	status               string
}

func (f *scopeFlags) register(a *app, c *cobra.Command) {
	c.Flags().BoolVar(&f.try, "try", false, "show what it would do to whom, in rows and columns, and do nothing")
	c.Flags().StringSliceVar(&f.to, "for", nil, "subjects that it is about; everyone when not given")
	c.Flags().StringSliceVar(&f.except, "except", nil, "subjects that it leaves out")
	c.Flags().StringSliceVar(&f.purposes, "purpose", nil, "only when one of these purposes is declared")
	c.Flags().StringVar(&f.comment, "comment", "", "description")
	c.Flags().StringVar(&f.reason, "reason", "", "why; kept in the journal")
	c.Flags().StringVar(&f.status, "status", "live", "live, or draft: without effect until the policy is published")
	c.RegisterFlagCompletionFunc("for", a.completeSubjects(""))
	c.RegisterFlagCompletionFunc("except", a.completeSubjects(""))
}

// apply puts the flags that were given into a policy; for a new one, all.
func (f *scopeFlags) apply(c *cobra.Command, p *wire.Policy, adding bool) {
	set := func(name string, into *[]string, value []string) {
		if adding || c.Flags().Changed(name) {
			*into = slices.DeleteFunc(value, func(s string) bool { return s == "" })
		}
	}
	set("for", &p.For, f.to)
	set("except", &p.Except, f.except)
	set("purpose", &p.Purposes, f.purposes)
	if adding || c.Flags().Changed("comment") {
		p.Comment = f.comment
	}
	if adding {
		p.Status = "live"
	}
	if f.status != "live" {
		p.Status = f.status
	}
}

// start is the policy to change: an empty one, or the one there is.
func (a *app) start(c *cobra.Command, verb, kind, name string) (wire.PolicyRequest, error) {
	if verb == "add" {
		return wire.PolicyRequest{Policy: wire.Policy{Name: name, Kind: kind}}, nil
	}
	list, err := client.Get[wire.List[wire.Policy]](c.Context(), a.connect(), "/policies", nil)
	if err != nil {
		return wire.PolicyRequest{}, err
	}
	for _, p := range list.Items {
		if p.Name == name && p.Kind == kind {
			return wire.PolicyRequest{Policy: p, Replace: true}, nil
		}
	}
	// The service says it better, with the nearest name.
	return wire.PolicyRequest{Policy: wire.Policy{Name: name, Kind: kind}, Replace: true}, nil
}

func (a *app) send(c *cobra.Command, in wire.PolicyRequest, f *scopeFlags) error {
	if f.try {
		a.dry = false // nothing is changed by it, so it has no such field
		return a.trial(c, in.Policy)
	}
	in.Reason = f.reason
	out, err := client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/policies", in)
	if err != nil {
		return err
	}
	return a.done(out)
}

func (a *app) listPolicies(kind string) *cobra.Command {
	return &cobra.Command{
		Use:               "list [OBJECT]",
		Short:             "List policies, as sentences",
		Args:              words(0, 1),
		ValidArgsFunction: a.completeObjects,
		RunE: func(c *cobra.Command, args []string) error {
			list, err := client.Get[wire.List[wire.Policy]](
				c.Context(),
				a.connect(),
				"/policies",
				query(wire.Standpoint{}, "table", strings.Join(args, "")),
			)
			if err != nil {
				return err
			}
			items := slices.DeleteFunc(list.Items, func(p wire.Policy) bool { return kind != "" && p.Kind != kind })
			g := grid{head: []string{"policy", "kind", "status", "says"}}
			for _, p := range items {
				says := p.Sentence
				if p.Covers != 1 && strings.ContainsAny(p.Table, ":*") {
					says += fmt.Sprintf(" (%d %s now)", p.Covers, map[string]string{"rows": "tables", "columns": "columns"}[p.Kind])
				}
				if p.Broken != "" {
					says += " — BROKEN: " + p.Broken
				}
				g.rows = append(g.rows, []string{p.Name, p.Kind, p.Status, says})
			}
			if len(items) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "There are no such policies. Add one: gneiss policy rows add --help")
				return nil
			}
			return a.show(items, g)
		},
	}
}

func (a *app) policyStatus(verb, status, short string) *cobra.Command {
	return &cobra.Command{
		Use:               verb + " NAME",
		Short:             short,
		Args:              words(1, 1),
		ValidArgsFunction: a.completePolicies,
		RunE: func(c *cobra.Command, args []string) error {
			change := func() (wire.Changed, error) {
				return client.Send[wire.Changed](
					c.Context(),
					a.connect(),
					"PATCH",
					"/policies/"+url.PathEscape(args[0]),
					wire.PolicyStatus{Status: status},
				)
			}
			return a.twice(c, change)
		},
	}
}

func (a *app) removePolicy() *cobra.Command {
	return &cobra.Command{
		Use:               "remove NAME",
		Short:             "Remove a policy",
		Args:              words(1, 1),
		ValidArgsFunction: a.completePolicies,
		RunE: func(c *cobra.Command, args []string) error {
			return a.remove(c, "/policies/"+url.PathEscape(args[0]))
		},
	}
}
