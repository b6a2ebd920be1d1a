package pgtest

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"gneiss/core/access"
)

// owner grants in the model what the tables' owner grants in the server.
const owner = "user:opal"

var now = time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)

// twin is one platform twice: in the access model and in the server.
type twin struct {
	t        *testing.T
	model    *access.Model
	conn     *sql.Conn
	subjects []string // u0, r0: users and roles alike in the server
	tables   []string // s0.t0
	log      []string
}

// do makes a change in the model and runs the statement in the server. It
// reports whether the server took it; what the server takes, the model must.
func (w *twin) do(statement string, changes ...access.Change) bool {
	w.t.Helper()
	_, err := w.conn.ExecContext(context.Background(), statement)
	next, merr := w.model.Apply(now, changes...)
	if err != nil {
		return false
	}
	w.log = append(w.log, fmt.Sprintf("%s -- %+v", statement, changes[len(changes)-1]))
	if merr != nil {
		w.t.Fatalf("the server takes what the model refuses: %v\n%s", merr, strings.Join(w.log, ";\n"))
	}
	w.model = next
	return true
}

func ref(name string) string {
	switch name[0] {
	case 'u':
		return "user:" + name
	case 'r':
		return "role:" + name
	}
	return name // public
}

// newTwin makes users, roles, schemas and tables in both.
func newTwin(t *testing.T, conn *sql.Conn) *twin {
	w := &twin{t: t, model: access.New(), conn: conn}
	w.do("SELECT 1", access.AddSubject{Subject: owner}, access.Join{Member: owner, Of: access.Administrator}, access.AddObject{Path: "db", Kind: "source"}, access.AddGrant{Privilege: "USAGE", Object: "db", Subject: "public"})
	for i := range 4 {
		for _, kind := range []string{"u", "r"} {
			name := fmt.Sprintf("%s%d", kind, i)
			w.subjects = append(w.subjects, name)
			w.do("CREATE ROLE "+name, access.AddSubject{Subject: ref(name)})
		}
	}
	for s := range 2 {
		schema := fmt.Sprintf("s%d", s)
		w.do("CREATE SCHEMA "+schema, access.AddObject{Path: "db." + schema, Kind: "schema"})
		for i := range 2 {
			table := fmt.Sprintf("%s.t%d", schema, i)
			w.tables = append(w.tables, table)
			w.do("CREATE TABLE "+table+" (a text, b text)", access.AddObject{Path: "db." + table, Kind: "table"},
				access.AddObject{Path: "db." + table + ".a", Kind: "column", Type: "text"}, access.AddObject{Path: "db." + table + ".b", Kind: "column", Type: "text"})
		}
	}
	return w
}

// clean removes all that a twin has made.
func (w *twin) clean() {
	w.t.Helper()
	for _, statement := range []string{"RESET ROLE", "DROP SCHEMA s0, s1 CASCADE", "DROP ROLE " + strings.Join(w.subjects, ", ")} {
		if _, err := w.conn.ExecContext(context.Background(), statement); err != nil {
			w.t.Fatal(err)
		}
	}
}

// compare asks both of every subject, object and privilege.
func (w *twin) compare() (asked, yes int) {
	w.t.Helper()
	check := func(subject, function, object, privilege string, got bool) {
		w.t.Helper()
		var want bool
		if err := w.conn.QueryRowContext(context.Background(), "SELECT "+function+"($1, "+object+", $2)", subject, privilege).Scan(&want); err != nil {
			w.t.Fatalf("%s of %s on %s: %v", privilege, subject, object, err)
		}
		asked++
		if want {
			yes++
		}
		if got != want {
			w.t.Fatalf("%s: %s on %s for %s is %v in the server, %v in the model\n%s", function, privilege, object, subject, want, got, strings.Join(w.log, ";\n"))
		}
	}
	for _, subject := range w.subjects {
		s, err := w.model.FindSubject(ref(subject))
		if err != nil {
			w.t.Fatal(err)
		}
		st, err := w.model.Rights(access.Standpoint{Subject: s.ID}, now)
		if err != nil {
			w.t.Fatal(err)
		}
		resolve := func(path string) access.Verdict {
			o, err := w.model.Lookup("db." + path)
			if err != nil {
				w.t.Fatal(err)
			}
			return st.Resolve(o.ID)
		}
		for _, schema := range []string{"s0", "s1"} {
			v := resolve(schema)
			check(subject, "has_schema_privilege", "'"+schema+"'", "USAGE", v.Held.Has(access.Usage))
			check(subject, "has_schema_privilege", "'"+schema+"'", "CREATE", v.Held.Has(access.Create))
		}
		for _, table := range w.tables {
			v := resolve(table)
			for _, p := range []access.Privilege{access.Select, access.Insert, access.Update, access.Delete, access.References} {
				check(subject, "has_table_privilege", "'"+table+"'", p.String(), v.Whole.Has(p))
				if target := (access.Target{Object: v.Object}); !v.Held.Has(access.Manage) { // which PostgreSQL does not have
					check(subject, "has_table_privilege", "'"+table+"'", p.String()+" WITH GRANT OPTION", w.model.Entitling(s.ID, access.Set(p), target, now) != nil)
				}
				if p == access.Delete {
					continue
				}
				check(subject, "has_any_column_privilege", "'"+table+"'", p.String(), v.Held.Has(p))
				for _, column := range []string{"a", "b"} {
					check(subject, "has_column_privilege", "'"+table+"', '"+column+"'", p.String(), resolve(table+"."+column).Held.Has(p))
				}
			}
		}
	}
	return asked, yes
}

// TestPrivilegesAreTheServersOwn loads random roles, memberships and grants into
// the model and into PostgreSQL, and compares every answer with the server's own
// privilege functions.
func TestPrivilegesAreTheServersOwn(t *testing.T) {
	conn, err := Start(t).DB.Conn(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	asked, yes := 0, 0
	for seed := range uint64(12) {
		r := rand.New(rand.NewPCG(seed, 7))
		one := func(list ...string) string { return list[r.IntN(len(list))] }
		w := newTwin(t, conn)
		for range 9 {
			of := fmt.Sprintf("r%d", r.IntN(4))
			member := one(w.subjects...)
			w.do(fmt.Sprintf("GRANT %s TO %s", of, member), access.Join{Member: ref(member), Of: ref(of)})
		}
		for range 24 {
			to := one(append(w.subjects, "public")...)
			table := one(w.tables...)
			option, with := r.IntN(4) == 0 && to != "public", ""
			if option {
				with = " WITH GRANT OPTION"
			}
			switch r.IntN(5) {
			case 0:
				schema, p := one("s0", "s1"), one("USAGE", "CREATE")
				w.do(fmt.Sprintf("GRANT %s ON SCHEMA %s TO %s", p, schema, to), access.AddGrant{Privilege: p, Object: "db." + schema, Subject: ref(to)})
			case 1, 2:
				p := one("SELECT", "INSERT", "UPDATE", "DELETE", "REFERENCES", "ALL")
				w.do(fmt.Sprintf("GRANT %s ON %s TO %s%s", p, table, to, with), access.AddGrant{Privilege: p, Object: "db." + table, Subject: ref(to), Option: option})
			default:
				p, column := one("SELECT", "INSERT", "UPDATE", "REFERENCES"), one("a", "b")
				w.do(fmt.Sprintf("GRANT %s (%s) ON %s TO %s", p, column, table, to), access.AddGrant{Privilege: p, Object: "db." + table + "." + column, Subject: ref(to)})
			}
		}
		n, y := w.compare()
		asked, yes = asked+n, yes+y
		w.clean()
	}
	if yes < asked/20 {
		t.Errorf("only %d of %d answers were yes; that proves little", yes, asked)
	}
	t.Logf("%d answers compared, %d of them yes", asked, yes)
}

// TestChainsAreTheServersOwn lets users pass a privilege on and take it back, in
// the model and in PostgreSQL, and compares after each step who holds it. It goes
// from lower to higher users only: of a circle that is cut off from the owner
// the server keeps what ISO/IEC 9075-2 calls abandoned privileges, and the model
// does not.
func TestChainsAreTheServersOwn(t *testing.T) {
	conn, err := Start(t).DB.Conn(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	taken, refused := 0, 0
	for seed := range uint64(10) {
		r := rand.New(rand.NewPCG(seed, 11))
		w := newTwin(t, conn)
		if _, err := conn.ExecContext(context.Background(), "GRANT USAGE ON SCHEMA s0 TO PUBLIC"); err != nil {
			t.Fatal(err)
		}
		w.model, err = w.model.Apply(now, access.AddGrant{Privilege: "USAGE", Object: "db.s0", Subject: "public"})
		if err != nil {
			t.Fatal(err)
		}
		users := []string{"u0", "u1", "u2", "u3"}
		for range 120 {
			grantor, to := "", users[r.IntN(4)]
			as, by := "RESET ROLE", owner
			if r.IntN(3) > 0 {
				grantor = users[r.IntN(4)]
				as, by = "SET ROLE "+grantor, ref(grantor)
			}
			if grantor >= to {
				continue
			}
			if _, err := conn.ExecContext(context.Background(), as); err != nil {
				t.Fatal(err)
			}
			if r.IntN(2) > 0 {
				option, with := r.IntN(3) > 0, ""
				if option {
					with = " WITH GRANT OPTION"
				}
				// The server only warns of a grant that has no effect.
				if w.holdsOption(grantor) {
					w.do(fmt.Sprintf("GRANT SELECT ON s0.t0 TO %s%s", to, with), access.AddGrant{Privilege: "SELECT", Object: "db.s0.t0", Subject: ref(to), Grantor: by, Option: option})
				}
			} else if grant := w.granted(grantor, to); grant {
				cascade := r.IntN(2) == 0
				behavior := map[bool]string{true: "CASCADE", false: "RESTRICT"}[cascade]
				change := access.RemoveGrant{Privilege: "SELECT", Object: "db.s0.t0", Subject: ref(to), Grantor: by, Cascade: cascade}
				_, modelErr := w.model.Apply(now, change)
				if took := w.do(fmt.Sprintf("REVOKE SELECT ON s0.t0 FROM %s %s", to, behavior), change); took != (modelErr == nil) {
					t.Fatalf("seed %d: revoking by %q from %s: server %v, model %v\n%s", seed, grantor, to, took, modelErr, strings.Join(w.log, ";\n"))
				} else if took {
					taken++
				} else {
					refused++
				}
			}
			if _, err := conn.ExecContext(context.Background(), "RESET ROLE"); err != nil {
				t.Fatal(err)
			}
			w.compareChain()
		}
		w.compare()
		w.clean()
	}
	if taken < 10 || refused < 5 {
		t.Errorf("%d revocations taken and %d refused prove little", taken, refused)
	}
	t.Logf("%d revocations taken, %d refused", taken, refused)
}

// compareChain asks both who holds the privilege that goes round, and who may
// pass it on.
func (w *twin) compareChain() {
	w.t.Helper()
	o, err := w.model.Lookup("db.s0.t0")
	if err != nil {
		w.t.Fatal(err)
	}
	for _, name := range []string{"u0", "u1", "u2", "u3"} {
		s, err := w.model.FindSubject(ref(name))
		if err != nil {
			w.t.Fatal(err)
		}
		st, err := w.model.Rights(access.Standpoint{Subject: s.ID}, now)
		if err != nil {
			w.t.Fatal(err)
		}
		var holds, passes bool
		if err := w.conn.QueryRowContext(context.Background(), "SELECT has_table_privilege($1, 's0.t0', 'SELECT'), has_table_privilege($1, 's0.t0', 'SELECT WITH GRANT OPTION')", name).Scan(&holds, &passes); err != nil {
			w.t.Fatal(err)
		}
		got := [2]bool{st.Resolve(o.ID).Held.Has(access.Select), w.model.Entitling(s.ID, access.Set(access.Select), access.Target{Object: o.ID}, now) != nil}
		if want := [2]bool{holds, passes}; got != want {
			w.t.Fatalf("%s holds and may pass on: %v in the server, %v in the model\n%s", name, want, got, strings.Join(w.log, ";\n"))
		}
	}
}

// granted reports whether the model has a grant by the grantor itself.
func (w *twin) granted(grantor, to string) bool {
	s, err := w.model.FindSubject(ref(to))
	if err != nil {
		w.t.Fatal(err)
	}
	for _, g := range w.model.GrantsTo(s.ID) {
		if w.model.Ref(g.Grantor) == map[bool]string{true: owner, false: "user:" + grantor}[grantor == ""] {
			return true
		}
	}
	return false
}

// holdsOption reports whether the server lets the grantor pass SELECT on.
func (w *twin) holdsOption(grantor string) bool {
	if grantor == "" {
		return true
	}
	var holds bool
	if err := w.conn.QueryRowContext(context.Background(), "SELECT has_table_privilege($1, 's0.t0', 'SELECT WITH GRANT OPTION')", grantor).Scan(&holds); err != nil {
		w.t.Fatal(err)
	}
	return holds
}
