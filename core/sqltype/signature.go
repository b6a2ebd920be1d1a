package sqltype

import (
	"encoding/json"
	"strings"
)

// A Signature is how a routine of a source's own is declared, with the names of its types.
type Signature struct {
	Schema     string           `json:"schema"`
	Name       string           `json:"name"`
	Kind       string           `json:"kind"` // f: function; a: aggregate; w: window function
	Args       []string         `json:"args,omitempty"`
	Names      []string         `json:"names,omitempty"`
	Result     string           `json:"result"`
	Set        bool             `json:"set,omitempty"`
	Variadic   string           `json:"variadic,omitempty"`
	Defaults   int              `json:"defaults,omitempty"`
	Ordered    string           `json:"ordered,omitempty"`
	Direct     int              `json:"direct,omitempty"`
	Out        []SignatureField `json:"out,omitempty"`
	Volatility string           `json:"volatility"`
	// Definer says that the routine runs with the rights of whoever made it.
	Definer bool `json:"definer,omitempty"`
	// Operators are those that call the routine, each its schema, a dot, and its name, in which no dot can be.
	Operators []string `json:"operators,omitempty"`
	// Extension says that the routine is part of an extension, written in C, and immutable, so that it is code that an
	// administrator of the database has installed, and reads no tables.
	Extension bool `json:"extension,omitempty"`
}

// PastPolicies reports whether the routine may read tables. It does so with the rights of
// whoever made it, or of the account that Gneiss connects with, and sees what policies hide.
func (s Signature) PastPolicies() bool { return s.Definer || s.Volatility != "i" }

// A SignatureField is a column of what a routine gives.
type SignatureField struct {
	Name string `json:"name"`
	Type string `json:"type"`
}

// String writes the signature so that [ReadSignature] reads it.
func (s Signature) String() string {
	text, err := json.Marshal(s)
	if err != nil {
		panic("sqltype: " + err.Error()) // of texts and numbers alone
	}
	return string(text)
}

// ReadSignature is the inverse of [Signature.String].
func ReadSignature(text string) (s Signature, err error) {
	err = json.Unmarshal([]byte(text), &s)
	return s, err
}

// Operator is the operator of a name that calls the routine; named finds a type by its name. It is nil where there is none
// or where a type is not known. Its Name is as SQL writes it, with its schema, and so is none of those that are known to be
// safe: it is taken to do anything.
func (s Signature) Operator(name string, named func(string) *Type) *Operator {
	for _, one := range s.Operators {
		schema, ok := strings.CutSuffix(one, "."+name)
		if !ok || len(s.Args) == 0 || len(s.Args) > 2 {
			continue
		}
		o := &Operator{Name: `OPERATOR("` + strings.ReplaceAll(schema, `"`, `""`) + `".` + name + ")", Right: named(s.Args[len(s.Args)-1]),
			Result: named(s.Result), Volatility: 'v'}
		if o.Right == nil || o.Result == nil {
			return nil
		}
		if len(s.Args) == 2 {
			if o.Left = named(s.Args[0]); o.Left == nil {
				return nil
			}
		}
		o.operands = [2]*Type{o.Left, o.Right}
		return o
	}
	return nil
}

// Own reports whether the operator is one of a source's own.
func (o *Operator) Own() bool { return o.OID == 0 }

// Routine is what the signature declares; named finds a type by its name. It is nil where a
// type is not known. It is taken to do anything: neither leak-proof nor pure.
func (s Signature) Routine(named func(string) *Type) *Routine {
	r := &Routine{Schema: s.Schema, Name: s.Name, Kind: RoutineKind(s.Kind[0]), Volatility: 'v', Set: s.Set, Result: named(s.Result), Defaults: s.Defaults,
		Direct: s.Direct, Names: s.Names}
	if s.Ordered != "" {
		r.Ordered = s.Ordered[0]
	}
	for _, a := range s.Args {
		r.Args = append(r.Args, named(a))
	}
	for _, f := range s.Out {
		r.Out = append(r.Out, Field{f.Name, named(f.Type)})
	}
	if s.Variadic != "" {
		r.Variadic = named(s.Variadic)
	}
	for _, t := range append([]*Type{r.Result}, r.Args...) {
		if t == nil {
			return nil
		}
	}
	return r
}
