package review

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/service/events"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/say"
	"gneiss/store"
	"gneiss/wire"
)

// Watch runs the checks after changes, and again and again, since what they are about changes with the
// data as well, until the context ends. Of each that comes to fail, or holds again, there is an event.
func (s *Service) Watch(ctx context.Context, every time.Duration) {
	for wait := min(every, firstWatch); ; wait = every {
		changed := s.platform.Changed()
		select {
		case <-time.After(wait):
		case <-changed:
			select { // a change seldom comes alone
			case <-time.After(min(every, settles)):
			case <-ctx.Done():
				return
			}
		case <-ctx.Done():
			return
		}
		if err := s.RunChecks(ctx); err != nil && ctx.Err() == nil {
			s.log.Warn("the checks could not be run", "error", err)
		}
	}
}

// firstWatch is how long after a start the checks are run, and settles how long after a change.
const (
	firstWatch = 20 * time.Second
	settles    = 15 * time.Second
)

// RunChecks runs all checks by the service itself, and keeps what they come to.
func (s *Service) RunChecks(ctx context.Context) error {
	st := s.platform.Current()
	lanes := st.Model.Lanes()
	t := &tester{s: s, ctx: ctx, st: st, stands: map[access.Standpoint]*identity.Viewer{}, recorded: true}
	if len(lanes) > 0 {
		t.counter = s.gateway.Counter(0, lanes[0])
	} else {
		t.refused = fault.New(fault.Refused, "no_lane", "there is no lane to count rows on")
	}
	results, err := t.all(nil)
	if err != nil {
		return err
	}
	kept, err := s.store.CheckResults(ctx)
	if err != nil {
		return err
	}
	writes := checkChanges(kept, results, time.Now())
	if len(writes) == 0 {
		return nil
	}
	defer s.checked.Add(1)
	return s.store.Do(ctx, writes...)
}

// checkChanges are what is to be kept, and told, of what checks came to, beside what they came to
// before.
func checkChanges(kept []store.CheckResult, results []wire.CheckResult, now time.Time) []store.Write {
	type check struct{ kind, name string }
	before := map[check]store.CheckResult{}
	for _, r := range kept {
		before[check{r.Kind, r.Name}] = r
	}
	var writes []store.Write
	for _, r := range results {
		at := check{r.Kind, r.Name}
		was, known := before[at]
		delete(before, at)
		says, err := json.Marshal(r.Says)
		if err != nil {
			panic(err) // strings always marshal
		}
		if known && was.Status == r.Status && was.Says == string(says) {
			continue
		}
		next := store.CheckResult{Kind: r.Kind, Name: r.Name, Status: r.Status, Says: string(says), Since: now.UTC().Format(time.RFC3339)}
		if known && was.Status == r.Status {
			next.Since = was.Since
		}
		writes = append(writes, store.PutCheckResult(next))
		told := events.Told{Check: r.Name}.With(append([]string{r.Sentence}, r.Says...))
		switch {
		case r.Status == "fails" && was.Status != "fails":
			told.Text = say.CheckFails.With(r.Name, r.Sentence, strings.Join(r.Says, "; "))
			writes = append(writes, events.New(events.CheckFailed, r.Name, 0, told))
		case r.Status == "holds" && was.Status == "fails":
			told.Text = say.CheckHoldsAgain.With(r.Name, r.Sentence)
			writes = append(writes, events.New(events.CheckHolds, r.Name, 0, told))
		}
	}
	for gone := range before {
		writes = append(writes, store.DropCheckResult(gone.kind, gone.name))
	}
	return writes
}

// failing finds access tests that the service found to fail when it ran them last. Tests are asked of
// the data, which a list of findings does not wait for.
func (f *finder) failing(ctx context.Context) error {
	kept, err := f.s.store.CheckResults(ctx)
	if err != nil {
		return err
	}
	for _, r := range kept {
		if r.Kind != "test" || r.Status != "fails" {
			continue
		}
		test := f.st.Guards.Test(r.Name)
		if test == nil {
			continue // it was removed since
		}
		var says []string
		if err := json.Unmarshal([]byte(r.Says), &says); err != nil {
			return err
		}
		what := say.TestFailing.With(r.Name, strings.Join(says, "; "))
		if !f.counts { // what was counted is for who may look as others
			what = say.TestFailingOnly.With(r.Name)
		}
		f.add("test", f.st.Model.Ref(test.Subject), f.st.Model.Path(test.Table), what, say.TestFailingWhy.With(test.Sentence(f.st.Model), r.Since[:10]))
	}
	return nil
}
