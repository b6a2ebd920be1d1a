package review

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"gneiss/core/access"
	"gneiss/core/classify"
	"gneiss/core/emit"
	"gneiss/core/policy"
	"gneiss/core/query"
	"gneiss/core/sqltype"
	"gneiss/service/audit"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/source"
	"gneiss/wire"
)

// sampledRows is how many rows of each table the detectors look at.
const sampledRows = 200

// suggestions are what the last look at the data proposed, for all columns.
type suggestions struct {
	sync.Mutex
	at     time.Time
	items  map[access.ObjectID][]classify.Proposal
	tables int
	failed []access.ObjectID
}

// SuggestLabels proposes labels for columns at and below an object that do not
// have them, by names, types and sampled values. The values are sampled once and
// then kept as proposals, until again is asked for; no value is kept.
func (s *Service) SuggestLabels(ctx context.Context, c identity.Caller, path string, again, dismissed bool) (wire.Suggestions, error) {
	out := wire.Suggestions{Items: []wire.Suggestion{}, Failed: []string{}}
	st := s.platform.Current()
	if err := s.identity.Administers(st, c, "suggestions of labels"); err != nil {
		return out, err
	}
	p, err := s.identity.ViewerAt(st, c, wire.Standpoint{})
	if err != nil {
		return out, err
	}
	root, err := s.identity.Seen(p, path)
	if err != nil {
		return out, err
	}
	s.suggested.Lock()
	never := s.suggested.items == nil
	s.suggested.Unlock()
	if again || never {
		lane, err := s.gateway.Lane(c, p, "")
		if err != nil {
			return out, s.identity.Refuse(c, audit.Sample, "labels", err)
		}
		// It reads values that the caller may not see, so it is on record.
		record := c.Record(st.Model.Ref(c.User), audit.Sample, "sampled all tables for suggestions of labels")
		record.Objects = "[]"
		if err := s.audit.Write(record); err != nil {
			return out, err
		}
		// Who asks meanwhile waits for this look, and nobody else waits for anything.
		if _, err, _ := s.sampling.Do("sample", func() (any, error) { return nil, s.sample(ctx, st, lane) }); err != nil {
			return out, err
		}
	}
	s.suggested.Lock()
	defer s.suggested.Unlock()
	out.Scanned, out.Tables = s.suggested.at.UTC().Format(time.RFC3339), s.suggested.tables
	for _, id := range s.suggested.failed {
		out.Failed = append(out.Failed, st.Model.Path(id))
	}
	for id, proposals := range s.suggested.items {
		if !st.Model.HasObject(id) || st.Model.Object(id).Missing || !st.Model.Within(root.ID, id) {
			continue
		}
		for _, proposal := range proposals {
			if w, ok := suggestionOf(st, id, proposal); ok && w.Dismissed == dismissed {
				out.Items = append(out.Items, w)
			}
		}
	}
	slices.SortFunc(out.Items, func(a, b wire.Suggestion) int {
		if a.Confidence != b.Confidence {
			return int((b.Confidence - a.Confidence) * 1000)
		}
		return strings.Compare(a.Column, b.Column)
	})
	return out, nil
}

// suggestionOf says a proposal, unless the column has a label on the topic.
func suggestionOf(s *platform.State, id access.ObjectID, p classify.Proposal) (wire.Suggestion, bool) {
	w := wire.Suggestion{Column: s.Model.Path(id), Type: sqltype.Shown(s.Model.Object(id).Type), Label: string(p.Topic), Topic: string(p.Topic), Level: p.Level,
		Form: p.Form, Confidence: p.Confidence, Evidence: p.Evidence}
	for _, label := range s.Model.Labels() {
		if label.Topic != string(p.Topic) {
			continue
		}
		w.Label = label.Name // whatever its administrator calls the topic
		if slices.Contains(s.Policies.Labels(s.Model, id), label.ID) {
			return w, false
		}
	}
	w.Dismissed = s.Policies.Dismissed(id, string(p.Topic))
	return w, true
}

// sample looks at every table.
func (s *Service) sample(ctx context.Context, st *platform.State, lane *access.Object) error {
	found := map[access.ObjectID][]classify.Proposal{}
	var failed []access.ObjectID
	tables := 0
	st.Model.Tables(access.PlatformID, func(table *access.Object) bool {
		values, err := s.values(ctx, st, lane, table)
		if err != nil {
			failed = append(failed, table.ID)
		}
		tables++
		for _, id := range table.Children {
			column := st.Model.Object(id)
			if column.Missing {
				continue
			}
			if p := classify.Look(classify.Column{Table: table.Name, Name: column.Name, Type: column.Type, Values: values[id]}); len(p) > 0 {
				found[id] = p
			}
		}
		return ctx.Err() == nil
	})
	if err := ctx.Err(); err != nil {
		return err
	}
	s.suggested.Lock()
	defer s.suggested.Unlock()
	s.suggested.at, s.suggested.items, s.suggested.tables, s.suggested.failed = time.Now(), found, tables, failed
	return nil
}

// values samples a table's columns with Gneiss's own authority.
func (s *Service) values(ctx context.Context, st *platform.State, lane *access.Object, table *access.Object) (map[access.ObjectID][]string, error) {
	role, err := st.Model.FindSubject(access.Administrator)
	if err != nil {
		return nil, err
	}
	rights, err := st.Rights(access.Standpoint{Subject: role.ID}, time.Now())
	if err != nil {
		return nil, err
	}
	onSQLite := st.Model.Object(st.Model.Object(table.Parent).Parent).Type == emit.SQLite
	var ids []access.ObjectID
	var names []string
	for _, id := range table.Children {
		column := st.Model.Object(id)
		if query.Readable(st.Model, column) && !column.Missing {
			name := access.Quote(column.Name)
			if onSQLite && column.Type != "text" { // the value may not be of the column's type
				name = "CAST(" + name + " AS text)"
			}
			ids, names = append(ids, id), append(names, name)
		}
	}
	if len(ids) == 0 {
		return nil, nil
	}
	plan, err := emit.Make(
		fmt.Sprintf("SELECT %s FROM %s LIMIT %d", strings.Join(names, ", "), st.Model.Path(table.ID), sampledRows),
		nil,
		rights,
		&policy.Set{},
	)
	if err != nil {
		return nil, err
	}
	out := map[access.ObjectID][]string{}
	err = s.gateway.Run(ctx, 0, lane, plan, source.Bind(plan.Args, s.gateway.Facts(time.Now())), func(row []any) error {
		for i, v := range row {
			if v != nil {
				out[ids[i]] = append(out[ids[i]], fmt.Sprint(v))
			}
		}
		return nil
	})
	return out, err
}
