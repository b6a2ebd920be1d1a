package policy

import (
	"maps"
	"slices"

	"gneiss/core/access"
)

// Changed lists the tables about which the policies of two sets differ. It is false where they differ in what may
// be about any table: labels, where these are, relationships, and policies by label or schema.
func Changed(a, b *Set) (tables []access.ObjectID, ok bool) {
	if !slices.Equal(a.wideRows, b.wideRows) || !slices.Equal(a.wideColumns, b.wideColumns) || !slices.Equal(a.relationships, b.relationships) ||
		!maps.EqualFunc(a.placed, b.placed, slices.Equal) {
		return nil, false
	}
	differ := map[access.ObjectID]bool{}
	unlike(differ, a.rowsOf, b.rowsOf)
	unlike(differ, a.columnsOf, b.columnsOf)
	return slices.Sorted(maps.Keys(differ)), true
}

// unlike adds the keys whose lists differ.
func unlike[P comparable](out map[access.ObjectID]bool, a, b map[access.ObjectID][]P) {
	for id, list := range a {
		if !slices.Equal(list, b[id]) {
			out[id] = true
		}
	}
	for id := range b {
		if a[id] == nil {
			out[id] = true
		}
	}
}
