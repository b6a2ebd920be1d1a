package access

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Limits bound what runs on a lane. Zero means without limit, but for Queries,
// of which there is always at least one.
type Limits struct {
	Queries int   `json:"queries"` // at once
	Seconds int   `json:"seconds"` // of one query, from start to last row
	Rows    int   `json:"rows"`    // of one result
	Bytes   int64 `json:"bytes"`   // of one result, about
}

func (l Limits) check() error {
	if l.Queries < 1 || l.Seconds < 1 || l.Rows < 1 || l.Bytes < 1 {
		return invalid("bad_limits", "the limits of a lane are whole numbers above zero: queries at once, seconds, rows and bytes")
	}
	return nil
}

// String says the limits in words.
func (l Limits) String() string {
	return fmt.Sprintf("%d at once, %d s, %d rows, %.4g MiB", l.Queries, l.Seconds, l.Rows, float64(l.Bytes)/(1<<20))
}

const lanePrefix = "lane:"

func cutLane(path string) (name string, ok bool) {
	return strings.CutPrefix(strings.ToLower(strings.TrimSpace(path)), lanePrefix)
}

// Lanes lists the lanes by name.
func (m *Model) Lanes() []*Object {
	out := make([]*Object, len(m.lanes))
	for i, id := range m.lanes {
		out[i] = m.Object(id)
	}
	return out
}

// FindLane finds a lane by name.
func (m *Model) FindLane(name string) (*Object, error) {
	name = strings.TrimPrefix(strings.ToLower(name), lanePrefix)
	known := []string{}
	for _, o := range m.Lanes() {
		if o.Name == name {
			return o, nil
		}
		known = append(known, lanePrefix+o.Name)
	}
	return nil, &NotFound{Kind: "lane", Name: name, Known: known}
}

// MayRun lists the lanes on which the session may run queries: first the one
// that it gets when it names none.
func (st *Rights) MayRun() []*Object {
	var out []*Object
	for _, o := range st.Model.Lanes() {
		switch {
		case !st.held(o.ID).Has(Usage):
		case o.Name == FirstLane:
			out = append([]*Object{o}, out...)
		default:
			out = append(out, o)
		}
	}
	return out
}

// PutLane adds a lane, or changes its limits.
type PutLane struct {
	Lane   string `json:"lane"`
	Limits Limits `json:"limits"`
}

func (c PutLane) apply(m *Model, _ time.Time) error {
	name := strings.TrimPrefix(strings.ToLower(c.Lane), lanePrefix)
	if !isPlain(name) {
		return invalid("bad_name", "%q cannot name a lane: use a-z, 0-9 and _, starting with a letter", c.Lane)
	}
	if err := c.Limits.check(); err != nil {
		return err
	}
	if old, err := m.FindLane(name); err == nil {
		next := *old
		next.Limits = c.Limits
		m.setObject(next)
		return nil
	}
	o := &Object{ID: ObjectID(m.objects.size()), Kind: Lane, Name: name, Parent: PlatformID, Limits: c.Limits}
	m.objects.push(m.edit, o)
	at, _ := slices.BinarySearchFunc(m.lanes, name, func(id ObjectID, name string) int { return strings.Compare(m.Object(id).Name, name) })
	m.lanes = inserted(m.lanes, at, o.ID)
	return nil
}

// RemoveLane takes a lane away, with the grants on it. The last one stays.
type RemoveLane struct {
	Lane string `json:"lane"`
}

func (c RemoveLane) apply(m *Model, at time.Time) error {
	o, err := m.FindLane(c.Lane)
	if err != nil {
		return err
	}
	if len(m.lanes) == 1 {
		return invalid("last_lane", "%s is the last lane; without one, nobody could run a query", m.Path(o.ID))
	}
	for _, g := range m.GrantsOn(o.ID) {
		m.dropGrant(g)
	}
	m.lanes = lacking(m.lanes, func(id ObjectID) bool { return id == o.ID })
	return nil
}
