package sqltype

import (
	"fmt"
	"slices"
	"strings"
)

// An Error says why an operator or routine is not found, in PostgreSQL's words, with the
// SQLSTATE that it has for it.
type Error struct {
	SQLState string // 42883: there is none; 42725: there is more than one
	Text     string
}

func (e *Error) Error() string { return e.Text }

// A Match is what a call or an operator means.
type Match struct {
	Routine  *Routine  // nil: an operator
	Operator *Operator // nil: a routine
	Args     []*Type   // what each operand is taken to
	Result   *Type
}

// candidate is a routine or operator as it is declared for a number of operands.
type candidate struct {
	args     []*Type
	routine  *Routine
	operator *Operator
	variadic bool // the last operand is taken more than once
	left     int  // operands that are left out
}

// Call finds the routine that a call means. With spread, the last operand is written with
// VARIADIC. The last of the operands may be given by their names.
func Call(name string, args []*Type, spread bool, names ...string) (*Match, error) {
	return CallOf(known().routines[name], name, args, spread, names...)
}

// CallOf is Call among some routines of the name.
func CallOf(routines []*Routine, name string, args []*Type, spread bool, names ...string) (*Match, error) {
	var list []candidate
	for _, r := range routines {
		if len(names) > 0 {
			if c, ok := byName(r, len(args), names); ok {
				list = append(list, c)
			}
		} else if c, ok := declared(r, len(args), spread); ok {
			list = append(list, c)
		}
	}
	list = unshadowed(list)
	words := func() string { return fmt.Sprintf("function %s(%s)", name, listed(args)) }
	c, found, several := choose(list, args)
	switch {
	case several:
		return nil, &Error{"42725", words() + " is not unique: cast an operand to the type that is meant"}
	case !found:
		return nil, &Error{"42883", words() + " does not exist"}
	}
	result := c.routine.Result
	out, gives, ok := instantiate(c.args, args, result)
	if !ok {
		return nil, &Error{"42804", words() + ": the operands do not say which type is meant; add a cast"}
	}
	return &Match{Routine: c.routine, Args: out, Result: gives}, nil
}

// declared lists a routine's operands for a call with n of them.
func declared(r *Routine, n int, spread bool) (candidate, bool) {
	c := candidate{routine: r}
	switch most := len(r.Args); {
	case r.Variadic != nil && !spread && n >= most:
		c.args = append(slices.Clone(r.Args[:most-1]), slices.Repeat([]*Type{r.Variadic}, n-most+1)...)
		c.variadic = true
	case n <= most && n >= most-r.Defaults && (r.Variadic == nil || spread):
		c.args, c.left = r.Args[:n], most-n
	default:
		return c, false
	}
	return c, true
}

// byName lists a routine's operands for a call with n of them, of which the last are given
// by name.
func byName(r *Routine, n int, names []string) (candidate, bool) {
	if r.Variadic != nil || len(r.Names) != len(r.Args) || n > len(r.Args) {
		return candidate{}, false
	}
	first := n - len(names)
	c := candidate{routine: r, args: slices.Clone(r.Args[:first]), left: len(r.Args) - n}
	for _, name := range names {
		i := slices.Index(r.Names, name)
		if i < first {
			return c, false
		}
		c.args = append(c.args, r.Args[i])
	}
	for i := first; i < len(r.Args)-r.Defaults; i++ {
		if !slices.Contains(names, r.Names[i]) {
			return c, false // it has no default
		}
	}
	return c, true
}

// unshadowed leaves one of the candidates with the same operands: the one that needs no more
// of the last, and leaves out the fewest.
func unshadowed(list []candidate) []candidate {
	var out []candidate
	for _, c := range list {
		i := slices.IndexFunc(out, func(o candidate) bool { return slices.Equal(o.args, c.args) })
		switch {
		case i < 0:
			out = append(out, c)
		case out[i].variadic && !c.variadic || out[i].variadic == c.variadic && out[i].left > c.left:
			out[i] = c
		}
	}
	return out
}

// Binary finds the operator that stands between two operands, also among some of a source's own.
func Binary(name string, l, r *Type, own ...*Operator) (*Match, error) {
	args := []*Type{l, r}
	known := args
	if l == nil && r != nil {
		known = []*Type{r, r}
	} else if r == nil && l != nil {
		known = []*Type{l, l}
	}
	return operate(name, own, args, known, func(o *Operator) []*Type {
		if o.Left == nil {
			return nil
		}
		return o.operands[:]
	}, func() string { return fmt.Sprintf("%s %s %s", l, name, r) })
}

// Prefix finds the operator that stands before an operand, also among some of a source's own.
func Prefix(name string, x *Type, own ...*Operator) (*Match, error) {
	return operate(name, own, []*Type{x}, []*Type{x}, func(o *Operator) []*Type {
		if o.Left != nil {
			return nil
		}
		return o.operands[1:]
	}, func() string { return fmt.Sprintf("%s %s", name, x) })
}

func operate(name string, own []*Operator, args, exact []*Type, operands func(*Operator) []*Type, words func() string) (*Match, error) {
	var c candidate
	all := slices.Concat(known().operators[name], own)
	if i := slices.IndexFunc(all, func(o *Operator) bool { return slices.Equal(operands(o), exact) }); i >= 0 {
		c = candidate{args: operands(all[i]), operator: all[i]}
	} else {
		var list []candidate
		for _, o := range all {
			if declared := operands(o); declared != nil {
				list = append(list, candidate{args: declared, operator: o})
			}
		}
		var found, several bool
		if c, found, several = choose(list, args); several {
			return nil, &Error{"42725", "operator is not unique: " + words() + "; cast an operand to the type that is meant"}
		} else if !found {
			return nil, &Error{"42883", "operator does not exist: " + words() + "; add a cast"}
		}
	}
	out, gives, ok := instantiate(c.args, args, c.operator.Result)
	if !ok {
		return nil, &Error{"42883", "operator does not exist: " + words() + "; add a cast"}
	}
	return &Match{Operator: c.operator, Args: out, Result: gives}, nil
}

func listed(args []*Type) string {
	names := make([]string, len(args))
	for i, a := range args {
		names[i] = a.String()
	}
	return strings.Join(names, ", ")
}

// choose finds the best of the candidates for operands: first one that takes just these
// types, else by the steps of the manual's 10.2 and 10.3.
func choose(list []candidate, args []*Type) (best candidate, found, several bool) {
	if i := slices.IndexFunc(list, func(c candidate) bool { return slices.Equal(c.args, args) }); i >= 0 {
		return list[i], true, false
	}
	list = keep(list, func(c candidate) bool {
		for i, a := range args {
			if !Castable(a, c.args[i], Implicit) {
				return false
			}
		}
		_, _, ok := fits(c.args, args)
		return ok
	})
	if len(list) > 1 {
		list = narrow(list, args)
	}
	if len(list) == 0 {
		return candidate{}, false, false
	}
	return list[0], len(list) == 1, len(list) > 1
}

// fits is instantiate where an operand's type may not be known yet.
func fits(declared, given []*Type) ([]*Type, *Type, bool) {
	settled := slices.Clone(given)
	for i, d := range declared {
		if settled[i] == nil && polymorphic[d.Internal] {
			// It is taken to what the others are.
			return nil, nil, consistent(declared, given)
		}
	}
	return instantiate(declared, settled, Boolean)
}

// consistent reports whether the operands whose types are known fit each other.
func consistent(declared, given []*Type) bool {
	var d, g []*Type
	for i := range declared {
		if given[i] != nil {
			d, g = append(d, declared[i]), append(g, given[i])
		}
	}
	if !slices.ContainsFunc(d, func(t *Type) bool { return polymorphic[t.Internal] }) {
		return true
	}
	_, _, ok := instantiate(d, g, Boolean)
	return ok
}

func keep(list []candidate, which func(candidate) bool) []candidate {
	var out []candidate
	for _, c := range list {
		if which(c) {
			out = append(out, c)
		}
	}
	return out
}

// best keeps the candidates with the highest score.
func best(list []candidate, score func(candidate) int) []candidate {
	var out []candidate
	most := -1
	for _, c := range list {
		if n := score(c); n > most {
			out, most = []candidate{c}, n
		} else if n == most {
			out = append(out, c)
		}
	}
	return out
}

// narrow is the choice among several candidates that all could take the operands.
func narrow(list []candidate, args []*Type) []candidate {
	exact := func(c candidate) int {
		n := 0
		for i, a := range args {
			if a != nil && c.args[i] == a {
				n++
			}
		}
		return n
	}
	if list = best(list, exact); len(list) == 1 {
		return list
	}
	preferred := func(c candidate) int {
		n := 0
		for i, a := range args {
			if a != nil && (c.args[i] == a || c.args[i].Preferred && c.args[i].Category == a.Category) {
				n++
			}
		}
		return n
	}
	if list = best(list, preferred); len(list) == 1 || !slices.Contains(args, nil) {
		return list
	}
	if list = byCategory(list, args); len(list) == 1 {
		return list
	}
	// Where all that is known is of one type, what is not known is taken to be of it too.
	var one *Type
	for _, a := range args {
		if a != nil && one != nil && a != one {
			return list
		}
		if a != nil {
			one = a
		}
	}
	if one == nil {
		return list
	}
	alike := keep(list, func(c candidate) bool {
		for _, a := range c.args {
			if !Castable(one, a, Implicit) {
				return false
			}
		}
		return consistent(c.args, slices.Repeat([]*Type{one}, len(args)))
	})
	if len(alike) == 1 {
		return alike
	}
	return list
}

// byCategory keeps the candidates whose operands are of the category that a literal without
// a type is taken to be of: texts where one takes texts, else the one that all take.
func byCategory(list []candidate, args []*Type) []candidate {
	category, prefers := make([]byte, len(args)), make([]bool, len(args))
	for i, a := range args {
		if a != nil {
			continue
		}
		conflict := false
		for _, c := range list {
			t := c.args[i]
			switch {
			case category[i] == 0:
				category[i], prefers[i] = t.Category, t.Preferred
			case category[i] == t.Category:
				prefers[i] = prefers[i] || t.Preferred
			case t.Category == 'S':
				category[i], prefers[i] = 'S', t.Preferred
			default:
				conflict = true
			}
		}
		if conflict && category[i] != 'S' {
			return list
		}
	}
	kept := keep(list, func(c candidate) bool {
		for i, a := range args {
			if a == nil && (c.args[i].Category != category[i] || prefers[i] && !c.args[i].Preferred) {
				return false
			}
		}
		return true
	})
	if len(kept) == 0 {
		return list
	}
	return kept
}
