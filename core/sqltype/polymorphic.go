package sqltype

import "slices"

// polymorphic are the types that stand for others in declarations.
var polymorphic = map[string]bool{
	"anyelement": true, "anyarray": true, "anynonarray": true, "anyenum": true, "anyrange": true, "anymultirange": true,
	"anycompatible": true, "anycompatiblearray": true, "anycompatiblenonarray": true, "anycompatiblerange": true, "anycompatiblemultirange": true,
}

// A family is what the polymorphic types of one declaration stand for: those with the same
// type in all places, or those of one common type.
type family struct {
	elem, array, ranged, multi *Type
	unknown                    bool
}

// put notes what one place of a family is given; ok is false where that does not fit.
func (f *family) put(declared string, given *Type) (ok bool) {
	same := func(at **Type) bool {
		if *at == nil {
			*at = given
		}
		return *at == given
	}
	if given == nil {
		f.unknown = true
		return true
	}
	switch declared {
	case "anyarray":
		return given.Elem != nil && same(&f.array)
	case "anyrange":
		return given.Kind == RangeKind && same(&f.ranged)
	case "anymultirange":
		return given.Kind == Multirange && same(&f.multi)
	}
	return same(&f.elem)
}

// solve works out the places of the family from each other.
func (f *family) solve() (ok bool) {
	agree := func(t *Type) bool {
		if f.elem == nil {
			f.elem = t
		}
		return f.elem == t
	}
	if f.array != nil && !agree(f.array.Elem) {
		return false
	}
	if f.multi != nil && f.ranged == nil {
		f.ranged = f.multi.Other
	}
	if f.ranged != nil && !agree(f.ranged.Subtype) {
		return false
	}
	if f.elem != nil && f.array == nil {
		f.array = f.elem.Array
	}
	if f.ranged != nil && f.multi == nil {
		f.multi = f.ranged.Other
	}
	return f.multi == nil || f.ranged == nil || f.multi.Other == f.ranged
}

func (f *family) of(declared string) *Type {
	switch declared {
	case "anyarray":
		return f.array
	case "anyrange":
		return f.ranged
	case "anymultirange":
		return f.multi
	}
	return f.elem
}

// compatible are the polymorphic types of the second family, as those of the first.
var compatible = map[string]string{
	"anycompatible": "anyelement", "anycompatiblearray": "anyarray", "anycompatiblenonarray": "anynonarray",
	"anycompatiblerange": "anyrange", "anycompatiblemultirange": "anymultirange",
}

// instantiate gives a declaration's operands and result the types that they stand for; ok is
// false where the operands do not fit each other.
func instantiate(declared, given []*Type, result *Type) (args []*Type, gives *Type, ok bool) {
	if !slices.ContainsFunc(declared, func(t *Type) bool { return polymorphic[t.Internal] }) {
		return declared, result, true
	}
	var exact, loose family
	var common []*Type
	for i, d := range declared {
		switch name, second := compatible[d.Internal]; {
		case second && (name == "anyelement" || name == "anynonarray"):
			common = append(common, given[i])
		case second && name == "anyarray" && given[i] != nil:
			if given[i].Elem == nil {
				return nil, nil, false
			}
			common = append(common, given[i].Elem)
		case second && given[i] == nil:
			common = append(common, nil)
		case second:
			if !loose.put(name, given[i]) {
				return nil, nil, false
			}
		case polymorphic[d.Internal]:
			if !exact.put(d.Internal, given[i]) {
				return nil, nil, false
			}
		}
	}
	if loose.ranged != nil || loose.multi != nil {
		if !loose.solve() {
			return nil, nil, false
		}
		common = append(common, loose.elem)
	}
	if len(common) > 0 {
		t := Common(common)
		if t == nil || loose.elem != nil && loose.elem != t {
			return nil, nil, false
		}
		loose.elem, loose.array = t, t.Array
	}
	if !exact.solve() {
		return nil, nil, false
	}
	args = slices.Clone(declared)
	stands := func(t *Type) (*Type, bool) {
		if name, second := compatible[t.Internal]; second {
			found := loose.of(name)
			return found, found != nil && (name != "anynonarray" || found.Elem == nil)
		}
		if !polymorphic[t.Internal] {
			return t, true
		}
		found := exact.of(t.Internal)
		fits := found != nil && (t.Internal != "anynonarray" || found.Elem == nil) && (t.Internal != "anyenum" || found.Kind == Enum)
		return found, fits
	}
	for i, d := range declared {
		if args[i], ok = stands(d); !ok {
			return nil, nil, false
		}
	}
	gives, ok = stands(result)
	return args, gives, ok
}
