package sqlport_test

import (
	"testing"

	"github.com/jackc/pgx/v5/pgproto3"

	"gneiss/sqlport"
	"gneiss/wire"
)

func query(text string) *pgproto3.Query { return &pgproto3.Query{String: text} }

func subjectOff(ref string, off *bool) wire.SubjectRequest {
	return wire.SubjectRequest{Subject: ref, Disabled: off}
}

func subjectPassword(ref, password string) wire.SubjectRequest {
	return wire.SubjectRequest{Subject: ref, Password: password}
}

func tokenFor(subject string) wire.TokenRequest {
	return wire.TokenRequest{Name: "nightly", Subject: subject}
}

// grantWrites lets flint write visits, where nothing but the test does.
func grantWrites(t testing.TB, p *port, database string) {
	t.Helper()
	opal, err := p.svc.Admin.ActAs("user:opal")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.svc.Admin.Grant(ctx, opal, wire.GrantRequest{Privileges: []string{"SELECT", "INSERT", "UPDATE", "DELETE"}, Object: database + ".field.visits",
		Subjects: []string{"user:flint"}}, false); err != nil {
		t.Fatal(err)
	}
}

// TestBothSources does with one platform, on SQLite and on PostgreSQL, all that needs both.
func TestBothSources(t *testing.T) {
	p := opened(t, true, sqlport.Limits{})
	for _, c := range []struct {
		name string
		do   func(*testing.T, *port)
	}{
		{"Refusals", onRefusals},
		{"Transactions", onTransactions},
		{"Cursors", onCursors},
		{"Cancelling", onCancelling},
		{"AnswersAreTheServersOwn", onAnswersAreTheServersOwn},
		{"Parameters", onParameters},
		{"Copying", onCopying},
		{"Plans", onPlans},
		{"Zones", onZones},
		{"Psql", onPsql},
		{"Pgbench", onPgbench},
		{"JDBC", onJDBC},
		{"Python", onPython},
		{"Node", onNode},
		{"Pipelining", onPipelining},
	} {
		t.Run(c.name, func(t *testing.T) { c.do(t, p) })
	}
}
