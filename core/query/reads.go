package query

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
	"gneiss/core/policy"
)

// TablesNamed finds the tables that the condition and the expression of a policy name,
// either of which may be empty, whether or not the policy is about anything yet: the
// policy may read these, and no others, wherever it comes to. Home is the schema whose
// tables have short names in the texts; zero for a policy on a label, which can come to
// any. Its error is a text that cannot be read, or names a table that is not there, or
// could mean another elsewhere.
func TablesNamed(m *access.Model, home access.ObjectID, condition, expression string) ([]access.ObjectID, error) {
	found := []access.ObjectID{}
	for _, text := range [][2]string{{conditionHead, condition}, {expressionHead, expression}} {
		if strings.TrimSpace(text[1]) == "" { // which its own check refuses where it must not be
			continue
		}
		head, whole := text[0], text[0]+text[1]
		if _, err := parse(whole); err != nil { // within the bounds of all texts
			return nil, afterHead(err, len(head))
		}
		written, err := pg.ParseToJSON(whole)
		if err != nil {
			return nil, err
		}
		var tree any
		if err := json.Unmarshal([]byte(written), &tree); err != nil {
			return nil, err
		}
		names := tableNames{withs: map[string]bool{}}
		names.collect(tree)
		for _, name := range names.found {
			if len(name) == 1 && names.withs[name[0]] {
				continue
			}
			id, err := oneTable(m, home, name)
			if err != nil {
				return nil, err
			}
			if !slices.Contains(found, id) {
				found = append(found, id)
			}
		}
	}
	return found, nil
}

// tableNames are the names in FROM of a syntax tree, as JSON has it.
type tableNames struct {
	found [][]string
	withs map[string]bool // the names of WITH queries
}

func (t *tableNames) collect(node any) {
	switch node := node.(type) {
	case []any:
		for _, x := range node {
			t.collect(x)
		}
	case map[string]any:
		if name, ok := node["ctename"].(string); ok {
			t.withs[name] = true
		}
		if name, ok := node["relname"].(string); ok {
			parts := []string{}
			for _, key := range []string{"catalogname", "schemaname"} {
				if part, ok := node[key].(string); ok {
					parts = append(parts, part)
				}
			}
			t.found = append(t.found, append(parts, name))
		}
		for _, x := range node {
			t.collect(x)
		}
	}
}

// oneTable finds the one table that a name means for a policy at home.
func oneTable(m *access.Model, home access.ObjectID, name []string) (access.ObjectID, error) {
	written := access.JoinPath(name...)
	gone := &Error{Code: Unknown, Hidden: true, Name: written, Text: "there is no table " + written}
	var within []*access.Object // sources
	switch {
	case home != 0 && len(name) < 3:
		within = append(within, m.Object(m.Object(home).Parent))
	case len(name) == 3:
		o := m.Child(m.Object(access.PlatformID), name[0])
		if o == nil {
			return 0, gone
		}
		within, name = append(within, o), name[1:]
	case len(name) == 2:
		for _, id := range m.Object(access.PlatformID).Children {
			within = append(within, m.Object(id))
		}
	default:
		return 0, &Error{
			Code: Mismatch,
			Text: fmt.Sprintf(
				"write the table %s with its source and schema: a policy on a label can come to tables anywhere, and must mean the same there",
				written,
			),
		}
	}
	var found []*access.Object
	for _, source := range within {
		schema := m.Object(max(home, 1))
		if len(name) == 2 {
			if schema = m.Child(source, name[0]); schema == nil {
				continue
			}
		}
		if o := m.Child(schema, name[len(name)-1]); o != nil && o.Kind == access.Table && !o.Missing {
			found = append(found, o)
		}
	}
	switch len(found) {
	case 0:
		return 0, gone
	case 1:
		return found[0].ID, nil
	}
	return 0, &Error{
		Code: Ambiguous,
		Text: fmt.Sprintf("%s is in more than one source: write %s or %s", written, m.Path(found[0].ID), m.Path(found[1].ID)),
	}
}

// keepsReading refuses a policy's text that has come to read a table which its writer
// did not name, or not that one.
func (b *binder) keepsReading(p *policy.Scope, own *binder, inner *Relation, wide bool) error {
	if !p.Bound {
		return nil
	}
	for _, r := range own.tables {
		if !slices.Contains(p.Reads, r.Table.ID) && (wide || r.Table.ID != inner.Table.ID) {
			return fmt.Errorf("it reads %s here, which is not what its writer named", b.model.Path(r.Table.ID))
		}
	}
	return nil
}
