package sqlport_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"gneiss/core/access"
	"gneiss/demo"
	"gneiss/service/identity"
	"gneiss/sqlport"
	"gneiss/wire"
)

// TestTheCatalogTellsNothing compares what the catalog tells each account, on platforms with random
// grants, with what statements on the tables themselves let it know: an independent reading, for the
// planner of queries has nothing of the catalog's.
func TestTheCatalogTellsNothing(t *testing.T) {
	p := opened(t, false, sqlport.Limits{})
	opal, err := p.svc.Admin.ActAs("user:opal")
	if err != nil {
		t.Fatal(err)
	}
	random := rand.New(rand.NewPCG(7, 9))
	checked := 0
	for round := range 3 {
		m := p.svc.Platform.Current().Model
		var objects []string
		m.Relations(access.PlatformID, func(o *access.Object) bool {
			objects = append(objects, m.Path(o.ID), m.Path(o.Parent), m.Path(o.Children[random.IntN(len(o.Children))]))
			return true
		})
		objects = append(objects, "survey")
		for range 25 {
			in := wire.GrantRequest{Privileges: []string{[]string{"SELECT", "USAGE", "DESCRIBE", "INSERT", "REFERENCES"}[random.IntN(5)]}, Object: objects[random.IntN(len(objects))],
				Subjects: []string{demo.Accounts[random.IntN(len(demo.Accounts))].Ref}}
			p.svc.Admin.Grant(ctx, opal, in, false) // some cannot be granted there
		}
		for _, a := range demo.Accounts {
			caller, err := p.svc.Admin.ActAs(a.Ref)
			if err != nil {
				t.Fatal(err)
			}
			conn, err := pgx.Connect(ctx, p.to(strings.ReplaceAll(strings.TrimPrefix(a.Ref, "user:"), ":", "%3A"), "survey")+"?sslmode=disable")
			if err != nil {
				if state(err) != "3D000" {
					t.Fatal(err)
				}
				continue
			}
			checked += tellsNothing(t, p, conn, caller, fmt.Sprint("round ", round, ", ", a.Ref))
			conn.Close(ctx)
		}
	}
	if checked < 300 {
		t.Errorf("only %d tables were looked at", checked)
	}
}

func tellsNothing(t *testing.T, p *port, conn *pgx.Conn, caller identity.Caller, who string) (checked int) {
	t.Helper()
	m := p.svc.Platform.Current().Model
	listed := texts(t, conn, "SELECT n.nspname || '.' || c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'v') AND n.nspname NOT IN ('pg_catalog', 'information_schema')")
	everything := dump(t, conn)
	m.Relations(access.PlatformID, func(o *access.Object) bool {
		path := m.Path(o.ID)
		if !strings.HasPrefix(path, "survey.") {
			return true
		}
		checked++
		name := strings.TrimPrefix(path, "survey.")
		_, err := conn.Exec(ctx, "SELECT count(*) FROM "+name+" WHERE false")
		hidden := state(err) == "42P01"
		there := slices.Contains(listed, name)
		if hidden && there || err == nil && !there {
			t.Errorf("%s: %s is listed: %v, but a query on it: %v", who, name, there, err)
		}
		if !there && strings.Contains(everything, "\x00"+o.Name+"\x00") && !shared(m, o) {
			t.Errorf("%s: %s is hidden, and its name is in the catalog", who, name)
		}
		if !there {
			return true // who stands in its schema is told of it by name, and is not shown it
		}
		reads := texts(t, conn, "SELECT has_any_column_privilege($1, 'SELECT'), has_table_privilege($1, 'SELECT')", name)
		if (err == nil) != (reads[0] == "t") {
			t.Errorf("%s: %s can be read: %v; the catalog says %v", who, name, err, reads)
		}
		attributes := texts(t, conn, "SELECT attname FROM pg_attribute WHERE attrelid = $1::regclass AND attnum > 0 ORDER BY attnum", name)
		all := true
		for _, id := range o.Children {
			column := m.Object(id)
			_, err := conn.Exec(ctx, "SELECT "+quoted(column.Name)+" FROM "+name+" WHERE false")
			gone := state(err) == "42703" || err != nil && strings.Contains(err.Error(), "withheld")
			all = all && err == nil
			there := slices.Contains(attributes, column.Name)
			if gone && there || err == nil && !there {
				t.Errorf("%s: %s.%s is listed: %v, but a query on it: %v", who, name, column.Name, there, err)
			}
			if there {
				if got := texts(t, conn, "SELECT has_column_privilege($1, $2, 'SELECT')", name, column.Name); (got[0] == "t") != (err == nil) {
					t.Errorf("%s: %s.%s can be read: %v; the catalog says %v", who, name, column.Name, err, got)
				}
			}
		}
		if reads[1] == "t" && !all && len(attributes) == len(o.Children) {
			t.Errorf("%s: %s is said to be read as a whole, and is not", who, name)
		}
		return true
	})
	return checked
}

func quoted(name string) string { return `"` + name + `"` }

// shared reports whether the name of an object is also that of one elsewhere, or of a column.
func shared(m *access.Model, o *access.Object) bool {
	n := 0
	for id := access.ObjectID(1); m.HasObject(id); id++ {
		if m.Object(id).Name == o.Name {
			n++
		}
	}
	return n > 1
}

// dump is all that the catalog has for a session, each value between zero bytes.
func dump(t *testing.T, conn *pgx.Conn) string {
	t.Helper()
	var b strings.Builder
	for _, r := range texts(t, conn, "SELECT n.nspname || '.' || c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname IN ('pg_catalog', 'information_schema')") {
		if r == "pg_catalog.pg_stat_activity" {
			continue // which has the statements of this test
		}
		for _, v := range texts(t, conn, "SELECT * FROM "+r) {
			b.WriteString("\x00" + v + "\x00")
		}
	}
	return b.String()
}
