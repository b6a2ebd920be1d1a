package access_test

import (
	"fmt"
	"time"

	"gneiss/core/access"
)

// A grant on a schema covers its tables, present and future; USAGE lets the role in.
func Example() {
	now := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	m := access.New()
	for _, c := range []access.Change{
		access.AddObject{Path: "survey", Kind: "source"},
		access.AddObject{Path: "survey.field", Kind: "schema"},
		access.AddObject{Path: "survey.field.visits", Kind: "table"},
		access.AddSubject{Subject: "user:flint"},
		access.AddSubject{Subject: "role:reader"},
		access.Join{Member: "user:flint", Of: "role:reader"},
		access.AddGrant{Privilege: "SELECT", Object: "survey.field", Subject: "role:reader"},
		access.AddGrant{Privilege: "USAGE", Object: "survey", Subject: "role:reader"},
	} {
		var err error
		if m, err = m.Apply(now, c); err != nil {
			fmt.Println(err)
			return
		}
	}
	flint, _ := m.FindSubject("user:flint")
	visits, _ := m.Lookup("survey.field.visits")
	rights, _ := m.Rights(access.Standpoint{Subject: flint.ID}, now)
	fmt.Printf("allowed: %q\n", rights.Resolve(visits.ID).Allowed)
	for _, need := range rights.Missing(access.Select, visits.ID) {
		fmt.Println("missing:", m.NeedText(need))
	}
	// Output:
	// allowed: ""
	// missing: USAGE on survey.field
}
