package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/valyala/fasthttp"

	"gneiss/demo"
	"gneiss/demo/demotest"
	"gneiss/source/pgtest"
	"gneiss/wire"
)

const (
	point       = "SELECT id, name, district, depth_m, status FROM "
	fromPoint   = ".drilling.boreholes WHERE id = "
	pointOf     = point + "drilling.boreholes WHERE id = :id"
	byHand      = " AND district IN ('north')"
	pointByHand = pointOf + byHand
	withUpper   = "SELECT id, upper(name) FROM drilling.boreholes WHERE id = :id"
)

// BenchmarkPoints measures how many statements per second a running service answers: point reads through the port and
// over HTTP, with parameters and with literals, and through the port a query with a function. It compares each with the
// database itself, where the filter of flint's policy is written by hand. There are 64 clients, or 32 where the name says so
// and for the query with a function. The lane lets in as many as ask, as the database does; port-lane is port with the lane as it is
// at first, on which 16 run at once. It takes the ways in turn, for a second each, and reports the medians. Clients, service
// and database share the machine.
func BenchmarkPoints(b *testing.B) {
	server, port, own := serviceAndDatabase(b)
	opal := signedIn(b, server, "opal")
	lane := func(queries string, rate func(*testing.B) float64) func(*testing.B) float64 {
		return func(b *testing.B) float64 {
			opal.must("lane", "set", "interactive", "--queries", queries, "--reason", "a measurement")
			defer opal.must("lane", "set", "interactive", "--queries", "100", "--reason", "a measurement")
			return rate(b)
		}
	}
	token := demotest.SignIn(b, server, "flint").Token
	ways := []struct {
		name, of string
		rate     func(*testing.B) float64
	}{
		{"direct-32", "", pgbench(b, own, pointByHand, 32)},
		{"port-32", "direct-32", pgbench(b, port, pointOf, 32)},
		{"direct", "", pgbench(b, own, pointByHand, 64)},
		{"port", "direct", lane("100", pgbench(b, port, pointOf, 64))},
		{"port-lane", "direct", lane("16", pgbench(b, port, pointOf, 64))},
		{"direct-other", "", pgbench(b, own, withUpper+byHand, 32)},
		{"port-other", "direct-other", pgbench(b, port, withUpper, 32)},
		{"http-parameters", "direct", overHTTP(server, token, func(id int) wire.QueryRequest {
			return wire.QueryRequest{SQL: point + demo.Second + fromPoint + "$1", Params: []any{id}}
		})},
		{"http-literals", "direct", overHTTP(server, token, func(id int) wire.QueryRequest {
			return wire.QueryRequest{SQL: point + demo.Second + fromPoint + strconv.Itoa(id)}
		})},
	}
	rates := map[string][]float64{}
	round := func() {
		for _, way := range ways {
			rates[way.name] = append(rates[way.name], way.rate(b))
		}
	}
	round()
	clear(rates)
	b.ResetTimer()
	for range 5 {
		round()
	}
	for _, way := range ways {
		var parts []float64
		for i, direct := range rates[way.of] {
			parts = append(parts, rates[way.name][i]/direct)
		}
		if way.of != "" {
			b.ReportMetric(middle(parts), way.name+"/"+way.of)
		}
	}
	for _, way := range ways {
		b.ReportMetric(middle(rates[way.name]), way.name+"/s")
	}
	b.ReportMetric(0, "ns/op")
}

// BenchmarkBesideLongAnswers measures how long a point read takes for each of four clients while three others receive
// answers of half a million rows and more, through the port and from the database itself.
func BenchmarkBesideLongAnswers(b *testing.B) {
	server, port, own := serviceAndDatabase(b)
	signedIn(b, server, "opal").must("lane", "set", "interactive", "--rows", "1000000", "--mib", "1024", "--reason", "long answers")
	const long = "copy (SELECT a.id, a.name, b.name AS other, a.depth_m, a.status FROM drilling.boreholes a, drilling.boreholes b WHERE b.id < 900%s) to stdout"
	took := func(url, point, text string) float64 {
		ctx, stop := context.WithCancel(context.Background())
		var wg sync.WaitGroup
		for range 3 {
			wg.Go(func() {
				for ctx.Err() == nil {
					if out, err := exec.CommandContext(ctx, "psql", url, "-qAt", "-o", os.DevNull, "-c", text).CombinedOutput(); err != nil && ctx.Err() == nil {
						b.Errorf("%v\n%s", err, out)
						return
					}
				}
			})
		}
		ask := pgbench(b, url, point, 4)
		ask(b)
		rate := ask(b)
		stop()
		wg.Wait()
		return 4000 / rate
	}
	var governed, direct []float64
	b.ResetTimer()
	for range 5 {
		direct = append(direct, took(own, pointByHand, fmt.Sprintf(long, " AND a.district IN ('north') AND b.district IN ('north')")))
		governed = append(governed, took(port, pointOf, fmt.Sprintf(long, "")))
	}
	b.ReportMetric(middle(direct), "direct-ms")
	b.ReportMetric(middle(governed), "port-ms")
	b.ReportMetric(0, "ns/op")
}

// serviceAndDatabase starts a service with a PostgreSQL source. It returns the address of its API and, as URLs, those of
// its port and of the database.
func serviceAndDatabase(b *testing.B) (server, port, own string) {
	dir := demotest.OwnFolder(b, "drilling")
	own, err := pgtest.Start(b).Database("survey")
	if err == nil {
		err = demo.AddPostgres(context.Background(), dir, own, io.Discard)
	}
	if err != nil {
		b.Fatal(err)
	}
	address := unused(b)
	server = startServe(b, dir, "--sql-listen", address).server
	return server, "postgresql://flint:northmark@" + address + "/" + demo.Second, own
}

func middle(list []float64) float64 {
	slices.Sort(list)
	return list[len(list)/2]
}

// unused returns an address at which nothing listens.
func unused(t testing.TB) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

var transactions = regexp.MustCompile(`(?m)^tps = ([\d.]+)`)

// pgbench returns a function that measures statements per second with pgbench, without the time to connect.
func pgbench(b *testing.B, url, statement string, clients int) func(*testing.B) float64 {
	script := filepath.Join(b.TempDir(), "point.sql")
	if err := os.WriteFile(script, []byte("\\set id random(1, 2000)\n"+statement+";\n"), 0o600); err != nil {
		b.Fatal(err)
	}
	return func(b *testing.B) float64 {
		out, err := exec.Command("pgbench", "-n", "-M", "prepared", "-f", script, "-c", strconv.Itoa(clients), "-j", "2", "-T", "3", url).CombinedOutput()
		if found := transactions.FindSubmatch(out); err == nil && found != nil {
			rate, _ := strconv.ParseFloat(string(found[1]), 64)
			return rate
		}
		b.Fatalf("pgbench: %v\n%s", err, out)
		return 0
	}
}

// overHTTP returns a function that measures statements per second of 64 clients over HTTP.
func overHTTP(server, token string, request func(id int) wire.QueryRequest) func(*testing.B) float64 {
	pool := &fasthttp.Client{MaxConnsPerHost: 64}
	ask := func(id int) error {
		in, out := fasthttp.AcquireRequest(), fasthttp.AcquireResponse()
		defer fasthttp.ReleaseRequest(in)
		defer fasthttp.ReleaseResponse(out)
		body, err := json.Marshal(request(id))
		if err != nil {
			return err
		}
		in.SetRequestURI(server + "/api/v1/queries")
		in.Header.SetMethod("POST")
		in.Header.SetContentType("application/json")
		in.Header.Set("Authorization", "Bearer "+token)
		in.SetBodyRaw(body)
		if err := pool.Do(in, out); err != nil {
			return err
		}
		if out.StatusCode() != 200 {
			return fmt.Errorf("%d: %s", out.StatusCode(), out.Body())
		}
		return nil
	}
	return func(b *testing.B) float64 {
		var asked atomic.Int64
		var wg sync.WaitGroup
		began := time.Now()
		for one := range 64 {
			wg.Go(func() {
				for n := one; time.Since(began) < time.Second; n++ {
					if err := ask(n*37%2000 + 1); err != nil {
						b.Error(err)
						return
					}
					asked.Add(1)
				}
			})
		}
		wg.Wait()
		return float64(asked.Load()) / time.Since(began).Seconds()
	}
}
