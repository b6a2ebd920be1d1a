package admin

import (
	"cmp"
	"context"
	"fmt"
	"hash/crc32"

	"gneiss/core/access"
	"gneiss/core/guard"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/review"
	"gneiss/service/say"
	"gneiss/wire"
)

// TakeBack opens a draft with what takes back the grants and memberships that nobody used within a
// number of days, of one subject or of all. With tests it states, for each person and table that was
// read, that they may go on, so that nothing breaks unseen.
func (s *Service) TakeBack(ctx context.Context, c identity.Caller, in wire.TakeBackRequest) (wire.Changed, error) {
	st := s.platform.Current()
	if err := s.identity.Administers(st, c, "the rights that nobody used"); err != nil {
		return wire.Changed{}, err
	}
	report, err := s.review.Use(ctx, c, in.Of, in.Days, true)
	if err != nil {
		return wire.Changed{}, err
	}
	if report.Short {
		return wire.Changed{}, fault.New(fault.Conflict, "too_soon", "use has been counted since %s only; ask for fewer days, or wait",
			report.Since.Format("2006-01-02"))
	}
	var steps []order // each of which can be taken out of the draft
	add := func(o order, err error) error {
		steps = append(steps, o)
		return err
	}
	for _, item := range report.Items {
		for _, fix := range item.Fixes {
			if item.Queries > 0 {
				continue // it was used; what would have been enough is for people to judge
			}
			switch {
			case fix.Revoke != nil:
				err = add(s.grantOrder(st, c, *fix.Revoke, true))
			case fix.Take != nil:
				err = add(s.joinOrder(st, c, *fix.Take, true))
			}
			if err != nil {
				return wire.Changed{}, err
			}
		}
	}
	if len(steps) == 0 {
		return s.nothing(st, say.NothingUnused.With(cmp.Or(in.Of, "everybody"), report.Days)), nil
	}
	if in.Tests {
		tests, err := s.testsOfUse(ctx, c, st, report)
		if err != nil {
			return wire.Changed{}, err
		}
		steps = append(steps, tests...)
	}
	opened, err := s.OpenDraft(ctx, c, wire.DraftRequest{Name: in.Draft, Reason: say.UnusedReason.With(report.Days)})
	if err != nil {
		return wire.Changed{}, err
	}
	for _, o := range steps {
		if o.caller, err = s.identity.Drafting(ctx, c, in.Draft); err == nil {
			_, err = s.carryOut(ctx, o)
		}
		if err != nil {
			_, dropped := s.DropDraft(ctx, c, in.Draft, wire.Change{})
			return wire.Changed{}, cmp.Or(err, dropped)
		}
		opened.Says = append(opened.Says, o.says...)
	}
	impact, err := s.review.Impact(ctx, c, in.Draft)
	opened.Effects, opened.More, opened.Draft = impact.Effects, impact.More, in.Draft
	return opened, err
}

// nothing is the answer where there was nothing to do.
func (s *Service) nothing(st *platform.State, says string) wire.Changed {
	out := s.saidOnly(st, says)
	out.Done = false
	return out
}

// testsOfUse are access tests of each table that the people concerned read, for what they read it by
// now is to stay.
func (s *Service) testsOfUse(ctx context.Context, c identity.Caller, st *platform.State, report wire.UseReport) ([]order, error) {
	var tests []order
	people := map[access.SubjectID]bool{}
	for _, item := range report.Items {
		subject, err := st.Model.FindSubject(item.Subject)
		if err != nil {
			return nil, err
		}
		for _, id := range append(s.platform.Current().Actors(subject.ID, report.Since), subject.ID) {
			if st.Model.Subject(id).Acts() {
				people[id] = true
			}
		}
	}
	for _, subject := range st.Model.Subjects(0) {
		if !people[subject.ID] {
			continue
		}
		used, err := s.review.Use(ctx, c, subject.Ref(), report.Days, false)
		if err != nil {
			return nil, err
		}
		for _, table := range used.Tables {
			name := testName(subject.Name, table.Table)
			if st.Guards.Test(name) != nil || len(table.Columns) == 0 {
				continue
			}
			tests = append(tests, order{says: []string{say.AddedTest.With(name, subject.Ref(), table.Table)},
				changes: []platform.Change{guard.PutTest{Name: name, Subject: subject.Ref(), Table: table.Table, May: []string{"SELECT"},
					Comment: say.UsedTest.With(table.Queries, report.Days)}}})
		}
	}
	return tests, nil
}

// longestName bounds the name of a test, in bytes.
const longestName = 63

// testName names the test of what somebody used. Of a long one a digest stands for the rest, so that no
// two are the same.
func testName(subject, table string) string {
	name := review.PlainName("used-" + subject + "-" + table)
	if len(name) <= longestName {
		return name
	}
	digest := fmt.Sprintf("-%08x", crc32.ChecksumIEEE([]byte(name)))
	return name[:longestName-len(digest)] + digest
}
