package service_test

import (
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/service/fault"
	"gneiss/service/identity"
	"gneiss/wire"
)

// fresh is a new platform with the demo's source, and its first administrator.
func fresh(t testing.TB) (*service.Service, identity.Caller) {
	t.Helper()
	dir := t.TempDir()
	if err := os.CopyFS(filepath.Join(dir, "sources"), os.DirFS(filepath.Join(demotest.Folder(t), "sources"))); err != nil {
		t.Fatal(err)
	}
	svc, err := service.Open(ctx, dir, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { svc.Close(ctx) })
	opal, err := svc.Admin.Bootstrap(ctx, "opal", "northmark")
	if err != nil {
		t.Fatal(err)
	}
	done(t)(svc.Admin.AddSource(ctx, opal, wire.SourceRequest{Name: "survey", Location: "survey"}))
	return svc, opal
}

func written(t testing.TB, svc *service.Service, c identity.Caller) wire.Files {
	t.Helper()
	out, err := svc.Admin.Files(c)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// TestFilesMakeTheSamePlatform: written, loaded on a new platform and written again they are the same
// bytes, and people have the same access.
func TestFilesMakeTheSamePlatform(t *testing.T) {
	from := demotest.Open(t, demotest.Folder(t))
	opal := caller(t, from, "opal")
	done(t)(from.Admin.PutView(ctx, opal, wire.ViewRequest{Path: "survey.drilling.deep", Text: "SELECT id, name FROM survey.drilling.boreholes WHERE depth_m > 400", Rights: "reader"}))
	files := written(t, from, opal)
	if again := written(t, from, opal); fmt.Sprint(again) != fmt.Sprint(files) {
		t.Error("the same state is written in two ways")
	}
	to, other := fresh(t)
	if out := done(t)(to.Admin.LoadFiles(ctx, other, wire.FilesRequest{Files: files.Files})); !out.Revised {
		t.Fatalf("nothing was loaded: %+v", out)
	}
	got := written(t, to, other)
	if len(got.Files) != len(files.Files) {
		t.Fatalf("%d files, want %d", len(got.Files), len(files.Files))
	}
	for i, f := range files.Files {
		if got.Files[i] != f {
			t.Errorf("%s is\n%s\nwant\n%s", f.Path, got.Files[i].Text, f.Text)
		}
	}
	a, b := picture(t, from, opal), picture(t, to, other)
	for name := range a {
		if strings.HasPrefix(name, "access of") && a[name] != b[name] {
			t.Errorf("%s: %.300s, want %.300s", name, b[name], a[name])
		}
	}
	if out, err := to.Admin.LoadFiles(ctx, other, wire.FilesRequest{Files: files.Files, Whole: true}); err != nil || out.Done {
		t.Errorf("loaded again it does something: %+v, %v", out.Says, err)
	}
}

// TestFilesMakeAnEdit: a load of random edits comes to what the commands came to.
func TestFilesMakeAnEdit(t *testing.T) {
	loaded := 0
	for seed := range uint64(14) {
		from, to := demotest.Open(t, demotest.Folder(t)), demotest.Open(t, demotest.Folder(t))
		opal, other := caller(t, from, "opal"), caller(t, to, "opal")
		list := deeds(rand.New(rand.NewPCG(seed, 23)), 9, seed%2 == 0)
		for _, d := range list {
			if !strings.HasPrefix(d.name, "rename") { // after which it is another subject, as files have it
				d.do(from, opal)
			}
		}
		files := written(t, from, opal)
		before := to.Revision()
		out, err := to.Admin.LoadFiles(ctx, other, wire.FilesRequest{Files: files.Files, Whole: true})
		if err != nil {
			if k := fault.Of(err); to.Revision() != before || k.Code == "internal" {
				t.Errorf("seed %d: %v, revision %d", seed, err, to.Revision())
			}
			continue
		}
		if out.Revised {
			loaded++
		}
		for i, f := range written(t, to, other).Files {
			if f != files.Files[i] {
				t.Errorf("seed %d, %v: %s is\n%s\nwant\n%s", seed, names(list), f.Path, f.Text, files.Files[i].Text)
			}
		}
		a, b := picture(t, from, opal), picture(t, to, other)
		for name := range a {
			if (strings.HasPrefix(name, "access of") || name == "labels") && a[name] != b[name] {
				t.Errorf("seed %d, %v: %s: %.300s, want %.300s", seed, names(list), name, b[name], a[name])
			}
		}
	}
	if loaded < 8 {
		t.Errorf("only %d were loaded", loaded)
	}
}

// TestBadFiles: what is wrong is named with its place, and nothing of it is done.
func TestBadFiles(t *testing.T) {
	svc := demotest.Open(t, demotest.Folder(t))
	opal, flint, revision := caller(t, svc, "opal"), caller(t, svc, "flint"), svc.Revision()
	load := func(c identity.Caller, files ...wire.File) error {
		_, err := svc.Admin.LoadFiles(ctx, c, wire.FilesRequest{Files: files})
		return err
	}
	for _, c := range []struct{ path, text, says string }{
		{"roles/partner.yaml", "role: partner\nholdrs: []\n", "roles/partner.yaml:2: unknown field \"holdrs\"; did you mean holders?"},
		{"roles/partner.yaml", "role: other\n", "the role other is written in roles/other.yaml"},
		{"roles/new.yaml", "role: new\ngrants:\n  - privilege: SELCT\n    object: survey.drilling\n", "roles/new.yaml:4: no privilege or bundle SELCT; did you mean SELECT?"},
		{"roles/new.yaml", "role: new\ngrants:\n  - privilege: SELECT\n    object: survey.driling\n", "roles/new.yaml:4: "},
		{"roles/new.yaml", "role: [", "roles/new.yaml:1: "},
		{"roles/new.yaml", "role: new\nholders:\n  - member: user:flint\n    until: soon\n", "roles/new.yaml:4: soon is no time"},
		{"schemas/survey.drilling.yaml", "place: survey.drilling\npolicies:\n  - policy: p\n    rows_of: survey.drilling.boreholes\n    rule: no such\n", "schemas/survey.drilling.yaml:3: "},
		{"schemas/survey.drilling.yaml", "place: survey.drilling\npolicies:\n  - policy: p\n", "the policy p has rows_of"},
		{"../passwd", "role: x\n", "is none of the files"},
		{"platform.yaml", "lanes:\n  - lane: batch\n    queries: 0\n", "the bundle sampler cannot be removed"},
		{"roles/administrator.yaml", "role: administrator\n", "administrator"},
	} {
		err := load(opal, wire.File{Path: c.path, Text: c.text})
		if err == nil || !strings.Contains(fault.Of(err).Detail, c.says) {
			t.Errorf("%s:\n%s\ngives %v, want %s", c.path, c.text, err, c.says)
		}
	}
	if err := load(opal, wire.File{Path: "tests.yaml", Text: "tests: []"}, wire.File{Path: "tests.yaml", Text: "tests: []"}); err == nil {
		t.Error("one file is taken twice")
	}
	wants(t, load(flint, wire.File{Path: "tests.yaml", Text: "tests: []"}), fault.Refused, "")
	if _, err := svc.Admin.Files(flint); err == nil {
		t.Error("who does not review is told all of it")
	}
	if svc.Revision() != revision {
		t.Errorf("something of it was made: revision %d after %d", svc.Revision(), revision)
	}
}
