package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"gneiss/client"
	"gneiss/demo"
	"gneiss/demo/demotest"
	"gneiss/source/pgtest"
	"gneiss/wire"
)

var soakFor = flag.Duration("soak", 0, "how long TestSoak goes on; not at all when zero")

// A soaked service is one that is killed and started again under its clients.
type soaked struct {
	t      *testing.T
	dir    string
	mu     sync.Mutex
	run    started
	tokens map[string]string
}

func (s *soaked) restart() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.run.cmd != nil {
		s.run.cmd.Process.Kill()
		s.run.cmd.Wait()
	}
	s.run = startServe(s.t, s.dir)
}

func (s *soaked) client(user string) *client.Client {
	s.mu.Lock()
	defer s.mu.Unlock()
	return client.New(s.run.server, s.tokens[user])
}

// size is the memory, in bytes, and the open files of the service's process.
func (s *soaked) size() (memory int64, files int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	pid := strconv.Itoa(s.run.cmd.Process.Pid)
	stat, _ := os.ReadFile("/proc/" + pid + "/statm")
	if fields := strings.Fields(string(stat)); len(fields) > 1 {
		pages, _ := strconv.ParseInt(fields[1], 10, 64)
		memory = pages * int64(os.Getpagesize())
	}
	open, _ := os.ReadDir("/proc/" + pid + "/fd")
	return memory, len(open)
}

// TestSoak has many clients ask, change, go away, and send what is wrong or huge, while
// the service and a database are killed again and again. What was acknowledged is there at the end,
// no answer is of no moment, both chains hold, and memory and open files are bounded.
func TestSoak(t *testing.T) {
	if *soakFor == 0 {
		t.Skip("it goes on for as long as -soak says")
	}
	s := &soaked{t: t, dir: demotest.OwnFolder(t, "field"), tokens: map[string]string{}}
	database := pgtest.Start(t)
	url, err := database.Database("soaked")
	if err != nil {
		t.Fatal(err)
	}
	if err := demo.AddPostgres(t.Context(), s.dir, url, io.Discard); err != nil {
		t.Fatal(err)
	}
	s.restart()
	for _, user := range []string{"opal", "flint", "marl", "agate"} {
		s.tokens[user] = demotest.SignIn(t, s.run.server, user).Token
	}
	ctx, cancel := context.WithTimeout(t.Context(), *soakFor)
	defer cancel()
	var changed, wrong, kills, crashes atomic.Int64
	asked, sources := map[string]int64{}, []string{"survey", demo.Second}
	var mu sync.Mutex
	acknowledged := map[string]bool{}
	visits := map[string]int64{}
	var work sync.WaitGroup
	again := func(f func(r *rand.Rand)) {
		seed := rand.Uint64()
		work.Go(func() {
			for r := rand.New(rand.NewPCG(seed, 1)); ctx.Err() == nil; {
				f(r)
			}
		})
	}
	for _, source := range []string{"survey", "survey", demo.Second} { // readers: flint sees the north's boreholes, always all of them
		again(func(*rand.Rand) {
			out, err := client.Send[wire.Result](ctx, s.client("flint"), "POST", "/queries", wire.QueryRequest{SQL: "SELECT count(*) FROM " + source + ".drilling.boreholes"})
			if err != nil {
				return
			}
			mu.Lock()
			asked[source]++
			mu.Unlock()
			if got := fmt.Sprint(out.Rows); got != "[[1310]]" {
				t.Errorf("an answer of no moment: %s", got)
			}
		})
	}
	again(func(r *rand.Rand) { // changes of the model
		name := fmt.Sprintf("role:soak%d", r.Uint64())
		if _, err := client.Send[wire.Changed](ctx, s.client("opal"), "POST", "/subjects", wire.SubjectRequest{Subject: name}); err == nil {
			changed.Add(1)
			mu.Lock()
			acknowledged[name] = true
			mu.Unlock()
		}
	})
	for _, source := range sources { // and of rows
		again(func(r *rand.Rand) {
			id := strconv.Itoa(1<<20 + r.IntN(1<<30))
			if _, err := client.Send[wire.Result](ctx, s.client("flint"), "POST", "/queries", wire.QueryRequest{SQL: "INSERT INTO " + source + ".field.visits (id, crew_id, borehole_id, visited_on, note) VALUES (" + id + ", 1, 2, '2026-01-01', 'soaked')"}); err == nil {
				mu.Lock()
				visits[source]++
				mu.Unlock()
			}
		})
	}
	again(func(r *rand.Rand) { // clients that go away
		short, stop := context.WithTimeout(ctx, time.Duration(r.IntN(200))*time.Millisecond)
		defer stop()
		client.Send[wire.Result](short, s.client("opal"), "POST", "/queries", wire.QueryRequest{SQL: "SELECT count(*) FROM survey.monitoring.readings a, survey.monitoring.readings b WHERE a.level_m < b.level_m"})
	})
	again(func(r *rand.Rand) { // what is wrong, or huge
		c, big := s.client("marl"), strings.Repeat("x", 100_000+r.IntN(3_000_000))
		bodies := []struct{ path, body string }{{"/queries", `{"sql":"SELECT $1","params":["` + big + `"]}`}, {"/queries", `{"sql":"` + big + `"}`}, {"/queries", `{"sql":"SELECT 1","purpose":"` + big + `"}`},
			{"/session", `{"user":"` + big + `","password":"x"}`}, {"/roster", `{"files":[{"name":"a","content":"subject,title\n\"u\"x,y"}]}`}, {"/policies", `[[[[`}, {"/grants", big}}
		b := bodies[r.IntN(len(bodies))]
		request, err := http.NewRequestWithContext(ctx, "POST", c.Server+"/api/v1"+b.path, strings.NewReader(b.body))
		if err != nil {
			return
		}
		request.Header.Set("Content-Type", "application/json")
		request.Header.Set("Authorization", "Bearer "+c.Token)
		if answer, err := http.DefaultClient.Do(request); err == nil {
			io.Copy(io.Discard, answer.Body)
			answer.Body.Close()
			if wrong.Add(1); answer.StatusCode < 400 || answer.StatusCode == 500 {
				t.Errorf("%s %.60s: %d", b.path, b.body, answer.StatusCode)
			}
		}
	})
	work.Go(func() {
		for ctx.Err() == nil {
			select {
			case <-ctx.Done():
			case <-time.After(time.Duration(2000+rand.IntN(6000)) * time.Millisecond):
				database.Kill()
				if err := database.Restart(); err != nil {
					t.Error(err)
					return
				}
				crashes.Add(1)
			}
		}
	})
	most, mostFiles := int64(0), 0
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
		case <-time.After(time.Duration(300+rand.IntN(1200)) * time.Millisecond):
			memory, files := s.size()
			most, mostFiles = max(most, memory), max(mostFiles, files)
			s.restart()
			kills.Add(1)
		}
	}
	work.Wait()
	s.restart()
	opal := s.client("opal")
	roles, err := client.All[wire.Subject](t.Context(), opal, "/subjects", map[string][]string{"kind": {"role"}})
	if err != nil {
		t.Fatal(err)
	}
	there := map[string]bool{}
	for _, r := range roles {
		there[r.Ref] = true
	}
	for name := range acknowledged {
		if !there[name] {
			t.Errorf("%s was acknowledged and is gone", name)
		}
	}
	for _, source := range sources {
		out, err := client.Send[wire.Result](t.Context(), opal, "POST", "/queries", wire.QueryRequest{SQL: "SELECT count(*) FROM " + source + ".field.visits WHERE note = 'soaked'"})
		if err != nil {
			t.Fatal(err)
		}
		if n, _ := out.Rows[0][0].(json.Number).Int64(); n < visits[source] {
			t.Errorf("%s: %d rows were acknowledged, %d are there", source, visits[source], n)
		}
		if asked[source] == 0 || visits[source] == 0 {
			t.Errorf("%s did nothing", source)
		}
	}
	for _, path := range []string{"/records/verification", "/journal/verification"} {
		if v, err := client.Get[wire.Verification](t.Context(), s.client("agate"), path, nil); err != nil || !v.Holds {
			t.Errorf("%s: %+v, %v", path, v, err)
		}
	}
	t.Logf("%v answers, %d changes, %v rows, %d wrong requests, %d kills of the service and %d of the database; at most %d MB and %d open files",
		asked, changed.Load(), visits, wrong.Load(), kills.Load(), crashes.Load(), most>>20, mostFiles)
	if most > 1<<30 || mostFiles > 300 || changed.Load() == 0 || crashes.Load() == 0 {
		t.Error("the service has grown, or did nothing")
	}
}

// TestFullDisk fills the disk under a service: it says so, does nothing that it could
// not record, loses nothing, and goes on by itself when there is room again.
func TestFullDisk(t *testing.T) {
	disk := t.TempDir()
	if err := syscall.Mount("tmpfs", disk, "tmpfs", 0, "size=12m"); err != nil {
		t.Skip("a small disk cannot be made here: ", err)
	}
	t.Cleanup(func() { syscall.Unmount(disk, syscall.MNT_DETACH) })
	dir := filepath.Join(disk, "data")
	s := startServe(t, dir)
	opal := demotest.SignIn(t, s.server, "opal")
	add := func(name string) error {
		_, err := client.Send[wire.Changed](t.Context(), opal, "POST", "/subjects", wire.SubjectRequest{Subject: name})
		return err
	}
	ready := func() int {
		answer, err := http.Get(s.server + "/readyz")
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		return answer.StatusCode
	}
	if err := add("role:before"); err != nil || ready() != 200 {
		t.Fatal(err)
	}
	filler := filepath.Join(disk, "filler")
	f, err := os.Create(filler)
	if err != nil {
		t.Fatal(err)
	}
	for block := make([]byte, 4096); err == nil; {
		_, err = f.Write(block)
	}
	f.Close()
	refused := 0
	for i := range 40 {
		err := add(fmt.Sprintf("role:full%d", i))
		var p *wire.Problem
		if errors.As(err, &p) && p.Status == 503 && p.Code == "unwritable" {
			refused++
		} else if err != nil {
			t.Errorf("on a full disk: %v", err)
		}
	}
	if refused == 0 {
		t.Error("a full disk refused nothing")
	}
	time.Sleep(2100 * time.Millisecond) // the probe before serves for so long
	if got := ready(); got != 503 {
		t.Errorf("/readyz on a full disk: %d", got)
	}
	roles := func() map[string]bool {
		list, err := client.All[wire.Subject](t.Context(), opal, "/subjects", map[string][]string{"kind": {"role"}})
		if err != nil {
			t.Fatal(err)
		}
		there := map[string]bool{}
		for _, r := range list {
			there[r.Ref] = true
		}
		return there
	}
	full := roles()
	if err := os.Remove(filler); err != nil {
		t.Fatal(err)
	}
	time.Sleep(2100 * time.Millisecond)
	if got := ready(); got != 200 {
		t.Errorf("/readyz when there is room again: %d", got)
	}
	if err := add("role:after"); err != nil {
		t.Errorf("when there is room again: %v", err)
	}
	s.cmd.Process.Kill()
	s.cmd.Wait()
	s = startServe(t, dir)
	opal = demotest.SignIn(t, s.server, "opal")
	again := roles()
	full["role:after"] = true
	if len(again) != len(full) || !again["role:before"] || !again["role:after"] {
		t.Errorf("after a kill there are %v, of %v", again, full)
	}
	for _, path := range []string{"/records/verification", "/journal/verification"} {
		if v, err := client.Get[wire.Verification](t.Context(), opal, path, nil); err != nil || !v.Holds {
			t.Errorf("%s: %+v, %v", path, v, err)
		}
	}
}
