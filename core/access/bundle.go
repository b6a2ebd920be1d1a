package access

import (
	"slices"
	"strings"
	"time"
)

// A BundleID names a bundle. Zero is none.
type BundleID uint16

// A Bundle is a named set of privileges that is granted like one, at any level:
// it gives those that apply there and below.
type Bundle struct {
	ID         BundleID
	Name       string
	Privileges Privileges
}

// BuiltIn reports whether the bundle came with the platform. It can be edited,
// and stays.
func (b *Bundle) BuiltIn() bool { return b.ID <= 3 }

// Bundles lists the bundles, the built-in ones first.
func (m *Model) Bundles() []*Bundle {
	return lacking(m.bundles, func(b *Bundle) bool { return b == nil })
}

// FindBundle finds a bundle by name.
func (m *Model) FindBundle(name string) (*Bundle, error) {
	known := []string{}
	for _, b := range m.Bundles() {
		if strings.EqualFold(b.Name, name) {
			return b, nil
		}
		known = append(known, b.Name)
	}
	return nil, &NotFound{Kind: "bundle", Name: name, Known: known}
}

// GrantsOf lists the grants of a bundle, oldest first.
func (m *Model) GrantsOf(b *Bundle) []*Grant {
	var out []*Grant
	m.EachGrant(func(g *Grant) {
		if g.Bundle == b.ID {
			out = append(out, g)
		}
	})
	return out
}

// PutBundle adds a bundle, or changes what it and all its grants give.
type PutBundle struct {
	Bundle     string   `json:"bundle"`
	Privileges []string `json:"privileges"`
}

func (c PutBundle) apply(m *Model, at time.Time) error {
	b := &Bundle{ID: BundleID(len(m.bundles)), Name: strings.ToLower(c.Bundle)}
	if !isPlain(b.Name) {
		return invalid("bad_name", "%q cannot name a bundle: use a-z, 0-9 and _, starting with a letter", c.Bundle)
	}
	if _, err := ParsePrivilege(b.Name); err == nil {
		return invalid("bad_name", "%s is a privilege; give the bundle another name", strings.ToUpper(b.Name))
	}
	for _, name := range c.Privileges {
		if other, err := m.FindBundle(name); err == nil {
			b.Privileges |= other.Privileges
			continue
		}
		p, err := ParsePrivilege(name)
		if err != nil {
			return err
		}
		if p == All {
			return invalid("bad_bundle", "ALL is no part of a bundle: name the privileges, so that the bundle says what it gives")
		}
		b.Privileges |= Set(p)
	}
	if b.Privileges == 0 {
		return invalid("bad_bundle", "a bundle needs at least one privilege")
	}
	if old, err := m.FindBundle(b.Name); err == nil {
		b.ID = old.ID
		m.bundles = slices.Clone(m.bundles)
		m.bundles[b.ID] = b
		m.rebase(at, func(g *Grant) bool { return g.Bundle == b.ID })
		return m.checkAdministrator()
	}
	m.bundles = append(slices.Clip(m.bundles), b)
	return nil
}

// RemoveBundle takes away a bundle that nothing is granted by.
type RemoveBundle struct {
	Bundle string `json:"bundle"`
}

func (c RemoveBundle) apply(m *Model, _ time.Time) error {
	b, err := m.FindBundle(c.Bundle)
	if err != nil {
		return err
	}
	if b.BuiltIn() {
		return invalid("built_in", "the bundle %s is built in and stays", b.Name)
	}
	if n := len(m.GrantsOf(b)); n > 0 {
		return invalid("in_use", "the bundle %s is still granted (%d times); revoke that first", b.Name, n)
	}
	m.bundles = slices.Clone(m.bundles)
	m.bundles[b.ID] = nil
	return nil
}
