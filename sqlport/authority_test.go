package sqlport_test

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"strings"
	"testing"

	pg "github.com/pganalyze/pg_query_go/v6"

	"github.com/jackc/pgx/v5"

	"gneiss/demo"
	"gneiss/sqlport"
)

// TestAuthority sends each verb that the port takes with each kind of proof, and holds what comes back against the
// table. The table has every kind of statement that the port and the commands of the access model know.
func TestAuthority(t *testing.T) {
	p := opened(t, true, sqlport.Limits{})
	secret := func(user string) string {
		c, err := p.svc.Admin.ActAs("user:" + user)
		if err != nil {
			t.Fatal(err)
		}
		made, err := p.svc.Identity.NewToken(ctx, c, tokenFor("user:"+user))
		if err != nil {
			t.Fatal(err)
		}
		return made.Secret
	}
	proofs := [4][2]string{{"flint", demo.Password}, {"flint", secret("flint")}, {"opal", demo.Password}, {"opal", secret("opal")}}
	var conns [4]*pgx.Conn
	for i, proof := range proofs {
		conn, err := pgx.Connect(ctx, fmt.Sprintf("postgresql://%s:%s@%s/survey_pg?sslmode=disable", proof[0], proof[1], p.address))
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close(ctx)
		conns[i] = conn
	}
	text, err := os.ReadFile("testdata/authority.txt")
	if err != nil {
		t.Fatal(err)
	}
	known := verbs(t)
	for line := range strings.Lines(string(text)) {
		fields := strings.Fields(line)
		if len(fields) < 5 || fields[0] == "#" {
			continue
		}
		sql := strings.Join(fields[4:], " ")
		for _, statement := range strings.Split(sql, ";") {
			if tree, err := pg.Parse(statement); err == nil && len(tree.Stmts) > 0 {
				kind := fmt.Sprintf("%T", tree.Stmts[0].Stmt.Node)
				delete(known, strings.TrimPrefix(kind, "*pg_query."))
			}
		}
		before := p.svc.Platform.Current().Revision
		var gives [4]string
		for i, proof := range proofs {
			gives[i] = "ok"
			for _, one := range strings.Split(sql, "; ") {
				var err error
				if strings.HasSuffix(one, "FROM STDIN") {
					_, err = conns[i].PgConn().CopyFrom(ctx, strings.NewReader(""), one)
				} else {
					_, err = conns[i].PgConn().Exec(ctx, one).ReadAll()
				}
				if err != nil {
					gives[i] = state(err)
					break
				}
			}
			for _, back := range []string{"ROLLBACK", "DISCARD ALL"} {
				if _, err := conns[i].PgConn().Exec(ctx, back).ReadAll(); err != nil {
					t.Fatal(sql, err)
				}
			}
			if now := p.svc.Platform.Current().Revision; proof[0] == "flint" && now != before {
				t.Errorf("%s by flint (%d) makes a revision", sql, i)
			}
		}
		if got, want := strings.Join(gives[:], " "), strings.Join(fields[:4], " "); got != want {
			t.Errorf("the table says %s, this is\n%s  %s", want, got, sql)
		}
	}
	for kind := range known {
		t.Errorf("%s has no row in testdata/authority.txt", kind)
	}
}

// verbs are the kinds of statements that the code of the port and of the commands sorts by.
func verbs(t *testing.T) map[string]bool {
	t.Helper()
	out := map[string]bool{}
	for _, of := range []struct{ file, function string }{{"own.go", "kindOf"}, {"../core/query/command.go", "ParseCommand"}} {
		tree, err := parser.ParseFile(token.NewFileSet(), of.file, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(tree, func(n ast.Node) bool {
			if f, is := n.(*ast.FuncDecl); is {
				return f.Name.Name == of.function
			}
			if s, is := n.(*ast.SelectorExpr); is && strings.HasPrefix(s.Sel.Name, "Node_") {
				out[s.Sel.Name] = true
			}
			return true
		})
	}
	if len(out) < 20 {
		t.Errorf("%d kinds of statements were found in the code", len(out))
	}
	return out
}
