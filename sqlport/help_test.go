package sqlport_test

import (
	"testing"

	"github.com/jackc/pgx/v5/pgproto3"

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
