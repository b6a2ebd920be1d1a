package policy

import (
	"slices"

	"gneiss/core/access"
)

// A Decision says how one column appears, and why.
type Decision struct {
	// Treatment is the strictest that some row gets; Clear where none does.
	Treatment Treatment
	// Steps are what to do with a value: the first whose condition holds for the
	// row. Where none does, the value is clear.
	Steps    []Step
	By       []*ColumnPolicy // the policies that shape the column
	Lost     []*ColumnPolicy // those that stricter ones overrule on all rows
	Lifted   []*ColumnPolicy // those that REVEAL lifts
	Conflict bool            // two of By ask for one kind with different arguments
}

// Revealed reports whether the column is clear by a grant of REVEAL.
func (d *Decision) Revealed() bool { return len(d.Lifted) > 0 && d.Treatment.Kind == Clear }

// Partly reports whether some rows' values are clear, or more gently treated
// than by Treatment.
func (d *Decision) Partly() bool { return len(d.Steps) > 0 && !d.Steps[0].always() }

// A Step is one treatment, and for which rows.
type Step struct {
	Treatment Treatment
	// Any are the policies that ask for it; the step is taken where the condition
	// of one of them holds. And, when it is not empty, wants one of those too.
	Any, And []*ColumnPolicy
}

// always reports whether the step is taken for every row.
func (s *Step) always() bool {
	return unconditional(s.Any) && (len(s.And) == 0 || unconditional(s.And))
}

// Conditions lists the conditions of which one must hold; none: every row.
func Conditions(policies []*ColumnPolicy) []*ColumnPolicy {
	if unconditional(policies) {
		return nil
	}
	return policies
}

func unconditional(policies []*ColumnPolicy) bool {
	return slices.ContainsFunc(policies, func(p *ColumnPolicy) bool { return p.When == "" })
}

// decide weighs the policies that ask for a treatment of a column: the strictest
// wins, row by row where conditions say so. Where two ask for one kind with
// different arguments the value is suppressed.
func decide(st *access.Rights, column access.ObjectID, policies []*ColumnPolicy) Decision {
	var d Decision
	revealed := st.Resolve(column).Allowed.Has(access.Reveal)
	var left []*ColumnPolicy
	for _, p := range policies {
		if revealed || p.Label != 0 && st.Resolve(p.Label).Allowed.Has(access.Reveal) {
			d.Lifted = append(d.Lifted, p)
		} else {
			left = append(left, p)
		}
	}
	slices.SortStableFunc(left, func(a, b *ColumnPolicy) int { return int(b.Treatment.Kind) - int(a.Treatment.Kind) })
	for len(left) > 0 {
		kind := left[0].Treatment.Kind
		n := slices.IndexFunc(left, func(p *ColumnPolicy) bool { return p.Treatment.Kind != kind })
		if n < 0 {
			n = len(left)
		}
		if len(d.Steps) > 0 && d.Steps[len(d.Steps)-1].always() {
			d.Lost = append(d.Lost, left...)
			break
		}
		d.take(left[:n])
		left = left[n:]
	}
	if len(d.Steps) > 0 {
		d.Treatment = d.Steps[0].Treatment
	}
	return d
}

// take adds the steps of the policies of one kind.
func (d *Decision) take(policies []*ColumnPolicy) {
	d.By = append(d.By, policies...)
	var alike []Step // one for each treatment
	for _, p := range policies {
		i := slices.IndexFunc(alike, func(s Step) bool { return s.Treatment == p.Treatment })
		if i < 0 {
			i = len(alike)
			alike = append(alike, Step{Treatment: p.Treatment})
		}
		alike[i].Any = append(alike[i].Any, p)
	}
	d.Conflict = d.Conflict || len(alike) > 1
	if d.suppressTwo(alike) {
		return
	}
	// What every row gets comes last: nothing after it is reached.
	slices.SortStableFunc(alike, func(a, b Step) int {
		switch {
		case a.always() == b.always():
			return 0
		case a.always():
			return 1
		}
		return -1
	})
	d.Steps = append(d.Steps, alike...)
}

// suppressTwo adds the steps that suppress a value for which two of the treatments are asked for, and
// reports whether that is every row's. Each two are apart in one of the halvings: n treatments
// take n-1 steps with n log n conditions.
func (d *Decision) suppressTwo(alike []Step) bool {
	if len(alike) < 2 {
		return false
	}
	half := len(alike) / 2
	both := Step{Treatment: Treatment{Kind: Suppress}, Any: asking(alike[:half]), And: asking(alike[half:])}
	d.Steps = append(d.Steps, both)
	return both.always() || d.suppressTwo(alike[:half]) || d.suppressTwo(alike[half:])
}

// asking lists the policies that ask for one of the treatments.
func asking(steps []Step) []*ColumnPolicy {
	var all []*ColumnPolicy
	for _, s := range steps {
		all = append(all, s.Any...)
	}
	return all
}
