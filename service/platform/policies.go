package platform

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/query"
)

// Treating lists the live policies that treat a column for somebody.
func (s *State) Treating(column access.ObjectID) []string {
	var names []string
	for _, p := range s.Policies.ColumnPolicies(s.Model, s.Model.Object(column).Parent) {
		if p.Status == policy.Live && s.Policies.Treats(p, s.Model, column) {
			names = append(names, p.Name)
		}
	}
	return names
}

// Covered lists the tables that a row policy is about now.
func (st *State) Covered(p *policy.RowPolicy) []*access.Object {
	var tables []*access.Object
	note := func(o *access.Object) bool {
		if st.Policies.Covers(p, st.Model, o.ID) {
			tables = append(tables, o)
		}
		return true
	}
	if p.Label == 0 {
		st.Model.Tables(p.Object, note)
		return tables
	}
	for _, id := range st.Policies.Placed(p.Label) {
		if o := st.Model.Object(id); o.Kind != access.Column {
			st.Model.Tables(id, note)
		}
	}
	return tables
}

// CheckRow returns why a row policy cannot work on a table that it is about.
func (st *State) CheckRow(p *policy.RowPolicy) error {
	if p.Follow != nil {
		for _, id := range append(slices.Clone(p.Follow.From), p.Follow.To...) {
			if o := st.Model.Object(id); o.Missing || st.Model.Object(o.Parent).Missing {
				return fmt.Errorf("%s is gone from the source", st.Model.Path(id))
			}
		}
		return nil
	}
	public, err := st.Rights(access.Standpoint{Subject: access.PublicID}, time.Time{})
	if err != nil {
		return err
	}
	for _, table := range st.Covered(p) {
		if err := query.CheckRule(public, table, p.Rule); err != nil {
			return onTable(st, p.At(), table, err)
		}
	}
	if len(st.Covered(p)) == 0 && p.Pattern == "" && p.Label == 0 {
		return fmt.Errorf("%s is gone from the source", p.Path(st.Model))
	}
	return nil
}

// onTable names the table that an error is about, where the policy is about more
// than it.
func onTable(st *State, at access.ObjectID, table *access.Object, err error) error {
	if at == table.ID {
		return err
	}
	var q *query.Error
	if !errors.As(err, &q) {
		return fmt.Errorf("%s: %w", st.Model.Path(table.ID), err)
	}
	named := *q
	named.Text = st.Model.Path(table.ID) + ": " + q.Text
	return &named
}

// CheckColumn returns why a column policy cannot work on a column that it is
// about.
func (st *State) CheckColumn(p *policy.ColumnPolicy) error {
	public, err := st.Rights(access.Standpoint{Subject: access.PublicID}, time.Time{})
	if err != nil {
		return err
	}
	for _, id := range st.Policies.Treated(p, st.Model) {
		column := st.Model.Object(id)
		table := st.Model.Object(column.Parent)
		if column.Missing || table.Missing {
			return fmt.Errorf("%s is gone from the source", st.Model.Path(id))
		}
		if p.When != "" {
			if _, err := query.CheckWhen(public, table, p.When); err != nil {
				return onTable(st, p.At(), table, err)
			}
		}
		if err := query.CheckTreatment(public, column, p.Treatment); err != nil {
			return onTable(st, p.At(), table, err)
		}
	}
	return nil
}
