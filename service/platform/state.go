package platform

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"gneiss/core/access"
	"gneiss/core/emit"
	"gneiss/core/guard"
	"gneiss/core/policy"
	"gneiss/core/query"
)

// mostKept bounds a statement and its parameters whose plan is kept, in bytes.
const mostKept = 8 << 10

// Actors lists the users and services that have the rights of a subject.
func (s *State) Actors(id access.SubjectID, now time.Time) []access.SubjectID {
	var ids []access.SubjectID
	if id != 0 && s.Model.HasSubject(id) {
		s.Model.Actors(id, now, func(subject *access.Subject) bool {
			ids = append(ids, subject.ID)
			return true
		})
	}
	return ids
}

// State is the model at one revision, with what was worked out from it.
type State struct {
	Revision int64
	hash     string
	Model    *access.Model
	Policies *policy.Set
	Guards   *guard.Set

	now     *State // whose rights decide what may be asked; nil: this one's
	rights  *lru.Cache[access.Standpoint, *access.Rights]
	plans   *lru.Cache[planKey, *emit.Plan]
	counted atomic.Pointer[access.Census]
	below   sync.Map // of an object, how many relations there are
}

// planKey names a plan by all that it depends on beside the state.
type planKey struct {
	rights *access.Rights
	text   string
	names  query.Names
	params string // their values, or the kinds of those that are deferred
	waits  bool
}

// mostPlans and mostStandings bound what is kept.
const (
	mostPlans     = 4096
	mostStandings = 2048
)

func newState(revision int64, hash string, m *access.Model, p *policy.Set, g *guard.Set) *State {
	plans, err := lru.New[planKey, *emit.Plan](mostPlans)
	if err != nil {
		panic(err) // only for a size below one
	}
	rights, err := lru.New[access.Standpoint, *access.Rights](mostStandings)
	if err != nil {
		panic(err)
	}
	return &State{Revision: revision, hash: hash, Model: m, Policies: p, Guards: g, plans: plans, rights: rights}
}

// CountRelations counts the tables and views that are there at or below an object.
func (s *State) CountRelations(id access.ObjectID) int {
	if n, known := s.below.Load(id); known {
		return n.(int)
	}
	n := 0
	s.Model.Relations(id, func(*access.Object) bool {
		n++
		return true
	})
	s.below.Store(id, n)
	return n
}

// Census answers questions about many subjects at once.
func (s *State) Census(now time.Time) *access.Census {
	if c := s.counted.Load(); c != nil && (c.Until.IsZero() || now.Before(c.Until)) {
		return c
	}
	c := s.Model.TakeCensus(now)
	s.counted.Store(c)
	return c
}

// Rights returns what a session holds now.
func (s *State) Rights(session access.Standpoint, now time.Time) (*access.Rights, error) {
	if kept, ok := s.rights.Get(session); ok && (kept.Until.IsZero() || now.Before(kept.Until)) {
		return kept, nil
	}
	st, err := s.Model.Rights(session, now)
	if err == nil {
		s.rights.Add(session, st)
	}
	return st, err
}

// Plan returns the governed form of a query. Where the plan does not depend on the values of
// its parameters, one serves for all.
func (s *State) Plan(ctx context.Context, st *access.Rights, text query.Statement) (*emit.Plan, error) {
	if len(text.Params) > 0 {
		if _, waits := text.Params[0].(query.Deferred); waits {
			return s.deferred(ctx, st, text)
		}
		if p := s.waiting(ctx, st, text); p != nil {
			return p, nil
		}
	}
	key := planKey{rights: st, text: text.SQL, names: text.Names}
	kept := len(text.SQL)
	if len(text.Params) > 0 {
		encoded, err := json.Marshal(text.Params)
		if err != nil {
			return nil, err
		}
		key.params = string(encoded)
		kept += len(encoded)
	}
	if kept > mostKept {
		return emit.MakeOf(ctx, text, st, s.Policies)
	}
	if p, ok := s.plans.Get(key); ok {
		return p, nil
	}
	p, err := emit.MakeOf(ctx, text, st, s.Policies)
	if err == nil {
		s.plans.Add(key, p)
	}
	return p, err
}

// deferred is the plan of a statement whose parameters are yet to come.
func (s *State) deferred(ctx context.Context, st *access.Rights, text query.Statement) (*emit.Plan, error) {
	params, kinds, _ := query.Defer(text.Params)
	key := planKey{rights: st, text: text.SQL, names: text.Names, params: kinds, waits: true}
	if p, ok := s.plans.Get(key); ok && p != nil {
		return p, nil
	}
	text.Params = params
	p, err := emit.MakeOf(ctx, text, st, s.Policies)
	if err == nil && len(text.SQL) <= mostKept {
		s.plans.Add(key, p)
	}
	return p, err
}

// waiting is the plan that serves for all values of the parameters, with these in it; nil where
// there is none.
func (s *State) waiting(ctx context.Context, st *access.Rights, text query.Statement) *emit.Plan {
	params, kinds, ok := query.Defer(text.Params)
	if !ok || len(text.SQL) > mostKept {
		return nil
	}
	key := planKey{rights: st, text: text.SQL, names: text.Names, params: kinds, waits: true}
	p, known := s.plans.Get(key)
	if !known {
		waits := text
		waits.Params = params
		p, _ = emit.MakeOf(ctx, waits, st, s.Policies) // nil where it depends on the values, or is wrong
		if ctx.Err() == nil {
			s.plans.Add(key, p)
		}
	}
	if p == nil {
		return nil
	}
	args, ok := p.Fill(text.Params)
	if !ok {
		return nil
	}
	filled := *p
	filled.Args = args
	return &filled
}

// A Change is an access.Change, a policy.Change or a guard.Change.
type Change any

// Apply works out the model after one change.
func (s *State) Apply(c Change, at time.Time) (*State, error) {
	m, p, g := s.Model, s.Policies, s.Guards
	var err error
	switch c := c.(type) {
	case access.Change:
		m, err = m.Apply(at, c)
	case policy.Change:
		p, err = p.Apply(c, m)
	case guard.Change:
		g, err = g.Apply(c, m)
	default:
		err = fmt.Errorf("no such change: %T", c)
	}
	if err != nil {
		return nil, err
	}
	next := newState(s.Revision, s.hash, m, p, g)
	next.now = s.now
	return next, nil
}

// ApplyAll works out the model after several changes.
func (s *State) ApplyAll(changes []Change, at time.Time) (*State, error) {
	var err error
	for _, c := range changes {
		if s, err = s.Apply(c, at); err != nil {
			return nil, err
		}
	}
	return s, nil
}
