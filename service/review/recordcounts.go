package review

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/gateway"
	"gneiss/service/identity"
	"gneiss/service/platform"
	"gneiss/service/say"
	"gneiss/store"
	"gneiss/wire"

	"golang.org/x/sync/errgroup"
)

// How much is listed of counts, and what is unusual: a day with so many times the rows of a usual one,
// and with so many at least.
const (
	mostTotals  = 20
	mostUnusual = 100
	mostDays    = 3660
	farAbove    = 5
	fewRows     = 50
)

// RecordCounts says what the record comes to over some days, for who reads it.
func (s *Service) RecordCounts(ctx context.Context, c identity.Caller, from, until, label, actor string) (wire.RecordCounts, error) {
	st := s.platform.Current()
	out := wire.RecordCounts{Labels: []wire.CountSeries{}, People: []wire.CountTotal{}, Addresses: []wire.CountTotal{}, Tables: []wire.CountTotal{},
		Roles: []wire.CountTotal{}, Purposes: []wire.CountTotal{}, ForOthers: []wire.CountTotal{}, Unusual: []wire.Unusual{}}
	err := s.audits(c, "counts of the record")
	if err != nil {
		return out, err
	}
	last := time.Now().UTC().Truncate(24 * time.Hour)
	first := last.AddDate(0, 0, 1-usualDays)
	for _, day := range []struct {
		text string
		to   *time.Time
	}{{from, &first}, {until, &last}} {
		if day.text != "" {
			if *day.to, err = time.Parse(time.DateOnly, day.text); err != nil {
				return out, fault.New(fault.Invalid, "bad_date", "%.40q is not a day; write it like 2026-11-01", day.text)
			}
		}
	}
	if last.Before(first) || last.Sub(first) > mostDays*24*time.Hour {
		return out, fault.New(fault.Invalid, "bad_date", "name a first day and a last day after it, at most %d days apart", mostDays)
	}
	if label != "" {
		found, err := st.Model.FindLabel(label)
		if err != nil {
			return out, err
		}
		label = st.Model.Path(found.ID)
	}
	if actor != "" {
		found, err := st.Model.FindSubject(actor)
		if err != nil {
			return out, err
		}
		actor = found.Ref()
	}
	out.From, out.Until = first.Format(time.DateOnly), last.Format(time.DateOnly)
	at := map[string]int{}
	for d := first; !d.After(last); d = d.AddDate(0, 0, 1) {
		at[d.Format(time.DateOnly)] = len(out.Days)
		out.Days = append(out.Days, d.Format(time.DateOnly))
	}
	if err := s.store.Audit().Look(ctx, unusual); err != nil {
		return out, err
	}
	search := store.CountSearch{From: out.From, Until: out.Until, Label: label, Actor: actor}
	days, err := s.store.Audit().LabelDays(ctx, search)
	if err != nil {
		return out, err
	}
	labelSeries(&out, days, at, func(path string) string {
		if found, err := st.Model.FindLabel(path); err == nil {
			return string(found.Level)
		}
		return ""
	})
	if err := s.totals(ctx, st, search, &out); err != nil {
		return out, err
	}
	stands, err := s.store.Audit().Unusual(ctx, search, mostUnusual)
	if err != nil {
		return out, err
	}
	for _, u := range stands {
		out.Unusual = append(out.Unusual, wireUnusual(u))
	}
	out.Queries, out.Refused, out.Changes = []int64{}, []int64{}, []int64{}
	if label != "" || actor != "" {
		return out, nil // which are not counted by them
	}
	actions, err := s.store.Audit().ActionDays(ctx, out.From, out.Until)
	if err != nil {
		return out, err
	}
	out.Queries, out.Refused, out.Changes = make([]int64, len(out.Days)), make([]int64, len(out.Days)), make([]int64, len(out.Days))
	for _, a := range actions {
		i := at[a.Day]
		switch {
		case a.Decision == audit.Refused:
			out.Refused[i] += a.N
		case a.Action == audit.Change:
			out.Changes[i] += a.N
		case a.Action == audit.Query || a.Action == audit.Write || a.Action == audit.Preview:
			out.Queries[i] += a.N
		}
	}
	return out, nil
}

// asOther reports whether something was done as somebody else, and as whom.
func asOther(d store.LabelDay) (whom string, is bool) {
	whom, _, _ = strings.Cut(d.Standpoint, " ")
	return whom, whom != "" && whom != d.Actor
}

// labelSeries puts together what was read, day by day.
func labelSeries(out *wire.RecordCounts, days []store.LabelDay, at map[string]int, level func(string) string) {
	series := map[string]*wire.CountSeries{}
	for _, d := range days {
		if series[d.Label] == nil {
			series[d.Label] = &wire.CountSeries{Name: d.Label, Level: level(d.Label), N: make([]int64, len(at)), Rows: make([]int64, len(at))}
		}
		series[d.Label].N[at[d.Day]] += d.N
		series[d.Label].Rows[at[d.Day]] += d.Rows
	}
	for _, name := range slices.Sorted(maps.Keys(series)) {
		out.Labels = append(out.Labels, *series[name])
	}
}

// totals looks up who read the most, from where, in which tables, by which roles, for what, and as somebody
// else.
func (s *Service) totals(ctx context.Context, st *platform.State, search store.CountSearch, out *wire.RecordCounts) error {
	tables := labelledTables(st, search.Label)
	all, ctx := errgroup.WithContext(ctx)
	for _, of := range []struct {
		by   string
		to   *[]wire.CountTotal
		name func(string) string // "": it is not told
	}{
		{"person", &out.People, nil},
		{"address", &out.Addresses, nil},
		{"purpose", &out.Purposes, nil},
		{"other", &out.ForOthers, nil},
		{"role", &out.Roles, func(name string) string {
			if id := access.SubjectID(number(name)); st.Model.SubjectOf(id) != nil && st.Model.Subject(id).Kind == access.Role {
				return st.Model.Ref(id)
			}
			return ""
		}},
		{"table", &out.Tables, func(name string) string {
			if id := access.ObjectID(number(name)); tables[id] {
				return st.Model.Path(id)
			}
			return ""
		}},
	} {
		all.Go(func() error {
			found, err := s.totalsBy(ctx, st, search, of.by, of.name != nil)
			for _, t := range found {
				if name := t.Name; of.name == nil || of.name(name) != "" {
					if of.name != nil {
						name = of.name(name)
					}
					*of.to = append(*of.to, wire.CountTotal{Name: name, N: t.N, Rows: t.Rows})
				}
			}
			*of.to = (*of.to)[:min(len(*of.to), mostTotals)]
			return err
		})
	}
	return all.Wait()
}

// totalsBy looks up totals. Some of those by number are not told, so that all are looked at; of one person they
// are what their statements needed.
func (s *Service) totalsBy(ctx context.Context, st *platform.State, search store.CountSearch, by string, numbers bool) ([]store.Total, error) {
	if !numbers {
		return s.store.Audit().Totals(ctx, search, by, mostTotals)
	}
	if search.Actor == "" {
		return s.store.Audit().Totals(ctx, search, by, math.MaxInt32)
	}
	subject, err := st.Model.FindSubject(search.Actor)
	if err != nil {
		return nil, err
	}
	found, err := s.store.Audit().Uses(ctx, search.From, search.Until, uint32(subject.ID))
	if err != nil {
		return nil, err
	}
	n := map[string]int64{}
	for _, f := range found {
		var of gateway.Use
		if err := json.Unmarshal([]byte(f.Needs), &of); err != nil {
			return nil, err
		}
		if by == "table" {
			for _, id := range of.Tables {
				n[fmt.Sprint(id)] += f.N
			}
			continue
		}
		for _, id := range of.Subjects {
			n[fmt.Sprint(id)] += f.N
		}
	}
	var out []store.Total
	for name, n := range n {
		out = append(out, store.Total{Name: name, N: n})
	}
	slices.SortFunc(out, func(a, b store.Total) int { return cmp.Or(cmp.Compare(b.N, a.N), strings.Compare(a.Name, b.Name)) })
	return out, nil
}

// number reads the number of a subject or object; zero: it is none.
func number(name string) uint32 {
	n, err := strconv.ParseUint(name, 10, 32)
	if err != nil {
		return 0
	}
	return uint32(n)
}

// labelledTables are the tables that have the label of a path now; with none, any.
func labelledTables(st *platform.State, path string) map[access.ObjectID]bool {
	tables := map[access.ObjectID]bool{}
	for _, label := range st.Model.Labels() {
		if path == "" || st.Model.Path(label.ID) == path {
			for _, column := range st.Policies.Bearing(st.Model, label.ID) {
				tables[st.Model.Object(column).Parent] = true
			}
		}
	}
	return tables
}

// The kinds of what stands out.
const (
	firstRead  = "first"
	newAddress = "address"
	farMore    = "far_above"
)

func wireUnusual(u store.Unusual) wire.Unusual {
	out := wire.Unusual{Day: u.Day, Kind: u.Kind, Actor: u.Actor, Label: u.Label, Address: u.Address, Rows: u.Rows, N: u.N, Usual: u.Usual}
	switch u.Kind {
	case firstRead:
		out.Says = say.FirstRead.With(u.Actor, u.Label)
	case newAddress:
		out.Says = say.NewAddress.With(u.Actor, u.Label, u.Address)
	case farMore:
		out.Says = say.FarAbove.With(u.Actor, u.Rows, u.Label, u.Usual)
	}
	return out
}

// unusual finds what is new, and what is far above usual, from a day on, in what one person read, beside
// the days before. Where labels have been counted for less than some weeks, everything is new, and
// nothing is.
func unusual(days []store.LabelDay, from, oldest string) (out []store.Unusual) {
	type sum struct{ n, rows int64 }
	daily := map[string]map[string]sum{} // by label and day
	addresses := map[string]bool{}
	began, err := time.Parse(time.DateOnly, oldest)
	if err != nil {
		return nil
	}
	known := began.AddDate(0, 0, usualDays).Format(time.DateOnly)
	for _, d := range days { // which come in order
		if _, other := asOther(d); other {
			continue // which is counted apart
		}
		tells := d.Day >= from && d.Day >= known
		if daily[d.Label] == nil {
			daily[d.Label] = map[string]sum{}
			if tells {
				out = append(out, store.Unusual{Day: d.Day, Kind: firstRead, Actor: d.Actor, Label: d.Label, Address: d.Address, Rows: d.Rows, N: d.N})
			}
		}
		s := daily[d.Label][d.Day]
		daily[d.Label][d.Day] = sum{s.n + d.N, s.rows + d.Rows}
		if len(addresses) > 0 && !addresses[d.Address] && d.Address != "" && tells {
			out = append(out, store.Unusual{Day: d.Day, Kind: newAddress, Actor: d.Actor, Label: d.Label, Address: d.Address, Rows: d.Rows, N: d.N})
		}
		addresses[d.Address] = true
	}
	for label, byDay := range daily {
		order := slices.Sorted(maps.Keys(byDay))
		for i, day := range order {
			if day < from || i < 5 || byDay[day].rows < fewRows {
				continue // too little is known of what is usual
			}
			var before []int64
			for _, earlier := range order[max(0, i-60):i] {
				before = append(before, byDay[earlier].rows)
			}
			slices.Sort(before)
			if usual := before[len(before)/2]; byDay[day].rows >= farAbove*max(usual, 1) {
				out = append(out, store.Unusual{Day: day, Kind: farMore, Actor: days[0].Actor, Label: label, Rows: byDay[day].rows, N: byDay[day].n, Usual: usual})
			}
		}
	}
	return out
}

// countEvery is how often the record is counted beside requests, so that no page waits for much of it.
const countEvery = time.Minute

// KeepCounts counts the record again and again, until the context ends, takes away what is too old of
// use, and looks for what is to be found in the state.
func (s *Service) KeepCounts(ctx context.Context) {
	dropped := ""
	for {
		select {
		case <-time.After(countEvery):
		case <-ctx.Done():
			return
		}
		err := s.store.Audit().Look(ctx, unusual)
		now := time.Now()
		if since := now.UTC().AddDate(0, 0, -mostUseDays).Format(time.DateOnly); err == nil && since != dropped {
			if err = s.store.Audit().DropUse(ctx, since); err == nil {
				dropped = since
			}
		}
		if err == nil {
			_, err = s.look(ctx, s.platform.Current(), now)
		}
		if err != nil && ctx.Err() == nil {
			s.log.Warn("the record could not be counted", "error", err)
		}
	}
}

// Anchor is the heads of both chains, to be kept elsewhere.
func (s *Service) Anchor(ctx context.Context, c identity.Caller) (wire.Anchor, error) {
	if err := s.audits(c, "an anchor of the chains"); err != nil {
		return wire.Anchor{}, err
	}
	h, err := s.store.Heads(ctx)
	return wire.Anchor{At: time.Now().UTC(), Record: wire.Link(h.Record), Journal: wire.Link(h.Journal)}, err
}

// audits refuses who does not read the record.
func (s *Service) audits(c identity.Caller, asked string) error {
	st := s.platform.Current()
	own, err := s.identity.Own(st, c)
	if err != nil || own.Resolve(access.PlatformID).Allowed.Has(access.Audit) {
		return err
	}
	return s.identity.Refuse(c, audit.Review, asked, identity.Wants(st, access.Audit, access.PlatformID))
}

// VerifyAnchor checks both chains, and that the entries of an anchor are in them as they were.
func (s *Service) VerifyAnchor(ctx context.Context, c identity.Caller, a wire.Anchor) (wire.Verification, error) {
	if a.Record.Number < 1 || a.Record.Hash == "" || a.Journal.Number < 0 {
		return wire.Verification{}, fault.New(fault.Invalid, "bad_anchor",
			"that is no anchor: it has the number and the hash of a record and of a revision, as gneiss audit anchor prints them")
	}
	out, err := s.VerifyRecord(ctx, c)
	if err != nil || !out.Holds {
		return out, err
	}
	if journal, err := s.VerifyJournal(ctx, c); err != nil || !journal.Holds {
		return journal, err
	}
	hash, err := s.store.Audit().HashOf(ctx, a.Record.Number)
	if err != nil {
		return out, err
	}
	entry, err := s.store.Entry(ctx, a.Journal.Number)
	past := errors.Is(err, sql.ErrNoRows) && a.Journal.Number > 0
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return out, err
	}
	switch {
	case past:
		out.Holds, out.Problem = false, say.AnchorPast.With(a.Journal.Number, s.platform.Current().Revision)
	case hash == "":
		out.Holds, out.Problem = false, say.AnchorOld.With(audit.Reference(a.Record.Number))
	case hash != a.Record.Hash:
		out.Holds, out.Problem = false, say.AnchorDiffers.With(audit.Reference(a.Record.Number))
	case entry.Hash != a.Journal.Hash:
		out.Holds, out.Problem = false, say.AnchorDiffers.With("revision "+strconv.FormatInt(a.Journal.Number, 10))
	}
	return out, nil
}
