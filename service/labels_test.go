package service_test

import (
	"fmt"
	"strings"
	"testing"

	"gneiss/demo/demotest"
	"gneiss/service/fault"
	"gneiss/service/review"
	"gneiss/wire"
)

func TestLabels(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, flint := caller(t, svc, "opal"), caller(t, svc, "flint")
	treated := func() string {
		t.Helper()
		return fmt.Sprint(ask(t, svc, flint, "SELECT count(shelf), count(box_no) FROM survey.drilling.core_boxes", wire.Standpoint{})[0])
	}
	done(t)(svc.Admin.PutLabel(ctx, opal, wire.LabelRequest{Name: "shelving", Level: "restricted"}))
	out := done(t)(svc.Admin.PlaceLabel(ctx, opal, "shelving", wire.LabelPlacement{Do: "put", Objects: []string{"survey.drilling.core_boxes.shelf"}}))
	if len(out.Notes) != 1 || !strings.Contains(out.Notes[0], "no policy uses label:shelving yet") {
		t.Errorf("a label that does nothing says so: %v", out.Notes)
	}
	done(t)(svc.Admin.PutPolicy(ctx, opal, wire.PolicyRequest{Policy: wire.Policy{Kind: "columns", Name: "shelves", Table: "label:shelving", Treatment: &wire.Treatment{Kind: "suppress"}, Except: []string{"role:data_curator"}}}))
	if got := treated(); got != "[0 9600]" {
		t.Errorf("a policy on a label: %s", got)
	}
	// Put on the table, it goes down to every column, and says to whom.
	out = done(t)(svc.Admin.PlaceLabel(ctx, opal, "shelving", wire.LabelPlacement{Do: "put", Objects: []string{"survey.drilling.core_boxes"}}))
	if got := treated(); got != "[0 0]" || !strings.Contains(fmt.Sprint(out.Effects), "user:flint [] [survey.drilling.core_boxes: id (left: suppress") {
		t.Errorf("inherited: %s, %+v", got, out.Effects)
	}
	_, err := svc.Admin.PlaceLabel(ctx, opal, "shelving", wire.LabelPlacement{Do: "lift", Objects: []string{"survey.drilling.core_boxes.box_no"}})
	wants(t, err, fault.Invalid, "has label:shelving from survey.drilling.core_boxes; lift it there")
	done(t)(svc.Admin.PlaceLabel(ctx, opal, "shelving", wire.LabelPlacement{Do: "lift", Objects: []string{"survey.drilling.core_boxes"}}))
	if got := treated(); got != "[0 9600]" {
		t.Errorf("lifted again: %s", got)
	}
	// Two labels on one column, and what no policy covers.
	done(t)(svc.Admin.PlaceLabel(ctx, opal, "commercial", wire.LabelPlacement{Do: "put", Objects: []string{"survey.drilling.core_boxes.shelf"}}))
	list, err := svc.Review.LabelledColumns(opal, "shelving", false)
	if err != nil || len(list.Items) != 1 || fmt.Sprint(list.Items[0].Labels, list.Items[0].Level, list.Items[0].Policies) != "[shelving commercial]restricted[shelves]" {
		t.Errorf("%+v, %v", list, err)
	}
	if bare, err := svc.Review.LabelledColumns(opal, "", true); err != nil || len(bare.Items) != 1 || bare.Items[0].Column != "survey.licensing.payments.amount" {
		t.Errorf("labelled and not covered: %+v, %v", bare, err)
	}
	_, err = svc.Admin.RemoveLabel(ctx, opal, "shelving", wire.Change{})
	wants(t, err, fault.Conflict, "policies use it: shelves")
	done(t)(svc.Admin.RemovePolicy(ctx, opal, "shelves", wire.Change{}))
	done(t)(svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"REVEAL"}, Object: "label:shelving", Subjects: []string{"user:marl"}}, false))
	out = done(t)(svc.Admin.RemoveLabel(ctx, opal, "shelving", wire.Change{}))
	if fmt.Sprint(out.Says) != "[removed label:shelving, off 1 object, with 1 grant on it]" {
		t.Errorf("%v", out.Says)
	}
	_, err = svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"REVEAL"}, Object: "label:shelving", Subjects: []string{"user:marl"}}, false)
	wants(t, err, fault.NotFound, "no label shelving")
	_, err = svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "label:contact", Subjects: []string{"user:marl"}}, false)
	wants(t, err, fault.Invalid, "SELECT cannot be granted on the label")
	if _, err := svc.Review.Labels(flint); fault.Of(err).Kind != fault.Refused {
		t.Errorf("a reader lists the labels: %v", err)
	}
}

// TestWhoMayLabel: who manages a table may label it; to lift a label that a
// policy is about takes the right over the label, for it takes protection off.
func TestWhoMayLabel(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, beryl := caller(t, svc, "opal"), caller(t, svc, "beryl") // who owns the laboratory's tables
	place := func(do, label, object string) error {
		_, err := svc.Admin.PlaceLabel(ctx, beryl, label, wire.LabelPlacement{Do: do, Objects: []string{object}})
		return err
	}
	if err := place("put", "finance", "survey.assay.results.analyst"); err != nil {
		t.Error(err)
	}
	wants(t, place("lift", "finance", "survey.assay.results.analyst"), fault.Refused, "MANAGE on label:finance")
	if err := place("put", "contact", "survey.assay.results.analyst"); err != nil {
		t.Error(err)
	}
	if err := place("lift", "contact", "survey.assay.results.analyst"); err != nil {
		t.Errorf("nothing is about it: %v", err)
	}
	if err := place("put", "finance", "survey.drilling.boreholes.name"); err == nil {
		t.Error("who does not manage a table labels it")
	}
	_, err := svc.Admin.PutPolicy(ctx, beryl, wire.PolicyRequest{Policy: wire.Policy{Kind: "columns", Name: "p", Table: "label:finance", Treatment: &wire.Treatment{Kind: "suppress"}}})
	if fault.Of(err).Kind != fault.Refused && fault.Of(err).Kind != fault.NotFound {
		t.Errorf("who does not manage the platform writes a policy on a label: %v", err)
	}
	done(t)(svc.Admin.PlaceLabel(ctx, opal, "finance", wire.LabelPlacement{Do: "lift", Objects: []string{"survey.assay.results.analyst"}}))
}

func TestSuggestions(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	look := func(dismissed bool) map[string]wire.Suggestion {
		t.Helper()
		found, err := svc.Review.SuggestLabels(ctx, opal, "", false, dismissed)
		if err != nil || found.Tables != 16 || len(found.Failed) > 0 {
			t.Fatalf("%+v, %v", found, err)
		}
		out := map[string]wire.Suggestion{}
		for _, s := range found.Items {
			out[s.Column+" "+s.Label] = s
		}
		return out
	}
	found := look(false)
	latitude := found["survey.drilling.boreholes.latitude position"]
	if len(found) != 4 || latitude.Confidence < 0.7 || !strings.Contains(strings.Join(latitude.Evidence, "; "), "200 of 200 sampled values can be a latitude") {
		t.Errorf("%+v", found)
	}
	if _, labelled := found["survey.licensing.holders.email contact"]; labelled {
		t.Error("what is labelled already is suggested")
	}
	done(t)(svc.Admin.AcceptLabels(ctx, opal, wire.Acceptance{Items: []wire.AcceptedLabel{{Column: latitude.Column, Label: latitude.Label, Topic: latitude.Topic, Level: latitude.Level}}}))
	done(t)(svc.Admin.PlaceLabel(ctx, opal, "position", wire.LabelPlacement{Do: "dismiss", Objects: []string{"survey.drilling.boreholes.longitude"}}))
	found = look(false)
	if _, there := found["survey.drilling.boreholes.longitude position"]; there || len(found) != 2 {
		t.Errorf("after one was accepted and one dismissed: %v", found)
	}
	if dismissed := look(true); len(dismissed) != 1 {
		t.Errorf("what was dismissed: %v", dismissed)
	}
	again, err := svc.Review.SuggestLabels(ctx, opal, "survey.licensing", true, false)
	if err != nil || len(again.Items) != 2 {
		t.Errorf("another look, below one schema: %+v, %v", again, err)
	}
	if _, err := svc.Review.SuggestLabels(ctx, caller(t, svc, "flint"), "", false, false); fault.Of(err).Kind != fault.Refused {
		t.Errorf("a reader has the tables sampled: %v", err)
	}
	records, err := svc.Review.Records(ctx, caller(t, svc, "agate"), review.RecordSearch{Action: "sample"})
	if err != nil || len(records.Items) != 2 {
		t.Errorf("two looks at the data, on record %d times: %v", len(records.Items), err)
	}
}

func TestRelationships(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, svc, "opal")
	list, err := svc.Review.Relationships(opal, "survey.assay.samples")
	if err != nil || len(list.Items) != 2 || list.Items[0].Declared || !list.Items[1].Declared || fmt.Sprint(list.Items[1].Followed) != "[samples-of-boreholes]" {
		t.Errorf("%+v, %v", list, err)
	}
	_, err = svc.Admin.Relate(ctx, opal, wire.RelationshipRequest{From: list.Items[1].From, To: list.Items[1].To, Remove: true})
	wants(t, err, fault.Invalid, "samples-of-boreholes follows it")
	_, err = svc.Admin.Relate(ctx, opal, wire.RelationshipRequest{From: []string{"survey.assay.samples.from_m"}, To: []string{"survey.drilling.boreholes.name"}})
	wants(t, err, fault.Invalid, "related columns are of one type")
	_, err = svc.Admin.Relate(ctx, caller(t, svc, "flint"), wire.RelationshipRequest{From: []string{"survey.field.visits.borehole_id"}, To: []string{"survey.drilling.boreholes.id"}})
	if fault.Of(err).Kind != fault.Refused {
		t.Errorf("a reader declares a relationship: %v", err)
	}
}

// TestTheRecordNamesLabels: who read, wrote or asked for what has a label is found
// by it.
func TestTheRecordNamesLabels(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	last, err := svc.Review.Records(ctx, caller(t, svc, "agate"), review.RecordSearch{Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	for user, text := range map[string]string{
		"flint": "SELECT company FROM survey.licensing.holders WHERE phone LIKE '+%'", "beryl": "SELECT email FROM survey.licensing.holders", "garnet": "SELECT company FROM survey.licensing.holders",
	} {
		svc.Gateway.Query(ctx, caller(t, svc, user), wire.QueryRequest{SQL: text}) // beryl's is refused
	}
	for _, c := range []struct{ label, want string }{{"contact", "user:flint allowed [label:contact]"}, {"label:contact", "user:flint allowed [label:contact]"}, {"finance", ""}} {
		found, err := svc.Review.Records(ctx, caller(t, svc, "agate"), review.RecordSearch{Label: c.label, Action: "query"})
		if err != nil {
			t.Fatal(err)
		}
		var lines []string
		for _, r := range found.Items {
			if r.ID > last.Items[0].ID {
				lines = append(lines, fmt.Sprint(r.Actor, " ", r.Decision, " ", r.Labels))
			}
		}
		if got := strings.Join(lines, "; "); got != c.want {
			t.Errorf("%s: %s, want %s", c.label, got, c.want)
		}
	}
	_, err = svc.Review.Records(ctx, caller(t, svc, "agate"), review.RecordSearch{Label: "contakt"})
	wants(t, err, fault.NotFound, "did you mean")
}

// TestOwnRecordsAreNoOracle: who may not read the whole record cannot find out by
// searching their own lines what those have beside their text.
func TestOwnRecordsAreNoOracle(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	flint := caller(t, svc, "flint")
	svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: "SELECT phone FROM survey.licensing.holders"})
	svc.Gateway.Query(ctx, flint, wire.QueryRequest{SQL: "SELECT amount FROM survey.licensing.payments"})
	for _, label := range []string{"contact", "finance", "no_such_label"} {
		_, err := svc.Review.Records(ctx, flint, review.RecordSearch{Label: label})
		wants(t, err, fault.Refused, "AUDIT on platform")
	}
	for contains, want := range map[string]int{"phone": 1, "payments": 1, "missing": 0, "SELECT on": 0, "licensing.holders.phone": 0} {
		list, err := svc.Review.Records(ctx, flint, review.RecordSearch{Contains: contains, Action: "query"})
		if err != nil || len(list.Items) != want {
			t.Errorf("a search for %q finds %d of flint's own lines, want %d (%v)", contains, len(list.Items), want, err)
		}
		for _, r := range list.Items {
			if len(r.Labels)+len(r.Objects)+len(r.Missing) > 0 || r.Reason != "" {
				t.Errorf("flint is told more than the text: %+v", r)
			}
		}
	}
	for _, contains := range []string{"missing", "licensing.holders.phone"} { // which an auditor finds
		if list, err := svc.Review.Records(ctx, caller(t, svc, "agate"), review.RecordSearch{Contains: contains}); err != nil || len(list.Items) == 0 {
			t.Errorf("an auditor finds nothing that contains %q (%v)", contains, err)
		}
	}
}
