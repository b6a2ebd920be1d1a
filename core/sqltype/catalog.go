package sqltype

import (
	_ "embed"
	"iter"
	"strconv"
	"strings"
	"sync"
)

// Version is the major version of the server that the catalog was read from.
const Version = 15

//go:embed catalog.tsv
var lines string

// A Routine is a function, an aggregate or a window function.
type Routine struct {
	OID        uint32
	Schema     string
	Name       string
	Kind       RoutineKind
	Volatility byte // 'i': immutable; 's': stable within a statement; 'v': volatile
	Strict     bool // NULL where an operand is
	LeakProof  bool // tells nothing of its operands but by its result
	Set        bool // gives rows
	Args       []*Type
	Result     *Type
	Variadic   *Type // what the last operand can be more of; nil: it cannot
	Defaults   int   // of the last operands, that can be left out
	Ordered    byte  // of an aggregate: 'o' with WITHIN GROUP, 'h' of a hypothetical row
	Direct     int   // operands before WITHIN GROUP
	Out        []Field
	Names      []string // of the operands; nil: they have none
}

// A RoutineKind is what a routine is.
type RoutineKind byte

// The kinds, by the letters of PostgreSQL's catalog.
const (
	Function  RoutineKind = 'f'
	Aggregate RoutineKind = 'a'
	Window    RoutineKind = 'w'
)

// A Field is a column of what a routine gives.
type Field struct {
	Name string
	Type *Type
}

// An Operator is one between two operands, or before one.
type Operator struct {
	OID         uint32 // zero: of a source's own
	Name        string
	Left, Right *Type // Left is nil where the operator stands before its operand
	Result      *Type
	Volatility  byte
	Strict      bool
	LeakProof   bool

	operands [2]*Type // Left and Right
}

// A cast is a way from one type to another.
type cast struct {
	context   byte // 'i': taken unasked; 'a': in assignments; 'e': where it is written
	method    byte // 'b': the value is the same
	leakProof bool
	immutable bool
}

type typeTable struct {
	byOID  map[uint32]*Type
	byName map[string]*Type
}

// types are read as the program starts, since constants of this package and of others are
// made of them. The rest is read when it is first asked for.
var types = readTypes()

func fields(part string) iter.Seq[[]string] {
	return func(yield func([]string) bool) {
		for line := range strings.Lines(lines) {
			if rest, ok := strings.CutPrefix(line, part+"\t"); ok && !yield(strings.Split(strings.TrimSuffix(rest, "\n"), "\t")) {
				return
			}
		}
	}
}

func number(s string) uint32 {
	n, err := strconv.ParseUint(s, 10, 32)
	if err != nil {
		panic("sqltype: the catalog is damaged: " + err.Error())
	}
	return uint32(n)
}

func readTypes() typeTable {
	t := typeTable{map[uint32]*Type{}, map[string]*Type{}}
	for f := range fields("type") {
		one := &Type{OID: number(f[0]), Internal: f[1], Name: f[2], Kind: Kind(f[3][0]), Category: f[4][0], Preferred: f[5] == "preferred"}
		t.byOID[one.OID], t.byName[one.Internal] = one, one
		if _, taken := t.byName[one.Name]; !taken {
			t.byName[one.Name] = one
		}
	}
	for f := range fields("type") {
		one := t.byOID[number(f[0])]
		one.Elem, one.Array = t.byOID[number(f[6])], t.byOID[number(f[7])]
		one.Subtype, one.Other = t.byOID[number(f[8])], t.byOID[number(f[9])]
	}
	return t
}

type catalog struct {
	routines  map[string][]*Routine
	operators map[string][]*Operator
	casts     map[[2]*Type]cast
	never     map[string]string
}

var known = sync.OnceValue(func() *catalog {
	c := &catalog{map[string][]*Routine{}, map[string][]*Operator{}, map[[2]*Type]cast{}, map[string]string{}}
	typ := func(s string) *Type { return types.byOID[number(s)] }
	for f := range fields("routine") {
		r := &Routine{OID: number(f[0]), Schema: "pg_catalog", Name: f[1], Kind: RoutineKind(f[2][0]), Volatility: f[3][0], Strict: f[4] == "strict",
			LeakProof: f[5] == "leakproof", Set: f[6] == "set", Result: typ(f[8]), Variadic: typ(f[9]), Defaults: int(number(f[10])),
			Ordered: f[11][0], Direct: int(number(f[12]))}
		if f[7] != "-" {
			for _, a := range strings.Split(f[7], ",") {
				r.Args = append(r.Args, typ(a))
			}
		}
		if f[13] != "-" {
			for _, out := range strings.Split(f[13], ",") {
				name, oid, _ := strings.Cut(out, ":")
				r.Out = append(r.Out, Field{name, typ(oid)})
			}
		}
		if f[14] != "-" {
			r.Names = strings.Split(f[14], ",")
		}
		c.routines[r.Name] = append(c.routines[r.Name], r)
	}
	for f := range fields("operator") {
		o := &Operator{OID: number(f[0]), Name: f[1], Left: typ(f[2]), Right: typ(f[3]), Result: typ(f[4]), Volatility: f[5][0],
			Strict: f[6] == "strict", LeakProof: f[7] == "leakproof"}
		o.operands = [2]*Type{o.Left, o.Right}
		c.operators[o.Name] = append(c.operators[o.Name], o)
	}
	for f := range fields("cast") {
		c.casts[[2]*Type{typ(f[0]), typ(f[1])}] = cast{f[2][0], f[3][0], f[4] == "leakproof", f[5] == "i"}
	}
	for f := range fields("never") {
		c.never[f[0]] = f[1]
	}
	return c
})

// Never says why a routine of the name is never called; empty: nothing is known of it.
func Never(name string) string { return known().never[name] }

// Names yields the names of all routines.
func Names() iter.Seq[string] {
	return func(yield func(string) bool) {
		for name := range known().routines {
			if !yield(name) {
				return
			}
		}
	}
}

// Routines lists the routines of a name.
func Routines(name string) []*Routine { return known().routines[name] }

// Operators lists the operators of a name.
func Operators(name string) []*Operator { return known().operators[name] }

// OperatorNames yields the names of all operators.
func OperatorNames() iter.Seq[string] {
	return func(yield func(string) bool) {
		for name := range known().operators {
			if !yield(name) {
				return
			}
		}
	}
}

// Forbidden yields the names of what is never called, with why.
func Forbidden() iter.Seq2[string, string] {
	return func(yield func(string, string) bool) {
		for name, why := range known().never {
			if !yield(name, why) {
				return
			}
		}
	}
}
