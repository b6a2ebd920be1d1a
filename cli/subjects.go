package cli

import (
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

// subjects adds user, service, group and role, which share their verbs.
func (a *app) subjects(root *cobra.Command) {
	for _, kind := range []string{"user", "service", "group", "role"} {
		parent := &cobra.Command{
			Use: kind,
			Short: map[string]string{"user": "People: add, list, set, remove", "service": "Accounts that no person signs in with",
				"group": "Groups, and who is in them", "role": "Roles, who holds them and what they include"}[kind],
			GroupID: "change",
		}
		parent.AddCommand(a.addSubject(kind), a.listSubjects(kind), a.setSubject(kind), a.removeSubject(kind))
		switch kind {
		case "group":
			parent.AddCommand(
				a.join("put SUBJECT… in GROUP", "Put subjects in a group", "in", "group"),
				a.leave("take SUBJECT… from GROUP", "Take subjects out of a group", "group"),
			)
		case "role":
			parent.AddCommand(a.giveRole(), a.takeRole(), a.roleTree())
		}
		root.AddCommand(parent)
	}
}

// subjectFlags are what a subject can be given.
type subjectFlags struct {
	title      string
	attributes []string
	password   bool
	disable    bool
	enable     bool
	lead       string
	rename     string
}

func (f *subjectFlags) register(c *cobra.Command, kind string) {
	c.Flags().StringVar(&f.title, "title", "", "description")
	if kind == "user" || kind == "service" {
		c.Flags().StringArrayVar(&f.attributes, "attribute", nil, "NAME=VALUE,VALUE; NAME= removes it")
		if kind == "user" {
			c.Flags().StringVar(&f.lead, "lead", "", "whom they report to; empty: nobody")
		}
		c.Flags().BoolVar(&f.password, "password-stdin", false, "read the password from standard input")
	}
}

func (f *subjectFlags) request(a *app, c *cobra.Command, ref string) (wire.SubjectRequest, error) {
	in := wire.SubjectRequest{Subject: ref}
	if c.Flags().Changed("title") {
		in.Title = &f.title
	}
	if f.disable || f.enable {
		in.Disabled = &f.disable
	}
	if c.Flags().Changed("lead") {
		if f.lead != "" {
			f.lead = refOf("user", f.lead)
		}
		in.Lead = &f.lead
	}
	in.Rename = f.rename
	for _, attribute := range f.attributes {
		name, values, ok := strings.Cut(attribute, "=")
		if !ok {
			return in, usageError{fmt.Errorf("an attribute is written NAME=VALUE,VALUE, not %q", attribute)}
		}
		if in.Attributes == nil {
			in.Attributes = map[string][]string{}
		}
		in.Attributes[name] = slices.DeleteFunc(strings.Split(values, ","), func(s string) bool { return s == "" })
	}
	var err error
	if f.password {
		in.Password, err = a.password(true)
	}
	return in, err
}

func refOf(kind, name string) string { return kind + ":" + strings.TrimPrefix(name, kind+":") }

func (a *app) addSubject(kind string) *cobra.Command {
	var f subjectFlags
	c := &cobra.Command{Use: "add NAME", Short: "Add a " + kind, Args: words(1, 1), RunE: func(c *cobra.Command, args []string) error {
		in, err := f.request(a, c, refOf(kind, args[0]))
		if err != nil {
			return err
		}
		out, err := client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/subjects", in)
		if err != nil {
			return err
		}
		return a.done(out)
	}}
	f.register(c, kind)
	return c
}

func (a *app) setSubject(kind string) *cobra.Command {
	var f subjectFlags
	c := &cobra.Command{
		Use:               "set NAME",
		Short:             "Change a " + kind,
		Args:              words(1, 1),
		ValidArgsFunction: a.completeSubjects(kind),
		RunE: func(c *cobra.Command, args []string) error {
			in, err := f.request(a, c, refOf(kind, args[0]))
			if err != nil {
				return err
			}
			out, err := client.Send[wire.Changed](c.Context(), a.connect(), "PATCH", "/subjects/"+url.PathEscape(in.Subject), in)
			if err != nil {
				return err
			}
			return a.done(out)
		},
	}
	f.register(c, kind)
	c.Flags().StringVar(&f.rename, "rename", "", "another name; its grants and memberships are unchanged")
	if kind == "user" || kind == "service" {
		c.Flags().BoolVar(&f.disable, "disable", false, "end its sessions and let it sign in no more")
		c.Flags().BoolVar(&f.enable, "enable", false, "let it sign in again")
		c.MarkFlagsMutuallyExclusive("enable", "disable")
	}
	return c
}

func (a *app) listSubjects(kind string) *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the " + kind + "s", Args: words(0, 0), RunE: func(c *cobra.Command, _ []string) error {
		list, err := client.All[wire.Subject](c.Context(), a.connect(), "/subjects", url.Values{"kind": {kind}})
		if err != nil {
			return err
		}
		g := grid{head: []string{kind, "title", "has", "held by", "grants", "note"}, right: map[int]bool{4: true}}
		if kind == "user" || kind == "service" {
			g.head[3] = "attributes"
		}
		for _, s := range list {
			var has, notes []string
			for _, m := range s.Memberships {
				if !slices.Contains(has, m.Of) {
					has = append(has, m.Of)
				}
			}
			third := strings.Join(s.Members, ", ")
			if kind == "user" || kind == "service" {
				third = attributesSay(s.Attributes)
			} else if s.Holders == 0 {
				notes = append(notes, "it has no members")
			}
			if s.Disabled {
				notes = append(notes, "disabled")
			}
			if s.Dormant > 0 {
				notes = append(notes, fmt.Sprintf("%d dormant", s.Dormant))
			}
			if s.Lead != "" {
				notes = append(notes, "reports to "+strings.TrimPrefix(s.Lead, "user:"))
			}
			g.rows = append(g.rows, []string{s.Name, s.Title, strings.Join(has, ", "), third, fmt.Sprint(s.Grants), strings.Join(notes, ", ")})
		}
		if len(g.rows) == 0 && a.output == "table" {
			fmt.Fprintf(a.out, "There is no %s yet. Add one: gneiss %s add NAME\n", kind, kind)
			return nil
		}
		return a.show(list, g)
	}}
}

func attributesSay(attributes map[string][]string) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(attributes)) {
		parts = append(parts, name+"={"+strings.Join(attributes[name], ", ")+"}")
	}
	return strings.Join(parts, " ")
}

func (a *app) removeSubject(kind string) *cobra.Command {
	return &cobra.Command{
		Use:               "remove NAME",
		Short:             "Remove a " + kind + " and the grants to it",
		Args:              words(1, 1),
		ValidArgsFunction: a.completeSubjects(kind),
		RunE: func(c *cobra.Command, args []string) error {
			return a.remove(c, "/subjects/"+url.PathEscape(refOf(kind, args[0])))
		},
	}
}

// remove takes away what a path of the API names.
func (a *app) remove(c *cobra.Command, path string) error {
	return a.twice(c, func() (wire.Changed, error) {
		var out wire.Changed
		err := a.connect().Do(c.Context(), "DELETE", path, nil, nil, &out)
		return out, err
	})
}

// twice makes a change that takes something away: once dry, to show what it
// would do and ask, then in earnest.
func (a *app) twice(c *cobra.Command, change func() (wire.Changed, error)) error {
	if !a.yes && !a.dry {
		a.dry = true
		would, err := change()
		a.dry = false
		if err != nil {
			return err
		}
		if err := a.confirm(would); err != nil {
			return err
		}
		a.seen = would.Revision
		defer func() { a.seen = 0 }()
	}
	out, err := change()
	if err != nil {
		return err
	}
	return a.done(out)
}

// changeFlags are the end, the reason and the ticket of a change.
type changeFlags struct{ until, reason, ticket string }

func (f *changeFlags) register(c *cobra.Command) {
	c.Flags().StringVar(&f.until, "until", "", "the day on which it ends, as in 2027-01-31")
	c.Flags().StringVar(&f.reason, "reason", "", "why; kept in the journal")
	c.Flags().StringVar(&f.ticket, "ticket", "", "the ticket that asked for it")
}

func (f *changeFlags) end() (*time.Time, error) {
	if f.until == "" {
		return nil, nil
	}
	for _, layout := range []string{time.DateOnly, time.RFC3339} {
		if t, err := time.ParseInLocation(layout, f.until, time.Local); err == nil {
			return &t, nil
		}
	}
	return nil, usageError{fmt.Errorf("--until takes a day, as in 2027-01-31, not %q", f.until)}
}

// split takes "X… WORD Y…" apart.
func split(c *cobra.Command, args []string, word string) (before, after []string, err error) {
	i := slices.Index(args, word)
	if i < 1 || i == len(args)-1 {
		return nil, nil, usageError{fmt.Errorf("usage: %s", c.UseLine())}
	}
	return args[:i], args[i+1:], nil
}

func (a *app) members(c *cobra.Command, f *changeFlags, option bool, of string, members []string) error {
	until, err := f.end()
	if err != nil {
		return err
	}
	for _, member := range members {
		out, err := client.Send[wire.Changed](c.Context(), a.connect(), "POST", "/memberships",
			wire.Member{Member: member, Of: of, Until: until, Option: option, Ticket: f.ticket, Change: wire.Change{Reason: f.reason}})
		if err != nil {
			return err
		}
		if err := a.done(out); err != nil {
			return err
		}
	}
	return nil
}

func (a *app) join(use, short, word, kind string) *cobra.Command {
	var f changeFlags
	c := &cobra.Command{
		Use:               use,
		Short:             short,
		SuggestFor:        []string{"give", "join"},
		Example:           "  gneiss group put user:marl in north",
		Args:              words(3, -1),
		ValidArgsFunction: a.completeSubjects(""),
		RunE: func(c *cobra.Command, args []string) error {
			members, of, err := split(c, args, word)
			if err != nil {
				return err
			}
			return a.members(c, &f, false, refOf(kind, of[0]), members)
		},
	}
	f.register(c)
	return c
}

func (a *app) giveRole() *cobra.Command {
	var f changeFlags
	var option bool
	c := &cobra.Command{Use: "give ROLE to SUBJECT…", Short: "Give a role to users, services, groups or roles", Args: words(3, -1),
		SuggestFor: []string{"put", "grant", "assign"},
		Example:    "  gneiss role give core_archivist to user:marl --until 2027-01-31", ValidArgsFunction: a.completeSubjects(""),
		RunE: func(c *cobra.Command, args []string) error {
			roles, to, err := split(c, args, "to")
			if err != nil {
				return err
			}
			for _, role := range roles {
				if err := a.members(c, &f, option, refOf("role", role), to); err != nil {
					return err
				}
			}
			return nil
		}}
	f.register(c)
	c.Flags().BoolVar(&option, "admin-option", false, "with admin option: they may give it to others")
	return c
}

func (a *app) takeRole() *cobra.Command {
	c := &cobra.Command{
		Use:               "take ROLE from SUBJECT…",
		Short:             "Take a role from who holds it",
		SuggestFor:        []string{"revoke", "leave"},
		Args:              words(3, -1),
		ValidArgsFunction: a.completeSubjects(""),
		RunE: func(c *cobra.Command, args []string) error {
			roles, from, err := split(c, args, "from")
			if err != nil {
				return err
			}
			return a.leaveAll(c, "role", roles[0], from)
		},
	}
	leaveFlags(c)
	return c
}

// leaveFlags adds the options of ending a membership.
func leaveFlags(c *cobra.Command) {
	c.Flags().String("by", "", "only the membership that this subject gave")
	c.Flags().Bool("cascade", false, "also revoke it from those they gave it to")
}

func (a *app) leave(use, short, kind string) *cobra.Command {
	c := &cobra.Command{
		Use:               use,
		Short:             short,
		SuggestFor:        []string{"leave"},
		Args:              words(3, -1),
		ValidArgsFunction: a.completeSubjects(""),
		RunE: func(c *cobra.Command, args []string) error {
			members, of, err := split(c, args, "from")
			if err != nil {
				return err
			}
			return a.leaveAll(c, kind, of[0], members)
		},
	}
	leaveFlags(c)
	return c
}

func (a *app) leaveAll(c *cobra.Command, kind, of string, members []string) error {
	by, _ := c.Flags().GetString("by")
	cascade, _ := c.Flags().GetBool("cascade")
	var errs []error
	for _, member := range members {
		errs = append(errs, a.twice(c, func() (wire.Changed, error) {
			return client.Send[wire.Changed](
				c.Context(),
				a.connect(),
				"POST",
				"/memberships/end",
				wire.Member{Member: member, Of: refOf(kind, of), By: by, Cascade: cascade},
			)
		}))
	}
	return errors.Join(errs...)
}
