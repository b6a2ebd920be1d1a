package query

import (
	"go/ast"
	"go/parser"
	"go/token"
	"reflect"
	"testing"
)

// nodes are the types of [Expr], each with nothing in it.
var nodes = []Expr{
	&ColumnRef{}, &Literal{}, &Now{}, &Unary{}, &Binary{}, &IsNull{}, &IsTrue{}, &OfType{}, &InList{}, &InQuery{}, &Operation{}, &Quantified{},
	&Array{}, &ArrayQuery{}, &Row{}, &TableRow{}, &RowsCompared{}, &Subscript{}, &FieldOf{}, &Collated{}, &Default{}, &Exists{}, &Scalar{}, &Case{},
	&Cast{}, &Like{}, &Call{}, &Treated{},
}

// TestNodesAreAll: the list above has every type with a method Type in tree.go, so that what
// follows is asked of a node on the day it is made.
func TestNodesAreAll(t *testing.T) {
	known := map[string]bool{}
	for _, n := range nodes {
		known[reflect.TypeOf(n).Elem().Name()] = true
	}
	file, err := parser.ParseFile(token.NewFileSet(), "tree.go", nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range file.Decls {
		f, ok := d.(*ast.FuncDecl)
		if !ok || f.Recv == nil || f.Name.Name != "Type" {
			continue
		}
		name := f.Recv.List[0].Type.(*ast.StarExpr).X.(*ast.Ident).Name
		if !known[name] {
			t.Errorf("the list of nodes lacks %s", name)
		}
		delete(known, name)
	}
	for name := range known {
		t.Errorf("%s is no node", name)
	}
}

// plant puts operands into every place of a value that can hold one, and returns them.
func plant(v reflect.Value) (planted []Expr) {
	expr := reflect.TypeFor[Expr]()
	switch {
	case v.Type() == expr:
		e := &Literal{Value: int64(len(planted))}
		v.Set(reflect.ValueOf(e))
		return []Expr{e}
	case v.Type() == reflect.TypeFor[*ColumnRef]():
		e := &ColumnRef{Rel: &Relation{}}
		v.Set(reflect.ValueOf(e))
		return []Expr{e}
	case v.Type() == reflect.TypeFor[*Query](), v.Type() == reflect.TypeFor[*Relation](), v.Kind() == reflect.Interface:
		return nil
	}
	switch v.Kind() {
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				planted = append(planted, plant(v.Field(i))...)
			}
		}
	case reflect.Slice:
		one := reflect.MakeSlice(v.Type(), 2, 2)
		for i := range 2 {
			planted = append(planted, plant(one.Index(i))...)
		}
		if len(planted) > 0 {
			v.Set(one)
		}
	case reflect.Pointer:
		if v.Type().Elem() == reflect.TypeFor[Window]() || v.Type().Elem() == reflect.TypeFor[Frame]() {
			v.Set(reflect.New(v.Type().Elem()))
			return plant(v.Elem())
		}
	}
	return planted
}

// TestOperandsAreWalked: whatever a node has for an operand is walked, compared and replaced.
func TestOperandsAreWalked(t *testing.T) {
	for _, of := range nodes {
		typ := reflect.TypeOf(of).Elem()
		made := reflect.New(typ)
		planted := plant(made.Elem())
		node := made.Interface().(Expr)
		walked := map[Expr]bool{}
		for _, c := range children(node) {
			walked[c] = true
		}
		for i, e := range planted {
			if !walked[e] {
				t.Errorf("%s: operand %d of %d is not walked", typ.Name(), i+1, len(planted))
			}
		}
		if len(planted) != len(children(node)) {
			t.Errorf("%s has %d operands, and %d are walked", typ.Name(), len(planted), len(children(node)))
		}
		if !Same(node, node) {
			t.Errorf("%s is not the same as itself", typ.Name())
		}
		switch of.(type) {
		case *OfType: // whose operand is a column
			continue
		}
		for i, e := range planted {
			next := Replace(node, func(x Expr) Expr {
				if x == e {
					return &Literal{Value: "replaced"}
				}
				return nil
			})
			if found := AnyExpr(next, func(x Expr) bool { l, ok := x.(*Literal); return ok && l.Value == "replaced" }); !found {
				t.Errorf("%s: operand %d of %d is not replaced", typ.Name(), i+1, len(planted))
			}
			if Same(node, next) {
				t.Errorf("%s is the same with another operand %d", typ.Name(), i+1)
			}
		}
	}
}
