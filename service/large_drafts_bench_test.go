package service_test

import (
	"context"
	"fmt"
	"testing"

	"gneiss/service"
	"gneiss/service/identity"
	"gneiss/service/review"
	"gneiss/wire"
)

// largeService is the platform of a million grants, and its administrator.
func largeService(b *testing.B) (*service.Service, identity.Caller) {
	b.Helper()
	dir, err := largeFolder()
	if err != nil {
		b.Fatal(err)
	}
	svc, err := service.Open(context.Background(), dir, quiet, service.Options{AcceptLoss: true})
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { svc.Close(context.Background()) })
	opal, err := svc.Admin.ActAs("user:opal")
	if err != nil {
		b.Fatal(err)
	}
	return svc, opal
}

// BenchmarkLargeDrafts is what drafts, moments, guardrails and files cost on the platform of a million
// grants.
func BenchmarkLargeDrafts(b *testing.B) {
	svc, opal := largeService(b)
	must := func(_ wire.Changed, err error) {
		b.Helper()
		if err != nil {
			b.Fatal(err)
		}
	}
	n := 0
	role := func(c identity.Caller) {
		n++
		must(svc.Admin.Grant(ctx, c, wire.GrantRequest{Privileges: []string{"SELECT"}, Object: fmt.Sprintf("s.c%d.t%d", n%500, n%200), Subjects: []string{fmt.Sprintf("role:r%d", n%2000)}}, false))
	}
	b.Run("change", func(b *testing.B) {
		for b.Loop() {
			role(opal)
		}
	})
	for _, g := range []wire.Guardrail{
		{Name: "clear", Kind: "clear", Object: "s.c1.t1.id", Except: []string{"role:r1", "role:administrator"}},
		{Name: "apart", Kind: "apart", Roles: []string{"role:r1", "role:r2"}},
		{Name: "public", Kind: "to-public"},
		{Name: "few", Kind: "administrators", Most: 3},
	} {
		must(svc.Admin.PutGuardrail(ctx, opal, wire.GuardrailRequest{Guardrail: g}))
	}
	b.Run("change-with-4-guardrails", func(b *testing.B) {
		for b.Loop() {
			role(opal)
		}
	})
	must(svc.Admin.OpenDraft(ctx, opal, wire.DraftRequest{Name: "large"}))
	for range 20 {
		into, err := svc.Identity.Drafting(ctx, opal, "large")
		if err != nil {
			b.Fatal(err)
		}
		role(into)
	}
	b.Run("impact-of-20-grants", func(b *testing.B) {
		for b.Loop() {
			if _, err := svc.Review.Impact(ctx, opal, "large"); err != nil {
				b.Fatal(err)
			}
		}
	})
	back := int64(0)
	b.Run("moment-near", func(b *testing.B) {
		for b.Loop() {
			back++
			if _, err := svc.Platform.At(ctx, svc.Revision()-back); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("moment-halfway", func(b *testing.B) {
		for b.Loop() {
			back++
			if _, err := svc.Platform.At(ctx, svc.Revision()/2-back); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("undo-of-the-last", func(b *testing.B) {
		for b.Loop() {
			must(svc.Admin.Undo(ctx, opal, wire.UndoRequest{Revisions: []int64{svc.Revision()}, Change: wire.Change{DryRun: true}}))
		}
	})
	var files wire.Files
	var err error
	b.Run("files-written", func(b *testing.B) {
		for b.Loop() {
			if files, err = svc.Admin.Files(opal); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("files-compared", func(b *testing.B) {
		for b.Loop() {
			if _, err := svc.Admin.CompareFiles(opal, wire.FilesRequest{Files: files.Files}); err != nil {
				b.Fatal(err)
			}
		}
	})
}

// BenchmarkLargeReview is what the matrix, findings and reviews cost on the platform of a million grants.
func BenchmarkLargeReview(b *testing.B) {
	svc, opal := largeService(b)
	window := func(q review.MatrixSearch) {
		b.Helper()
		if _, err := svc.Review.AccessMatrix(ctx, opal, q); err != nil {
			b.Fatal(err)
		}
	}
	first, err := svc.Review.AccessMatrix(ctx, opal, review.MatrixSearch{Level: "schemas", Columns: 40, Limit: 50})
	if err != nil {
		b.Fatal(err)
	}
	after := first.Next
	b.Run("matrix-first-window", func(b *testing.B) {
		for b.Loop() {
			window(review.MatrixSearch{Level: "schemas", Columns: 40, Limit: 50})
		}
	})
	b.Run("matrix-next-window", func(b *testing.B) {
		for b.Loop() {
			part, err := svc.Review.AccessMatrix(ctx, opal, review.MatrixSearch{Level: "schemas", Columns: 40, Limit: 50, After: after})
			if err != nil {
				b.Fatal(err)
			}
			after = part.Next
		}
	})
	b.Run("matrix-of-tables", func(b *testing.B) {
		for b.Loop() {
			window(review.MatrixSearch{In: "s.c1", Columns: 60, Limit: 50})
		}
	})
	n := 0
	b.Run("review-of-a-schema", func(b *testing.B) {
		for b.Loop() {
			n++
			if _, err := svc.Admin.OpenReview(ctx, opal, wire.ReviewRequest{Name: fmt.Sprint("r", n), Due: "2099-01-01",
				Scope: wire.ReviewScope{Objects: []string{fmt.Sprintf("s.c%d", n)}}}); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("findings", func(b *testing.B) {
		for b.Loop() {
			n++
			if _, err := svc.Review.Findings(ctx, opal, n+100); err != nil { // another number each time, so that none is kept
				b.Fatal(err)
			}
		}
	})
}
