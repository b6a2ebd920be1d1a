package access

import (
	"slices"
	"strings"
	"time"
)

// A Level says how far the data that a label marks may spread.
type Level string

const (
	PublicLevel  Level = "public"
	Internal     Level = "internal"
	Confidential Level = "confidential"
	Restricted   Level = "restricted"
)

// Levels lists the levels, the widest first.
var Levels = []string{string(PublicLevel), string(Internal), string(Confidential), string(Restricted)}

const labelPrefix = "label:"

func cutLabel(path string) (name string, ok bool) {
	return strings.CutPrefix(strings.ToLower(strings.TrimSpace(path)), labelPrefix)
}

// Labels lists the labels by name.
func (m *Model) Labels() []*Object {
	out := make([]*Object, len(m.labels))
	for i, id := range m.labels {
		out[i] = m.Object(id)
	}
	return out
}

// FindLabel finds a label by name.
func (m *Model) FindLabel(name string) (*Object, error) {
	name = strings.TrimPrefix(strings.ToLower(strings.TrimSpace(name)), labelPrefix)
	known := []string{}
	for _, o := range m.Labels() {
		if o.Name == name {
			return o, nil
		}
		known = append(known, labelPrefix+o.Name)
	}
	return nil, &NotFound{Kind: "label", Name: name, Known: known}
}

// PutLabel adds a label, or changes its topic and level.
type PutLabel struct {
	Label string `json:"label"`
	Topic string `json:"topic,omitempty"` // what the data are about, in a word
	Level Level  `json:"level,omitempty"` // confidential when empty
}

func (c PutLabel) apply(m *Model, _ time.Time) error {
	name := strings.TrimPrefix(strings.ToLower(strings.TrimSpace(c.Label)), labelPrefix)
	if !isPlain(name) {
		return invalid("bad_name", "%q cannot name a label: use a-z, 0-9 and _, starting with a letter", c.Label)
	}
	if c.Level == "" {
		c.Level = Confidential
	}
	if !slices.Contains(Levels, string(c.Level)) {
		return &NotFound{Kind: "level", Name: string(c.Level), Known: Levels}
	}
	if old, err := m.FindLabel(name); err == nil {
		next := *old
		next.Topic, next.Level = c.Topic, c.Level
		m.setObject(next)
		return nil
	}
	o := &Object{ID: ObjectID(m.objects.size()), Kind: Label, Name: name, Parent: PlatformID, Topic: c.Topic, Level: c.Level}
	m.objects.push(m.edit, o)
	at, _ := slices.BinarySearchFunc(m.labels, name, func(id ObjectID, name string) int { return strings.Compare(m.Object(id).Name, name) })
	m.labels = inserted(m.labels, at, o.ID)
	return nil
}

// RemoveLabel takes a label away, with the grants on it.
type RemoveLabel struct {
	Label string `json:"label"`
}

func (c RemoveLabel) apply(m *Model, _ time.Time) error {
	o, err := m.FindLabel(c.Label)
	if err != nil {
		return err
	}
	for _, g := range m.GrantsOn(o.ID) {
		m.dropGrant(g)
	}
	m.labels = lacking(m.labels, func(id ObjectID) bool { return id == o.ID })
	return nil
}
