package sqltype

import (
	"strings"
	"testing"
)

func TestNames(t *testing.T) {
	for _, c := range []struct{ written, name, modifier string }{
		{"numeric(15,2)", "numeric", "15,2"}, {"int4", "integer", ""}, {"character varying(20)[]", "character varying[]", "20"}, {"timestamp(3) with time zone", "timestamp with time zone", "3"},
		{"timestamp without time zone", "timestamp", ""}, {"decimal", "numeric", ""}, {"bpchar", "character", ""}, {`"char"`, `"char"`, ""}, {"jsonb[]", "jsonb[]", ""},
	} {
		typ := Parse(c.written)
		_, modifier := Split(c.written)
		if typ == nil || typ.Name != c.name || modifier != c.modifier {
			t.Errorf("%s is read as %v, %q", c.written, typ, modifier)
		}
	}
	for _, name := range []string{"", "rock", "s.rock", "regclass", "xml", "numeric[][]x", "integer[]["} {
		if typ := Parse(name); typ != nil {
			t.Errorf("%q is read as %v", name, typ)
		}
	}
	if got := WithModifier(TimestampTZ, "3"); got != "timestamp(3) with time zone" {
		t.Errorf("a modifier stands in %s", got)
	}
}

// TestOwnTypes: types of a source's own are compared with themselves, alone and in arrays.
func TestOwnTypes(t *testing.T) {
	rock, ore := Own("s.rock", Enum), Own("s.ore", Enum)
	for _, c := range []struct {
		op     string
		l, r   *Type
		result string
	}{
		{"=", rock, rock, "boolean"}, {"<", rock, nil, "boolean"}, {"=", rock, ore, "does not exist"}, {"||", rock.Array, rock, "s.rock[]"}, {"@>", rock.Array, rock.Array, "boolean"}, {"+", rock, rock, "does not exist"},
		{"=", Own("s.geom", Base), nil, ""},
	} {
		m, err := Binary(c.op, c.l, c.r)
		switch {
		case c.result == "":
		case err != nil && !strings.Contains(err.Error(), c.result), err == nil && m.Result.Name != c.result:
			t.Errorf("%v %s %v gives %+v (%v), want %s", c.l, c.op, c.r, m, err, c.result)
		}
	}
	if m, err := Call("enum_range", []*Type{rock}, false); err != nil || m.Result != rock.Array {
		t.Errorf("enum_range gives %+v (%v)", m, err)
	}
	if Castable(rock, Int4, Explicit) || !Castable(rock, Text, Assignment) || Castable(rock, Text, Implicit) || !Castable(nil, rock, Implicit) {
		t.Error("an enum is cast where it cannot, or not where it can")
	}
}

// TestSignatures: a routine of a source's own is read back as it was written, and taken for one
// that does anything.
func TestSignatures(t *testing.T) {
	text := Signature{Schema: "s", Name: "Odd one", Kind: "f", Args: []string{"numeric", "integer"}, Names: []string{"x", "n"}, Defaults: 1, Result: "numeric", Volatility: "i"}.String()
	read, err := ReadSignature(text)
	if err != nil || read.String() != text {
		t.Fatalf("%s is read as %+v (%v)", text, read, err)
	}
	r := read.Routine(Parse)
	if r == nil || r.LeakProof || r.Volatility != 'v' || r.Total() {
		t.Fatalf("the routine is %+v", r)
	}
	for _, c := range []struct {
		args  []*Type
		names []string
		fits  bool
	}{{[]*Type{Int4}, nil, true}, {[]*Type{Numeric, Int4}, nil, true}, {[]*Type{Int4, Numeric}, nil, false}, {[]*Type{Text}, nil, false}, {[]*Type{nil, nil}, nil, true}, {[]*Type{Int4, Numeric}, []string{"n", "x"}, true}, {[]*Type{Int4}, []string{"n"}, false}, {nil, nil, false}} {
		if _, err := CallOf([]*Routine{r}, "Odd one", c.args, false, c.names...); (err == nil) != c.fits {
			t.Errorf("a call with %v %v: %v", c.args, c.names, err)
		}
	}
	if read.Args[0] = "s.gone"; read.Routine(Parse) != nil {
		t.Error("a routine of a type that is not known can be called")
	}
	if read.PastPolicies() || !(Signature{Volatility: "s"}).PastPolicies() || !(Signature{Volatility: "i", Definer: true}).PastPolicies() {
		t.Error("what may read past policies is taken wrong")
	}
}
