package sqlport_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/valyala/fasthttp"

	"gneiss/demo/demotest"
	"gneiss/sqlport"
	"gneiss/wire"
)

const point = "SELECT id, name, district, depth_m, status FROM drilling.boreholes WHERE id = "

// BenchmarkPoints asks for one row by its key, with as many clients as are usual: prepared, through the port and
// of the server itself, with the filter of flint's policy written by hand; and over HTTP, with parameters and
// with literals. It takes the ways by turns, for a moment each, and reports the medians: statements a
// second, and what part of the server's own they were. Clients and service share the machine.
func BenchmarkPoints(b *testing.B) {
	p := opened(b, true, sqlport.Limits{})
	server := demotest.Serve(b, p.svc)
	token := demotest.SignIn(b, server, "flint").Token
	many := func(url, text string) *connections { return connected(b, url, text, 32) }
	ways := []struct {
		name    string
		clients int
		ask     func(n, client int) error
	}{
		{"direct", 32, many(p.url, point+"$1 AND district IN ('north')").ask},
		{"port", 32, many(p.to("flint", "survey_pg")+"?sslmode=disable", point+"$1").ask},
		{"http-parameters", 64, overHTTP(server, token, func(id int) wire.QueryRequest {
			return wire.QueryRequest{SQL: "SELECT id, name, district, depth_m, status FROM survey_pg.drilling.boreholes WHERE id = $1", Params: []any{id}}
		})},
		{"http-literals", 64, overHTTP(server, token, func(id int) wire.QueryRequest {
			return wire.QueryRequest{SQL: fmt.Sprint("SELECT id, name, district, depth_m, status FROM survey_pg.drilling.boreholes WHERE id = ", id)}
		})},
	}
	rates := map[string][]float64{}
	round := func(length time.Duration) {
		for _, way := range ways {
			var asked atomic.Int64
			var wg sync.WaitGroup
			began := time.Now()
			for client := range way.clients {
				wg.Go(func() {
					for n := client; time.Since(began) < length; n++ {
						if err := way.ask(n*37%2000+1, client); err != nil {
							b.Errorf("%s: %v", way.name, err)
							return
						}
						asked.Add(1)
					}
				})
			}
			wg.Wait()
			rates[way.name] = append(rates[way.name], float64(asked.Load())/time.Since(began).Seconds())
		}
	}
	round(time.Second)
	clear(rates)
	b.ResetTimer()
	for range 20 {
		round(400 * time.Millisecond)
	}
	for _, way := range ways[1:] {
		parts := make([]float64, len(rates[way.name]))
		for i, rate := range rates[way.name] {
			parts[i] = rate / rates["direct"][i]
		}
		b.ReportMetric(middle(parts), way.name+"/direct")
	}
	for _, way := range ways {
		b.ReportMetric(middle(rates[way.name]), way.name+"/s")
	}
	b.ReportMetric(0, "ns/op")
}

func middle(list []float64) float64 {
	slices.Sort(list)
	return list[len(list)/2]
}

// connections are some, on each of which a statement is prepared.
type connections []*pgx.Conn

func connected(b *testing.B, url, text string, n int) *connections {
	var out connections
	for range n {
		conn := mustConnect(b, url)
		if _, err := conn.Prepare(ctx, "point", text); err != nil {
			b.Fatal(err)
		}
		out = append(out, conn)
	}
	return &out
}

func (c connections) ask(id, client int) error {
	return c[client].PgConn().ExecPrepared(ctx, "point", [][]byte{fmt.Append(nil, id)}, nil, nil).Read().Err
}

func overHTTP(server, token string, request func(id int) wire.QueryRequest) func(id, client int) error {
	pool := &fasthttp.Client{MaxConnsPerHost: 64}
	return func(id, _ int) error {
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
}
