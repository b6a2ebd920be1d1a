package grammar

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// A Statement is one that was written, with the values of its parameters.
type Statement struct {
	Text   string
	Params []any
	Writes bool
}

// A Writer writes statements from a tape.
type Writer struct {
	*Tape
	// Steady leaves out what depends on the order of rows that are alike.
	Steady bool
	// Reads leaves out what changes rows, and has constants in the place of parameters.
	Reads  bool
	scope  []string // aliases that columns can be named of, behind the table that they are of: "typed t1"
	n      int
	params []any
}

// Statement writes the next statement of the tape.
func (w *Writer) Statement() Statement {
	w.scope, w.params = nil, nil
	if w.N(6) == 5 && !w.Reads {
		return w.numbered(w.write(), true)
	}
	return w.numbered(w.query(), false)
}

var placeholder = regexp.MustCompile(`\$(\d+)`)

// numbered numbers the parameters that a text has; others were written for parts of which another was chosen.
func (w *Writer) numbered(text string, writes bool) Statement {
	out := Statement{Writes: writes}
	places := map[string]string{}
	out.Text = placeholder.ReplaceAllStringFunc(text, func(name string) string {
		if places[name] == "" {
			n, _ := strconv.Atoi(name[1:])
			out.Params = append(out.Params, w.params[n-1])
			places[name] = fmt.Sprintf("$%d", len(out.Params))
		}
		return places[name]
	})
	return out
}

// column names a column of a kind, or writes a constant where there is none.
func (w *Writer) column(kind string) string {
	if len(w.scope) > 0 {
		table, alias, _ := strings.Cut(w.scope[w.N(len(w.scope))], " ")
		if list := columnsOf[table][kind]; list != nil {
			return alias + "." + Pick(w.Tape, list...)
		}
	}
	return w.constant(kind)
}

func (w *Writer) constant(kind string) string {
	if list := constants[kind]; list != nil {
		return Pick(w.Tape, list...)
	}
	return "NULL"
}

// value writes an expression of a kind.
func (w *Writer) value(kind string, depth int) string {
	list := byKind[kind]
	if depth <= 0 || len(list) == 0 {
		if w.One(4) {
			return w.constant(kind)
		}
		return w.column(kind)
	}
	return w.Make(Productions[list[w.N(len(list))]], func(kind string) string { return w.value(kind, depth-1) })
}

// Make writes a production; part writes what stands in it.
func (w *Writer) Make(p Production, part func(kind string) string) string {
	var b strings.Builder
	rest := p.Text
	for {
		before, after, found := cutGap(rest)
		b.WriteString(before)
		if !found {
			return b.String()
		}
		gap, left, _ := strings.Cut(after, ">")
		rest = left
		switch {
		case gap == "any":
			b.WriteString(part(Pick(w.Tape, "number", "text", "truth", "time")))
		case gap == "fact":
			b.WriteString(Pick(w.Tape, facts...))
		case gap == "relation":
			b.WriteString(w.relation())
		case strings.HasPrefix(gap, "parameter "):
			b.WriteString(w.parameter(strings.TrimPrefix(gap, "parameter ")))
		default:
			b.WriteString(part(gap))
		}
	}
}

// cutGap finds the next gap of a production: < behind which a word and > follow.
func cutGap(text string) (before, after string, found bool) {
	for i := 0; i+1 < len(text); i++ {
		if text[i] != '<' || text[i+1] < 'a' || text[i+1] > 'z' {
			continue
		}
		if end := strings.IndexByte(text[i:], '>'); end > 0 && strings.Trim(text[i+1:i+end], "abcdefghijklmnopqrstuvwxyz ") == "" {
			return text[:i], text[i+1:], true
		}
	}
	return text, "", false
}

func (w *Writer) relation() string {
	if len(w.scope) == 0 {
		return "ROW(1)"
	}
	_, alias, _ := strings.Cut(w.scope[w.N(len(w.scope))], " ")
	return alias
}

func (w *Writer) parameter(kind string) string {
	if w.Reads {
		return Pick(w.Tape, constants[kind][:2]...)
	}
	if kind == "text" {
		w.params = append(w.params, Pick(w.Tape, "x", "Alder", ""))
		return fmt.Sprintf("$%d::text", len(w.params))
	}
	w.params = append(w.params, int64(w.N(9)))
	return fmt.Sprintf("$%d::integer", len(w.params))
}

func (w *Writer) ofSomeKind(depth int) string {
	return w.value(Pick(w.Tape, "number", "number", "text", "text", "time", "truth", "json", "array", "other"), depth)
}

func (w *Writer) truth() string { return w.value("truth", 1+w.N(2)) }

// table brings a table into scope.
func (w *Writer) table(name string) string {
	w.n++
	alias := fmt.Sprintf("%s%d", name[:1], w.n)
	w.scope = append(w.scope, name+" "+alias)
	return "src.s." + name + " AS " + alias
}

func (w *Writer) last() string {
	_, alias, _ := strings.Cut(w.scope[len(w.scope)-1], " ")
	return alias
}

// from writes a FROM clause and brings its relations into scope.
func (w *Writer) from() string {
	one := func() string { return w.table(Pick(w.Tape, "typed", "other", "kept")) }
	switch w.N(14) {
	case 0, 1, 2:
		return one()
	case 3, 4, 5, 6:
		l := w.table("typed")
		t := w.last()
		r := w.table(Pick(w.Tape, "other", "kept"))
		on := t + ".id = " + w.last() + ".id"
		if w.N(2) == 1 {
			on += " AND " + w.truth()
		}
		// A full join takes conditions that can be merged or hashed.
		return l + Pick(w.Tape, " JOIN ", " LEFT JOIN ", " RIGHT JOIN ") + r + " ON " + on
	case 7:
		l := w.table("other")
		w.n++
		r := fmt.Sprintf("(SELECT id, count(*) AS many FROM src.s.kept GROUP BY id) AS j%d", w.n)
		return Pick(w.Tape, l+" FULL JOIN "+r+" USING (id)", l+" NATURAL JOIN "+r, l+" CROSS JOIN "+r, l+" LEFT JOIN "+r+" USING (id)")
	case 8:
		l := w.table("typed")
		a := w.last()
		return l + ", LATERAL (SELECT count(*) AS c, max(ox.amount) AS m FROM src.s.other AS ox WHERE ox.typed_id = " + a + ".id AND " + w.truth() +
			") AS l" + a
	case 9:
		l := w.table("typed")
		a := w.last()
		return l + " LEFT JOIN LATERAL unnest(" + a + "._int4) WITH ORDINALITY AS g" + a + " (e, i) ON g" + a + ".e > 1"
	case 10:
		return w.table("other") + ", generate_series(1, 2) AS series (k)"
	case 11:
		return "ROWS FROM (generate_series(1, 3), unnest(ARRAY['x', 'y'])) AS pair (a, b), " + one()
	case 12:
		l := one()
		return l + " CROSS JOIN (VALUES (1, 'one'), (2, NULL)) AS v (k, word)"
	}
	w.n++
	alias := fmt.Sprintf("t%d", w.n)
	w.scope = append(w.scope, "typed "+alias)
	return "(SELECT * FROM src.s.typed WHERE id < 3) AS " + alias
}

func (w *Writer) where() string {
	if w.N(2) == 0 {
		return ""
	}
	return " WHERE " + w.truth()
}

func (w *Writer) aggregate() string {
	list := []string{
		"count(*)", "sum(" + w.value("number", 1) + ")", "avg(" + w.column("number") + ")", "min(" + w.value("text", 0) + ")", "bool_or(" + w.truth() +
			")", "array_agg(DISTINCT " + w.column("number") + ")",
		"count(DISTINCT " + w.column("text") + ")", "count(*) FILTER (WHERE " + w.truth() + ")", "string_agg(" + w.column("text") +
			"::text, ',' ORDER BY " + w.column("text") + "::text)",
		"percentile_cont(0.5) WITHIN GROUP (ORDER BY (" + w.column("number") + ")::float8)", "mode() WITHIN GROUP (ORDER BY " + w.column("number") + ")",
	}
	return Pick(w.Tape, list...)
}

func (w *Writer) order(keys ...string) string {
	var out []string
	for _, k := range keys {
		out = append(out, k+Pick(w.Tape, "", " DESC", " NULLS FIRST", " DESC NULLS LAST"))
	}
	return " ORDER BY " + strings.Join(out, ", ")
}

// query writes one that reads.
func (w *Writer) query() string {
	outer := w.scope
	defer func() { w.scope = outer }()
	w.scope = nil
	switch w.N(12) {
	case 0, 1: // groups
		from := w.from()
		key := w.value(Pick(w.Tape, "number", "text", "truth"), 1)
		if _, alias, _ := strings.Cut(w.scope[0], " "); !strings.Contains(key, alias+".") { // a constant is a group of its own kind
			key = alias + ".id"
		}
		more := w.value(Pick(w.Tape, "text", "truth"), 0)
		sets := Pick(w.Tape, "GROUP BY 1, 2", "GROUP BY "+key+", "+more, "GROUP BY ROLLUP ("+key+", "+more+")", "GROUP BY CUBE ("+key+", "+more+")",
			"GROUP BY GROUPING SETS (("+key+", "+more+"), "+key+", ())", "GROUP BY "+key+", ROLLUP ("+more+")")
		grouping := ""
		if strings.ContainsAny(sets, "(") && !strings.HasPrefix(sets, "GROUP BY 1") && !strings.HasPrefix(sets, "GROUP BY "+key+", "+more) {
			grouping = ", grouping(" + key + ", " + more + ")"
		}
		where := w.where()
		list := "SELECT " + key + " AS k, " + more + " AS m, " + w.aggregate() + ", " + w.aggregate() + grouping
		having := ""
		if w.N(2) == 1 {
			having = " HAVING " + Pick(w.Tape, "count(*) > 0", "sum("+w.column("number")+") IS NOT NULL", "bool_or("+w.truth()+")", "max("+w.value("number",
				1)+") > min("+w.column("number")+")")
		}
		return list + " FROM " + from + where + " " + sets + having
	case 2: // windows
		from := w.from()
		functions := []string{"rank()", "sum(" + w.value("number", 1) + ")", "count(*)", "dense_rank()", "max(" + w.column("number") +
			") FILTER (WHERE " + w.truth() + ")"}
		frame := ""
		if !w.Steady {
			functions = append(functions, "row_number()", "lag("+w.column("text")+")", "first_value("+w.column("number")+")",
				"nth_value("+w.column("number")+", 2)")
			frame = Pick(w.Tape, "", "", " ROWS BETWEEN 1 PRECEDING AND CURRENT ROW", " RANGE UNBOUNDED PRECEDING",
				" GROUPS BETWEEN 1 PRECEDING AND 1 FOLLOWING EXCLUDE TIES")
		}
		over := Pick(w.Tape, "", "PARTITION BY "+w.truth()+" ") + "ORDER BY " + w.column("number") + ", " + w.column("text") + frame
		where := w.where()
		if w.N(3) == 0 {
			return "SELECT " + w.ofSomeKind(1) + ", " + Pick(w.Tape, functions...) + " OVER w, count(*) OVER (w) FROM " + from + where + " WINDOW w AS (" +
				strings.TrimSuffix(over, frame) + ")"
		}
		return "SELECT " + w.ofSomeKind(1) + ", " + Pick(w.Tape, functions...) + " OVER (" + over + ") FROM " + from + where
	case 3: // set operations
		kind := Pick(w.Tape, "number", "text", "time")
		from := w.from()
		l := "SELECT " + w.value(kind, 1) + ", " + w.value("number", 1) + " FROM " + from + w.where()
		w.scope = nil
		from = w.from()
		r := "SELECT " + w.value(kind, 1) + ", " + w.value("number", 1) + " FROM " + from
		return l + Pick(w.Tape, " UNION ", " UNION ALL ", " INTERSECT ", " EXCEPT ", " EXCEPT ALL ", " INTERSECT ALL ") + r + Pick(w.Tape, "", "",
			" ORDER BY 1, 2")
	case 4: // WITH queries
		from := w.from()
		a := w.last()
		return "WITH w AS " + Pick(w.Tape, "", "MATERIALIZED ", "NOT MATERIALIZED ") + "(SELECT " + a + ".id AS k, " + w.ofSomeKind(2) + " AS v FROM " + from +
			w.where() + ") SELECT w.k, w.v, x.k FROM w LEFT JOIN w AS x ON x.k = w.k + 1"
	case 5: // recursion
		base := "WITH RECURSIVE r (id, up) AS (SELECT o1.id, o1.typed_id FROM src.s.other AS o1 WHERE o1.id > 8 UNION " + Pick(w.Tape, "", "ALL ") +
			"SELECT o2.id, o2.typed_id FROM src.s.other AS o2 JOIN r ON o2.id = r.up AND o2.id < r.id)"
		return base + Pick(w.Tape, " SELECT id, up FROM r", " SEARCH DEPTH FIRST BY id SET way SELECT id, way FROM r ORDER BY way, id",
			" SEARCH BREADTH FIRST BY id SET way SELECT id, up FROM r ORDER BY way, id", " CYCLE id SET again USING path SELECT id, again FROM r")
	case 6: // a derived table
		from := w.from()
		return "SELECT s.a, s.b FROM (SELECT " + w.ofSomeKind(2) + " AS a, " + w.value("number", 1) + " AS b FROM " + from + w.where() +
			") AS s WHERE s.b IS NOT NULL OR s.a IS NULL"
	case 7: // DISTINCT, in order, cut
		from := w.from()
		k, c := w.value("number", 1), w.value("text", 1)
		cut := Pick(w.Tape, "", " LIMIT 3", " OFFSET 1", " LIMIT 2 OFFSET 1", " FETCH FIRST 2 ROWS ONLY", " FETCH FIRST 2 ROWS WITH TIES")
		return "SELECT DISTINCT " + k + " AS k, " + c + " AS c FROM " + from + w.where() + w.order("1", "2") + cut
	case 8: // DISTINCT ON
		from := w.from()
		k := w.value("truth", 1)
		return "SELECT DISTINCT ON (" + k + ") " + k + " AS k FROM " + from + w.where() + " ORDER BY " + k
	case 9: // in an order that is worked out
		from := w.from()
		if w.Steady {
			return "SELECT " + w.ofSomeKind(1) + ", " + w.truth() + " FROM " + from + w.where()
		}
		return "SELECT " + w.ofSomeKind(1) + " FROM " + from + w.where() + w.order(w.value("number", 2), w.value("text", 1), w.truth())
	case 10: // a star
		from := w.from()
		return "SELECT " + w.relation() + ".*, " + w.ofSomeKind(1) + " FROM " + from + w.where()
	}
	from := w.from()
	return "SELECT " + w.ofSomeKind(2) + ", " + w.ofSomeKind(2) + ", " + w.ofSomeKind(1) + " FROM " + from + w.where()
}

// write writes a statement that changes kept.
func (w *Writer) write() string {
	returning := func() string {
		if w.N(2) == 0 {
			return ""
		}
		return " RETURNING " + w.last() + ".id, " + w.ofSomeKind(1)
	}
	id := func() string { return fmt.Sprint(1 + w.N(14)) }
	switch w.N(9) {
	case 0, 1: // INSERT
		w.scope = nil
		text := "INSERT INTO src.s.kept AS k (id, code, v, n) VALUES (" + id() + ", " + w.value("integer", 1) + ", " + Pick(w.Tape, "DEFAULT", "'bad'",
			w.value("text", 1)) + ", " + w.value("integer", 1) + ")"
		if w.N(2) == 1 {
			text += ", (" + id() + ", NULL, 'second', 2)"
		}
		conflict := Pick(w.Tape, "", " ON CONFLICT DO NOTHING", " ON CONFLICT (id) DO NOTHING",
			" ON CONFLICT (code) DO UPDATE SET v = excluded.v, n = k.n + 1", " ON CONFLICT (id) DO UPDATE SET v = k.v || '!' WHERE k.id > 3")
		w.scope = []string{"kept k"}
		return text + conflict + returning()
	case 2: // INSERT of a query
		from := w.from()
		a := w.last()
		text := "INSERT INTO src.s.kept (id, v, n) SELECT 20 + " + a + ".id, " + w.value("text", 1) + ", 1 FROM " + from + w.where() + Pick(w.Tape, "",
			" ON CONFLICT DO NOTHING")
		w.scope = []string{"kept kept"}
		return text + returning()
	case 3:
		w.scope = []string{"kept kept"}
		return Pick(w.Tape, "INSERT INTO src.s.kept (id) VALUES ("+id()+")", "INSERT INTO src.s.kept DEFAULT VALUES") + returning()
	case 4, 5: // UPDATE
		w.scope = []string{"kept k"}
		set := Pick(w.Tape, "v = "+w.value("text", 1), "n = "+w.value("integer", 1), "(v, n) = ("+w.value("text", 1)+", "+w.value("integer", 0)+")",
			"code = code + 100, v = DEFAULT", "id = k.id + 30", "code = 10", "v = CASE WHEN "+w.truth()+" THEN 'y' ELSE k.v END",
			"(n, v) = (SELECT o.amount, o.note FROM src.s.other AS o WHERE o.id = k.id)")
		text := "UPDATE src.s.kept AS k SET " + set
		if w.N(3) == 0 {
			return text + " FROM (SELECT DISTINCT id FROM src.s.other) AS x WHERE x.id = k.id AND " + w.truth() + returning()
		}
		return text + w.where() + returning()
	case 6, 7: // DELETE
		w.scope = []string{"kept k"}
		text := "DELETE FROM src.s.kept AS k"
		if w.N(3) == 0 {
			return text + " USING src.s.other AS o WHERE o.id = k.id AND " + w.truth() + returning()
		}
		return text + w.where() + returning()
	}
	w.scope = []string{"kept k", "other s"}
	return "MERGE INTO src.s.kept AS k USING src.s.other AS s ON s.id = k.id" + Pick(w.Tape, "", " AND "+w.truth()) +
		" WHEN MATCHED AND " + w.truth() + " THEN " + Pick(w.Tape, "UPDATE SET v = s.note", "DELETE", "DO NOTHING") +
		" WHEN NOT MATCHED THEN " + Pick(w.Tape, "INSERT (id, v) VALUES (s.id, s.note)", "DO NOTHING")
}
