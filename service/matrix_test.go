package service_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"gneiss/core/access"
	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/service/identity"
	"gneiss/service/review"
	"gneiss/wire"
)

// TestTheMatrixIsTheTree: each cell is what the tree shows from the standpoint of its subject, for all
// subjects, at each level, and window by window as in one.
func TestTheMatrixIsTheTree(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	matrixIsTree(t, svc, caller(t, svc, "opal"))
}

// TestTheMatrixOfRandomPlatforms is the same after random changes of all kinds, through a draft of more of
// them too: a row is lit where what somebody can do differs, and nowhere else.
func TestTheMatrixOfRandomPlatforms(t *testing.T) {
	for seed := range uint64(3) {
		svc := demotest.Open(t, demotest.Folder(t))
		opal := caller(t, svc, "opal")
		r := rand.New(rand.NewPCG(seed, 5))
		for _, d := range deeds(r, 40, false) {
			d.do(svc, opal) // some are refused
		}
		matrixIsTree(t, svc, opal)
		containersAreTheirRelations(t, svc, opal)
		done(t)(svc.Admin.OpenDraft(ctx, opal, wire.DraftRequest{Name: "more"}))
		for _, d := range deeds(r, 12, false) {
			into, err := svc.Identity.Drafting(ctx, opal, "more")
			if err != nil {
				t.Fatal(err)
			}
			d.do(svc, into)
		}
		through, err := svc.Identity.Looking(ctx, opal, wire.Moment{Draft: "more"})
		if err != nil {
			t.Fatal(err)
		}
		lit := map[string]bool{}
		m, err := svc.Review.AccessMatrix(ctx, opal, review.MatrixSearch{Level: "schemas", Beside: wire.Moment{Draft: "more"}})
		if err != nil {
			t.Fatal(err)
		}
		for _, row := range m.Rows {
			for _, i := range row.Lit {
				lit[row.Subject+" "+m.Columns[i].Path] = true
			}
			for _, column := range m.Columns {
				shapes := [2]string{}
				for i, c := range []identity.Caller{opal, through} {
					list, err := svc.Review.AccessOf(c, review.AccessSearch{Of: row.Subject, Below: column.Path})
					if err != nil {
						shapes[i] = "" // nothing that they can do
						continue
					}
					for _, a := range list.Items {
						if a.Kind != "routine" && a.Bands.Verbs+a.Bands.Rows+a.Bands.Columns != "emptyemptyempty" {
							shapes[i] += fmt.Sprintln(a.Object, a.Bands.Door, a.Bands.Verbs, a.Bands.Rows, a.Bands.Columns)
						}
					}
				}
				if name := row.Subject + " " + column.Path; (shapes[0] != shapes[1]) && !lit[name] {
					t.Errorf("seed %d: %s differs by\n%s\nbeside\n%s\nand is not lit", seed, name, shapes[0], shapes[1])
				}
			}
		}
	}
}

// containersAreTheirRelations compares the bands of sources and schemas with those of all relations in them.
func containersAreTheirRelations(t *testing.T, svc *service.Service, opal identity.Caller) {
	t.Helper()
	m := svc.Platform.Current().Model
	compared := 0
	for _, subject := range m.Subjects(0) {
		list, err := svc.Review.AccessOf(opal, review.AccessSearch{Of: subject.Ref()})
		if err != nil {
			continue // disabled
		}
		bands := map[string]wire.Bands{}
		for _, a := range list.Items {
			bands[a.Object] = a.Bands
		}
		for _, a := range list.Items {
			if a.Kind != "source" && a.Kind != "schema" {
				continue
			}
			o, err := m.Lookup(a.Object)
			if err != nil {
				t.Fatal(err)
			}
			n, readable, want := 0, 0, [3]string{}
			m.Relations(o.ID, func(r *access.Object) bool {
				b, held := bands[m.Path(r.ID)]
				if !held {
					b = wire.Bands{Verbs: "empty", Rows: "empty", Columns: "empty"}
				}
				if b.Rows != "empty" || b.Columns != "empty" {
					readable++
				}
				for i, x := range [3]string{b.Verbs, b.Rows, b.Columns} {
					if n > 0 && want[i] != x {
						x = "hatched"
					}
					want[i] = x
				}
				n++
				return true
			})
			compared += n
			if got := [3]string{a.Bands.Verbs, a.Bands.Rows, a.Bands.Columns}; n > 0 && (got != want || !strings.Contains(a.Bands.Says, fmt.Sprintf("%d of %d", readable, n))) {
				t.Errorf("%s on %s: %v (%s), want %v, %d of %d readable", subject.Ref(), a.Object, got, a.Bands.Says, want, readable, n)
			}
		}
	}
	if compared < 100 {
		t.Errorf("%d relations were compared", compared)
	}
}

// matrixIsTree compares each cell with the tree.
func matrixIsTree(t *testing.T, svc *service.Service, opal identity.Caller) {
	t.Helper()
	digit := map[string]string{"full": "2", "hatched": "1", "empty": "0"}
	cells := 0
	for _, kind := range []string{"user", "service", "group", "role"} {
		for _, in := range []string{"platform", "survey", "survey.drilling", "survey.licensing", "survey.licensing.holders", "survey.drilling.boreholes"} {
			whole, err := svc.Review.AccessMatrix(ctx, opal, review.MatrixSearch{In: in, Kind: kind})
			if err != nil {
				t.Fatal(err)
			}
			for _, row := range whole.Rows {
				tree, _ := svc.Review.Tree(opal, in, 1, wire.Standpoint{As: row.Subject}) // which has nothing of what they do not see
				shown := map[string]wire.Bands{}
				for _, n := range tree.Children {
					shown[n.Path] = n.Bands
				}
				for i, column := range whole.Columns {
					b, there := shown[column.Path]
					want := digit[b.Door] + digit[b.Verbs] + digit[b.Rows] + digit[b.Columns]
					if !there { // or nothing but the door above it is theirs
						want = row.Cells[i][:1] + "000"
					}
					if cells++; row.Cells[i] != want {
						t.Errorf("%s on %s is %s in the matrix, %s in the tree", row.Subject, column.Path, row.Cells[i], want)
					}
				}
			}
			var parts []wire.AccessRow
			for after := ""; ; {
				part, err := svc.Review.AccessMatrix(ctx, opal, review.MatrixSearch{In: in, Kind: kind, After: after, Limit: 3})
				if err != nil {
					t.Fatal(err)
				}
				parts = append(parts, part.Rows...)
				if after = part.Next; after == "" {
					break
				}
			}
			if len(parts) != len(whole.Rows) {
				t.Errorf("%d rows in parts, %d at once", len(parts), len(whole.Rows))
			}
			if window, err := svc.Review.AccessMatrix(ctx, opal, review.MatrixSearch{In: in, Kind: kind, From: 1, Columns: 1}); err != nil || len(window.Rows) > 0 &&
				len(window.Columns) > 0 && (window.Rows[0].Cells[0] != whole.Rows[0].Cells[1] || window.Before != 1) {
				t.Errorf("the second column alone: %+v, %v", window, err)
			}
		}
	}
	if cells < 500 {
		t.Errorf("only %d cells were compared", cells)
	}
}

// TestTheMatrixBesideAStandpoint: each row is compared with what one standpoint has, which is what its own row
// says; and no row differs from itself.
func TestTheMatrixBesideAStandpoint(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	matrix := func(q review.MatrixSearch) wire.AccessMatrix {
		t.Helper()
		out, err := svc.Review.AccessMatrix(ctx, opal, q)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	lit := 0
	for _, in := range []string{"", "survey", "survey.licensing", "survey.licensing.holders"} {
		plain := matrix(review.MatrixSearch{In: in})
		row := map[string]wire.AccessRow{}
		for _, r := range plain.Rows {
			row[r.Subject] = r
		}
		for _, with := range []string{"user:garnet", "user:marl", "user:flint in role:survey_reader"} {
			out := matrix(review.MatrixSearch{In: in, Other: with})
			if out.Beside != "from "+with {
				t.Errorf("it says to differ %q", out.Beside)
			}
			for _, r := range out.Rows {
				if r.Subject == with && len(r.Lit) > 0 {
					t.Errorf("%s differs from itself in %v", with, r.Lit)
				}
				for i := range r.Cells {
					differs := slices.Contains(r.Lit, i)
					if other, known := row[with]; known && r.Cells[i] != other.Cells[i] && !differs {
						t.Errorf("%s has %s on %s, %s has %s, and it is not lit", r.Subject, r.Cells[i], out.Columns[i].Path, with, other.Cells[i])
					} else if known && differs && r.Other[i] != other.Cells[i] {
						t.Errorf("beside %s is %s on %s, and %s has %s", r.Subject, r.Other[i], out.Columns[i].Path, with, other.Cells[i])
					}
					if differs {
						lit++
					}
				}
			}
			if only := matrix(review.MatrixSearch{In: in, Other: with, Differs: true}); len(only.Rows) >= len(out.Rows) && slices.Contains([]string{"user:garnet", "user:marl"}, with) {
				t.Errorf("all %d rows differ from %s", len(only.Rows), with)
			}
		}
	}
	if lit < 50 {
		t.Errorf("only %d cells are lit", lit)
	}
	for _, with := range []string{"user:nobody", "user:flint in role:administrator", "x y"} {
		if _, err := svc.Review.AccessMatrix(ctx, opal, review.MatrixSearch{Other: with}); err == nil {
			t.Errorf("%q is compared with", with)
		}
	}
}

// TestTheMatrixFilters: who sees a label in clear, who writes, and who differs through a draft.
func TestTheMatrixFilters(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	for _, c := range []struct {
		name string
		q    review.MatrixSearch
		want string
	}{
		{"clear", review.MatrixSearch{Label: "finance"}, "user:garnet"},
		{"writes", review.MatrixSearch{Writes: true, In: "survey"}, "user:beryl user:flint user:jasper user:opal user:slate"},
		{"role", review.MatrixSearch{Within: "role:partner"}, "user:tuff"},
		{"text", review.MatrixSearch{Text: "LEAD of"}, "user:chert"},
		{"draft", review.MatrixSearch{Level: "schemas", Beside: wire.Moment{Draft: "portal-2027"}, Differs: true}, "user:flint user:jasper user:slate user:tuff"},
		{"nothing", review.MatrixSearch{Text: "nobody is called so"}, ""},
		{"unused", review.MatrixSearch{Unused: 90}, "user:agate user:marl"},
	} {
		got, err := svc.Review.AccessMatrix(ctx, opal, c.q)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
		var names []string
		for _, r := range got.Rows {
			names = append(names, r.Subject)
		}
		if strings.Join(names, " ") != c.want {
			t.Errorf("%s: %v, want %s", c.name, names, c.want)
		}
	}
	if _, err := svc.Review.AccessMatrix(ctx, caller(t, svc, "flint"), review.MatrixSearch{}); err == nil {
		t.Error("flint reads the matrix")
	}
}
