package main

import (
	"context"
	"errors"
	"fmt"
	"gneiss/client"
	"gneiss/demo"
	"gneiss/demo/demotest"
	"gneiss/source/pgtest"
	"gneiss/wire"
	"io"
	"math/rand/v2"
	"os"
	"sync"
	"testing"
	"time"
)

// TestKill kills the service at random moments and looks for what it had
// acknowledged.
func TestKill(t *testing.T) {
	dir := t.TempDir()
	acknowledged := 0
	for round := range 4 {
		s := startServe(t, dir)
		opal := demotest.SignIn(t, s.server, "opal")
		time.AfterFunc(time.Duration(40+rand.IntN(160))*time.Millisecond, func() { s.cmd.Process.Kill() })
		for {
			name := fmt.Sprintf("role:r%d", acknowledged)
			_, err := client.Send[wire.Changed](context.Background(), opal, "POST", "/subjects", wire.SubjectRequest{Subject: name})
			var p *wire.Problem
			if errors.As(err, &p) && p.Code == "exists" {
				err = nil // written by the round before, but killed before it could say so
			}
			if err != nil {
				break
			}
			acknowledged++
		}
		s.cmd.Wait()

		again := startServe(t, dir)
		opal = demotest.SignIn(t, again.server, "opal")
		list, err := client.Get[wire.List[wire.Subject]](context.Background(), opal, "/subjects", map[string][]string{"kind": {"role"}})
		if err != nil {
			t.Fatal(err)
		}
		there := map[string]bool{}
		for _, r := range list.Items {
			there[r.Ref] = true
		}
		for i := range acknowledged {
			if name := fmt.Sprintf("role:r%d", i); !there[name] {
				t.Errorf("round %d: %s was acknowledged and is gone", round, name)
			}
		}
		again.cmd.Process.Signal(os.Interrupt)
		if err := again.cmd.Wait(); err != nil {
			t.Errorf("a graceful stop ends with %v", err)
		}
	}
	if acknowledged < 10 {
		t.Errorf("only %d changes were acknowledged; the test proves little", acknowledged)
	}
	t.Logf("%d acknowledged changes survived", acknowledged)
}

// TestKilledWhileQuerying: what the database does for a service that is killed ends soon, though nobody is there
// to read it.
func TestKilledWhileQuerying(t *testing.T) {
	dir, database := demotest.Folder(t), pgtest.Start(t)
	url, err := database.Database("killed")
	if err != nil {
		t.Fatal(err)
	}
	if err := demo.AddPostgres(t.Context(), dir, url, io.Discard); err != nil {
		t.Fatal(err)
	}
	s := startServe(t, dir)
	flint := demotest.SignIn(t, s.server, "flint")
	var asking sync.WaitGroup
	for range 3 {
		asking.Go(func() {
			const b = demo.Second + ".drilling.boreholes"
			client.Send[wire.Result](t.Context(), flint, "POST", "/queries", wire.QueryRequest{SQL: "SELECT count(*) FROM " + b + " a, " + b + " b, " + b + " c WHERE a.depth_m + b.depth_m > c.depth_m"})
		})
	}
	working := func() (n int) {
		t.Helper()
		if err := database.DB.QueryRow("SELECT count(*) FROM pg_stat_activity WHERE application_name = 'gneiss' AND state <> 'idle'").Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	until := func(n int, within time.Duration) bool {
		for began := time.Now(); working() != n; time.Sleep(50 * time.Millisecond) {
			if time.Since(began) > within {
				return false
			}
		}
		return true
	}
	if !until(3, 10*time.Second) {
		t.Fatalf("the database works on %d statements, not 3", working())
	}
	s.cmd.Process.Kill()
	s.cmd.Wait()
	asking.Wait()
	if !until(0, 6*time.Second) {
		t.Errorf("the database still works on %d statements of a service that was killed", working())
	}
}
