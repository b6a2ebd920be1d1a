package service_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/review"
	"gneiss/wire"
)

var times = regexp.MustCompile(`"at":"[^"]*"`)

// picture is all that a caller reads of who may do what, as an independent reading has it: access of
// everybody, column by column, and what there is. Times and revisions are left out.
func picture(t testing.TB, svc *service.Service, c identity.Caller) map[string]string {
	t.Helper()
	out := map[string]string{}
	put := func(name string, v any, err error) {
		t.Helper()
		if err != nil {
			out[name] = err.Error()
			return
		}
		text, err := json.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		out[name] = times.ReplaceAllString(string(text), `"at"`)
	}
	subjects, err := svc.Review.Subjects(c, review.SubjectSearch{})
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range subjects.Items {
		put("subject "+s.Name, s, nil)
		list, err := svc.Review.AccessOf(c, review.AccessSearch{Of: s.Name, Columns: true})
		list.Items = slices.DeleteFunc(list.Items, func(a wire.Access) bool { // a view that was dropped leaves its place, for its grants
			if !strings.Contains(a.Object, "made_view") {
				return false
			}
			o, err := svc.Review.Object(c, "survey.drilling.made_view", wire.Standpoint{})
			return err != nil || o.Node.Missing
		})
		put("access of "+s.Name, list.Items, err)
	}
	grants, err := svc.Review.Grants(c, review.GrantSearch{Limit: 5000})
	var lines []string
	for _, g := range grants.Items {
		g.At = time.Time{}
		text, err := json.Marshal(g)
		if err != nil {
			t.Fatal(err)
		}
		lines = append(lines, string(text))
	}
	slices.Sort(lines)
	put("grants", lines, err)
	policies, err := svc.Review.Policies(c, "")
	put("policies", policies, err)
	labels, err := svc.Review.Labels(c)
	put("labels", labels, err)
	bundles, err := svc.Review.Bundles(c)
	put("bundles", bundles, err)
	return out
}

func samePicture(t testing.TB, what string, got, want map[string]string) {
	t.Helper()
	for _, m := range []map[string]string{got, want} {
		for name := range m {
			if got[name] != want[name] {
				at := 0
				for at < min(len(got[name]), len(want[name])) && got[name][at] == want[name][at] {
					at++
				}
				at = max(at-200, 0)
				t.Fatalf("%s: %s\ngot  %.500s\nwant %.500s", what, name, got[name][at:], want[name][at:])
			}
		}
	}
}

// a deed is one change that somebody could make, by commands.
type deed struct {
	name string
	do   func(*service.Service, identity.Caller) error
}

func did(_ wire.Changed, err error) error { return err }

// deeds are random changes of the demo platform, of all kinds that are not about sources. Close ones
// are about few things, so that they come in each other's way.
func deeds(r *rand.Rand, n int, close bool) []deed {
	pick := func(of ...string) string {
		if close && len(of) > 5 {
			return of[len(of)-2+r.IntN(2)]
		}
		return of[r.IntN(len(of))]
	}
	user := func() string {
		return "user:" + pick("flint", "jasper", "slate", "chert", "garnet", "tuff", "marl", "beryl")
	}
	role := func() string {
		return "role:" + pick("survey_reader", "lab_analyst", "partner", "public_portal", "licensing_officer", "regional_lead", "made_one", "made_two")
	}
	object := func() string {
		return pick("survey.drilling", "survey.assay", "survey.licensing.payments", "survey.drilling.boreholes", "survey.field.*", "survey.monitoring", "survey")
	}
	var out []deed
	for range n {
		a, b, o, flip := user(), role(), object(), r.IntN(2) == 0
		value, value2 := pick("north", "coast", "basin"), pick("owner", "reader")
		privilege := pick("SELECT", "INSERT", "USAGE", "DESCRIBE", "reader", "MANAGE")
		policy := pick("boreholes-of-districts", "holder-phone", "report-cost", "samples-of-laboratory", "made-rows")
		column := pick("survey.drilling.boreholes.status", "survey.licensing.holders.phone", "survey.field.visits")
		label := pick("contact", "commercial", "made_label")
		switch r.IntN(19) {
		case 0, 1, 2:
			out = append(out, deed{"grant " + privilege + " " + o + " " + b, func(s *service.Service, c identity.Caller) error {
				return did(s.Admin.Grant(ctx, c, wire.GrantRequest{Privileges: []string{privilege}, Object: o, Subjects: []string{b}, Option: flip}, false))
			}})
		case 3, 4:
			out = append(out, deed{"revoke " + privilege + " " + o + " " + b, func(s *service.Service, c identity.Caller) error {
				return did(s.Admin.Grant(ctx, c, wire.GrantRequest{Privileges: []string{privilege}, Object: o, Subjects: []string{b}, Cascade: flip}, true))
			}})
		case 5, 6:
			out = append(out, deed{"join " + a + " " + b, func(s *service.Service, c identity.Caller) error {
				return did(s.Admin.Join(ctx, c, wire.Member{Member: a, Of: b}, false))
			}})
		case 7:
			out = append(out, deed{"leave " + a + " " + b, func(s *service.Service, c identity.Caller) error {
				return did(s.Admin.Join(ctx, c, wire.Member{Member: a, Of: b}, true))
			}})
		case 8:
			out = append(out, deed{"add " + b, func(s *service.Service, c identity.Caller) error {
				return did(s.Admin.PutSubject(ctx, c, wire.SubjectRequest{Subject: b}, false))
			}})
		case 9:
			out = append(out, deed{"set " + a, func(s *service.Service, c identity.Caller) error {
				return did(s.Admin.PutSubject(ctx, c, wire.SubjectRequest{Subject: a, Disabled: &flip, Attributes: map[string][]string{"districts": {value}}}, true))
			}})
		case 10:
			out = append(out, deed{"remove " + b, func(s *service.Service, c identity.Caller) error {
				return did(s.Admin.RemoveSubject(ctx, c, b, wire.Change{}))
			}})
		case 11:
			status := pick("live", "off", "draft")
			out = append(out, deed{status + " " + policy, func(s *service.Service, c identity.Caller) error {
				return did(s.Admin.SetPolicyStatus(ctx, c, policy, wire.PolicyStatus{Status: status}))
			}})
		case 12:
			out = append(out, deed{"put made-rows for " + b, func(s *service.Service, c identity.Caller) error {
				return did(s.Admin.PutPolicy(ctx, c, wire.PolicyRequest{Policy: wire.Policy{Kind: "rows", Name: "made-rows", Table: "survey.drilling.core_boxes", Rule: "id > 10", For: []string{b}}}))
			}})
		case 13:
			out = append(out, deed{"remove " + policy, func(s *service.Service, c identity.Caller) error {
				return did(s.Admin.RemovePolicy(ctx, c, policy, wire.Change{}))
			}})
		case 14:
			out = append(out, deed{"label " + label + " " + column, func(s *service.Service, c identity.Caller) error {
				if label == "made_label" {
					return did(s.Admin.PutLabel(ctx, c, wire.LabelRequest{Name: label, Topic: value}))
				}
				return did(s.Admin.PlaceLabel(ctx, c, label, wire.LabelPlacement{Objects: []string{column}, Do: map[bool]string{true: "lift", false: "put"}[flip]}))
			}})
		case 15:
			out = append(out, deed{"owner " + o + " " + b, func(s *service.Service, c identity.Caller) error {
				return did(s.Admin.SetOwner(ctx, c, wire.OwnerRequest{Objects: []string{strings.TrimSuffix(o, ".*")}, Owner: b}))
			}})
		case 17:
			out = append(out, deed{"view with the rights of " + b, func(s *service.Service, c identity.Caller) error {
				_, err := s.Admin.PutView(ctx, c, wire.ViewRequest{Path: "survey.drilling.made_view", Text: "SELECT id, name FROM survey.drilling.boreholes", Rights: value2, Replace: flip})
				if err == nil && value2 == "owner" {
					err = did(s.Admin.SetOwner(ctx, c, wire.OwnerRequest{Objects: []string{"survey.drilling.made_view"}, Owner: "role:data_curator"}))
				}
				return err
			}})
		case 18:
			out = append(out, deed{"drop the view", func(s *service.Service, c identity.Caller) error {
				return did(s.Admin.DropView(ctx, c, "survey.drilling.made_view", wire.Change{}))
			}})
		case 16:
			name := pick("renamed", "partner", "lab_analyst")
			out = append(out, deed{"rename " + b + " " + name, func(s *service.Service, c identity.Caller) error {
				return did(s.Admin.PutSubject(ctx, c, wire.SubjectRequest{Subject: b, Rename: name}, true))
			}})
		}
	}
	return out
}

// TestUndoIsAsIfItHadNotBeen makes random changes, undoes some, and compares with a platform on which
// those were never made; or the undo is refused, and nothing is changed.
func TestUndoIsAsIfItHadNotBeen(t *testing.T) {
	undone, refused := 0, 0
	for seed := range uint64(30) {
		r := rand.New(rand.NewPCG(seed, 7))
		list := deeds(r, 7, seed%3 > 0)
		svc := demotest.Open(t, demotest.Folder(t))
		opal := caller(t, svc, "opal")
		made := map[int64]int{}
		var worked []bool
		for i, d := range list {
			before := svc.Revision()
			err := d.do(svc, opal)
			worked = append(worked, err == nil || svc.Revision() > before)
			for n := before + 1; n <= svc.Revision(); n++ {
				made[n] = i
			}
		}
		undo := map[int]bool{}
		for i := range list {
			undo[i] = r.IntN(3) == 0
		}
		var take []int64
		left := slices.Clone(worked)
		for n, i := range made {
			if undo[i] {
				take = append(take, n)
				left[i] = false
			}
		}
		if len(take) == 0 {
			continue
		}
		before := picture(t, svc, opal)
		revision := svc.Revision()
		_, err := svc.Admin.Undo(ctx, opal, wire.UndoRequest{Revisions: take})
		if err != nil {
			refused++
			if k := fault.Of(err).Kind; k != fault.Conflict && k != fault.Invalid || svc.Revision() != revision {
				t.Errorf("seed %d: %v (%v), revision %d after %d", seed, err, k, svc.Revision(), revision)
			}
			samePicture(t, fmt.Sprintf("seed %d, a refused undo", seed), picture(t, svc, opal), before)
			continue
		}
		undone++
		other := demotest.Open(t, demotest.Folder(t))
		opalThere := caller(t, other, "opal")
		for i, d := range list {
			if left[i] {
				if err := d.do(other, opalThere); err != nil {
					t.Logf("seed %d: %s: %v", seed, d.name, err) // it came to nothing by what is undone
				}
			}
		}
		samePicture(t, fmt.Sprintf("seed %d: %v without %v", seed, names(list), take), picture(t, svc, opal), picture(t, other, opalThere))
	}
	if undone < 6 {
		t.Errorf("only %d were undone, and %d refused", undone, refused)
	}
	t.Logf("%d undone, %d refused", undone, refused)
}

func names(list []deed) []string {
	var out []string
	for _, d := range list {
		out = append(out, d.name)
	}
	return out
}

// TestAMomentIsWhatWas compares each past revision with what was read when it was current.
func TestAMomentIsWhatWas(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	was := map[int64]map[string]string{svc.Revision(): picture(t, svc, opal)}
	for _, d := range deeds(rand.New(rand.NewPCG(3, 3)), 40, false) {
		before := svc.Revision()
		if d.do(svc, opal); svc.Revision() > before {
			was[svc.Revision()] = picture(t, svc, opal)
		}
	}
	for n, want := range was {
		then, err := svc.Identity.Looking(ctx, opal, wire.Moment{At: fmt.Sprint(n)})
		if err != nil {
			t.Fatal(err)
		}
		samePicture(t, fmt.Sprintf("revision %d", n), picture(t, svc, then), want)
	}
	if len(was) < 15 {
		t.Errorf("only %d revisions were compared", len(was))
	}
}

// TestADraftIsWhatPublishingMakes: what is read through a draft is what is read once it is published,
// and what its impact says is the difference.
func TestADraftIsWhatPublishingMakes(t *testing.T) {
	published := 0
	for seed := range uint64(8) {
		svc := demotest.Open(t, demotest.Folder(t))
		opal := caller(t, svc, "opal")
		if _, err := svc.Admin.OpenDraft(ctx, opal, wire.DraftRequest{Name: "next"}); err != nil {
			t.Fatal(err)
		}
		before, revision := picture(t, svc, opal), svc.Revision()
		steps := 0
		for _, d := range deeds(rand.New(rand.NewPCG(seed, 11)), 8, seed%2 == 0) {
			into, err := svc.Identity.Drafting(ctx, opal, "next")
			if err != nil {
				t.Fatal(err)
			}
			if d.do(svc, into) == nil {
				steps++
			}
		}
		through, err := svc.Identity.Looking(ctx, opal, wire.Moment{Draft: "next"})
		if err != nil {
			t.Fatal(err)
		}
		imagined := picture(t, svc, through)
		impact, err := svc.Review.Impact(ctx, opal, "next")
		if err != nil {
			t.Fatal(err)
		}
		samePicture(t, "a draft changes nothing", picture(t, svc, opal), before)
		if svc.Revision() != revision {
			t.Fatalf("seed %d: a draft made revision %d", seed, svc.Revision())
		}
		if steps == 0 {
			continue
		}
		out, err := svc.Admin.PublishDraft(ctx, opal, "next", wire.Change{})
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		published++
		samePicture(t, fmt.Sprintf("seed %d, published", seed), picture(t, svc, opal), imagined)
		if fmt.Sprint(out.Effects) != fmt.Sprint(impact.Effects) {
			t.Errorf("seed %d: its impact was %v, and it did %v", seed, impact.Effects, out.Effects)
		}
		if _, err := svc.Admin.Undo(ctx, opal, wire.UndoRequest{Revisions: []int64{svc.Revision()}}); err == nil {
			after := picture(t, svc, opal)
			if p := after["policies"]; p != before["policies"] || after["grants"] != before["grants"] {
				t.Errorf("seed %d: undone, the grants or policies are not what they were", seed)
			}
		}
	}
	if published < 5 {
		t.Errorf("only %d drafts were published", published)
	}
}

// TestDraftsOfOthers: who may look, fill, publish and drop.
func TestDraftsOfOthers(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, flint, agate, beryl := caller(t, svc, "opal"), caller(t, svc, "flint"), caller(t, svc, "agate"), caller(t, svc, "beryl")
	grant := func(c identity.Caller, draft, object, to string) error {
		into, err := svc.Identity.Drafting(ctx, c, draft)
		if err != nil {
			return err
		}
		return did(svc.Admin.Grant(ctx, into, wire.GrantRequest{Privileges: []string{"SELECT"}, Object: object, Subjects: []string{to}}, false))
	}
	for _, c := range []identity.Caller{opal, beryl} {
		name := map[bool]string{true: "opals", false: "beryls"}[c.User == opal.User]
		if _, err := svc.Admin.OpenDraft(ctx, c, wire.DraftRequest{Name: name}); err != nil {
			t.Fatal(err)
		}
		if _, err := svc.Admin.OpenDraft(ctx, opal, wire.DraftRequest{Name: name}); err == nil {
			t.Error("two drafts have one name")
		}
	}
	if err := grant(opal, "opals", "survey.licensing.payments", "user:agate"); err != nil {
		t.Fatal(err)
	}
	if err := grant(beryl, "beryls", "survey.assay.results", "user:marl"); err != nil {
		t.Errorf("who owns a schema cannot draft a grant on it: %v", err)
	}
	wants(t, grant(beryl, "beryls", "survey.licensing.payments", "user:marl"), fault.NotFound, "")
	wants(t, grant(flint, "opals", "survey.drilling", "user:marl"), fault.NotFound, "of yours")
	wants(t, grant(agate, "opals", "survey.drilling", "user:marl"), fault.NotFound, "of yours")
	wants(t, grant(opal, "opal", "survey.drilling", "user:marl"), fault.NotFound, "did you mean opals")
	_, err := svc.Identity.Looking(ctx, flint, wire.Moment{Draft: "opals"})
	wants(t, err, fault.Refused, "DESCRIBE on platform")
	_, err = svc.Identity.Looking(ctx, beryl, wire.Moment{At: "1"})
	wants(t, err, fault.Refused, "DESCRIBE on platform")
	// Who reviews looks through the draft that gives them rows, and reads none of them.
	through, err := svc.Identity.Looking(ctx, agate, wire.Moment{Draft: "opals"})
	if err != nil {
		t.Fatal(err)
	}
	if list, err := svc.Review.AccessOf(through, review.AccessSearch{Of: "user:agate", Below: "survey.licensing"}); err != nil || !strings.Contains(fmt.Sprint(list), "payments") {
		t.Errorf("the draft's grant is not seen through it: %v, %v", list, err)
	}
	_, err = svc.Review.Preview(ctx, agate, wire.PreviewRequest{Table: "survey.licensing.payments", Standpoints: []wire.PreviewPoint{{Moment: wire.Moment{Draft: "opals"}}}})
	wants(t, err, fault.Refused, "MANAGE on platform")
	_, err = svc.Gateway.Query(ctx, through, wire.QueryRequest{SQL: "SELECT * FROM survey.licensing.payments"})
	wants(t, err, fault.Invalid, "as of now")
	_, err = svc.Admin.PublishDraft(ctx, agate, "opals", wire.Change{})
	wants(t, err, fault.Refused, "MANAGE")
	_, err = svc.Admin.DropDraft(ctx, flint, "opals", wire.Change{})
	wants(t, err, fault.NotFound, "of yours")
	if list, err := svc.Review.Drafts(ctx, beryl); err != nil || len(list.Items) != 1 || list.Items[0].Name != "beryls" {
		t.Errorf("beryl is told of %v, %v", list.Items, err)
	}
	if _, err := svc.Admin.PublishDraft(ctx, beryl, "beryls", wire.Change{}); err != nil {
		t.Errorf("who may make its changes cannot publish it: %v", err)
	}
	_, err = svc.Review.Draft(ctx, opal, "beryls")
	wants(t, err, fault.NotFound, "no open draft")
	// A draft that no longer fits is not published.
	if _, err := svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "role:short_lived"}, false); err != nil {
		t.Fatal(err)
	}
	if err := grant(opal, "opals", "survey.drilling", "role:short_lived"); err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Admin.RemoveSubject(ctx, opal, "role:short_lived", wire.Change{}); err != nil {
		t.Fatal(err)
	}
	_, err = svc.Admin.PublishDraft(ctx, opal, "opals", wire.Change{})
	wants(t, err, fault.Conflict, "change 2 of the draft")
	if _, err := svc.Admin.DropStep(ctx, opal, "opals", 2); err != nil {
		t.Fatal(err)
	}
	if out, err := svc.Admin.PublishDraft(ctx, opal, "opals", wire.Change{}); err != nil || !out.Done {
		t.Errorf("without the change that does not fit it is not published: %v", err)
	}
	// What takes effect outside of the model is no part of a draft.
	if _, err := svc.Admin.OpenDraft(ctx, opal, wire.DraftRequest{Name: "secret"}); err != nil {
		t.Fatal(err)
	}
	into, err := svc.Identity.Drafting(ctx, opal, "secret")
	if err != nil {
		t.Fatal(err)
	}
	_, err = svc.Admin.PutSubject(ctx, into, wire.SubjectRequest{Subject: "user:flint", Password: "a long password"}, true)
	wants(t, err, fault.Invalid, "cannot be part of a draft")
}

// TestUndoBringsBack: who was removed comes back with what they had, and without a password.
func TestUndoBringsBack(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	before := picture(t, svc, opal)
	done(t)(svc.Admin.RemoveSubject(ctx, opal, "service:slag", wire.Change{}))
	done(t)(svc.Admin.RemoveSubject(ctx, opal, "user:jasper", wire.Change{}))
	out := done(t)(svc.Admin.Undo(ctx, opal, wire.UndoRequest{Revisions: []int64{svc.Revision(), svc.Revision() - 1}}))
	if notes := strings.Join(out.Notes, "; "); !strings.Contains(notes, "user:jasper has no password yet") || !strings.Contains(notes, "service:slag has no password yet") {
		t.Errorf("it is not said that they cannot sign in: %v", out.Notes)
	}
	after := picture(t, svc, opal)
	for _, name := range []string{"access of jasper", "access of slag", "policies", "access of chert"} {
		if before[name] != after[name] {
			t.Errorf("%s: %.400s, want %.400s", name, after[name], before[name])
		}
	}
	if _, _, err := svc.Identity.SignIn(ctx, wire.SignIn{User: "jasper", Password: "northmark"}, "127.0.0.1", "test"); err == nil {
		t.Error("the old password opens an account that was removed")
	}
}

// TestDraftsAreOnRecord: what was done to a draft is on record, what was not is there as failed, and a
// draft that never had anything in it leaves nothing behind.
func TestDraftsAreOnRecord(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	for range 2 {
		svc.Admin.OpenDraft(ctx, opal, wire.DraftRequest{Name: "twice"}) // the second time it is there
	}
	records, err := svc.Review.Records(ctx, opal, review.RecordSearch{Action: "draft", Limit: 3})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, r := range records.Items {
		got = append(got, r.Decision+" "+r.Text)
	}
	if fmt.Sprint(got) != "[failed opened the draft twice allowed opened the draft twice allowed opened the draft twice]" {
		t.Errorf("on record are %q", got)
	}
	drafts := func() int {
		list, err := svc.Review.Drafts(ctx, opal)
		if err != nil {
			t.Fatal(err)
		}
		return len(list.Items)
	}
	before := drafts()
	done(t)(svc.Admin.DropDraft(ctx, opal, "twice", wire.Change{}))
	if n := drafts(); n != before-1 {
		t.Errorf("an empty draft that was dropped is kept: %d drafts after %d", n, before)
	}
	done(t)(svc.Admin.DropDraft(ctx, opal, "portal-2027", wire.Change{}))
	if n := drafts(); n != before-1 {
		t.Errorf("a draft with changes in it is not kept: %d drafts after %d", n, before)
	}
	// A change that is taken out and another put in its place is another change.
	done(t)(svc.Admin.OpenDraft(ctx, opal, wire.DraftRequest{Name: "changed"}))
	for i, role := range []string{"role:first", "role:second"} {
		into, err := svc.Identity.Drafting(ctx, opal, "changed")
		if err != nil {
			t.Fatal(err)
		}
		done(t)(svc.Admin.PutSubject(ctx, into, wire.SubjectRequest{Subject: role}, false))
		d, err := svc.Review.Draft(ctx, opal, "changed")
		if err != nil || len(d.Steps) != 1 || d.Steps[0].Says[0] != "added "+role {
			t.Fatalf("it has %+v, %v", d.Steps, err)
		}
		if through, err := svc.Identity.Looking(ctx, opal, wire.Moment{Draft: "changed"}); err != nil || svc.Identity.State(through).Model == nil {
			t.Fatal(err)
		} else if _, err := svc.Review.Subject(through, role); err != nil {
			t.Errorf("%s is not seen through it: %v", role, err)
		}
		if i == 0 {
			done(t)(svc.Admin.DropStep(ctx, opal, "changed", d.Steps[0].Number))
		}
	}
	if out := done(t)(svc.Admin.PublishDraft(ctx, opal, "changed", wire.Change{})); !strings.Contains(strings.Join(out.Says, " "), "role:second") {
		t.Errorf("published was %v", out.Says)
	}
	// Rows that are read through a draft say so on record.
	done(t)(svc.Admin.OpenDraft(ctx, opal, wire.DraftRequest{Name: "looked"}))
	_, err = svc.Review.Preview(ctx, opal, wire.PreviewRequest{Table: "survey.field.visits", Standpoints: []wire.PreviewPoint{
		{Standpoint: wire.Standpoint{As: "user:flint"}, Moment: wire.Moment{Draft: "looked"}}, {Standpoint: wire.Standpoint{As: "user:flint"}, Moment: wire.Moment{At: "as-opened"}}}})
	if err != nil {
		t.Fatal(err)
	}
	records, err = svc.Review.Records(ctx, opal, review.RecordSearch{Action: "preview", Limit: 2})
	if err != nil || len(records.Items) != 2 || !strings.Contains(records.Items[0].Standpoint, "user:flint at revision ") || records.Items[1].Standpoint != "user:flint through the draft looked" {
		t.Errorf("on record are %+v, %v", records.Items, err)
	}
}

// TestDraftsAreHandedOver: a draft that was exported and opened again comes to the same, says what it
// does whatever the file says, and is opened whole or not at all, by who administers.
func TestDraftsAreHandedOver(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, flint := caller(t, svc, "opal"), caller(t, svc, "flint")
	out, err := svc.Admin.ExportDraft(ctx, opal, "portal-2027")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := svc.Admin.ExportDraft(ctx, flint, "portal-2027"); err == nil {
		t.Error("flint exports opal's draft")
	}
	out.Steps[0].Says = []string{"did nothing of note"}
	done(t)(svc.Admin.OpenDraft(ctx, opal, wire.DraftRequest{Name: "copy", Reason: out.Reason, Steps: out.Steps}))
	impact := func(name string) string {
		t.Helper()
		found, err := svc.Review.Impact(ctx, opal, name)
		if err != nil {
			t.Fatal(err)
		}
		text, err := json.Marshal([]any{found.Effects, found.Tables})
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	if a, b := impact("portal-2027"), impact("copy"); a != b {
		t.Errorf("the copy comes to %s, not %s", b, a)
	}
	copied, err := svc.Review.Draft(ctx, opal, "copy")
	if err != nil || !strings.Contains(strings.Join(copied.Steps[0].Says, " "), "added SELECT on survey.drilling to role:partner") {
		t.Errorf("its first change says %v (%v)", copied.Steps[0].Says, err)
	}
	if _, err := svc.Admin.OpenDraft(ctx, flint, wire.DraftRequest{Name: "flints", Steps: out.Steps}); err == nil {
		t.Error("flint opens a draft with changes")
	}
	out.Steps[2].Changes = []any{map[string]any{"do": "remove_policy", "what": map[string]any{"name": "no-such"}}}
	if _, err := svc.Admin.OpenDraft(ctx, opal, wire.DraftRequest{Name: "misfit", Steps: out.Steps}); err == nil {
		t.Error("a change that does not fit is put into a draft")
	}
	if _, err := svc.Review.Draft(ctx, opal, "misfit"); err == nil {
		t.Error("of a draft whose changes do not fit something is left")
	}
}
