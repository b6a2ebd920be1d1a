package demo

import (
	"context"
	"errors"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"gneiss/service/audit"
	"gneiss/service/fault"
	"gneiss/store"
	"gneiss/wire"
)

// The demo has some months behind it: what people read on their working days, what they were refused,
// and one night that stands out. Each statement is run once, and its record repeated with other times.

// monthsDays is how many days there are records of, and began how many days ago the platform was made.
const (
	monthsDays = 150
	began      = 170
)

// A habit is what somebody asks again and again.
type habit struct {
	who     string
	client  string
	address string
	sql     string
	daily   float64 // how often, on a working day
	hour    int     // when, about
}

var habits = []habit{
	{"user:flint", "psql", "10.4.1.21", "SELECT id, name, depth_m, status FROM survey.drilling.boreholes WHERE status = 'drilling' ORDER BY name", 5, 9},
	{"user:flint", "psql", "10.4.1.21", "SELECT rock, count(*) FROM survey.drilling.lithology GROUP BY rock", 1.4, 11},
	{"user:flint", "jupyter", "10.4.1.21", "SELECT s.id, s.from_m, r.element, r.ppm FROM survey.assay.samples s " +
		"JOIN survey.assay.results r ON r.sample_id = s.id LIMIT 500", 0.8, 14},
	{"user:flint", "console", "10.4.1.21", "SELECT well_id, max(day), avg(level_m) FROM survey.monitoring.readings GROUP BY well_id", 0.5, 16},
	{"user:slate", "soffice", "10.4.3.12", "SELECT well_id, day, level_m FROM survey.monitoring.readings ORDER BY day DESC LIMIT 200", 0.4, 16},
	{"user:jasper", "console", "10.4.2.33", "SELECT id, name, district, depth_m FROM survey.drilling.boreholes ORDER BY drilled_on DESC LIMIT 100", 4, 10},
	{"user:jasper", "console", "10.4.2.33", "SELECT company, contact_name, email FROM survey.licensing.holders LIMIT 20", 0.4, 15},
	{"user:slate", "soffice", "10.4.3.12", "SELECT id, name, depth_m, latitude, longitude FROM survey.drilling.boreholes", 2, 8},
	{"user:slate", "soffice", "10.4.3.12", "SELECT company, contact_name FROM survey.licensing.holders WHERE company LIKE 'A%'", 0.3, 16},
	{"user:chert", "console", "10.4.1.5", "SELECT district, count(*), avg(depth_m) FROM survey.drilling.boreholes GROUP BY district", 1.5, 9},
	{"user:chert", "console", "10.4.1.5", "SELECT contractor, sum(cost) FROM survey.drilling.boreholes GROUP BY contractor", 0.3, 17},
	{"user:beryl", "psql", "10.4.5.9", "SELECT element, method, count(*), avg(ppm) FROM survey.assay.results GROUP BY element, method", 3, 10},
	{"user:beryl", "psql", "10.4.5.9", "SELECT id, laboratory, received_on FROM survey.assay.batches WHERE NOT accepted", 2, 13},
	{"user:garnet", "console", "10.4.6.2", "SELECT company, bank_account, tax_number FROM survey.licensing.holders ORDER BY company LIMIT 50", 2.5, 11},
	{"user:garnet", "console", "10.4.6.2", "SELECT l.id, h.company, l.ends_on FROM survey.licensing.licences l " +
		"JOIN survey.licensing.holders h ON h.id = l.holder_id " +
		"WHERE l.ends_on < DATE '2027-06-30'", 3, 10},
	{"user:garnet", "console", "10.4.6.2", "SELECT licence_id, sum(amount) FROM survey.licensing.payments GROUP BY licence_id", 1, 16},
	{"user:tuff", "JDBC", "192.0.2.77", "SELECT name, depth_m, status FROM survey.drilling.boreholes", 0.8, 12},
	{"user:opal", "gneiss", "10.4.0.2", "SELECT count(*) FROM survey.drilling.boreholes", 0.4, 9},
	{"service:pumice", "portal", "10.4.9.80", "SELECT id, name, latitude, longitude FROM survey.drilling.boreholes WHERE release_on <= CURRENT_DATE", 6, 12},
	// What is refused.
	{"user:marl", "console", "10.4.2.40", "SELECT * FROM survey.assay.results", 0.12, 10},
	{"user:beryl", "psql", "10.4.5.9", "SELECT * FROM survey.licensing.payments", 0.06, 14},
	{"user:tuff", "JDBC", "192.0.2.77", "SELECT * FROM survey.drilling.lithology", 0.08, 12},
	{"user:flint", "psql", "10.4.1.21", "SELECT district FROM survey.monitoring.wells", 0.05, 15},
}

// oneNight is when slate, who reads a few companies now and then, read all of them, and from elsewhere.
var oneNight = struct {
	habit
	daysAgo, times int
}{habit{who: "user:slate", client: "python", address: "203.0.113.58", hour: 2,
	sql: "SELECT id, company, contact_name, email, phone FROM survey.licensing.holders"}, 11, 38}

// months makes the record of the last months.
func (m *maker) months(now time.Time) {
	if m.err != nil {
		return
	}
	random := rand.New(rand.NewPCG(7, 11))
	var out []*store.Record
	repeat := func(kept store.Record, at time.Time, h habit) {
		r := kept
		r.At, r.Address, r.Client = at.Format("2006-01-02T15:04:05.000Z"), h.address, h.client
		r.TookUS = int64(float64(kept.TookUS) * (0.6 + random.Float64()))
		out = append(out, &r)
	}
	signIns := map[string]store.Record{}
	for _, h := range append(habits, oneNight.habit) {
		kept, err := m.once(h)
		if err != nil {
			m.err = err
			return
		}
		signIns[h.who] = store.Record{Actor: h.who, Action: audit.SignIn, Decision: audit.Allowed, Objects: "[]", Labels: "[]", Missing: "[]", TookUS: 900}
		for day := monthsDays; day >= 1; day-- {
			morning := now.AddDate(0, 0, -day).Truncate(24 * time.Hour)
			often := h.daily
			if weekday := morning.Weekday(); weekday == time.Saturday || weekday == time.Sunday {
				often /= 12
			}
			if h.who == "user:marl" && day < 21 {
				often *= 5 // who was promised something
			}
			if h.times(day) > 0 {
				often = float64(h.times(day))
			}
			for n := int(often + random.Float64()); n > 0; n-- {
				at := morning.Add(time.Duration(h.hour)*time.Hour + time.Duration((random.Float64()-0.3)*float64(3*time.Hour)))
				if h.times(day) > 0 {
					at = morning.Add(2*time.Hour + 41*time.Minute + time.Duration(n)*9*time.Second)
				}
				repeat(kept, at, h)
			}
		}
	}
	for who, kept := range signIns {
		for day := monthsDays; day >= 1; day-- {
			morning := now.AddDate(0, 0, -day).Truncate(24 * time.Hour)
			if weekday := morning.Weekday(); weekday != time.Saturday && weekday != time.Sunday && random.IntN(10) > 1 {
				repeat(kept, morning.Add(time.Duration(7*60+random.IntN(110))*time.Minute), habits[slices.IndexFunc(habits, func(h habit) bool { return h.who == who })])
			}
		}
	}
	slices.SortStableFunc(out, func(a, b *store.Record) int { return strings.Compare(a.At, b.At) })
	m.err = m.svc.Audit.Load(m.ctx, out, now.AddDate(0, 0, -began))
}

// times is how often something was asked in the one night.
func (h habit) times(day int) int {
	if h.sql == oneNight.sql && day == oneNight.daysAgo {
		return oneNight.times
	}
	return 0
}

// once runs a statement and returns its record.
func (m *maker) once(h habit) (store.Record, error) {
	as, err := m.svc.Admin.ActAs(h.who)
	if err != nil {
		return store.Record{}, err
	}
	usual := habits[slices.IndexFunc(habits, func(x habit) bool { return x.who == h.who })]
	as.Address, as.Client = usual.address, usual.client
	_, err = m.svc.Gateway.Query(m.ctx, as, wire.QueryRequest{SQL: h.sql})
	var refused *fault.Error
	if err != nil && !errors.As(err, &refused) {
		return store.Record{}, err
	}
	found, err := m.svc.Audit.Find(context.WithoutCancel(m.ctx), store.Search{Actor: h.who, Limit: 1})
	if err != nil {
		return store.Record{}, err
	}
	return found[0], nil
}
