package review

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/service/say"
	"gneiss/store"
	"gneiss/wire"
)

// How much is listed of counts, and what is unusual: a day with so many times the rows of a usual one,
// and with so many at least. What is usual is looked for in as many days before.
const (
	mostTotals   = 20
	mostUnusual  = 100
	farAbove     = 5
	fewRows      = 50
	usualOverDay = 90
)

// RecordCounts says what the record comes to over some days, for who reads it.
func (s *Service) RecordCounts(ctx context.Context, c identity.Caller, from, until, label, actor string) (wire.RecordCounts, error) {
	st := s.platform.Current()
	out := wire.RecordCounts{Labels: []wire.CountSeries{}, People: []wire.CountTotal{}, Addresses: []wire.CountTotal{}, ForOthers: []wire.CountTotal{},
		Unusual: []wire.Unusual{}}
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
				return out, fault.New(fault.Invalid, "bad_date", "%.40q is no day, as in 2026-11-01", day.text)
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
	if err := s.store.Audit().Count(ctx); err != nil {
		return out, err
	}
	days, err := s.store.Audit().LabelDays(ctx, first.AddDate(0, 0, -usualOverDay).Format(time.DateOnly), out.Until)
	if err != nil {
		return out, err
	}
	days = slices.DeleteFunc(days, func(d store.LabelDay) bool {
		return d.Decision == audit.Refused || label != "" && d.Label != label || actor != "" && d.Actor != actor
	})
	labelSeries(&out, days, at, func(path string) string {
		if found, err := st.Model.FindLabel(path); err == nil {
			return string(found.Level)
		}
		return ""
	})
	out.Unusual = unusual(days, out.From)
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

// labelSeries puts together who read what, day by day and in all.
func labelSeries(out *wire.RecordCounts, days []store.LabelDay, at map[string]int, level func(string) string) {
	series := map[string]*wire.CountSeries{}
	totals := [3]map[string]*wire.CountTotal{{}, {}, {}}
	for _, d := range days {
		i, in := at[d.Day]
		if !in {
			continue
		}
		if series[d.Label] == nil {
			series[d.Label] = &wire.CountSeries{Name: d.Label, Level: level(d.Label), N: make([]int64, len(at)), Rows: make([]int64, len(at))}
		}
		series[d.Label].N[i] += d.N
		series[d.Label].Rows[i] += d.Rows
		names := [3]string{d.Actor, d.Address, ""}
		if whom, other := asOther(d); other {
			names = [3]string{"", d.Address, d.Actor + " as " + whom}
		}
		for k, name := range names {
			if name == "" {
				continue
			}
			if totals[k][name] == nil {
				totals[k][name] = &wire.CountTotal{Name: name}
			}
			totals[k][name].N += d.N
			totals[k][name].Rows += d.Rows
		}
	}
	for _, name := range slices.Sorted(maps.Keys(series)) {
		out.Labels = append(out.Labels, *series[name])
	}
	for k, list := range []*[]wire.CountTotal{&out.People, &out.Addresses, &out.ForOthers} {
		for _, t := range totals[k] {
			*list = append(*list, *t)
		}
		slices.SortFunc(*list, func(a, b wire.CountTotal) int {
			return cmp.Or(cmp.Compare(b.Rows, a.Rows), strings.Compare(a.Name, b.Name))
		})
		*list = (*list)[:min(len(*list), mostTotals)]
	}
}

// unusual finds what is new, and what is far above usual, from a day on: of each person and label, beside
// the days before.
func unusual(days []store.LabelDay, from string) []wire.Unusual {
	type who struct{ actor, label string }
	type sum struct{ n, rows int64 }
	daily := map[who]map[string]sum{}
	seenFrom := map[string]map[string]bool{} // the addresses of each person
	out := []wire.Unusual{}
	oldest := ""
	for _, d := range days { // which come in order
		if oldest == "" {
			oldest = d.Day
		}
		if _, other := asOther(d); other {
			continue // which is counted apart
		}
		k := who{d.Actor, d.Label}
		if daily[k] == nil {
			daily[k] = map[string]sum{}
			if d.Day >= from && oldest < from { // there is a time before, in which it did not happen
				out = append(out, wire.Unusual{Day: d.Day, Kind: "first", Actor: d.Actor, Label: d.Label, Address: d.Address, Rows: d.Rows, N: d.N,
					Says: say.FirstRead.With(d.Actor, d.Label)})
			}
		}
		s := daily[k][d.Day]
		daily[k][d.Day] = sum{s.n + d.N, s.rows + d.Rows}
		if known := seenFrom[d.Actor]; known == nil {
			seenFrom[d.Actor] = map[string]bool{d.Address: true}
		} else if !known[d.Address] {
			known[d.Address] = true
			if d.Day >= from && d.Address != "" {
				out = append(out, wire.Unusual{Day: d.Day, Kind: "address", Actor: d.Actor, Label: d.Label, Address: d.Address, Rows: d.Rows, N: d.N,
					Says: say.NewAddress.With(d.Actor, d.Label, d.Address)})
			}
		}
	}
	for k, byDay := range daily {
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
				out = append(out, wire.Unusual{Day: day, Kind: "far_above", Actor: k.actor, Label: k.label, Rows: byDay[day].rows, N: byDay[day].n, Usual: usual,
					Says: say.FarAbove.With(k.actor, byDay[day].rows, k.label, usual)})
			}
		}
	}
	slices.SortFunc(out, func(a, b wire.Unusual) int {
		return cmp.Or(strings.Compare(b.Day, a.Day), strings.Compare(a.Kind, b.Kind), strings.Compare(a.Actor+a.Label, b.Actor+b.Label))
	})
	return out[:min(len(out), mostUnusual)]
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
	if err != nil {
		return out, err
	}
	switch {
	case hash == "":
		out.Holds, out.Problem = false, say.AnchorOld.With(audit.Reference(a.Record.Number))
	case hash != a.Record.Hash:
		out.Holds, out.Problem = false, say.AnchorDiffers.With(audit.Reference(a.Record.Number))
	case entry.Hash != a.Journal.Hash:
		out.Holds, out.Problem = false, say.AnchorDiffers.With("revision "+strconv.FormatInt(a.Journal.Number, 10))
	}
	return out, nil
}
