package review

import (
	"context"
	"slices"
	"time"

	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/gateway"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/wire"
)

// mostMatrix bounds the subjects that a matrix lists.
const mostMatrix = 200

// Matrix says what users and services get of a table: how many rows, and how
// each column appears that a policy treats for any of them; of a column, who
// sees it in clear, who treated and who not at all.
func (s *Service) Matrix(ctx context.Context, c identity.Caller, path string) (wire.Matrix, error) {
	st := s.identity.State(c)
	out := wire.Matrix{Columns: []string{}, Rows: []wire.MatrixRow{}}
	p, err := s.identity.ViewerAt(st, c, wire.Standpoint{})
	if err != nil {
		return out, err
	}
	o, err := s.identity.Seen(p, path)
	if err != nil {
		return out, err
	}
	table, only := o, access.ObjectID(0)
	if o.Kind == access.Column {
		table, only = st.Model.Object(o.Parent), o.ID
	}
	if table.Kind != access.Table {
		return out, fault.New(fault.Invalid, "wrong_level", "%s is a %s; name a table or a column", path, o.Kind)
	}
	// It looks as everybody, one after the other.
	if !s.identity.Manages(st, c, access.PlatformID) {
		return out, s.identity.Refuse(c, audit.Matrix, path, identity.Wants(st, access.Manage, access.PlatformID))
	}
	lane, err := s.gateway.Lane(c, p, "")
	if err != nil {
		return out, s.identity.Refuse(c, audit.Matrix, path, err)
	}
	out.Table = st.Model.Path(table.ID)
	// It counts rows that its reader may not see, so it is on record.
	record := c.Record(st.Model.Ref(c.User), audit.Matrix, path)
	record.Objects = audit.List([]string{out.Table})
	if err := s.audit.Write(record); err != nil {
		return out, err
	}
	m := &matrix{s: s, Counter: s.gateway.Counter(c.User, lane), st: st, table: table, only: only}
	m.gather()
	if out.Total, err = m.All(ctx, st, table); err != nil {
		return out, err
	}
	columns := m.columns()
	out.Columns = append(out.Columns, columnNames(st.Model, columns)...)
	for _, line := range m.lines {
		if len(out.Rows) == mostMatrix {
			out.More = len(m.lines) - mostMatrix
			break
		}
		out.Rows = append(out.Rows, m.row(ctx, line, columns))
	}
	return out, nil
}

// a matrix is being put together.
type matrix struct {
	s *Service
	*gateway.Counter
	st    *platform.State
	table *access.Object
	only  access.ObjectID // the one column that is asked for, or zero
	lines []matrixLine
}

// a matrixLine is one subject's standing.
type matrixLine struct {
	*access.Rights
	verdict access.Verdict
	policy.Governance
}

// gather finds the subjects: those that read the table; of a column, all.
func (m *matrix) gather() {
	now := time.Now()
	ids := m.st.Actors(access.PublicID, now)
	slices.SortFunc(ids, func(a, b access.SubjectID) int {
		return access.CompareSubjects(m.st.Model.Subject(a), m.st.Model.Subject(b))
	})
	for _, id := range ids {
		rights, err := m.st.Rights(access.Standpoint{Subject: id}, now)
		if err != nil {
			continue
		}
		line := matrixLine{rights, rights.Resolve(m.table.ID), m.st.Policies.Govern(rights, m.table.ID)}
		if m.only != 0 || line.verdict.Allowed.Has(access.Select) {
			m.lines = append(m.lines, line)
		}
	}
}

// columns lists the columns that differ from subject to subject.
func (m *matrix) columns() []access.ObjectID {
	if m.only != 0 {
		return []access.ObjectID{m.only}
	}
	var ids []access.ObjectID
	for _, id := range m.table.Children {
		if slices.ContainsFunc(m.lines, func(l matrixLine) bool {
			return l.Columns[id].Treatment.Kind != policy.Clear || !l.verdict.Covers(access.Select, id)
		}) && !m.st.Model.Object(id).Missing {
			ids = append(ids, id)
		}
	}
	return ids
}

func (m *matrix) row(ctx context.Context, l matrixLine, columns []access.ObjectID) wire.MatrixRow {
	subject := m.st.Model.Subject(l.Standpoint.Subject)
	row := wire.MatrixRow{Subject: subject.Ref(), Title: subject.Title, Reads: l.verdict.Allowed.Has(access.Select), Cells: []string{}}
	for _, id := range columns {
		cell := TreatmentSays(l.Columns[id])
		if !l.verdict.Covers(access.Select, id) {
			cell = say.NotReadable.With()
		}
		row.Cells = append(row.Cells, cell)
	}
	if row.Reads {
		var err error
		if row.Rows, err = m.Rows(ctx, m.st, l.Standpoint, m.table); err != nil {
			row.Problem = fault.Of(err).Detail
		}
	}
	return row
}
