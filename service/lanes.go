package service

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"gneiss/core/access"
	"gneiss/core/query"
	"gneiss/wire"
)

// traffic counts what runs on each lane, and lets no more run than may. A query
// that finds its lane full waits.
type traffic struct {
	mu      sync.Mutex
	running map[access.ObjectID]int
	changed chan struct{} // closed and replaced when a query ends
	closed  bool
}

func newTraffic() *traffic {
	return &traffic{running: map[access.ObjectID]int{}, changed: make(chan struct{})}
}

// errClosing says that the service is about to stop.
var errClosing = errors.New("the service is stopping")

// enter waits for a place on the lane. The caller leaves it again.
func (t *traffic) enter(ctx context.Context, lane *access.Object) error {
	for {
		t.mu.Lock()
		if t.closed {
			t.mu.Unlock()
			return errClosing
		}
		if t.running[lane.ID] < lane.Limits.Queries {
			t.running[lane.ID]++
			t.mu.Unlock()
			return nil
		}
		changed := t.changed
		t.mu.Unlock()
		select {
		case <-changed:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (t *traffic) leave(id access.ObjectID) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.running[id]--
	close(t.changed)
	t.changed = make(chan struct{})
}

func (t *traffic) on(id access.ObjectID) int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.running[id]
}

// close lets nothing more enter, and waits until all have left.
func (t *traffic) close(ctx context.Context) {
	for {
		t.mu.Lock()
		t.closed = true
		n := 0
		for _, running := range t.running {
			n += running
		}
		changed := t.changed
		t.mu.Unlock()
		if n == 0 {
			return
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return
		}
	}
}

// lane is where a standpoint's query runs: the lane of the name, or the first
// that is open. A role or group alone runs nothing in real life; looked at from
// there, the caller's own lane serves.
func (s *Service) lane(c Caller, p *standpoint, name string) (*access.Object, error) {
	standing := p.Standing
	if !p.Model.Subject(p.Session.Subject).Acts() {
		own, err := s.own(p.state, c)
		if err != nil {
			return nil, err
		}
		standing = own
	}
	open := standing.MayRun()
	if name == "" && len(open) > 0 {
		return open[0], nil
	}
	want, err := p.Model.FindLane(orFirst(name))
	if err != nil && name == "" && len(p.Model.Lanes()) > 0 {
		want, err = p.Model.Lanes()[0], nil
	}
	if err == nil {
		for _, o := range open {
			if o.ID == want.ID {
				return o, nil
			}
		}
	}
	if name != "" && (err != nil || !p.review && !standing.Sees(want.ID)) {
		return nil, problem(404, "not_found", "Not found", "there is no lane %s, or it is not yours to use", name)
	}
	return nil, &query.Error{Code: query.Refused, Text: fmt.Sprintf("you lack USAGE on %s: a query needs a lane to run on", p.Model.Path(want.ID)),
		Needs: []access.Need{{Privilege: access.Usage, Object: want.ID}}}
}

func orFirst(name string) string {
	if name == "" {
		return access.FirstLane
	}
	return name
}

// planOn plans a query and finds the lane it runs on. All that is missing is
// said in one go.
func (s *Service) planOn(c Caller, p *standpoint, text string, params []any, lane string) (*query.Plan, *access.Object, error) {
	on, laneErr := s.lane(c, p, lane)
	plan, err := p.state.plan(p.Standing, text, params)
	if err == nil {
		err = laneErr
	}
	var q, l *query.Error
	if errors.As(err, &q) && errors.As(laneErr, &l) && err != laneErr && len(q.Needs) > 0 {
		both := *q
		both.Needs = append(append([]access.Need{}, l.Needs...), q.Needs...)
		if !q.Hidden {
			both.Text += ", " + p.needs(l.Needs)[0]
		}
		err = &both
	}
	return plan, on, err
}

// running is how many queries run on a lane now.
func (s *Service) running(lane access.ObjectID) int { return s.traffic.on(lane) }

// Lanes lists the lanes that the caller sees.
func (s *Service) Lanes(c Caller) (wire.List[wire.Lane], error) {
	out := wire.List[wire.Lane]{Items: []wire.Lane{}}
	st := s.state()
	p, err := s.standAt(st, c, wire.Standpoint{})
	if err != nil {
		return out, err
	}
	census := st.census(s.now())
	for _, o := range st.model.Lanes() {
		if !p.review && !p.Sees(o.ID) {
			continue
		}
		w := wire.Lane{Name: o.Name, Path: st.model.Path(o.ID), Limits: wire.Limits(o.Limits), Open: p.Resolve(o.ID).Allowed.Has(access.Usage)}
		if p.review {
			w.Users, w.Running, w.Owner = census.CountUsing(o.ID), s.running(o.ID), st.model.Ref(st.model.Owner(o.ID))
		}
		out.Items = append(out.Items, w)
	}
	return out, nil
}

// PutLane adds a lane, or with Replace changes its limits.
func (s *Service) PutLane(ctx context.Context, c Caller, in wire.LaneRequest) (wire.Changed, error) {
	st := s.state()
	old, err := st.model.FindLane(in.Name)
	if err != nil || !s.manages(st, c, old.ID) {
		if err := s.administers(st, c, "the lane "+in.Name); err != nil {
			return wire.Changed{}, err
		}
	}
	limits := access.New().Lanes()[0].Limits
	switch {
	case err == nil && !in.Replace:
		return wire.Changed{}, problem(409, "exists", "Not possible", "there is a lane %s already; to change its limits: gneiss lane set %s", old.Name, old.Name)
	case err != nil && in.Replace:
		return wire.Changed{}, err
	case err == nil:
		limits = old.Limits
	}
	for _, l := range []struct {
		to    *int
		given int
	}{{&limits.Queries, in.Limits.Queries}, {&limits.Seconds, in.Limits.Seconds}, {&limits.Rows, in.Limits.Rows}} {
		if l.given != 0 {
			*l.to = l.given
		}
	}
	if in.Limits.Bytes != 0 {
		limits.Bytes = in.Limits.Bytes
	}
	verb := map[bool]string{true: "added lane:%s: %s", false: "changed the limits of lane:%s to %s"}[err != nil]
	o := order{caller: c, Change: in.Change, says: []string{fmt.Sprintf(verb, in.Name, limits)}, changes: []change{access.PutLane{Lane: in.Name, Limits: limits}}}
	if err != nil {
		o.notes = append(o.notes, fmt.Sprintf("nobody may run on it yet: gneiss grant usage on lane:%s to SUBJECT", in.Name))
	}
	return s.make(ctx, o)
}

// RemoveLane takes a lane away, with the grants on it.
func (s *Service) RemoveLane(ctx context.Context, c Caller, name string, in wire.Change) (wire.Changed, error) {
	st := s.state()
	if err := s.administers(st, c, "the lane "+name); err != nil {
		return wire.Changed{}, err
	}
	o, err := st.model.FindLane(name)
	if err != nil {
		return wire.Changed{}, err
	}
	return s.make(ctx, order{caller: c, Change: in, changes: []change{access.RemoveLane{Lane: o.Name}},
		says: []string{fmt.Sprintf("removed %s, with %s on it", st.model.Path(o.ID), count(len(st.model.GrantsOn(o.ID)), "grant"))}})
}

// within bounds a context by a lane's seconds, and by the service's own stop.
func (s *Service) within(ctx context.Context, lane *access.Object) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithTimeout(ctx, time.Duration(lane.Limits.Seconds)*time.Second)
	unhook := context.AfterFunc(s.stopping, cancel)
	return ctx, func() { unhook(); cancel() }
}
