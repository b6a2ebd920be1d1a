package gateway

import (
	"encoding/json"
	"strings"

	"gneiss/core/access"
	"gneiss/core/emit"
	"gneiss/core/policy"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/store"
)

// A Use is what of somebody's rights a statement needed, as the records keep it: by numbers, which
// names may change around.
type Use struct {
	Subject     access.SubjectID   `json:"s"`
	Grants      []access.GrantID   `json:"g,omitempty"`
	Memberships [][2]uint32        `json:"m,omitempty"` // who is in what
	Subjects    []access.SubjectID `json:"r,omitempty"` // groups and roles on the way
	Columns     []access.ObjectID  `json:"c,omitempty"` // that were read
	Tables      []access.ObjectID  `json:"t,omitempty"` // that were read or written
}

// A keptPlan is what is noted of each run of a plan.
type keptPlan struct {
	objects, labels string // of the record
	lane            access.ObjectID
	set             *store.UseSet // on the lane; nil: not worked out
}

// keptOf is what is noted of a plan.
func keptOf(v *identity.Viewer, plan *emit.Plan) keptPlan {
	kept, ok := plan.Kept.Load().(keptPlan)
	if !ok {
		kept.objects, kept.labels = v.Recorded(objectsOf(plan))
		plan.Kept.Store(kept)
	}
	return kept
}

// Note notes in a record what a plan touches, and what of the caller's rights it needs: what somebody does from
// another's standpoint is no use of that one's rights.
func (s *Service) Note(record *store.Record, v *identity.Viewer, plan *emit.Plan, lane *access.Object) {
	kept := keptOf(v, plan)
	record.Objects, record.Labels = kept.objects, kept.labels
	if v.Other || v.State.Imagined() {
		return
	}
	if kept.set == nil || kept.lane != lane.ID {
		kept.lane, kept.set = lane.ID, useOf(v.State, v, plan, lane)
		plan.Kept.Store(kept)
	}
	record.Use = kept.set
}

// useOf works out what a plan needs: its privileges and the doors to them, the lane, what lifts
// policies, and whom policies name.
func useOf(st *platform.State, v *identity.Viewer, plan *emit.Plan, lane *access.Object) *store.UseSet {
	m := st.Model
	needs := []access.Need{{Privilege: access.Usage, Object: lane.ID}}
	for _, id := range plan.Calls {
		needs = append(needs, access.Need{Privilege: access.Execute, Object: id})
	}
	use := Use{Subject: v.Standpoint.Subject}
	var named []access.SubjectID
	for _, t := range plan.Tables {
		use.Tables = append(use.Tables, t.Table)
		use.Columns = append(use.Columns, t.Columns...)
		if len(t.Columns) == 0 && t.Verb == 0 {
			needs = append(needs, access.Need{Privilege: access.Select, Object: t.Table})
		}
		for _, id := range t.Columns {
			needs = append(needs, access.Need{Privilege: access.Select, Object: id})
			if len(st.Treating(id)) > 0 {
				needs = append(needs, access.Need{Privilege: access.Reveal, Object: id})
				for _, label := range st.Policies.Labels(m, id) {
					needs = append(needs, access.Need{Privilege: access.Reveal, Object: label})
				}
			}
		}
		if t.Verb != 0 {
			on := t.Written
			if len(on) == 0 {
				on = []access.ObjectID{t.Table}
			}
			for _, id := range on {
				needs = append(needs, access.Need{Privilege: t.Verb, Object: id})
			}
		}
		named = append(named, namedOn(st, v, t.Table)...)
	}
	for _, table := range plan.Behind { // whose rows policies follow
		named = append(named, namedOn(st, v, table)...)
	}
	of := v.Rights.Used(needs, named)
	use.Grants, use.Subjects = of.Grants, of.Subjects
	for _, taken := range of.Memberships {
		use.Memberships = append(use.Memberships, [2]uint32{uint32(taken.Member), uint32(taken.Of)})
	}
	text, err := json.Marshal(use)
	if err != nil {
		panic(err) // numbers always marshal
	}
	return &store.UseSet{Needs: string(text)}
}

// namedOn are the subjects that the live policies of a table name: those that they are for and those
// that they except, and where their texts ask for the reader's groups or roles, all of these.
func namedOn(st *platform.State, v *identity.Viewer, table access.ObjectID) (named []access.SubjectID) {
	kinds := map[access.SubjectKind]bool{}
	add := func(p *policy.Scope, text string) {
		if p.Status == policy.Live {
			named = append(append(named, p.For...), p.Except...)
			text = strings.ToLower(text)
			kinds[access.Group] = kinds[access.Group] || strings.Contains(text, "in_group")
			kinds[access.Role] = kinds[access.Role] || strings.Contains(text, "has_role")
		}
	}
	for _, p := range st.Policies.Rows(st.Model, table) {
		add(&p.Scope, p.Rule)
	}
	for _, p := range st.Policies.ColumnPolicies(st.Model, table) {
		add(&p.Scope, p.When+" "+p.Treatment.SQL)
	}
	for _, id := range v.Rights.Subjects() {
		if kinds[st.Model.Subject(id).Kind] {
			named = append(named, id)
		}
	}
	return named
}
