package gateway

import (
	"context"
	"errors"
	"slices"
	"testing"
	"time"

	"gneiss/core/access"
	"gneiss/service/fault"
)

func lane(queries, seconds int) *access.Object {
	return &access.Object{ID: 7, Limits: access.Limits{Queries: queries, Seconds: seconds}}
}

// TestALaneLetsInNoMoreThanItMay has a second query wait until the first has left.
func TestALaneLetsInNoMoreThanItMay(t *testing.T) {
	traffic, one := newTraffic(), lane(1, 60)
	_, leave, err := traffic.enter(t.Context(), one, 1)
	if err != nil || traffic.on(one.ID) != 1 {
		t.Fatalf("%d on the lane, %v", traffic.on(one.ID), err)
	}
	entered := make(chan func())
	go func() {
		_, leave, err := traffic.enter(t.Context(), one, 1)
		if err != nil {
			t.Error(err)
		}
		entered <- leave
	}()
	select {
	case <-entered:
		t.Fatal("a full lane let another in")
	case <-time.After(50 * time.Millisecond):
	}
	leave()
	select {
	case leave = <-entered:
	case <-time.After(5 * time.Second):
		t.Fatal("nobody was let in when the lane was free")
	}
	leave()
	if traffic.on(one.ID) != 0 || len(traffic.inside) != 0 {
		t.Errorf("%d on the lane and %d remembered when all have left", traffic.on(one.ID), len(traffic.inside))
	}
}

// TestWaitingEnds holds that who waits goes when their caller does, or when the lane's
// seconds are over, and leaves nothing behind.
func TestWaitingEnds(t *testing.T) {
	traffic, one := newTraffic(), lane(1, 1)
	bounded, leave, err := traffic.enter(t.Context(), one, 1)
	if err != nil {
		t.Fatal(err)
	}
	gone, stop := context.WithCancel(t.Context())
	stop()
	if _, _, err := traffic.enter(gone, one, 1); !errors.Is(err, context.Canceled) {
		t.Errorf("a caller who has gone waits: %v", err)
	}
	if _, _, err := traffic.enter(t.Context(), one, 1); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("waiting longer than the lane's seconds: %v", err)
	}
	<-bounded.Done()
	if !errors.Is(bounded.Err(), context.DeadlineExceeded) {
		t.Errorf("what runs longer than the lane's seconds: %v", bounded.Err())
	}
	leave()
	if len(traffic.inside) != 0 {
		t.Errorf("%d are remembered", len(traffic.inside))
	}
}

// TestStopping lets nothing begin, waits for what runs as long as it may, and then
// cancels it.
func TestStopping(t *testing.T) {
	traffic, two := newTraffic(), lane(2, 60)
	running, leave, err := traffic.enter(t.Context(), two, 1)
	if err != nil {
		t.Fatal(err)
	}
	patience, done := context.WithTimeout(t.Context(), 30*time.Millisecond)
	defer done()
	traffic.close(patience)
	if patience.Err() == nil {
		t.Error("stopping did not wait for what runs")
	}
	if _, _, err := traffic.enter(t.Context(), two, 1); !errors.Is(err, fault.ErrStopping) {
		t.Errorf("a query begins while the service stops: %v", err)
	}
	if running.Err() != nil {
		t.Errorf("what runs was cancelled too soon: %v", running.Err())
	}
	traffic.cancelAll()
	select {
	case <-running.Done():
	case <-time.After(5 * time.Second):
		t.Fatal("what runs was not cancelled")
	}
	leave()
	traffic.close(t.Context()) // at once, for nothing runs
}

// TestTurnsGoRound holds that who asks much keeps nobody else waiting for all of it.
func TestTurnsGoRound(t *testing.T) {
	traffic, one := newTraffic(), lane(1, 60)
	_, leave, err := traffic.enter(t.Context(), one, 1)
	if err != nil {
		t.Fatal(err)
	}
	order := make(chan access.SubjectID, 20)
	wait := func(who access.SubjectID, n int) {
		go func() {
			_, leave, err := traffic.enter(t.Context(), one, who)
			if err != nil {
				t.Error(err)
				return
			}
			order <- who
			leave()
		}()
		for {
			traffic.mu.Lock()
			there := traffic.lanes[one.ID].n
			traffic.mu.Unlock()
			if there == n {
				return
			}
			time.Sleep(time.Millisecond)
		}
	}
	for i := range 6 {
		wait(2, i+1)
	}
	wait(3, 7)
	wait(4, 8)
	leave()
	var got []access.SubjectID
	for range 8 {
		got = append(got, <-order)
	}
	if want := []access.SubjectID{2, 3, 4, 2, 2, 2, 2, 2}; !slices.Equal(got, want) {
		t.Errorf("turns %v, not %v", got, want)
	}
	_, leave, err = traffic.enter(t.Context(), one, 1)
	if err != nil {
		t.Fatal(err)
	}
	full, stop := context.WithCancel(t.Context())
	for range mostOwnWaiting {
		go traffic.enter(full, one, 2)
	}
	for {
		traffic.mu.Lock()
		n := traffic.lanes[one.ID].n
		traffic.mu.Unlock()
		if n == mostOwnWaiting {
			break
		}
		time.Sleep(time.Millisecond)
	}
	if _, _, err := traffic.enter(t.Context(), one, 2); err == nil || fault.Of(err).Code != "lane_full" {
		t.Errorf("one more than may wait: %v", err)
	}
	stop()
	leave()
}

// TestRestsYieldWhileOthersWait: rows that rest are to go while another account waits for their connection, and not for
// their own account or for one that has been served.
func TestRestsYieldWhileOthersWait(t *testing.T) {
	var h holds
	at, hurried := place{source: 3}, make(chan access.SubjectID, 9)
	rests := &hold{who: 1, rests: true, hurry: func() { hurried <- 1 }}
	leave, err := h.enter(t.Context(), at, 1, 1, rests)
	if err != nil || h.waitedFor(at, rests) || h.waitedFor(place{source: 4}, rests) {
		t.Fatalf("nobody waits, %v", err)
	}
	waits := func(who access.SubjectID) (served chan func()) {
		served = make(chan func(), 1)
		go func() {
			leave, err := h.enter(t.Context(), at, 1, 1, &hold{who: who})
			if err != nil {
				t.Error(err)
			}
			served <- leave
		}()
		for !h.waited(at) {
			time.Sleep(time.Millisecond)
		}
		return served
	}
	own := waits(1)
	if h.waitedFor(at, rests) || len(hurried) != 0 {
		t.Error("rows yield to their own account")
	}
	other := waits(2)
	for len(hurried) == 0 { // whose turn is behind the first one's
		time.Sleep(time.Millisecond)
	}
	if !h.waitedFor(at, rests) {
		t.Error("rows do not yield to another account")
	}
	leave()
	(<-other)() // who has had it before is behind
	if h.waitedFor(at, rests) {
		t.Error("rows yield to their own account, once others have been served")
	}
	(<-own)()
	if h.waitedFor(at, rests) {
		t.Error("rows yield to those who have been served")
	}
}
