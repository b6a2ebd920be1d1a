package source_test

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
)

// A randomQuery is a query that means the same to Gneiss and, without the
// source's name, to SQLite itself, with the columns that it needs.
type leakQuery struct {
	text    string
	raw     string // the same for SQLite itself, where it is written otherwise
	ordered bool   // the order of rows counts
	columns map[string][]string
	star    string // the table of a *
	keyed   string // the table whose id makes its order: with ties, what is first is anybody's guess
}

// plain is the query as SQLite itself takes it.
func (q *leakQuery) plain() string {
	if q.raw != "" {
		return q.raw
	}
	return q.text
}

// permitted reports whether the query may run, by the columns that are granted
// and those that are withheld: a * leaves the latter out.
func (q *leakQuery) permitted(granted, withheld map[string][]string) bool {
	for table, columns := range q.columns {
		if len(granted[table]) == 0 {
			return false
		}
		for _, c := range columns {
			if !slices.Contains(granted[table], c) || slices.Contains(withheld[table], c) {
				return false
			}
		}
	}
	for _, def := range tables {
		for _, c := range columnNames(def) {
			if q.star == def.name && !slices.Contains(granted[def.name], c) && !slices.Contains(withheld[def.name], c) {
				return false
			}
		}
	}
	return true
}

// a builder writes one query and notes the columns it uses.
type builder struct {
	r *rand.Rand
	q *leakQuery
	n int
	// offered are the columns that parts of the query were made of, by their
	// name behind the alias. Not all parts are chosen.
	offered map[string]string
}

var reference = regexp.MustCompile(`\b\w+\.\w+\b`)

func randomQuery(r *rand.Rand) *leakQuery {
	b := &builder{r: r, q: &leakQuery{columns: map[string][]string{}}, offered: map[string]string{}}
	b.q.text = b.statement()
	for _, name := range reference.FindAllString(b.q.text, -1) {
		if table, ok := b.offered[name]; ok {
			_, column, _ := strings.Cut(name, ".")
			b.q.columns[table] = append(b.q.columns[table], column)
		}
	}
	for _, def := range tables {
		if strings.Contains(b.q.text, "src."+def.name+" ") {
			b.q.columns[def.name] = append(b.q.columns[def.name], []string{}...)
		}
	}
	return b.q
}

// use notes a column and returns it behind its alias.
func (b *builder) use(table, alias, column string) string {
	b.offered[alias+"."+column] = table
	return alias + "." + column
}

// number and text give a column or an expression of that type.
func (b *builder) number(table, alias string) string {
	columns := map[string][]string{"s1.t": {"id", "n"}, "s1.u": {"id", "t_id", "v"}}[table]
	c := b.use(table, alias, pick(b.r, columns...))
	return pick(b.r, c, c, c, "("+c+" + 1)", "coalesce("+c+", -7)", "("+c+" / 2)", "(10 / "+c+")", "CASE WHEN "+c+" > 2 THEN 1 ELSE 0 END", "(- "+c+")", "("+c+" % 3)")
}

func (b *builder) textual(table, alias string) string {
	columns := map[string][]string{"s1.t": {"g", "name"}, "s1.u": {"g", "note"}, "s2.ent": {"person", "g"}}[table]
	c := b.use(table, alias, pick(b.r, columns...))
	return pick(b.r, c, c, c, "upper("+c+")", "("+c+" || '!')", "coalesce("+c+", 'none')", "length("+c+") || ''", "replace("+c+", 'a', 'b')", "substr("+c+", 1, 2)", "trim("+c+")")
}

func (b *builder) predicate(table, alias string, depth int) string {
	if depth > 0 && b.r.IntN(3) == 0 {
		l, r := b.predicate(table, alias, depth-1), b.predicate(table, alias, depth-1)
		return pick(b.r, "("+l+" AND "+r+")", "("+l+" OR "+r+")", "(NOT "+l+")")
	}
	if table == "s2.ent" {
		return b.textual(table, alias) + " = 'flint'"
	}
	switch b.r.IntN(11) {
	case 0:
		return fmt.Sprintf("%s %s %d", b.number(table, alias), pick(b.r, "=", "<>", "<", ">=", ">"), b.r.IntN(6))
	case 1:
		return b.textual(table, alias) + pick(b.r, " = 'a'", " <> 'b'", " > 'b'", " IN ('a', 'ann', 'x')", " NOT IN ('a', 'x')", " LIKE 'a%'", " LIKE '%n_'", " NOT LIKE '%a%'", " BETWEEN 'a' AND 'b'")
	case 2:
		return b.textual(table, alias) + pick(b.r, " IS NULL", " IS NOT NULL")
	case 3:
		return b.number(table, alias) + " BETWEEN 1 AND 4"
	case 4: // IN with a sub-query
		other, a := b.other()
		return b.number(table, alias) + pick(b.r, " IN ", " NOT IN ") + "(SELECT " + b.number(other, a) + " FROM src." + other + " AS " + a + " WHERE " + b.predicate(other, a, 0) + ")"
	case 5: // correlated EXISTS
		other, a := b.other()
		return pick(b.r, "EXISTS ", "NOT EXISTS ") + "(SELECT 1 FROM src." + other + " AS " + a + " WHERE " + b.number(other, a) + " = " + b.number(table, alias) + ")"
	case 6: // correlated scalar
		other, a := b.other()
		return "(SELECT count(*) FROM src." + other + " AS " + a + " WHERE " + b.textual(other, a) + " = " + b.textual(table, alias) + ") > 1"
	case 7:
		if table == "s1.t" {
			return b.use(table, alias, "b") + pick(b.r, "", " IS TRUE", " IS NOT FALSE", " IS NULL")
		}
		return b.number(table, alias) + " IS NOT DISTINCT FROM 2"
	case 8:
		if table == "s1.t" {
			return b.use(table, alias, "d") + pick(b.r, " >= '2024-04-01'", " IS NULL", " < '2024-07-15'")
		}
		return b.number(table, alias) + " <> " + b.number(table, alias)
	case 9:
		if table == "s1.t" {
			return b.use(table, alias, "x") + pick(b.r, " > 1.5", " = 2", " * 2 < 5")
		}
		return b.number(table, alias) + " IN (1, 2, 3)"
	}
	return "nullif(" + b.number(table, alias) + ", 3) IS NULL"
}

func (b *builder) other() (table, alias string) {
	b.n++
	return pick(b.r, "s1.t", "s1.u"), fmt.Sprintf("q%d", b.n)
}

func (b *builder) where(table, alias string) string {
	if b.r.IntN(4) == 0 {
		return ""
	}
	return " WHERE " + b.predicate(table, alias, 2)
}

func (b *builder) statement() string {
	table := pick(b.r, "s1.t", "s1.t", "s1.u", "s2.ent")
	switch b.r.IntN(18) {
	case 12: // DISTINCT ON
		table = pick(b.r, "s1.t", "s1.u")
		from := " FROM src." + table + " AS a" + b.where(table, "a")
		b.q.keyed = table
		key, id, c := b.use(table, "a", "g"), b.use(table, "a", "id"), b.textual(table, "a")
		down := pick(b.r, "", " DESC")
		b.q.ordered = true
		b.q.raw = "SELECT k, c FROM (SELECT " + key + " AS k, " + c + " AS c, row_number() OVER (PARTITION BY " + key + " ORDER BY " + id + down + ") AS rn" + from + ") WHERE rn = 1 ORDER BY k NULLS LAST"
		return "SELECT DISTINCT ON (" + key + ") " + key + " AS k, " + c + " AS c" + from + " ORDER BY " + key + ", " + id + down
	case 13: // grouping sets
		table = pick(b.r, "s1.t", "s1.u")
		from := " FROM src." + table + " AS a" + b.where(table, "a")
		key, more, n := b.use(table, "a", "g"), "("+b.number(table, "a")+" > 1)", "count(*), sum("+b.number(table, "a")+")"
		parts := []string{"SELECT " + key + " AS k, " + more + " AS c, " + n + ", 0" + from + " GROUP BY " + key + ", " + more,
			"SELECT " + key + ", NULL, " + n + ", 1" + from + " GROUP BY " + key, "SELECT NULL, NULL, " + n + ", 3" + from}
		b.q.raw = strings.Join(parts, " UNION ALL ")
		return "SELECT " + key + " AS k, " + more + " AS c, " + n + ", grouping(" + key + ", " + more + ")" + from + " GROUP BY " + pick(b.r, "ROLLUP ("+key+", "+more+")", "GROUPING SETS (("+key+", "+more+"), "+key+", ())")
	case 14: // a recursive WITH query
		id, up := b.use("s1.u", "a", "id"), b.use("s1.u", "a", "t_id")
		b.use("s1.u", "n", "id")
		b.use("s1.u", "n", "t_id")
		return "WITH RECURSIVE w (id, up) AS (SELECT " + id + ", " + up + " FROM src.s1.u AS a" + b.where("s1.u", "a") + " UNION SELECT n.id, n.t_id FROM src.s1.u AS n JOIN w ON n.id = w.up) SELECT w.id, w.up FROM w"
	case 15: // VALUES beside a table
		return "SELECT v.k, " + b.textual("s1.t", "a") + " FROM src.s1.t AS a JOIN (SELECT column1 AS k FROM (VALUES (1), (2), (NULL)) AS x) AS v ON v.k = " + b.number("s1.t", "a")
	case 16: // NATURAL and USING
		table = "s1.u"
		return "SELECT count(*), min(" + b.textual("s1.u", "b") + ") FROM src.s1.t AS a " + pick(b.r, "JOIN", "LEFT JOIN") + " src.s1.u AS b USING (" + b.using("id", "s1.t", "s1.u") + ") WHERE " + b.predicate("s1.t", "a", 1)
	case 0: // a plain selection
		return "SELECT " + b.textual(table, "a") + " AS c1, " + b.textual(table, "a") + " AS c2 FROM src." + table + " AS a" + b.where(table, "a")
	case 1: // a star
		b.q.star = table
		return "SELECT " + pick(b.r, "*", "a.*") + " FROM src." + table + " AS a" + b.where(table, "a")
	case 2: // a join
		return b.join("SELECT " + b.number("s1.t", "a") + ", " + b.textual("s1.u", "b") + ", " + b.textual("s1.t", "a"))
	case 3: // groups
		if table == "s2.ent" {
			table = "s1.u"
		}
		key := b.use(table, "a", "g")
		return "SELECT " + key + ", count(*) AS n, sum(" + b.number(table, "a") + "), min(" + b.textual(table, "a") + "), max(" + b.number(table, "a") + "), count(DISTINCT " + b.textual(table, "a") + ") FROM src." + table + " AS a" +
			b.where(table, "a") + " GROUP BY " + key + pick(b.r, "", " HAVING count(*) > 1", " HAVING max("+b.number(table, "a")+") > 2")
	case 4: // a whole-table aggregate
		return "SELECT count(*)" + pick(b.r, "", ", min("+b.textual(table, "a")+")") + " FROM src." + table + " AS a" + b.where(table, "a")
	case 5: // set operations
		l := "SELECT " + b.textual("s1.t", "a") + " AS c FROM src.s1.t AS a" + b.where("s1.t", "a")
		r := "SELECT " + b.textual("s1.u", "b") + " FROM src.s1.u AS b" + b.where("s1.u", "b")
		return l + pick(b.r, " UNION ", " UNION ALL ", " INTERSECT ", " EXCEPT ") + r
	case 6: // WITH, used twice
		return "WITH w AS (SELECT " + b.use("s1.t", "a", "id") + " AS k, " + b.textual("s1.t", "a") + " AS c FROM src.s1.t AS a" + b.where("s1.t", "a") +
			") SELECT x.c, y.k FROM w AS x JOIN w AS y ON x.k = y.k + 1"
	case 7: // window functions
		table = pick(b.r, "s1.t", "s1.u")
		key := b.use(table, "a", "id")
		b.q.keyed = table
		f := pick(b.r, "row_number()", "rank()", "sum("+b.number(table, "a")+")", "count(*)", "lag("+b.textual(table, "a")+")", "max("+b.number(table, "a")+")")
		return "SELECT " + key + ", " + f + " OVER (" + pick(b.r, "", "PARTITION BY "+b.use(table, "a", "g")+" ") + "ORDER BY " + key + pick(b.r, "", " ROWS BETWEEN 1 PRECEDING AND 1 FOLLOWING") + ") FROM src." + table + " AS a" + b.where(table, "a")
	case 8: // DISTINCT, in order, cut
		table = pick(b.r, "s1.t", "s1.u")
		b.q.ordered = true
		return "SELECT DISTINCT " + b.number(table, "a") + " AS k, " + b.textual(table, "a") + " AS c FROM src." + table + " AS a" + b.where(table, "a") +
			" ORDER BY k" + pick(b.r, " NULLS LAST", " DESC NULLS FIRST", " NULLS FIRST") + ", c NULLS LAST" + fmt.Sprintf(" LIMIT %d OFFSET %d", b.r.IntN(5), b.r.IntN(3))
	case 9: // a derived table
		return "SELECT s.c, count(*) FROM (SELECT " + b.textual("s1.t", "a") + " AS c, " + b.number("s1.t", "a") + " AS k FROM src.s1.t AS a" + b.where("s1.t", "a") + ") AS s WHERE s.k > 0 GROUP BY s.c"
	case 10: // a scalar sub-query in the list
		return "SELECT " + b.use("s1.t", "a", "id") + ", (SELECT max(" + b.number("s1.u", "b") + ") FROM src.s1.u AS b WHERE b.t_id = a.id AND " + b.predicate("s1.u", "b", 1) + ") FROM src.s1.t AS a" + b.usesKey() + b.where("s1.t", "a")
	case 11: // three tables
		b.use("s2.ent", "e", "g")
		return b.join("SELECT count(*), sum("+b.number("s1.u", "b")+")") + " AND a.g IN (SELECT e.g FROM src.s2.ent AS e)" + b.usesGroup()
	}
	// FILTER and truth values
	return "SELECT count(*) FILTER (WHERE " + b.predicate("s1.t", "a", 1) + "), sum(" + b.number("s1.t", "a") + "), " + b.boolean() + " FROM src.s1.t AS a" + b.where("s1.t", "a")
}

func (b *builder) boolean() string {
	return pick(b.r, "max(CASE WHEN "+b.predicate("s1.t", "a", 1)+" THEN 1 ELSE 0 END)", "avg("+b.use("s1.t", "a", "x")+")")
}

// using notes a column of both tables of a join.
func (b *builder) using(column string, tables ...string) string {
	for _, t := range tables {
		b.q.columns[t] = append(b.q.columns[t], column)
	}
	return column
}

// usesKey and usesGroup note columns that a text above names in passing.
func (b *builder) usesKey() string {
	b.use("s1.u", "b", "t_id")
	return ""
}

func (b *builder) usesGroup() string {
	b.use("s1.t", "a", "g")
	return ""
}

func (b *builder) join(head string) string {
	kind := pick(b.r, "JOIN", "LEFT JOIN", "RIGHT JOIN", "FULL JOIN")
	on := b.use("s1.t", "a", "id") + " = " + b.use("s1.u", "b", "t_id")
	if b.r.IntN(3) == 0 {
		on += " AND " + b.predicate("s1.u", "b", 0)
	}
	if strings.Contains(on, "(SELECT") && kind != "JOIN" {
		kind = "LEFT JOIN"
	}
	return head + " FROM src.s1.t AS a " + kind + " src.s1.u AS b ON " + on + " WHERE " + b.predicate(pick(b.r, "s1.t", "s1.t"), "a", 1)
}
