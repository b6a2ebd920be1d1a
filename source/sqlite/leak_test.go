package sqlite

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/source"
)

// The sentence under test: for any session, state and query, the result equals
// that of the raw query on a copy of the database in which every table holds
// only that session's rows, with treated values, and columns that are not
// granted gone. The copy is made by the plain interpreter of this file, which
// shares no code with the product.

var leakCases = flag.Int("leak.cases", 3000, "how many random queries TestNoLeak compares")
var leakSeed = flag.Uint64("leak.seed", 11, "where TestNoLeak's random worlds start")

const (
	testKey   = "a key of pseudonyms for tests only, 32+"
	testNonce = "what one query's noise is made of"
)

// A world is one random database with a random model, as plain values.
type world struct {
	r      *rand.Rand
	rows   map[string][]map[string]any // by table
	groups map[string][]string         // by user
	roles  map[string][]string         // that are held
	acting map[string][]string         // that the session acts in: all, or one
	gs     map[string][]string         // the attribute gs
	rowPs  []rowPolicy
	colPs  []colPolicy
	// granted has, by user and table, the readable columns; absent: none.
	granted map[string]map[string][]string
	reveal  map[string]bool // "user table.column"
}

type rowPolicy struct {
	table, rule, mode string
	whom, except      string
	holds             func(w *world, user string, row map[string]any) bool
}

type colPolicy struct {
	table, column, treat string
	args                 policy.Treatment // without its kind
	whom, except         string
}

type tableDef struct {
	name    string
	columns []string // "name type"
}

var tables = []tableDef{
	{"s1.t", []string{"id INTEGER NOT NULL", "g TEXT NOT NULL", "n INTEGER", "x REAL", "d DATE", "name TEXT", "b BOOLEAN"}},
	{"s1.u", []string{"id INTEGER NOT NULL", "t_id INTEGER", "g TEXT", "v INTEGER", "note TEXT"}},
	{"s2.ent", []string{"person TEXT", "g TEXT"}},
}

func columnNames(t tableDef) []string {
	var names []string
	for _, c := range t.columns {
		name, _, _ := strings.Cut(c, " ")
		names = append(names, name)
	}
	return names
}

var users = []string{"flint", "jasper", "marl"}

func pick[T any](r *rand.Rand, list ...T) T { return list[r.IntN(len(list))] }

func newWorld(seed uint64) *world {
	r := rand.New(rand.NewPCG(seed, 7))
	w := &world{r: r, rows: map[string][]map[string]any{}, groups: map[string][]string{}, roles: map[string][]string{}, acting: map[string][]string{}, gs: map[string][]string{},
		granted: map[string]map[string][]string{}, reveal: map[string]bool{}}
	some := func(list ...string) []string {
		return slices.DeleteFunc(slices.Clone(list), func(string) bool { return r.IntN(2) == 0 })
	}
	null := func(v any) any {
		if r.IntN(4) == 0 {
			return nil
		}
		return v
	}
	for i := range r.IntN(14) {
		w.rows["s1.t"] = append(w.rows["s1.t"], map[string]any{"id": int64(i), "g": pick(r, "a", "b", "c"), "n": null(int64(r.IntN(6) - 1)),
			"x": null(float64(r.IntN(16)) / 4), "d": null(fmt.Sprintf("2024-0%d-1%d", 1+r.IntN(9), r.IntN(9))), "name": null(pick(r, "", "ann", "Ann", "bea", "o'x_%", "äé€", "longer name")), "b": null(r.IntN(2) == 0)})
	}
	for i := range r.IntN(16) {
		w.rows["s1.u"] = append(w.rows["s1.u"], map[string]any{"id": int64(i), "t_id": null(int64(r.IntN(14))), "g": null(pick(r, "a", "b", "c")), "v": null(int64(r.IntN(5))), "note": null(pick(r, "x", "y", "ann"))})
	}
	for range r.IntN(5) {
		w.rows["s2.ent"] = append(w.rows["s2.ent"], map[string]any{"person": pick(r, users...), "g": pick(r, "a", "b", "c")})
	}
	for _, u := range users {
		w.groups[u], w.roles[u], w.gs[u] = some("a", "b"), some("r1", "r2"), some("a", "b", "c")
		w.acting[u] = w.roles[u]
		if len(w.roles[u]) > 0 && r.IntN(3) == 0 { // narrowed to one role
			w.acting[u] = []string{pick(r, w.roles[u]...)}
		}
		w.granted[u] = map[string][]string{}
		for _, t := range tables {
			switch r.IntN(12) {
			case 0:
			case 1:
				w.granted[u][t.name] = some(columnNames(t)...)
			default:
				w.granted[u][t.name] = columnNames(t)
			}
		}
	}
	for range r.IntN(6) {
		w.rowPs = append(w.rowPs, randomRowPolicy(r))
	}
	for range r.IntN(5) {
		w.colPs = append(w.colPs, randomColPolicy(r))
	}
	for _, u := range users {
		for _, p := range w.colPs {
			if r.IntN(6) == 0 {
				w.reveal[u+" "+p.table+"."+p.column] = true
			}
		}
	}
	return w
}

func randomSubject(r *rand.Rand) string {
	return pick(r, "", "user:flint", "user:jasper", "group:a", "group:b", "role:r1", "role:r2")
}

func randomRowPolicy(r *rand.Rand) rowPolicy {
	k := int64(r.IntN(5))
	is := func(v any, f func(int64) bool) bool { n, ok := v.(int64); return ok && f(n) }
	among := func(list []string, v any) bool { s, ok := v.(string); return ok && slices.Contains(list, s) }
	p := pick(r,
		rowPolicy{table: "s1.t", rule: "g IN (attribute('gs'))", holds: func(w *world, u string, row map[string]any) bool { return among(w.gs[u], row["g"]) }},
		rowPolicy{table: "s1.u", rule: "g NOT IN (attribute('gs'))", holds: func(w *world, u string, row map[string]any) bool {
			return len(w.gs[u]) == 0 || row["g"] != nil && !among(w.gs[u], row["g"])
		}},
		rowPolicy{table: "s1.u", rule: "in_group(g)", holds: func(w *world, u string, row map[string]any) bool { return among(w.groups[u], row["g"]) }},
		rowPolicy{table: "s1.t", rule: "in_group(g) OR has_role('r1')", holds: func(w *world, u string, row map[string]any) bool {
			return among(w.groups[u], row["g"]) || slices.Contains(w.acting[u], "r1")
		}},
		rowPolicy{table: "s1.t", rule: fmt.Sprintf("n > %d", k), holds: func(_ *world, _ string, row map[string]any) bool {
			return is(row["n"], func(n int64) bool { return n > k })
		}},
		rowPolicy{table: "s1.t", rule: fmt.Sprintf("n / %d = 1 OR n IS NULL", k), holds: func(_ *world, _ string, row map[string]any) bool {
			return row["n"] == nil || k != 0 && is(row["n"], func(n int64) bool { return n/k == 1 })
		}},
		rowPolicy{table: "s1.t", rule: "name LIKE 'a%' -- a comment", holds: func(_ *world, _ string, row map[string]any) bool {
			s, ok := row["name"].(string)
			return ok && strings.HasPrefix(s, "a")
		}},
		rowPolicy{table: "s1.t", rule: "d >= DATE '2024-05-01'", holds: func(_ *world, _ string, row map[string]any) bool {
			s, ok := row["d"].(string)
			return ok && s >= "2024-05-01"
		}},
		rowPolicy{table: "s1.t", rule: "b", holds: func(_ *world, _ string, row map[string]any) bool { return row["b"] == true }},
		rowPolicy{table: "s1.u", rule: "true", holds: func(*world, string, map[string]any) bool { return true }},
		rowPolicy{table: "s1.t", rule: "g IN (SELECT g FROM s2.ent WHERE person = CURRENT_USER)", holds: func(w *world, u string, row map[string]any) bool {
			return slices.ContainsFunc(w.rows["s2.ent"], func(e map[string]any) bool { return e["person"] == u && e["g"] == row["g"] })
		}},
		rowPolicy{table: "s1.u", rule: "g IN (SELECT ent.g FROM src.s2.ent WHERE person = CURRENT_USER)", holds: func(w *world, u string, row map[string]any) bool {
			return slices.ContainsFunc(w.rows["s2.ent"], func(e map[string]any) bool { return e["person"] == u && e["g"] == row["g"] })
		}},
		rowPolicy{table: "s1.t", rule: fmt.Sprintf("EXISTS (SELECT 1 FROM u WHERE u.t_id = t.id AND v >= %d)", k), holds: func(w *world, _ string, row map[string]any) bool {
			return slices.ContainsFunc(w.rows["s1.u"], func(e map[string]any) bool {
				return e["t_id"] == row["id"] && is(e["v"], func(n int64) bool { return n >= k })
			})
		}},
		rowPolicy{table: "s2.ent", rule: "person = CURRENT_USER", holds: func(_ *world, u string, row map[string]any) bool { return row["person"] == u }},
	)
	p.mode = pick(r, "allow", "allow", "limit")
	p.whom = randomSubject(r)
	if r.IntN(3) == 0 {
		p.except = randomSubject(r)
	}
	return p
}

func randomColPolicy(r *rand.Rand) colPolicy {
	p := pick(r, colPolicy{table: "s1.t", column: "name"}, colPolicy{table: "s1.t", column: "n"}, colPolicy{table: "s1.t", column: "g"},
		colPolicy{table: "s1.t", column: "x"}, colPolicy{table: "s1.u", column: "note"}, colPolicy{table: "s1.u", column: "t_id"}, colPolicy{table: "s1.t", column: "d"})
	kinds := []string{"suppress", "constant", "generalize", "withhold blank", "withhold absent", "withhold refuse"}
	switch p.column {
	case "name", "g", "note":
		kinds = append(kinds, "mask", "mask", "pseudonym", "pseudonym")
	case "n", "t_id":
		kinds = append(kinds, "round", "pseudonym")
	case "x":
		kinds = append(kinds, "round")
	}
	p.treat = pick(r, kinds...)
	switch text := p.column == "name" || p.column == "g" || p.column == "note"; {
	case p.treat == "mask":
		p.args = policy.Treatment{KeepFirst: r.IntN(3), KeepLast: r.IntN(2), Fill: "#"}
	case p.treat == "round" && p.column == "x":
		p.args = pick(r, policy.Treatment{}, policy.Treatment{Decimals: 1}, policy.Treatment{Multiple: 0.5})
	case p.treat == "round":
		p.args = policy.Treatment{Multiple: float64(2 + r.IntN(3))}
	case p.treat == "constant":
		p.args.Value = map[string]string{"x": "1.5", "d": "2024-04-11", "n": "2", "t_id": "3"}[p.column]
		if text {
			p.args.Value = pick(r, "ann", "none", "")
		}
	case p.treat == "generalize" && text:
		p.args.Prefix = 1 + r.IntN(2)
	case p.treat == "generalize" && p.column == "d":
		p.args.Unit = pick(r, "month", "quarter", "year")
	case p.treat == "generalize" && p.column == "x":
		p.args.Bucket = 0.5
	case p.treat == "generalize":
		p.args.Bucket = float64(2 + r.IntN(2))
	}
	p.whom = randomSubject(r)
	if r.IntN(2) == 0 {
		p.except = randomSubject(r)
	}
	return p
}

// is reports whether the user is, is in, or has the subject among the roles.
func (w *world) is(user, subject string, roles []string) bool {
	kind, name, _ := strings.Cut(subject, ":")
	switch kind {
	case "user":
		return name == user
	case "group":
		return slices.Contains(w.groups[user], name)
	case "role":
		return slices.Contains(roles, name)
	}
	return false
}

// gives and takes: what is given must be acted in, what is taken goes by what is
// held.
func (w *world) gives(user, whom, except string) bool {
	return (whom == "" || w.is(user, whom, w.acting[user])) && (except == "" || !w.is(user, except, w.roles[user]))
}

func (w *world) takes(user, whom, except string) bool {
	return (whom == "" || w.is(user, whom, w.roles[user])) && (except == "" || !w.is(user, except, w.acting[user]))
}

// shown reports plainly whether a user may see a row.
func (w *world) shown(user, table string, row map[string]any) bool {
	allowed, allows, limited := false, false, false
	for _, p := range w.rowPs {
		if p.table != table {
			continue
		}
		if p.mode == "allow" {
			allows = true
			allowed = allowed || w.gives(user, p.whom, p.except) && p.holds(w, user, row)
		} else if w.takes(user, p.whom, p.except) && !p.holds(w, user, row) {
			limited = true
		}
	}
	return (!allows || allowed) && !limited
}

// visible is the plain interpreter: a table as one user may see it.
func (w *world) visible(user, table string) []map[string]any {
	var out []map[string]any
	for _, row := range w.rows[table] {
		if !w.shown(user, table, row) {
			continue
		}
		seen := map[string]any{}
		for _, c := range w.there(user, table) {
			seen[c] = w.treated(user, table, c, row[c])
		}
		out = append(out, seen)
	}
	return out
}

// withheld lists the columns that do not exist, or may not be named, for a user.
func (w *world) withheld(user string) map[string][]string {
	out := map[string][]string{}
	for _, def := range tables {
		for _, c := range columnNames(def) {
			if best, _ := w.strictest(user, def.name, c); best.treat == "withhold absent" || best.treat == "withhold refuse" {
				out[def.name] = append(out[def.name], c)
			}
		}
	}
	return out
}

// there lists the columns that a user can read.
func (w *world) there(user, table string) []string {
	withheld := w.withheld(user)[table]
	return slices.DeleteFunc(slices.Clone(w.granted[user][table]), func(c string) bool { return slices.Contains(withheld, c) })
}

// strictest finds the policy that wins for a column, and whether others of its
// kind ask for something else.
func (w *world) strictest(user, table, column string) (best colPolicy, conflict bool) {
	strictest := map[string]int{"": 0, "round": 1, "generalize": 2, "mask": 3, "pseudonym": 4, "constant": 5, "suppress": 6, "withhold blank": 7, "withhold absent": 8, "withhold refuse": 9}
	for _, p := range w.colPs {
		if p.table != table || p.column != column || !w.takes(user, p.whom, p.except) {
			continue
		}
		switch {
		case strictest[p.treat] > strictest[best.treat]:
			best, conflict = p, false
		case p.treat == best.treat && p.args != best.args:
			conflict = true
		}
	}
	if w.reveal[user+" "+table+"."+column] {
		return colPolicy{}, false
	}
	return best, conflict
}

func (w *world) treated(user, table, column string, v any) any {
	best, conflict := w.strictest(user, table, column)
	switch {
	case conflict:
		return nil
	case best.treat == "constant":
		return map[string]any{"x": 1.5, "d": "2024-04-11", "n": int64(2), "t_id": int64(3), "name": best.args.Value, "g": best.args.Value, "note": best.args.Value}[column]
	case best.treat == "" || v == nil:
		return v
	}
	switch best.treat {
	case "round":
		step := best.args.Multiple
		if x, ok := v.(float64); ok {
			if step == 0 {
				step = map[int]float64{0: 1, 1: 0.1}[best.args.Decimals]
				return math.Floor(x/step+0.5) / (1 / step) // x is never negative here
			}
			return math.Floor(x/step+0.5) * step
		}
		// The nearest multiple, the one away from zero where two are as near.
		n, m := v.(int64), int64(step)
		nearest := int64(0)
		for k := -20 * m; k <= 20*m; k += m {
			if d, least := abs(k-n), abs(nearest-n); d < least || d == least && abs(k) > abs(nearest) {
				nearest = k
			}
		}
		return nearest
	case "generalize":
		switch x := v.(type) {
		case float64:
			return math.Floor(x/best.args.Bucket) * best.args.Bucket
		case int64:
			for k := int64(-100); ; k++ { // the last multiple that is not above
				if w := int64(best.args.Bucket); (k+1)*w > x {
					return k * w
				}
			}
		case string:
			if column == "d" {
				month := x[5:7]
				switch best.args.Unit {
				case "year":
					month = "01"
				case "quarter":
					month = map[string]string{"01": "01", "02": "01", "03": "01", "04": "04", "05": "04", "06": "04", "07": "07", "08": "07", "09": "07"}[month]
				}
				return x[:5] + month + "-01"
			}
			runes := []rune(x)
			return string(runes[:min(len(runes), best.args.Prefix)])
		}
	case "mask":
		runes := []rune(v.(string))
		var b strings.Builder
		first, last := best.args.KeepFirst, best.args.KeepLast
		for i, c := range runes {
			keep := first+last < len(runes) && (i < first || i >= len(runes)-last)
			if !keep {
				c = '#'
			}
			b.WriteRune(c)
		}
		return b.String()
	case "pseudonym":
		h := hmac.New(sha256.New, []byte(testKey))
		fmt.Fprint(h, v)
		if _, number := v.(int64); number {
			return int64(binary.BigEndian.Uint64(h.Sum(nil)) >> 11)
		}
		return hex.EncodeToString(h.Sum(nil)[:16])
	}
	return nil
}

// write makes a database with some columns and rows of the tables.
func write(t testing.TB, dir string, columns func(tableDef) []string, rows func(table string) []map[string]any) {
	t.Helper()
	for _, def := range tables {
		schema, name, _ := strings.Cut(def.name, ".")
		db, err := sql.Open("sqlite3", "file:"+filepath.Join(dir, schema+".db")+"?_synchronous=OFF&_journal_mode=OFF")
		if err != nil {
			t.Fatal(err)
		}
		var defs, names []string
		for _, c := range def.columns {
			if n, _, _ := strings.Cut(c, " "); slices.Contains(columns(def), n) {
				// Treated values may be NULL where the table has none.
				defs, names = append(defs, c), append(names, n)
			}
		}
		if len(defs) == 0 {
			defs = []string{"no_column INTEGER"}
		}
		if _, err := db.Exec("CREATE TABLE " + name + " (" + strings.Join(defs, ", ") + ")"); err != nil {
			t.Fatal(err)
		}
		for _, row := range rows(def.name) {
			values := make([]any, len(names))
			for i, n := range names {
				values[i] = row[n]
			}
			statement := "INSERT INTO " + name + " DEFAULT VALUES"
			if len(names) > 0 {
				statement = "INSERT INTO " + name + " VALUES (?" + strings.Repeat(", ?", len(names)-1) + ")"
			}
			if _, err := db.Exec(statement, values...); err != nil {
				t.Fatal(err)
			}
		}
		db.Close()
	}
}

// model builds the access model and the policies of a world.
func (w *world) model(t testing.TB) (*access.Model, *policy.Set) {
	t.Helper()
	m := access.New()
	do := func(c access.Change) {
		next, err := m.Apply(time.Unix(1, 0), c)
		if err != nil {
			t.Fatalf("%+v: %v", c, err)
		}
		m = next
	}
	do(access.AddObject{Path: "src", Kind: "source"})
	for _, s := range []string{"src.s1", "src.s2"} {
		do(access.AddObject{Path: s, Kind: "schema"})
	}
	for _, def := range tables {
		do(access.AddObject{Path: "src." + def.name, Kind: "table"})
		for _, c := range def.columns {
			name, typ, _ := strings.Cut(c, " ")
			typ, notNull := strings.CutSuffix(typ, " NOT NULL")
			do(access.AddObject{Path: "src." + def.name + "." + name, Kind: "column", Type: typeName(typ), NotNull: notNull})
		}
	}
	for _, s := range []string{"group:a", "group:b", "role:r1", "role:r2"} {
		do(access.AddSubject{Subject: s})
	}
	do(access.AddGrant{Privilege: "USAGE", Object: "src", Subject: "public"})
	for _, u := range users {
		ref := "user:" + u
		do(access.AddSubject{Subject: ref})
		do(access.SetAttribute{Subject: ref, Name: "gs", Values: w.gs[u]})
		for _, g := range w.groups[u] {
			do(access.Join{Member: ref, Of: "group:" + g})
		}
		for _, role := range w.roles[u] {
			do(access.Join{Member: ref, Of: "role:" + role})
		}
		for _, s := range []string{"src.s1", "src.s2"} {
			do(access.AddGrant{Privilege: "USAGE", Object: s, Subject: ref})
		}
		for table, columns := range w.granted[u] {
			for _, c := range columns {
				do(access.AddGrant{Privilege: "SELECT", Object: "src." + table + "." + c, Subject: ref})
			}
		}
	}
	for key := range w.reveal {
		user, column, _ := strings.Cut(key, " ")
		do(access.AddGrant{Privilege: "REVEAL", Object: "src." + column, Subject: "user:" + user})
	}
	set := &policy.Set{}
	put := func(c policy.Change) {
		next, err := set.Apply(c, m)
		if err != nil {
			t.Fatalf("%+v: %v", c, err)
		}
		set = next
	}
	one := func(s string) []string {
		if s == "" {
			return nil
		}
		return []string{s}
	}
	for i, p := range w.rowPs {
		put(policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: fmt.Sprintf("row%d", i), For: one(p.whom), Except: one(p.except)},
			Table: "src." + p.table, Mode: policy.Mode(p.mode), Rule: p.rule})
	}
	for i, p := range w.colPs {
		c := policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: fmt.Sprintf("col%d", i), For: one(p.whom), Except: one(p.except)},
			Columns: []string{"src." + p.table + "." + p.column}, Treat: p.treat}
		c.Treatment = p.args
		put(c)
	}
	return m, set
}

// open makes the world's tables and a user's own copy of them, and opens both.
func (w *world) open(t *testing.T, user string) (src, plain *Source) {
	t.Helper()
	dir := t.TempDir()
	raw, copied := filepath.Join(dir, "raw"), filepath.Join(dir, "copy")
	for _, d := range []string{raw, copied} {
		if err := os.Mkdir(d, 0o700); err != nil {
			t.Fatal(err)
		}
	}
	write(t, raw, columnNames, func(table string) []map[string]any { return w.rows[table] })
	nullable(func() {
		write(t, copied, func(d tableDef) []string { return w.there(user, d.name) }, func(table string) []map[string]any { return w.visible(user, table) })
	})
	src, err := Open(raw)
	if err != nil {
		t.Fatal(err)
	}
	plain, err = Open(copied)
	if err != nil {
		t.Fatal(err)
	}
	return src, plain
}

// TestNoLeak compares governed queries with raw ones on the session's copy.
func TestNoLeak(t *testing.T) {
	perWorld, compared, refused := 12, 0, 0
	for n := 0; n < *leakCases; n += perWorld {
		seed := *leakSeed + uint64(n)
		w := newWorld(seed)
		user := users[w.r.IntN(len(users))]
		src, plain := w.open(t, user)
		m, set := w.model(t)
		subject, err := m.FindSubject("user:" + user)
		if err != nil {
			t.Fatal(err)
		}
		session := access.Session{Subject: subject.ID}
		if len(w.acting[user]) < len(w.roles[user]) {
			role, err := m.FindSubject("role:" + w.acting[user][0])
			if err != nil {
				t.Fatal(err)
			}
			session.Role = role.ID
		}
		standing, err := m.Stand(session, time.Unix(2, 0))
		if err != nil {
			t.Fatal(err)
		}
		for range perWorld {
			q := randomQuery(w.r)
			context := func() string {
				return fmt.Sprintf("seed %d, user %s, roles %v, acting in %v\nquery: %s\nrow policies: %+v\ncolumn policies: %+v\ngranted: %v\nreveal: %v", seed, user, w.roles[user], w.acting[user], q.text, w.rowPs, w.colPs, w.granted[user], w.reveal)
			}
			plan, err := query.Make(q.text, nil, standing, set)
			if !q.permitted(w.granted[user], w.withheld(user)) {
				var e *query.Error
				if err == nil {
					t.Fatalf("a query of columns that are not granted was planned:\n%s\n%s", plan.SQL, context())
				} else if !errors.As(err, &e) || e.Code != query.Refused && e.Code != query.Unknown {
					t.Fatalf("refused for the wrong reason: %v\n%s", err, context())
				}
				refused++
				continue
			}
			if err != nil {
				t.Fatalf("a query that is permitted was refused: %v\n%s", err, context())
			}
			got, err := collect(src, plan.SQL, source.Bind(plan.Args, source.Facts{Start: time.Unix(2, 0), Key: testKey, Nonce: testNonce}), plan.Columns)
			if err != nil {
				t.Fatalf("%v\n%s\n%s", err, plan.SQL, context())
			}
			want, err := collect(plain, strings.ReplaceAll(q.text, "src.", ""), nil, plan.Columns)
			if err != nil {
				t.Fatalf("the raw query fails: %v\n%s", err, context())
			}
			if !q.ordered {
				slices.Sort(got)
				slices.Sort(want)
			}
			if strings.Join(got, "\n") != strings.Join(want, "\n") {
				t.Fatalf("%s\ngoverned: %s\n%v\ngot\n%s\nwant\n%s", context(), plan.SQL, plan.Args, strings.Join(got, "\n"), strings.Join(want, "\n"))
			}
			compared++
		}
		src.Close()
		plain.Close()
	}
	t.Logf("%d governed results compared, %d refusals checked", compared, refused)
	if compared < *leakCases/3 {
		t.Errorf("only %d of %d queries were permitted; the worlds are too closed to prove anything", compared, *leakCases)
	}
}

// nullable runs f with tables whose columns may all be NULL: suppression makes
// NULLs where the real table has none.
func nullable(f func()) {
	kept := tables
	defer func() { tables = kept }()
	tables = nil
	for _, d := range kept {
		next := tableDef{name: d.name}
		for _, c := range d.columns {
			next.columns = append(next.columns, strings.TrimSuffix(c, " NOT NULL"))
		}
		tables = append(tables, next)
	}
	f()
}

func abs(n int64) int64 {
	if n < 0 {
		return -n
	}
	return n
}

func collect(s *Source, text string, args []any, columns []query.Column) ([]string, error) {
	var out []string
	err := s.Run(context.Background(), text, args, columns, func(row []any) error {
		out = append(out, fmt.Sprintf("%#v", row))
		return nil
	})
	return out, err
}

// TestFunctions holds what the registered functions give, NULL included.
func TestFunctions(t *testing.T) {
	dir := t.TempDir()
	db, err := sql.Open("sqlite3", filepath.Join(dir, "s.db"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec("CREATE TABLE t (x TEXT); INSERT INTO t VALUES (NULL)"); err != nil {
		t.Fatal(err)
	}
	db.Close()
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	for _, c := range []struct{ expr, want string }{
		{"gneiss_bigint(' 42 ')", "42"}, {"gneiss_bigint('4.2')", "<nil>"}, {"gneiss_bigint(NULL)", "<nil>"}, {"gneiss_bigint('')", "<nil>"},
		{"gneiss_double('1e3')", "1000"}, {"gneiss_double('NaN')", "<nil>"}, {"gneiss_double('0x10')", "<nil>"}, {"gneiss_double('1_000')", "<nil>"},
		{"gneiss_boolean('Yes')", "1"}, {"gneiss_boolean('perhaps')", "<nil>"}, {"gneiss_boolean('off')", "0"},
		{"gneiss_date('2024-02-30')", "<nil>"}, {"gneiss_date('2024-02-29 10:00:00')", "2024-02-29"}, {"gneiss_timestamp('2024-02-29')", "2024-02-29 00:00:00"},
		{"gneiss_mask('secret', 1, 1, '*', '')", "s****t"}, {"gneiss_mask(NULL, 1, 1, '*', '')", "<nil>"}, {"gneiss_mask('', 0, 0, '*', '')", ""},
		{"gneiss_pseudonym(NULL, 'k')", "<nil>"}, {"length(gneiss_pseudonym('', 'k'))", "32"}, {"gneiss_pseudonym('a', 'k') = gneiss_pseudonym('a', 'k')", "1"},
		{"gneiss_pseudonym('a', 'k') = gneiss_pseudonym('a', 'l')", "0"}, {"gneiss_pseudonym(7, 'k') BETWEEN 0 AND 9007199254740991", "1"}, {"typeof(gneiss_pseudonym(7, 'k'))", "integer"},
	} {
		err := s.Run(context.Background(), "SELECT "+c.expr, nil, []query.Column{{}}, func(row []any) error {
			if got := fmt.Sprint(row[0]); got != c.want {
				t.Errorf("%s is %s, want %s", c.expr, got, c.want)
			}
			return nil
		})
		if err != nil {
			t.Errorf("%s: %v", c.expr, err)
		}
	}
	if err := s.Run(context.Background(), "INSERT INTO s.t VALUES ('x')", nil, nil, func([]any) error { return nil }); err == nil {
		t.Error("a source takes a write")
	}
	if err := s.Run(context.Background(), "ATTACH '"+filepath.Join(t.TempDir(), "other.db")+"' AS other", nil, nil, func([]any) error { return nil }); err == nil {
		t.Error("another file can be attached")
	}
}
