package service_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"gneiss/demo/demotest"
	"gneiss/service/identity"
	"gneiss/service/review"
	"gneiss/wire"
)

// TestSearchByPages: pages of any size come to what one page has, each once, and have what the caller sees, after
// any change of names; what is granted by bundle is told as it stands.
func TestSearchByPages(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	callers := map[string]identity.Caller{}
	for _, who := range []string{"opal", "agate", "flint", "garnet", "marl"} {
		callers[who] = caller(t, svc, who)
	}
	opal := callers["opal"]
	search := func(who, text string, limit int) (found []string) {
		t.Helper()
		after := ""
		for {
			list, err := svc.Review.Search(callers[who], text, wire.Standpoint{}, after, limit)
			if err != nil {
				t.Fatal(err)
			}
			for _, f := range list.Items {
				found = append(found, f.Kind+" "+f.Name)
			}
			if after = list.Next; after == "" || len(found) > 5000 {
				return found
			}
		}
	}
	// seen is everything of which somebody sees the name, by the tree and the lists.
	seen := func(who string) (all []string) {
		t.Helper()
		c := callers[who]
		subjects, err := svc.Review.Subjects(c, review.SubjectSearch{Limit: 1000})
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range subjects.Items {
			all = append(all, s.Kind+" "+s.Ref)
		}
		tree, err := svc.Review.Tree(c, "platform", 3, wire.Standpoint{})
		if err != nil {
			t.Fatal(err)
		}
		var walk func(wire.Node)
		walk = func(n wire.Node) {
			for _, child := range n.Children {
				all = append(all, child.Kind+" "+child.Path)
				walk(child)
			}
		}
		walk(tree)
		policies, err := svc.Review.Policies(c, "")
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range policies.Items {
			all = append(all, "policy "+p.Name)
		}
		return all
	}
	compared := 0
	for round := range 3 {
		for who := range callers {
			everything := seen(who)
			for _, text := range []string{"", "bore", "survey.", "LICENS", "a", "role:", "nothing-has-this"} {
				want := slices.DeleteFunc(slices.Clone(everything), func(s string) bool {
					_, name, _ := strings.Cut(s, " ")
					return !strings.Contains(name, strings.ToLower(text))
				})
				slices.Sort(want)
				for _, limit := range []int{3, 1000} {
					got := search(who, text, limit)
					slices.Sort(got)
					if !slices.Equal(got, want) {
						t.Fatalf("%s searches for %q by %d: lacks %v, and has %v beside", who, text, limit, without(want, got), without(got, want))
					}
					compared += len(got)
				}
			}
		}
		switch round {
		case 0:
			done(t)(svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "role:boreholes"}, false))
			// Who may describe a table behind a shut door does not come across it.
			done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"DESCRIBE"}, Object: "survey.assay.results", Subjects: []string{"user:marl"}}, false))
			done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"USAGE"}, Object: "survey.licensing", Subjects: []string{"user:marl"}}, false))
		case 1:
			done(t)(svc.Admin.PutView(ctx, opal, wire.ViewRequest{Path: "survey.drilling.borings", Text: "SELECT id FROM survey.drilling.boreholes"}))
		}
	}
	if compared < 1000 {
		t.Errorf("only %d names were compared", compared)
	}
	for _, after := range []string{"x", "objects survey", "42"} {
		if _, err := svc.Review.Search(opal, "", wire.Standpoint{}, after, 10); err == nil {
			t.Errorf("%q is taken for a cursor", after)
		}
	}
	granted := func() map[string]int {
		list, err := svc.Review.Bundles(opal)
		if err != nil {
			t.Fatal(err)
		}
		out := map[string]int{}
		for _, b := range list.Items {
			out[b.Name] = b.Grants
		}
		return out
	}
	before := granted()
	give := wire.GrantRequest{Privileges: []string{"reader"}, Object: "survey.assay", Subjects: []string{"user:marl", "user:tuff"}}
	done(t)(svc.Admin.Grant(ctx, opal, give, false))
	if now := granted(); now["reader"] != before["reader"]+2 || now["writer"] != before["writer"] {
		t.Errorf("two grants of reader make %v of %v", now, before)
	}
	done(t)(svc.Admin.Grant(ctx, opal, give, true))
	if now := granted(); fmt.Sprint(now) != fmt.Sprint(before) {
		t.Errorf("taken back, they make %v of %v", now, before)
	}
}
