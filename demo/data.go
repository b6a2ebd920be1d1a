// Package demo makes the demo platform: the Northmark Geological Survey, all
// made up. Its data come from a fixed seed, so that every run gives the same
// rows.
package demo

import (
	"database/sql"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"

	_ "github.com/mattn/go-sqlite3" // the driver of the demo's files
)

// The sizes of the demo's tables, in rows.
const (
	Boreholes = 2_400
	Samples   = 18_000
	Results   = 90_000
	Readings  = 300_000
	Holders   = 120
	licences  = 400
	payments  = 2_400
	wells     = 300
	stations  = 40
	crews     = 20
	visits    = 3_000
	batches   = 600
	Reports   = 1_200
)

// Districts are the survey's five.
var Districts = []string{"north", "coast", "basin", "highland", "islands"}

var (
	rocks    = []string{"gneiss", "granite", "schist", "basalt", "slate", "limestone", "sandstone", "dolerite"}
	elements = []string{"Au", "Cu", "Zn", "Ni", "Li", "Co", "Ag", "Pb"}
	methods  = []string{"fire assay", "ICP-MS", "XRF", "AAS"}
	statuses = []string{"planned", "drilling", "logged", "closed"}
	firms    = []string{"Blackmoor Minerals", "Corrie Drilling", "Fellside Cores", "Longshore Rigs"}
	stems    = []string{"Alder", "Birch", "Cairn", "Drumlin", "Esker", "Fjord", "Garth", "Holm", "Isle", "Knoll", "Loch", "Moor"}
	ends     = []string{"Minerals", "Resources", "Exploration", "Stone", "Metals", "Aggregates"}
	given    = []string{"Arlo", "Brin", "Cato", "Dell", "Eira", "Fenn", "Greta", "Hale", "Isko", "Juno", "Kit", "Lorn"}
	family   = []string{"Ashdown", "Brackley", "Coldwell", "Dunmore", "Elsworth", "Fairholt", "Greyling", "Hartwick"}
)

// a generator writes one schema's file.
type generator struct {
	r   *rand.Rand
	tx  *sql.Tx
	err error
}

func (g *generator) exec(text string) {
	if g.err == nil {
		_, g.err = g.tx.Exec(text)
	}
}

// fill inserts n rows; row gives the values of the i-th, from 1.
func (g *generator) fill(table string, n int, row func(i int) []any) {
	var insert *sql.Stmt
	for i := 1; i <= n && g.err == nil; i++ {
		values := row(i)
		if insert == nil {
			insert, g.err = g.tx.Prepare("INSERT INTO " + table + " VALUES (?" + strings.Repeat(", ?", len(values)-1) + ")")
			if g.err != nil {
				return
			}
			defer insert.Close()
		}
		_, g.err = insert.Exec(values...)
	}
}

func pick[T any](r *rand.Rand, list []T) T { return list[r.IntN(len(list))] }

func day(base string, days int) string {
	d, err := time.Parse(time.DateOnly, base)
	if err != nil {
		panic(err)
	}
	return d.AddDate(0, 0, days).Format(time.DateOnly)
}

func round(x float64, decimals int) float64 {
	p := math.Pow10(decimals)
	return math.Round(x*p) / p
}

// district of a borehole, well or visit: the north has most.
func district(r *rand.Rand) string {
	return Districts[min(r.IntN(7)*r.IntN(7)/8, len(Districts)-1)]
}

// WriteData writes the survey's tables into a folder, one SQLite file a schema.
func WriteData(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	for i, schema := range []struct {
		name string
		fill func(*generator)
	}{{"drilling", drilling}, {"assay", assay}, {"licensing", licensing}, {"monitoring", monitoring}, {"field", field}} {
		if err := writeSchema(filepath.Join(dir, schema.name+".db"), uint64(i+1), schema.fill); err != nil {
			return fmt.Errorf("schema %s: %w", schema.name, err)
		}
	}
	return nil
}

func writeSchema(path string, seed uint64, fill func(*generator)) error {
	db, err := sql.Open("sqlite3", "file:"+path+"?_synchronous=OFF&_journal_mode=MEMORY")
	if err != nil {
		return err
	}
	defer db.Close()
	tx, err := db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	g := &generator{r: rand.New(rand.NewPCG(1907, seed)), tx: tx}
	fill(g)
	if g.err != nil {
		return g.err
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	_, err = db.Exec("ANALYZE")
	return err
}

func drilling(g *generator) {
	g.exec(`CREATE TABLE boreholes (id INTEGER PRIMARY KEY, name TEXT NOT NULL, district TEXT NOT NULL, licence_id INTEGER NOT NULL,
		latitude REAL NOT NULL, longitude REAL NOT NULL, depth_m REAL NOT NULL, drilled_on DATE NOT NULL, release_on DATE,
		status TEXT NOT NULL, contractor TEXT, cost REAL)`)
	g.fill("boreholes", Boreholes, func(i int) []any {
		r, d := g.r, district(g.r)
		drilled := r.IntN(3650)
		var release, cost, contractor any = day("2016-01-04", drilled+365*(1+r.IntN(5))), round(20_000+r.Float64()*380_000, 2), pick(r, firms)
		if r.IntN(20) == 0 {
			release = nil
		}
		if r.IntN(30) == 0 {
			cost, contractor = nil, nil
		}
		return []any{
			i,
			fmt.Sprintf("%s-%04d", strings.ToUpper(d[:2]), i),
			d,
			1 + r.IntN(licences),
			round(54+r.Float64()*6, 5),
			round(-7+r.Float64()*6, 5),
			round(30+r.ExpFloat64()*180, 1),
			day("2016-01-04", drilled),
			release,
			pick(r, statuses),
			contractor,
			cost,
		}
	})
	g.exec(`CREATE INDEX boreholes_district ON boreholes (district, drilled_on)`)
	g.exec(`CREATE INDEX boreholes_licence ON boreholes (licence_id)`)
	g.exec(
		`CREATE TABLE core_boxes (id INTEGER PRIMARY KEY, borehole_id INTEGER NOT NULL REFERENCES boreholes (id),
			box_no INTEGER NOT NULL, shelf TEXT NOT NULL, from_m REAL NOT NULL, to_m REAL NOT NULL)`,
	)
	g.fill("core_boxes", 4*Boreholes, func(i int) []any {
		n := (i - 1) % 4
		return []any{i, 1 + (i-1)/4, n + 1, fmt.Sprintf("%c%02d", 'A'+g.r.IntN(12), 1+g.r.IntN(40)), float64(n) * 3, float64(n)*3 + 3}
	})
	g.exec(`CREATE INDEX core_boxes_borehole ON core_boxes (borehole_id)`)
	g.exec(
		`CREATE TABLE lithology (id INTEGER PRIMARY KEY, borehole_id INTEGER NOT NULL REFERENCES boreholes (id),
			from_m REAL NOT NULL, to_m REAL NOT NULL, rock TEXT NOT NULL, weathered BOOLEAN)`,
	)
	g.fill("lithology", 3*Boreholes, func(i int) []any {
		top := float64((i-1)%3) * 25
		return []any{i, 1 + (i-1)/3, top, top + 25, pick(g.r, rocks), g.r.IntN(3) == 0}
	})
	g.exec(`CREATE INDEX lithology_borehole ON lithology (borehole_id)`)
}

func assay(g *generator) {
	g.exec(`CREATE TABLE batches (id INTEGER PRIMARY KEY, laboratory TEXT NOT NULL, received_on DATE NOT NULL, accepted BOOLEAN NOT NULL)`)
	g.fill("batches", batches, func(i int) []any {
		return []any{i, pick(g.r, []string{"Northmark Central", "Tarn Street"}), day("2017-02-01", i*5), g.r.IntN(12) > 0}
	})
	g.exec(
		`CREATE TABLE samples (id INTEGER PRIMARY KEY, borehole_id INTEGER NOT NULL, from_m REAL NOT NULL, to_m REAL NOT NULL, taken_on DATE NOT NULL, mass_g REAL)`,
	)
	g.fill("samples", Samples, func(i int) []any {
		top := round(g.r.Float64()*150, 1)
		return []any{i, 1 + g.r.IntN(Boreholes), top, top + 1, day("2016-03-01", g.r.IntN(3600)), round(200+g.r.Float64()*1800, 1)}
	})
	g.exec(`CREATE INDEX samples_borehole ON samples (borehole_id)`)
	g.exec(
		`CREATE TABLE results (id INTEGER PRIMARY KEY, sample_id INTEGER NOT NULL REFERENCES samples (id),
			element TEXT NOT NULL, ppm REAL, method TEXT NOT NULL, batch_id INTEGER NOT NULL, analyst TEXT NOT NULL)`,
	)
	g.fill("results", Results, func(i int) []any {
		var ppm any = round(g.r.ExpFloat64()*40, 3)
		if g.r.IntN(25) == 0 {
			ppm = nil // below detection
		}
		return []any{
			i,
			1 + (i-1)/5,
			elements[(i-1)%5+g.r.IntN(4)],
			ppm,
			pick(g.r, methods),
			1 + g.r.IntN(batches),
			pick(g.r, []string{"beryl", "topaz", "zircon"}),
		}
	})
	g.exec(`CREATE INDEX results_sample ON results (sample_id)`)
}

func licensing(g *generator) {
	g.exec(
		`CREATE TABLE holders (id INTEGER PRIMARY KEY, company TEXT NOT NULL, contact_name TEXT NOT NULL,
			email TEXT NOT NULL, phone TEXT, bank_account TEXT, tax_number TEXT)`,
	)
	g.fill("holders", Holders, func(i int) []any {
		r := g.r
		first, last := pick(r, given), pick(r, family)
		company := pick(r, stems) + " " + pick(r, ends)
		var phone any = fmt.Sprintf("+00 555 %03d %04d", r.IntN(1000), r.IntN(10000))
		if r.IntN(15) == 0 {
			phone = nil
		}
		return []any{
			i,
			company,
			first + " " + last,
			strings.ToLower(first + "." + last + "@" + strings.ReplaceAll(company, " ", "-") + ".example"),
			phone,
			fmt.Sprintf("ZZ%02d%016d", r.IntN(100), r.Int64N(1e16)),
			fmt.Sprintf("T-%08d", r.IntN(1e8)),
		}
	})
	g.exec(
		`CREATE TABLE licences (id INTEGER PRIMARY KEY, holder_id INTEGER NOT NULL REFERENCES holders (id),
			district TEXT NOT NULL, granted_on DATE NOT NULL, ends_on DATE NOT NULL, portal_user TEXT)`,
	)
	g.fill("licences", licences, func(i int) []any {
		var user any
		if i%40 == 7 {
			user = "tuff"
		}
		start := g.r.IntN(3000)
		return []any{i, 1 + g.r.IntN(Holders), district(g.r), day("2015-01-01", start), day("2015-01-01", start+365*(3+g.r.IntN(8))), user}
	})
	g.exec(`CREATE INDEX licences_user ON licences (portal_user)`)
	g.exec(
		`CREATE TABLE payments (id INTEGER PRIMARY KEY, licence_id INTEGER NOT NULL REFERENCES licences (id),
			paid_on DATE NOT NULL, amount REAL NOT NULL, settled BOOLEAN NOT NULL)`,
	)
	g.fill("payments", payments, func(i int) []any {
		return []any{i, 1 + g.r.IntN(licences), day("2015-06-01", g.r.IntN(4000)), round(500+g.r.Float64()*24_500, 2), g.r.IntN(10) > 0}
	})
}

func monitoring(g *generator) {
	home := make([]string, wells+1)
	g.exec(`CREATE TABLE stations (id INTEGER PRIMARY KEY, name TEXT NOT NULL, district TEXT NOT NULL, altitude_m REAL NOT NULL)`)
	g.fill("stations", stations, func(i int) []any {
		return []any{i, pick(g.r, stems) + " station", Districts[i%5], round(g.r.Float64()*900, 1)}
	})
	g.exec(
		`CREATE TABLE wells (id INTEGER PRIMARY KEY, station_id INTEGER NOT NULL REFERENCES stations (id), district TEXT NOT NULL, depth_m REAL NOT NULL)`,
	)
	g.fill("wells", wells, func(i int) []any {
		home[i] = Districts[i%5]
		return []any{i, 1 + (i-1)%stations, home[i], round(8+g.r.Float64()*70, 1)}
	})
	g.exec(
		`CREATE TABLE readings (id INTEGER PRIMARY KEY, well_id INTEGER NOT NULL REFERENCES wells (id),
			district TEXT NOT NULL, day DATE NOT NULL, level_m REAL NOT NULL, conductivity REAL)`,
	)
	g.fill("readings", Readings, func(i int) []any {
		well := 1 + (i-1)%wells
		n := (i - 1) / wells
		var conductivity any = round(300+g.r.NormFloat64()*60, 1)
		if g.r.IntN(40) == 0 {
			conductivity = nil
		}
		return []any{i, well, home[well], day("2023-06-01", n), round(6+3*math.Sin(float64(n)/58)+g.r.NormFloat64()*0.4, 2), conductivity}
	})
	g.exec(`CREATE INDEX readings_district ON readings (district, day)`)
	g.exec(`CREATE INDEX readings_well ON readings (well_id, day)`)
}

func field(g *generator) {
	g.exec(`CREATE TABLE crews (id INTEGER PRIMARY KEY, name TEXT NOT NULL, district TEXT NOT NULL)`)
	g.fill("crews", crews, func(i int) []any {
		return []any{i, fmt.Sprintf("%s crew %d", Districts[i%5], 1+i/5), Districts[i%5]}
	})
	g.exec(
		`CREATE TABLE visits (id INTEGER PRIMARY KEY, crew_id INTEGER NOT NULL REFERENCES crews (id),
			borehole_id INTEGER NOT NULL, visited_on DATE NOT NULL, note TEXT)`,
	)
	g.fill("visits", visits, func(i int) []any {
		var note any = pick(g.r, []string{"collar capped", "casing lifted", "water sampled", "site restored", "access track flooded"})
		if g.r.IntN(3) == 0 {
			note = nil
		}
		return []any{i, 1 + g.r.IntN(crews), 1 + g.r.IntN(Boreholes), day("2022-01-03", g.r.IntN(1700)), note}
	})
	g.exec(
		`CREATE TABLE reports (id INTEGER PRIMARY KEY, borehole_id INTEGER NOT NULL,
			author TEXT NOT NULL, written_on DATE NOT NULL, hours REAL NOT NULL, cost REAL NOT NULL)`,
	)
	g.fill("reports", Reports, func(i int) []any {
		hours := round(2+g.r.ExpFloat64()*9, 1)
		return []any{
			i,
			1 + g.r.IntN(Boreholes),
			pick(g.r, []string{"flint", "jasper", "slate", "chert"}),
			day("2023-01-09", g.r.IntN(1300)),
			hours,
			round(hours*(60+g.r.Float64()*35), 2),
		}
	})
	g.exec(`CREATE INDEX reports_author ON reports (author, written_on)`)
	g.exec(`CREATE TABLE district_officers (officer TEXT NOT NULL, district TEXT NOT NULL, since DATE NOT NULL, PRIMARY KEY (officer, district))`)
	officers := [][2]string{{"flint", "north"}, {"jasper", "coast"}, {"slate", "basin"}, {"slate", "highland"},
		{"chert", "north"}, {"chert", "coast"}, {"chert", "basin"}, {"chert", "highland"}}
	g.fill("district_officers", len(officers), func(i int) []any {
		return []any{officers[i-1][0], officers[i-1][1], "2024-01-08"}
	})
}
