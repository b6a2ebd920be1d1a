// Package gneiss holds the rules of the whole: which folder may import which,
// and that generated files are those of today.
package gneiss

import (
	"bytes"
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"gneiss/api"
	"gneiss/cli"
	"gneiss/service/review"
)

// TestImportsRunOneWay holds the direction of imports. The core knows nothing
// of what is round it; only the SQL grammar and sets of integers come from
// outside.
func TestImportsRunOneWay(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}} {{join .Deps \",\"}}", "./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	may := map[string][]string{
		"gneiss/core/access":     {"github.com/bits-and-blooms/bitset"},
		"gneiss/core/policy":     {"gneiss/core/", "github.com/bits-and-blooms/bitset"},
		"gneiss/core/guard":      {"gneiss/core/", "github.com/bits-and-blooms/bitset"},
		"gneiss/core/outline":    {"gneiss/core/", "github.com/bits-and-blooms/bitset"},
		"gneiss/core/query":      {"gneiss/core/", "github.com/bits-and-blooms/bitset", "github.com/pganalyze/", "google.golang.org/protobuf/"},
		"gneiss/core/emit":       {"gneiss/core/", "github.com/bits-and-blooms/bitset", "github.com/pganalyze/", "google.golang.org/protobuf/"},
		"gneiss/wire":            {},
		"gneiss/client":          {"gneiss/wire"},
		"gneiss/store":           nil,
		"gneiss/source":          {"gneiss/core/", "github.com/bits-and-blooms/bitset", "github.com/pganalyze/", "google.golang.org/protobuf/"},
		"gneiss/source/sqlite":   nil,
		"gneiss/source/postgres": nil,
	}
	never := map[string][]string{
		"gneiss/cli":             {"gneiss/service", "gneiss/api", "gneiss/store", "gneiss/core"},
		"gneiss/store":           {"gneiss/"},
		"gneiss/source/sqlite":   {"gneiss/service", "gneiss/store", "gneiss/api"},
		"gneiss/source/postgres": {"gneiss/service", "gneiss/store", "gneiss/api"},
	}
	// The rooms of the service, from the ground up: each knows those before it alone,
	// and nothing of what stands on the service.
	rooms := []string{"gneiss/service/say", "gneiss/service/audit", "gneiss/service/fault", "gneiss/service/files", "gneiss/service/events", "gneiss/service/platform", "gneiss/service/identity",
		"gneiss/service/gateway", "gneiss/service/review", "gneiss/service/admin", "gneiss/service"}
	for _, room := range rooms {
		never[room] = []string{"gneiss/api", "gneiss/cli", "gneiss/client", "github.com/gofiber"}
	}
	// What stands on the service, beside each other.
	never["gneiss/api"] = []string{"gneiss/sqlport", "gneiss/cli", "gneiss/client"}
	never["gneiss/sqlport"] = []string{"gneiss/api", "gneiss/cli", "gneiss/client", "github.com/gofiber"}
	never["gneiss/sqlport/catalog"] = []string{"gneiss/service", "gneiss/source", "gneiss/store", "gneiss/api"}
	seen, there := 0, map[string]bool{}
	for line := range strings.Lines(string(out)) {
		pkg, deps, _ := strings.Cut(strings.TrimSpace(line), " ")
		there[pkg] = true
		for _, dep := range strings.Split(deps, ",") {
			first, _, _ := strings.Cut(dep, "/")
			outside := strings.Contains(first, ".") || first == "gneiss"
			if allowed, ruled := may[pkg]; ruled && allowed != nil && outside && !hasPrefix(dep, allowed) {
				t.Errorf("%s imports %s", pkg, dep)
			}
			if own := slices.Index(rooms, pkg); hasPrefix(dep, never[pkg]) || own >= 0 && slices.Index(rooms, dep) > own {
				t.Errorf("%s imports %s", pkg, dep)
			}
		}
		if _, ruled := may[pkg]; ruled {
			seen++
		}
	}
	if seen != len(may) {
		t.Errorf("%d of %d ruled packages are there", seen, len(may))
	}
	for pkg := range never { // a rule about a package that was renamed would hold of nothing
		if !there[pkg] {
			t.Errorf("there is no package %s", pkg)
		}
	}
}

func hasPrefix(s string, prefixes []string) bool {
	for _, p := range prefixes {
		if strings.HasPrefix(s, p) {
			return true
		}
	}
	return false
}

// TestTransactionsStayInTheStore holds that the store alone speaks to the records.
func TestTransactionsStayInTheStore(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}} {{join .Imports \",\"}}", "./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(out)) {
		pkg, imports, _ := strings.Cut(strings.TrimSpace(line), " ")
		if strings.Contains(imports, "github.com/jmoiron/sqlx") && hasPrefix(pkg, []string{"gneiss/service", "gneiss/api", "gneiss/core", "gneiss/cli"}) {
			t.Errorf("%s imports sqlx", pkg)
		}
	}
}

// TestEnumsAreTheCores holds that the names which the API's types list are those of the
// core, and that the command line's help tells of each treatment.
func TestEnumsAreTheCores(t *testing.T) {
	var document struct {
		Components struct {
			Schemas map[string]struct {
				Properties map[string]struct{ Enum []string }
			}
		}
		Paths map[string]map[string]struct {
			Parameters []struct {
				Name   string
				Schema struct{ Enum []string }
			}
		}
	}
	if err := json.Unmarshal(api.Document(), &document); err != nil {
		t.Fatal(err)
	}
	names := review.Vocabulary()
	var kinds []string
	for _, k := range names.Treatments {
		kinds = append(kinds, k.Kind)
	}
	same := func(what string, got, want []string) {
		got, want = slices.Clone(got), slices.Clone(want)
		slices.Sort(got)
		slices.Sort(want)
		if got = slices.DeleteFunc(got, func(s string) bool { return s == "" }); !slices.Equal(got, want) {
			t.Errorf("%s: the API lists %q, the core %q", what, got, want)
		}
	}
	schemas := document.Components.Schemas
	same("treatments", schemas["WireTreatment"].Properties["kind"].Enum, kinds)
	same("levels", schemas["WireLabel"].Properties["level"].Enum, names.Levels)
	for _, p := range document.Paths["/api/v1/records"]["get"].Parameters {
		switch p.Name {
		case "action":
			same("actions", p.Schema.Enum, names.Actions)
		case "decision":
			same("decisions", p.Schema.Enum, names.Decisions)
		}
	}
	command, _, err := cli.New(nil, io.Discard, io.Discard).Find([]string{"policy", "columns", "add"})
	if err != nil {
		t.Fatal(err)
	}
	for _, kind := range kinds {
		if !strings.Contains(command.Long, strings.ReplaceAll(kind, " ", "-")) {
			t.Errorf("the command line's help does not tell of %s", kind)
		}
	}
}

// TestConsoleTypesAreTodays fails when the API has changed and the console's
// types have not: run make types.
func TestConsoleTypesAreTodays(t *testing.T) {
	kept, err := os.ReadFile("web/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(kept, api.Document()) {
		t.Error("web/openapi.json is not the document that the API serves; run make types")
	}
	var document struct {
		Paths      map[string]any
		Components struct{ Schemas map[string]any }
	}
	if err := json.Unmarshal(kept, &document); err != nil {
		t.Fatal(err)
	}
	types, err := os.ReadFile("web/src/lib/api.gen.d.ts")
	if err != nil {
		t.Fatal(err)
	}
	for path := range document.Paths {
		if !strings.Contains(string(types), `"`+path+`"`) {
			t.Errorf("the console's types lack %s; run make types", path)
		}
	}
	for name := range document.Components.Schemas {
		if !strings.Contains(string(types), name+": {") {
			t.Errorf("the console's types lack %s; run make types", name)
		}
	}
}
