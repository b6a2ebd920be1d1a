package classify

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"gneiss/core/sqltype"
)

// Bounds of what is looked at in documents.
const (
	mostLeaves = 200 // paths
	mostDeep   = 20  // levels
)

// leaves are the values within documents, as columns by their paths.
type leaves struct {
	order []string
	by    map[string]*Column
}

// apart takes a column of documents apart: each path of names that leads to texts or numbers
// is a column of its own. Elements of arrays are values of the path that leads to the array.
func apart(c Column) *leaves {
	out := &leaves{by: map[string]*Column{}}
	for _, v := range c.Values {
		d := json.NewDecoder(strings.NewReader(v))
		d.UseNumber()
		var document any
		if d.Decode(&document) == nil {
			out.take(c.Table, nil, document)
		}
	}
	return out
}

func (l *leaves) take(table string, path []string, v any) {
	if len(path) > mostDeep {
		return
	}
	switch v := v.(type) {
	case map[string]any:
		for name, inner := range v {
			l.take(table, append(slices.Clone(path), name), inner)
		}
	case []any:
		for _, inner := range v {
			l.take(table, path, inner)
		}
	case string:
		l.add(table, path, sqltype.Text.Name, v)
	case json.Number:
		l.add(table, path, sqltype.Float8.Name, v.String())
	}
}

func (l *leaves) add(table string, path []string, typ, value string) {
	if len(path) == 0 {
		return
	}
	key := strings.Join(path, ".")
	if l.by[key] == nil {
		if len(l.order) == mostLeaves {
			return
		}
		l.by[key] = &Column{Table: table, Name: path[len(path)-1], Type: typ}
		l.order = append(l.order, key)
	}
	l.by[key].Values = append(l.by[key].Values, value)
}

// lookWithin is Look for a column of documents.
func lookWithin(c Column) map[Topic]Proposal {
	best := map[Topic]Proposal{}
	found := apart(c)
	slices.Sort(found.order)
	for _, path := range found.order {
		for topic, p := range lookAt(*found.by[path]) {
			if p.Confidence > best[topic].Confidence {
				p.Evidence = append([]string{fmt.Sprintf("in the document, at %s", path)}, p.Evidence...)
				best[topic] = p
			}
		}
	}
	return best
}
