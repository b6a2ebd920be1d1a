package service_test

import (
	"testing"
	"time"

	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/service/fault"
	"gneiss/service/review"
	"gneiss/wire"
)

// TestOldRecordsGo: what is taken away is gone, on record, and no break of the chain, neither now nor at
// the next start; what was counted of it stays; an anchor of before holds, and one that is altered does not.
func TestOldRecordsGo(t *testing.T) {
	dir := demotest.Folder(t)
	svc, err := service.Open(ctx, dir, quiet)
	if err != nil {
		t.Fatal(err)
	}
	opal, agate := caller(t, svc, "opal"), caller(t, svc, "agate")
	counts := func() (n int64) {
		t.Helper()
		out, err := svc.Review.RecordCounts(ctx, agate, time.Now().AddDate(0, 0, -160).Format(time.DateOnly), "", "", "")
		if err != nil {
			t.Fatal(err)
		}
		for _, l := range out.Labels {
			for _, rows := range l.Rows {
				n += rows
			}
		}
		return n
	}
	anchor, err := svc.Review.Anchor(ctx, agate)
	if err != nil {
		t.Fatal(err)
	}
	before := counts()
	for day, kind := range map[string]fault.Kind{time.Now().AddDate(0, 0, -10).Format(time.DateOnly): fault.Invalid, "long ago": fault.Invalid} {
		if _, err := svc.Admin.Prune(ctx, opal, wire.Pruning{Before: day}); fault.Of(err).Kind != kind {
			t.Errorf("before %s: %v", day, err)
		}
	}
	day := time.Now().AddDate(0, 0, -60).Format(time.DateOnly)
	if _, err := svc.Admin.Prune(ctx, agate, wire.Pruning{Before: day}); fault.Of(err).Kind != fault.Refused {
		t.Errorf("the auditor takes records away: %v", err)
	}
	done(t)(svc.Admin.Prune(ctx, opal, wire.Pruning{Before: day}))
	if err := svc.Close(ctx); err != nil {
		t.Fatal(err)
	}
	svc = demotest.Open(t, dir) // which checks the chain
	agate = caller(t, svc, "agate")
	if old, err := svc.Review.Records(ctx, agate, review.RecordSearch{Until: time.Now().AddDate(0, 0, -62).Format(time.DateOnly)}); err != nil || len(old.Items) > 0 {
		t.Errorf("of what is gone %d are found (%v)", len(old.Items), err)
	}
	if told, err := svc.Review.Records(ctx, agate, review.RecordSearch{Action: "retention"}); err != nil || len(told.Items) == 0 {
		t.Errorf("that records went is not on record: %v", err)
	}
	if v, err := svc.Review.VerifyRecord(ctx, agate); err != nil || !v.Holds || v.Entries < 1000 {
		t.Errorf("the chain: %+v, %v", v, err)
	}
	if after := counts(); after != before || before < 10_000 {
		t.Errorf("counted were %d rows, and are %d", before, after)
	}
	if v, err := svc.Review.VerifyAnchor(ctx, agate, anchor); err != nil || !v.Holds {
		t.Errorf("the anchor: %+v, %v", v, err)
	}
	for _, alter := range []func(*wire.Anchor){
		func(a *wire.Anchor) { a.Record.Hash = "00" + a.Record.Hash[2:] },
		func(a *wire.Anchor) { a.Journal.Number-- },
		func(a *wire.Anchor) { a.Record.Number = 5 },
	} {
		altered := anchor
		alter(&altered)
		if v, err := svc.Review.VerifyAnchor(ctx, agate, altered); err != nil || v.Holds {
			t.Errorf("an altered anchor: %+v, %v", v, err)
		}
	}
}

// TestWhatStandsOut: the one night is found, by how much was read and from where.
func TestWhatStandsOut(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	out, err := svc.Review.RecordCounts(ctx, caller(t, svc, "agate"), "", "", "", "")
	if err != nil {
		t.Fatal(err)
	}
	kinds := map[string]wire.Unusual{}
	for _, u := range out.Unusual {
		kinds[u.Kind+" "+u.Actor] = u
	}
	if u := kinds["far_above user:slate"]; u.Rows != 38*120 || u.Label != "label:contact" || u.Usual > 20 {
		t.Errorf("the night is told as %+v", u)
	}
	if u := kinds["address user:slate"]; u.Address != "203.0.113.58" {
		t.Errorf("the address is told as %+v", u)
	}
	if len(out.Unusual) > 4 {
		t.Errorf("too much stands out: %+v", out.Unusual)
	}
	slate, err := svc.Review.RecordCounts(ctx, caller(t, svc, "agate"), "", "", "contact", "user:slate")
	if err != nil || len(slate.People) != 1 || len(slate.Labels) != 1 || len(slate.Queries)+len(slate.Refused)+len(slate.Changes) > 0 {
		t.Errorf("of one person and label: %+v, %v", slate, err)
	}
	for _, who := range []string{"opal", "flint"} {
		if _, err := svc.Review.RecordCounts(ctx, caller(t, svc, who), "", "", "", ""); (err == nil) != (who == "opal") {
			t.Errorf("%s asks for counts: %v", who, err)
		}
	}
}
