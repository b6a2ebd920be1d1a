package service

import (
	"encoding/json"
	"fmt"
	"reflect"
	"sync/atomic"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/query"
)

// state is the model at one revision, with what was worked out from it.
type state struct {
	revision int64
	hash     string
	model    *access.Model
	policies *policy.Set

	standings *lru.Cache[access.Session, *access.Standing]
	plans     *lru.Cache[planKey, *query.Plan]
	counted   atomic.Pointer[access.Census]
}

// planKey names a plan by all that it depends on beside the state.
type planKey struct {
	standing *access.Standing
	text     string
	params   string
}

// mostPlans and mostStandings bound what is kept.
const (
	mostPlans     = 4096
	mostStandings = 2048
)

func newState(revision int64, hash string, m *access.Model, p *policy.Set) *state {
	plans, err := lru.New[planKey, *query.Plan](mostPlans)
	if err != nil {
		panic(err) // only for a size below one
	}
	standings, err := lru.New[access.Session, *access.Standing](mostStandings)
	if err != nil {
		panic(err)
	}
	return &state{revision: revision, hash: hash, model: m, policies: p, plans: plans, standings: standings}
}

// census answers questions about many subjects at once.
func (s *state) census(now time.Time) *access.Census {
	if c := s.counted.Load(); c != nil && (c.Until.IsZero() || now.Before(c.Until)) {
		return c
	}
	c := s.model.TakeCensus(now)
	s.counted.Store(c)
	return c
}

// stand returns what a session holds now.
func (s *state) stand(session access.Session, now time.Time) (*access.Standing, error) {
	if kept, ok := s.standings.Get(session); ok && (kept.Until.IsZero() || now.Before(kept.Until)) {
		return kept, nil
	}
	st, err := s.model.Stand(session, now)
	if err == nil {
		s.standings.Add(session, st)
	}
	return st, err
}

// plan returns the governed form of a query.
func (s *state) plan(st *access.Standing, text string, params []any) (*query.Plan, error) {
	key := planKey{standing: st, text: text}
	kept := len(text)
	if len(params) > 0 {
		encoded, err := json.Marshal(params)
		if err != nil {
			return nil, err
		}
		key.params = string(encoded)
		kept += len(encoded)
	}
	if kept > mostKept {
		return query.Make(text, params, st, s.policies)
	}
	if p, ok := s.plans.Get(key); ok {
		return p, nil
	}
	p, err := query.Make(text, params, st, s.policies)
	if err == nil {
		s.plans.Add(key, p)
	}
	return p, err
}

// A change is an access.Change or a policy.Change.
type change any

// apply works out the model after one change.
func (s *state) apply(c change, at time.Time) (*state, error) {
	m, p := s.model, s.policies
	var err error
	switch c := c.(type) {
	case access.Change:
		m, err = m.Apply(at, c)
	case policy.Change:
		p, err = p.Apply(c, m)
	default:
		err = fmt.Errorf("no such change: %T", c)
	}
	if err != nil {
		return nil, err
	}
	return newState(s.revision, s.hash, m, p), nil
}

// applyAll works out the model after several changes.
func (s *state) applyAll(changes []change, at time.Time) (*state, error) {
	var err error
	for _, c := range changes {
		if s, err = s.apply(c, at); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// changeKinds are the changes as the journal names them.
var changeKinds = map[string]reflect.Type{
	"add_object":          reflect.TypeFor[access.AddObject](),
	"miss_object":         reflect.TypeFor[access.MissObject](),
	"add_subject":         reflect.TypeFor[access.AddSubject](),
	"set_subject":         reflect.TypeFor[access.SetSubject](),
	"set_attribute":       reflect.TypeFor[access.SetAttribute](),
	"remove_subject":      reflect.TypeFor[access.RemoveSubject](),
	"join":                reflect.TypeFor[access.Join](),
	"leave":               reflect.TypeFor[access.Leave](),
	"rename_subject":      reflect.TypeFor[access.RenameSubject](),
	"set_owner":           reflect.TypeFor[access.SetOwner](),
	"put_view":            reflect.TypeFor[access.PutView](),
	"drop_view":           reflect.TypeFor[access.DropView](),
	"put_lane":            reflect.TypeFor[access.PutLane](),
	"remove_lane":         reflect.TypeFor[access.RemoveLane](),
	"put_bundle":          reflect.TypeFor[access.PutBundle](),
	"remove_bundle":       reflect.TypeFor[access.RemoveBundle](),
	"add_grant":           reflect.TypeFor[access.AddGrant](),
	"remove_grant":        reflect.TypeFor[access.RemoveGrant](),
	"put_label":           reflect.TypeFor[access.PutLabel](),
	"remove_label":        reflect.TypeFor[access.RemoveLabel](),
	"place_label":         reflect.TypeFor[policy.PlaceLabel](),
	"lift_label":          reflect.TypeFor[policy.LiftLabel](),
	"dismiss_topic":       reflect.TypeFor[policy.DismissTopic](),
	"put_relationship":    reflect.TypeFor[policy.PutRelationship](),
	"remove_relationship": reflect.TypeFor[policy.RemoveRelationship](),
	"put_row_policy":      reflect.TypeFor[policy.PutRowPolicy](),
	"put_column_policy":   reflect.TypeFor[policy.PutColumnPolicy](),
	"set_policy_status":   reflect.TypeFor[policy.SetPolicyStatus](),
	"remove_policy":       reflect.TypeFor[policy.RemovePolicy](),
}

// journalChange is one change in the journal.
type journalChange struct {
	Do   string          `json:"do"`
	What json.RawMessage `json:"what"`
}

func encodeChanges(changes []change) (string, error) {
	list := make([]journalChange, len(changes))
	for i, c := range changes {
		what, err := json.Marshal(c)
		if err != nil {
			return "", err
		}
		for name, t := range changeKinds {
			if t == reflect.TypeOf(c) {
				list[i] = journalChange{name, what}
			}
		}
		if list[i].Do == "" {
			return "", fmt.Errorf("the journal has no name for %T", c)
		}
	}
	text, err := json.Marshal(list)
	return string(text), err
}

func decodeChanges(text string) ([]change, error) {
	var list []journalChange
	if err := json.Unmarshal([]byte(text), &list); err != nil {
		return nil, err
	}
	changes := make([]change, len(list))
	for i, item := range list {
		t, ok := changeKinds[item.Do]
		if !ok {
			return nil, fmt.Errorf("the journal has a change that this version does not know: %s", item.Do)
		}
		into := reflect.New(t)
		if err := json.Unmarshal(item.What, into.Interface()); err != nil {
			return nil, err
		}
		changes[i] = into.Elem().Interface()
	}
	return changes, nil
}
