package query

import (
	"encoding/json"
	"math"
	"slices"
	"strconv"

	"gneiss/core/access"
	"gneiss/core/sqltype"
)

// A Statement is what is to be governed, with all that gives it its meaning.
type Statement struct {
	SQL string
	// Params are the values of $1, $2 and so on: nil, bool, int64, float64, [Decimal], string
	// or [Deferred].
	Params []any
	Names  Names
}

// Names say what the shorter names of a statement mean.
type Names struct {
	Source access.ObjectID // the source of names that have none before them; zero: any
	Path   string          // the schemas in which names without one are looked up, joined as a path
}

// A Deferred is a parameter whose value is given when the statement is run: see [Outline.Params].
// Where a plan depends on its value there is none, and the text is planned with the values.
type Deferred struct {
	N    int
	Kind ParamKind
	T    Type // that its caller says it is of; nil: the place gives it one
}

// A Given is a parameter whose caller says of which type it is.
type Given struct {
	Value any // nil, or the text of the value
	T     Type
}

// MarshalJSON writes what tells one such parameter from another.
func (g Given) MarshalJSON() ([]byte, error) { return json.Marshal([]any{g.Value, g.T.Name, g.T.OID}) }

// A ParamKind says as what a deferred parameter's value is given.
type ParamKind byte

// The kinds of parameters.
const (
	ParamText    ParamKind = 's' // a text or NULL
	ParamTruth   ParamKind = 'b'
	ParamWhole   ParamKind = 'i'
	ParamDecimal ParamKind = 'f'
)

// Defer gives what stands for parameters while their values are not looked at, and the kinds
// of these. ok is false where one is of no kind that can wait.
func Defer(params []any) (deferred []any, kinds string, ok bool) {
	deferred = make([]any, len(params))
	letters := make([]byte, 0, len(params))
	for i, v := range params {
		kind := ParamText
		switch v := v.(type) {
		case nil, string:
		case bool:
			kind = ParamTruth
		case int64:
			kind = ParamWhole
		case Decimal:
			kind = ParamDecimal
		case float64:
			if kind = ParamDecimal; v == math.Trunc(v) && math.Abs(v) < 1<<53 {
				kind = ParamWhole
			}
		case Given:
			deferred[i] = Deferred{N: i + 1, Kind: kind, T: v.T}
			letters = append(strconv.AppendUint(append(letters, 'g'), uint64(v.T.OID), 10), ' ')
			continue
		case Deferred:
			deferred[i] = v
			if v.T == nil {
				letters = append(letters, byte(v.Kind))
			} else {
				letters = append(strconv.AppendUint(append(letters, 'g'), uint64(v.T.OID), 10), ' ')
			}
			continue
		default:
			return nil, "", false
		}
		deferred[i], letters = Deferred{N: i + 1, Kind: kind}, append(letters, byte(kind))
	}
	return deferred, string(letters), true
}

// mostDeferred bounds a text that is given for a deferred parameter, in bytes: past it, a
// comparison with it is not quick any more.
const mostDeferred = 1000

// ReadParam reads a parameter's value as the type that its place has given it. exact says that
// the source has PostgreSQL's types. ok is false where the text has to be planned with the value.
func ReadParam(v any, t Type, exact bool) (value any, ok bool) {
	switch x := v.(type) {
	case nil, bool:
		return v, true
	case Given:
		return ReadParam(x.Value, t, exact)
	case int64:
		if exact {
			return parseExact(strconv.FormatInt(x, 10), t)
		}
		return x, t == Bigint
	case float64:
		if exact {
			return parseExact(strconv.FormatFloat(x, 'f', -1, 64), t)
		}
		if t == Bigint {
			return int64(x), true
		}
		return x, t == Double
	case Decimal:
		if exact {
			return parseExact(string(x), t)
		}
		n, err := strconv.ParseFloat(string(x), 64)
		return n, err == nil && t == Double
	case string:
		switch {
		case len(x) > mostDeferred:
			return nil, false
		case exact:
			return parseExact(x, t)
		default:
			return parseLiteral(x, t)
		}
	}
	return nil, false
}

// deferred binds a parameter whose value is not known yet.
func (b *binder) deferred(d Deferred) Expr {
	t := d.T
	switch {
	case t != nil && !b.exact && !slices.Contains(Shared, t):
		t = sqltype.Parse(sqltype.Simple(t.Name))
	case t != nil:
	case d.Kind == ParamTruth:
		t = Boolean
	case b.exact:
	case d.Kind == ParamWhole:
		t = Bigint
	case d.Kind == ParamDecimal:
		t = Double
	}
	b.typed(d, t)
	return &Literal{t, d}
}

// given binds a parameter of which its caller says the type.
func (b *binder) given(g Given, at int32) Expr {
	if !b.exact && !slices.Contains(Shared, g.T) {
		// Of the types that all sources share, what is nearest.
		g.T = sqltype.Parse(sqltype.Simple(g.T.Name))
	}
	return b.convertLiteral(&Literal{Value: g.Value}, g.T, at)
}

// typed notes the type that a place gives to a deferred parameter. The first place decides what
// is told of it.
func (b *binder) typed(d Deferred, t Type) {
	if b.paramTypes != nil && t != nil && b.paramTypes[d.N-1] == nil {
		b.paramTypes[d.N-1] = t
	}
}
