package catalog

import (
	_ "embed"
	"encoding/json"
	"strconv"
	"strings"
	"sync"

	"gneiss/core/sqltype"
)

//go:generate go run gneiss/source/pgcatalog/generate layout.tsv

//go:embed layout.tsv
var lines string

// The numbers of the schemas that every database has.
const (
	catalogSchema     = 11
	informationSchema = 13222
)

// own are the types that the catalog's columns have and the language of queries does not.
var own = func() map[uint32]*sqltype.Type {
	out := map[uint32]*sqltype.Type{}
	elements := map[uint32]uint32{}
	for line := range strings.Lines(lines) {
		f := strings.Split(strings.TrimSuffix(line, "\n"), "\t")
		if f[0] != "type" || sqltype.Of(number(f[1])) != nil {
			continue
		}
		t := &sqltype.Type{OID: number(f[1]), Name: f[2], Internal: f[2], Kind: sqltype.Kind(f[5][0]), Category: f[6][0]}
		if t.Category == 'A' && strings.HasPrefix(t.Name, "_") {
			t.Name = t.Name[1:] + "[]"
			elements[t.OID] = number(f[9])
		}
		out[t.OID] = t
	}
	for array, element := range elements {
		if of := out[element]; of != nil {
			out[array].Elem, of.Array = of, out[array]
		}
	}
	return out
}()

func number(s string) uint32 {
	n, err := strconv.ParseUint(s, 10, 32)
	if err != nil {
		panic("catalog: the layout is damaged: " + err.Error())
	}
	return uint32(n)
}

// typeOfNumber is the type of a number; nil: there is none.
func typeOfNumber(oid uint32) *sqltype.Type {
	if t := sqltype.Of(oid); t != nil {
		return t
	}
	return own[oid]
}

// typeOfName is the type of a name; nil: there is none.
func typeOfName(name string) *sqltype.Type {
	if t := sqltype.Parse(name); t != nil {
		return t
	}
	for _, t := range own {
		if t.Name == name || t.Internal == name {
			return t
		}
	}
	return nil
}

// A typeRow has the fields of a type, by their places in the layout.
type typeRow []string

func (f typeRow) length() int64     { return num(f[2]) } // in bytes; -1: it varies
func (f typeRow) byValue() bool     { return f[3] == "t" }
func (f typeRow) alignment() string { return f[17] }
func (f typeRow) storage() string   { return f[18] }
func (f typeRow) collation() int64  { return num(f[19]) }

// rowOf is the row of a type; one that is not PostgreSQL's own is a text.
func rowOf(oid uint32) typeRow {
	if f, ok := laidOut().byType[oid]; ok {
		return f
	}
	return laidOut().byType[tText.OID]
}

// TypeLength is how many bytes each value of a type has; -1 where that varies.
func TypeLength(oid uint32) int16 { return int16(rowOf(oid).length()) }

// layout is how the catalog's own tables are laid out, and the rows that are the same everywhere.
type layout struct {
	relations map[string]*relation // by schema.name
	byNumber  map[int64]*relation
	list      []*relation
	types     []typeRow
	byType    map[uint32]typeRow
	routines  map[string]int64
	names     map[int64]string // of routines
	fixed     map[string][]map[string]string
}

var laidOut = sync.OnceValue(func() *layout {
	l := &layout{relations: map[string]*relation{}, byNumber: map[int64]*relation{}, byType: map[uint32]typeRow{}, routines: map[string]int64{},
		names: map[int64]string{}, fixed: map[string][]map[string]string{}}
	for line := range strings.Lines(lines) {
		f := strings.Split(strings.TrimSuffix(line, "\n"), "\t")
		switch f[0] {
		case "relation":
			r := &relation{oid: number(f[1]), schema: f[2], name: f[3], view: f[4] == "v"}
			for _, col := range strings.Split(f[5], ",") {
				name, oid, _ := strings.Cut(col, ":")
				t := typeOfNumber(number(oid))
				if t == nil {
					t = tText
				}
				r.columns = append(r.columns, layoutColumn{name, t})
			}
			l.relations[r.schema+"."+r.name] = r
			l.byNumber[int64(r.oid)] = r
			l.list = append(l.list, r)
		case "type":
			l.types = append(l.types, f[1:])
			l.byType[number(f[1])] = f[1:]
		case "regproc":
			l.routines[f[2]], l.names[int64(number(f[1]))] = int64(number(f[1])), f[2]
		case "row":
			var row map[string]any
			d := json.NewDecoder(strings.NewReader(f[2]))
			d.UseNumber()
			if err := d.Decode(&row); err != nil {
				panic("catalog: the layout is damaged: " + err.Error())
			}
			texts := map[string]string{}
			for name, v := range row {
				switch v := v.(type) {
				case string:
					texts[name] = v
				case json.Number:
					texts[name] = v.String()
				case bool:
					texts[name] = strconv.FormatBool(v)
				}
			}
			l.fixed[f[1]] = append(l.fixed[f[1]], texts)
		}
	}
	return l
})

// find is the relation of the catalog of a name; nil: there is none.
func find(schema, name string) *relation {
	if schema == "" {
		schema = "pg_catalog"
	}
	return laidOut().relations[schema+"."+name]
}
