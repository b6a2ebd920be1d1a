package service_test

import (
	"fmt"
	"testing"

	"gneiss/demo/demotest"
	"gneiss/service/fault"
	"gneiss/service/review"
	"gneiss/wire"
)

// TestAccessByPages: the pages of any size are the whole list, a cursor names nothing that is not in it, and
// one that is none is refused.
func TestAccessByPages(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, marl := caller(t, svc, "opal"), caller(t, svc, "marl")
	off := true
	done(t)(svc.Admin.PutSubject(ctx, opal, wire.SubjectRequest{Subject: "user:flint", Disabled: &off}, true)) // who is in no list
	for _, q := range []review.AccessSearch{
		{Of: "user:opal"}, {Of: "user:jasper", Columns: true}, {Of: "user:tuff", Below: "survey.drilling", Columns: true}, {Of: "role:survey_reader"},
		{To: "survey.drilling.boreholes"}, {To: "survey"}, {To: "platform"},
	} {
		list := func(q review.AccessSearch) wire.AccessList {
			t.Helper()
			out, err := svc.Review.AccessTo(opal, q)
			if q.Of != "" {
				out, err = svc.Review.AccessOf(opal, q)
			}
			if err != nil {
				t.Fatal(err)
			}
			return out
		}
		whole := list(q)
		if whole.Next != "" || len(whole.Items) < 2 {
			t.Fatalf("%+v: %d items, then %q", q, len(whole.Items), whole.Next)
		}
		for _, size := range []int{1, 2, 7, len(whole.Items) - 1, len(whole.Items)} {
			var items []wire.Access
			q := q
			q.Limit = size
			for pages := 0; ; pages++ {
				part := list(q)
				items = append(items, part.Items...)
				if q.After = part.Next; q.After == "" {
					break
				}
				if last := items[len(items)-1]; q.After != last.Object && q.After != last.Subject {
					t.Errorf("%+v: behind %s of %s", q, last.Object, last.Subject)
				}
				if len(part.Items) != size || pages > len(whole.Items) {
					t.Fatalf("%+v: a page of %d", q, len(part.Items))
				}
			}
			if fmt.Sprint(items) != fmt.Sprint(whole.Items) {
				t.Errorf("%+v: %d items in pages of %d, %d in all", q, len(items), size, len(whole.Items))
			}
		}
	}
	for _, after := range []string{"survey.nosuch", "nosuch", "survey.licensing.payments"} {
		_, err := svc.Review.AccessOf(marl, review.AccessSearch{Of: "user:marl", After: after})
		wants(t, err, fault.Invalid, "no cursor of this list")
	}
}
