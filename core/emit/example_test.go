package emit_test

import (
	"fmt"
	"time"

	"gneiss/core/access"
	"gneiss/core/emit"
	"gneiss/core/policy"
)

// A query of a table with a row policy runs on the rows that are there for its reader.
func ExampleMake() {
	now := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	m := access.New()
	for _, c := range []access.Change{
		access.AddObject{Path: "survey", Kind: "source"},
		access.AddObject{Path: "survey.field", Kind: "schema"},
		access.AddObject{Path: "survey.field.visits", Kind: "table"},
		access.AddObject{Path: "survey.field.visits.id", Kind: "column", Type: "bigint"},
		access.AddObject{Path: "survey.field.visits.district", Kind: "column", Type: "text"},
		access.AddSubject{Subject: "user:flint"},
		access.SetAttribute{Subject: "user:flint", Name: "districts", Values: []string{"north"}},
		access.AddGrant{Privilege: "SELECT", Object: "survey.field", Subject: "user:flint"},
		access.AddGrant{Privilege: "USAGE", Object: "survey", Subject: "user:flint"},
		access.AddGrant{Privilege: "USAGE", Object: "survey.field", Subject: "user:flint"},
	} {
		m, _ = m.Apply(now, c)
	}
	policies, err := (&policy.Set{}).Apply(policy.PutRowPolicy{ScopeText: policy.ScopeText{Name: "of-districts"},
		Table: "survey.field.visits", Rule: "district IN (attribute('districts'))"}, m)
	if err != nil {
		fmt.Println(err)
		return
	}
	flint, _ := m.FindSubject("user:flint")
	rights, _ := m.Rights(access.Standpoint{Subject: flint.ID}, now)
	plan, err := emit.Make("SELECT count(*) FROM survey.field.visits WHERE id > 17", nil, rights, policies)
	fmt.Println(plan.SQL, err)
	for _, a := range plan.Args {
		fmt.Println(a.Value)
	}
	_, err = emit.Make("SELECT count(*) FROM survey.field.crews", nil, rights, policies)
	fmt.Println(err)
	// Output:
	// SELECT count(*) AS "count"
	// FROM (
	//   SELECT "visits_2"."id" AS "id"
	//   FROM "field"."visits" AS "visits_2"
	//   WHERE ("visits_2"."district" COLLATE BINARY IN (?1))
	// ) AS "visits"
	// WHERE ("visits"."id" > ?2) <nil>
	// north
	// 17
	// line 1, column 22: table survey.field.crews does not exist or is not yours to use
}
