package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	"gneiss/client"
	"gneiss/demo/demotest"
	"gneiss/wire"
)

// TestKilledWhilePublishing kills the service while it publishes a draft, and while it undoes the
// revision: after each, all of it is there or none, and the draft is what it was or published.
func TestKilledWhilePublishing(t *testing.T) {
	dir, ctx := t.TempDir(), context.Background()
	const steps = 12
	outcomes := map[string]int{}
	// whole counts the roles of a round, which must be all or none.
	whole := func(c *client.Client, round int) bool {
		t.Helper()
		list, err := client.Get[wire.List[wire.Subject]](ctx, c, "/subjects", map[string][]string{"kind": {"role"}, "limit": {"5000"}})
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		for _, s := range list.Items {
			if strings.HasPrefix(s.Ref, fmt.Sprintf("role:d%d_", round)) {
				n++
			}
		}
		if n != 0 && n != steps {
			t.Fatalf("round %d: %d of %d changes are there", round, n, steps)
		}
		return n == steps
	}
	s := startServe(t, dir)
	killed := func(change func(*client.Client)) *client.Client {
		t.Helper()
		c := demotest.SignIn(t, s.server, "opal")
		time.AfterFunc(time.Duration(rand.IntN(12_000))*time.Microsecond, func() { s.cmd.Process.Kill() })
		change(c)
		s.cmd.Wait()
		s = startServe(t, dir)
		return demotest.SignIn(t, s.server, "opal")
	}
	for round := range 6 {
		name := fmt.Sprintf("d%d", round)
		c := demotest.SignIn(t, s.server, "opal")
		if _, err := client.Send[wire.Changed](ctx, c, "POST", "/drafts", wire.DraftRequest{Name: name}); err != nil {
			t.Fatal(err)
		}
		c.Moment.Draft = name
		for i := range steps {
			if _, err := client.Send[wire.Changed](ctx, c, "POST", "/subjects", wire.SubjectRequest{Subject: fmt.Sprintf("role:d%d_%d", round, i)}); err != nil {
				t.Fatal(err)
			}
		}
		var told error
		c = killed(func(c *client.Client) {
			_, told = client.Send[wire.Changed](ctx, c, "POST", "/drafts/"+name+"/publication", wire.Change{})
		})
		there := whole(c, round)
		if told == nil && !there {
			t.Fatalf("round %d: it was acknowledged, and is gone", round)
		}
		drafts, err := client.Get[wire.List[wire.Draft]](ctx, c, "/drafts", nil)
		if err != nil {
			t.Fatal(err)
		}
		d := drafts.Items[0]
		for _, other := range drafts.Items {
			if other.Name == name {
				d = other
			}
		}
		if want := map[bool]string{true: "published", false: "open"}[there]; d.Status != want || len(d.Steps) != steps || there != (d.Revision > 0) {
			t.Fatalf("round %d: the draft is %s, with %d changes and revision %d; its roles are there: %v", round, d.Status, len(d.Steps), d.Revision, there)
		}
		outcomes[d.Status]++
		if !there {
			continue
		}
		c = killed(func(c *client.Client) {
			_, told = client.Send[wire.Changed](ctx, c, "POST", "/undo", wire.UndoRequest{Revisions: []int64{d.Revision}})
		})
		if there := whole(c, round); told == nil && there {
			t.Fatalf("round %d: an undo was acknowledged, and is gone", round)
		} else {
			outcomes[map[bool]string{true: "not undone", false: "undone"}[there]]++
		}
	}
	s.cmd.Process.Signal(os.Interrupt)
	if err := s.cmd.Wait(); err != nil {
		t.Errorf("a graceful stop ends with %v", err)
	}
	t.Log(outcomes)
}
