package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"gneiss/client"
	"gneiss/wire"
)

// roleTree shows which roles include which, and who holds them.
func (a *app) roleTree() *cobra.Command {
	return &cobra.Command{
		Use:               "tree [ROLE]",
		Short:             "Show which roles include which, and who holds them",
		Args:              words(0, 1),
		ValidArgsFunction: a.completeSubjects("role"),
		Long: "Each role stands above those that it includes: who holds it has all that they have.\n" +
			"A role that stands in several places is shown whole at the first.",
		RunE: func(c *cobra.Command, args []string) error {
			list, err := client.All[wire.Subject](c.Context(), a.connect(), "/subjects", nil)
			if err != nil {
				return err
			}
			t := &roleTree{
				by:    map[string]wire.Subject{},
				shown: map[string]bool{},
				grid:  grid{head: []string{"role", "grants", "held by", "note"}, right: map[int]bool{1: true}},
			}
			var roots []string
			for _, s := range list {
				t.by[s.Ref] = s
				if s.Kind == "role" && !slices.ContainsFunc(s.Members, func(m string) bool { return strings.HasPrefix(m, "role:") }) {
					roots = append(roots, s.Ref)
				}
			}
			if len(args) == 1 {
				roots = []string{refOf("role", args[0])}
				if _, known := t.by[roots[0]]; !known {
					_, err := client.Get[wire.SubjectPage](c.Context(), a.connect(), "/subjects/"+roots[0], nil)
					return err // says which is near
				}
			}
			for _, root := range roots {
				t.add(root, 0)
			}
			if len(t.grid.rows) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "There is no role yet. Add one: gneiss role add NAME")
				return nil
			}
			return a.show(list, t.grid)
		},
	}
}

type roleTree struct {
	by    map[string]wire.Subject
	shown map[string]bool
	grid  grid
}

func (t *roleTree) add(ref string, depth int) {
	s := t.by[ref]
	var held, notes []string
	for _, m := range s.Members {
		if !strings.HasPrefix(m, "role:") {
			held = append(held, m)
		}
	}
	if s.Holders == 0 {
		notes = append(notes, "EMPTY: it has no members")
	}
	if s.Dormant > 0 {
		notes = append(notes, fmt.Sprintf("%d dormant", s.Dormant))
	}
	again := t.shown[ref]
	if again {
		notes = append(notes, "as above")
	}
	t.shown[ref] = true
	t.grid.rows = append(
		t.grid.rows,
		[]string{strings.Repeat("  ", depth) + s.Name, fmt.Sprint(s.Grants), strings.Join(held, ", "), strings.Join(notes, "; ")},
	)
	if again {
		return
	}
	for i, m := range s.Memberships {
		if strings.HasPrefix(m.Of, "role:") && !slices.ContainsFunc(s.Memberships[:i], func(x wire.Membership) bool { return x.Of == m.Of }) {
			t.add(m.Of, depth+1)
		}
	}
}
