package source_test

import (
	"context"
	"database/sql"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"gneiss/core/access"
	"gneiss/core/emit"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/source"
	"gneiss/source/sqlite"
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
	reveal  map[string]bool // "user table.column" or "user label:name"
	lead    map[string]string
	purpose string
	ids     map[string]access.ObjectID // of columns
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
		granted: map[string]map[string][]string{}, reveal: map[string]bool{}, lead: map[string]string{}, purpose: pick(r, "", "audit"), ids: map[string]access.ObjectID{}}
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
			"x": null(float64(r.IntN(16)) / 4), "d": null(fmt.Sprintf("2024-0%d-1%d", 1+r.IntN(9), r.IntN(9))), "name": null(pick(r, "", "ann", "Ann", "bea", "o'x_%", "äé€", "longer name", "jasper", "marl")), "b": null(r.IntN(2) == 0)})
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
	if r.IntN(2) == 0 {
		w.lead["jasper"] = "flint"
	}
	if r.IntN(2) == 0 {
		w.lead["marl"] = pick(r, "flint", "jasper")
	}
	for range r.IntN(6) {
		w.rowPs = append(w.rowPs, randomRowPolicy(r))
	}
	for range r.IntN(6) {
		p := randomColPolicy(r)
		w.colPs = append(w.colPs, p)
		if r.IntN(3) == 0 { // another that may conflict with it
			p.arguments(r, slices.Contains([]string{"name", "g", "note"}, p.columns[0]), p.tables[0]+"."+p.columns[0])
			p.whom, p.when = "", nil
			if c := randomCondition(r); p.label == "" && slices.Contains(c.tables, p.tables[0]) && !strings.HasPrefix(p.treat, "withhold") {
				p.when = &c
			}
			w.colPs = append(w.colPs, p)
		}
	}
	for _, u := range users {
		for _, p := range w.colPs {
			switch {
			case r.IntN(6) > 0:
			case p.label != "":
				w.reveal[u+" label:"+p.label] = true
			default:
				w.reveal[u+" "+p.tables[0]+"."+p.columns[0]] = true
			}
		}
	}
	return w
}

// visible is the plain interpreter: a table as one user may see it.
func (w *world) visible(user, table string) []map[string]any {
	return w.seenAs(user, table, "read")
}

// touchable is the rows of a table that a user sees and may change.
func (w *world) touchable(user, table string) []map[string]any {
	return w.seenAs(user, table, "read", "write")
}

func (w *world) seenAs(user, table string, commands ...string) []map[string]any {
	var out []map[string]any
	for _, row := range w.rows[table] {
		if slices.ContainsFunc(commands, func(command string) bool { return !w.shown(user, table, row, command) }) {
			continue
		}
		seen := map[string]any{}
		for _, c := range w.there(user, table) {
			seen[c] = w.treated(user, table, c, row)
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
			if w.gone(user, def.name, c) {
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

// loosely declares columns so that SQLite would compare texts without regard to case, and keep fractions as whole numbers where
// it can.
var loosely = strings.NewReplacer("TEXT", "TEXT COLLATE NOCASE", "REAL", "DECIMAL(10, 2)")

// write makes a database with some columns and rows of the tables.
func write(t testing.TB, dir string, columns func(tableDef) []string, rows func(table string) []map[string]any, declared *strings.Replacer) {
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
		if _, err := db.Exec("CREATE TABLE " + name + " (" + declared.Replace(strings.Join(defs, ", ")) + ")"); err != nil {
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
			do(access.AddObject{Path: "src." + def.name + "." + name, Kind: "column", Type: typeOf(typ), NotNull: notNull, Key: name == "id"})
			o, err := m.Lookup("src." + def.name + "." + name)
			if err != nil {
				t.Fatal(err)
			}
			w.ids[def.name+"."+name] = o.ID
		}
	}
	for _, s := range []string{"group:a", "group:b", "role:r1", "role:r2"} {
		do(access.AddSubject{Subject: s})
	}
	do(access.AddGrant{Privilege: "USAGE", Object: "src", Subject: "public"})
	for label := range labels {
		do(access.PutLabel{Label: label})
	}
	for _, u := range users {
		do(access.AddSubject{Subject: "user:" + u})
	}
	for u, lead := range w.lead {
		lead = "user:" + lead
		do(access.SetSubject{Subject: "user:" + u, Lead: &lead})
	}
	for _, u := range users {
		ref := "user:" + u
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
		user, object, _ := strings.Cut(key, " ")
		if !strings.HasPrefix(object, "label:") {
			object = "src." + object
		}
		do(access.AddGrant{Privilege: "REVEAL", Object: object, Subject: "user:" + user})
	}
	w.views(do)
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
	for label, objects := range labels {
		for _, o := range objects {
			put(policy.PlaceLabel{Label: label, Object: "src." + o})
		}
	}
	for child, by := range parents {
		put(policy.PutRelationship{Declared: true, From: []string{"src." + child + "." + by[0]}, To: []string{"src." + by[1] + "." + by[2]}})
	}
	inSource := func(path string) string {
		if strings.HasPrefix(path, "label:") {
			return path
		}
		return "src." + path
	}
	for i, p := range w.rowPs {
		c := policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: fmt.Sprintf("row%d", i), For: one(p.whom), Except: one(p.except)},
			Table: inSource(p.table), Mode: policy.Mode(p.mode), Commands: policy.Commands(p.commands), Rule: p.rule}
		if p.follow != "" {
			c.Follow = "src." + p.follow
		}
		put(c)
	}
	for i, p := range w.colPs {
		c := policy.PutColumnPolicy{ScopeText: policy.ScopeText{Name: fmt.Sprintf("col%d", i), For: one(p.whom), Except: one(p.except)}, Label: p.label, Treat: p.treat}
		if p.label == "" {
			c.Columns = []string{"src." + p.tables[0] + "." + p.columns[0]}
		}
		if p.when != nil {
			c.When = p.when.rule
		}
		c.Treatment = p.args
		put(c)
	}
	return m, set
}

// views makes a view of each table whole, owned by a role that may pass all on, and
// grants what is granted on the table on the view: reading the one is reading the
// other.
func (w *world) views(do func(access.Change)) {
	do(access.AddSubject{Subject: "role:lender"})
	for _, right := range []string{"USAGE", "SELECT"} {
		for _, on := range []string{"src", "src.s1", "src.s2"} {
			do(access.AddGrant{Privilege: right, Object: on, Subject: "role:lender", Option: true})
		}
	}
	for _, def := range tables {
		view := access.PutView{Path: "src." + def.name + "_view", Text: "SELECT " + strings.Join(columnNames(def), ", ") + " FROM " + def.name, Rights: access.OwnerRights, Owner: "role:lender"}
		for _, c := range def.columns {
			name, typ, _ := strings.Cut(c, " ")
			view.Columns = append(view.Columns, access.ViewColumn{Name: name, Type: typeOf(strings.TrimSuffix(typ, " NOT NULL"))})
		}
		do(view)
		for _, u := range users {
			for _, c := range w.granted[u][def.name] {
				do(access.AddGrant{Privilege: "SELECT", Object: view.Path + "." + c, Subject: "user:" + u})
			}
		}
	}
}

var tableName = regexp.MustCompile(`src\.(s1\.t|s1\.u|s2\.ent)\b`)

// open makes the world's tables and a user's own copy of them, and opens both. Of
// a table that is to be written, the copy has the rows that may be touched.
func (w *world) open(t *testing.T, user string, written ...string) (src, plain *sqlite.Source) {
	t.Helper()
	dir := t.TempDir()
	raw, copied := filepath.Join(dir, "raw"), filepath.Join(dir, "copy")
	for _, d := range []string{raw, copied} {
		if err := os.Mkdir(d, 0o700); err != nil {
			t.Fatal(err)
		}
	}
	asThere := strings.NewReplacer()
	declared := asThere
	if len(w.rows["s1.t"])%2 == 0 {
		declared = loosely
	}
	write(t, raw, columnNames, func(table string) []map[string]any { return w.rows[table] }, declared)
	nullable(func() {
		write(t, copied, func(d tableDef) []string { return w.there(user, d.name) }, func(table string) []map[string]any {
			if slices.Contains(written, table) {
				return w.touchable(user, table)
			}
			return w.visible(user, table)
		}, asThere)
	})
	src, err := sqlite.Open(raw, nil)
	if err != nil {
		t.Fatal(err)
	}
	plain, err = sqlite.Open(copied, nil)
	if err != nil {
		t.Fatal(err)
	}
	return src, plain
}

// stand is what a user holds in the world's session: in all roles held, or in one.
// What is granted to the user itself counts in any role.
func (w *world) stand(t *testing.T, m *access.Model, user string) *access.Rights {
	t.Helper()
	subject, err := m.FindSubject("user:" + user)
	if err != nil {
		t.Fatal(err)
	}
	session := access.Standpoint{Subject: subject.ID, Purpose: w.purpose}
	if len(w.acting[user]) < len(w.roles[user]) {
		role, err := m.FindSubject("role:" + w.acting[user][0])
		if err != nil {
			t.Fatal(err)
		}
		session.Role = role.ID
	}
	st, err := m.Rights(session, time.Unix(2, 0))
	if err != nil {
		t.Fatal(err)
	}
	return st
}

// TestNoLeak compares governed queries, on SQLite and on PostgreSQL, with raw ones on the
// session's copy on each.
func TestNoLeak(t *testing.T) {
	perWorld, compared, viewed, refused := 12, 0, 0, 0
	server, copied := newServer(t, false), newServer(t, false)
	for n := 0; n < *leakCases; n += perWorld {
		seed := *leakSeed + uint64(n)
		w := newWorld(seed)
		user := users[w.r.IntN(len(users))]
		m, set := w.model(t)
		src, plain := w.open(t, user)
		rights, onServer := w.stand(t, m, user), w.stand(t, onServer(t, m), user)
		server.fill(t, w.rows)
		copied.copyFor(t, w, user)
		for range perWorld {
			q := randomQuery(w.r)
			if q.keyed != "" && len(w.asked(user, q.keyed, "id")) > 0 {
				continue
			}
			context := func() string {
				return fmt.Sprintf("seed %d, user %s, roles %v, acting in %v\nquery: %s\nrow policies: %+v\ncolumn policies: %+v\ngranted: %v\nreveal: %v", seed, user, w.roles[user], w.acting[user], q.text, w.rowPs, w.colPs, w.granted[user], w.reveal)
			}
			plan, err := emit.Make(q.text, nil, rights, set)
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
			want, err := collect(plain, strings.ReplaceAll(q.plain(), "src.", ""), nil, plan.Columns)
			if err != nil {
				t.Fatalf("the raw query fails: %v\n%s", err, context())
			}
			if !q.ordered {
				slices.Sort(want)
			}
			compare := func(s source.Source, plan *emit.Plan, want []string) {
				t.Helper()
				got, err := collect(s, plan.SQL, source.Bind(plan.Args, source.Facts{Start: time.Unix(2, 0), Key: testKey, Nonce: testNonce}), plan.Columns)
				if err != nil {
					t.Fatalf("%v\n%s\n%s", err, plan.SQL, context())
				}
				if !q.ordered {
					slices.Sort(got)
				}
				if !slices.Equal(got, want) {
					t.Fatalf("%s\ngoverned: %s\n%v\ngot\n%s\nwant\n%s", context(), plan.SQL, plan.Args, strings.Join(got, "\n"), strings.Join(want, "\n"))
				}
			}
			compare(src, plan, want)
			there, err := emit.Make(unfailing(q.text), nil, onServer, set)
			if err != nil {
				t.Fatalf("on PostgreSQL: %v\n%s", err, context())
			}
			exact, err := collect(copied, strings.ReplaceAll(unfailing(q.text), "src.", ""), nil, nil)
			if err != nil {
				t.Fatalf("the raw query fails on the server: %v\n%s", err, context())
			}
			if !q.ordered {
				slices.Sort(exact)
			}
			compare(server.Source, there, exact)
			compared++
			if len(w.withheld(user)) > 0 || q.star != "" {
				continue // a view that names a column which is not there cannot be read
			}
			through, err := emit.Make(tableName.ReplaceAllString(q.text, "src.${1}_view"), nil, rights, set)
			if err != nil {
				t.Fatalf("through views: %v\n%s", err, context())
			}
			compare(src, through, want)
			viewed++
		}
		src.Close()
		plain.Close()
	}
	t.Logf("%d governed results compared, %d of them through views too, %d refusals checked", compared, viewed, refused)
	if compared < *leakCases/3 || viewed < compared/4 {
		t.Errorf("only %d of %d queries were permitted; the worlds are too closed to prove anything", compared, *leakCases)
	}
}

var divisions = regexp.MustCompile(`\(10 / ([^()]*)\)`)

// unfailing writes a query so that no value fails: which of two conditions the server works
// out first, and so whether one fails, is its own affair. The pairs look at errors.
func unfailing(text string) string { return divisions.ReplaceAllString(text, "(10 / nullif($1, 0))") }

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

func collect(s source.Source, text string, args []any, columns []query.Column) ([]string, error) {
	var out []string
	err := s.Run(context.Background(), text, args, columns, func(row []any) error {
		out = append(out, line(row))
		return nil
	})
	return out, err
}

// line writes a row, fractions to nine digits: the last ones of a sum depend on the
// order of adding.
func line(row []any) string {
	cells := slices.Clone(row)
	for i, v := range cells {
		if x, ok := v.(float64); ok {
			cells[i], _ = strconv.ParseFloat(strconv.FormatFloat(x, 'g', 9, 64), 64)
		}
	}
	return fmt.Sprintf("%#v", cells)
}
