package gneiss

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"
)

var figures = flag.String("figures", "", "check: compare a short benchmark with docs/figures.txt; update: write that file")

// watched are the packages and benchmarks that are short, and on the path of each query.
var watched = map[string]string{
	"./core/access":      "Resolve$",
	"./core/emit":        "PlanCold",
	"./service/platform": "PlanWarm",
	"./service":          "PointQuery$|Change$",
}

const (
	slower = 5   // how many times the last time counts as slower: processors differ, and share their caches
	larger = 1.2 // and of the last bytes and allocations, which are the same everywhere
)

// figure is what a benchmark came to: the time in units of hashing 64 KiB on the same
// machine in the same run, the bytes and the allocations.
type figure struct{ time, bytes, allocations float64 }

var benchmarkLine = regexp.MustCompile(`^(Benchmark\S+?)(?:-\d+)?\s+\d+\s+([\d.]+) ns/op.*?([\d.]+) B/op\s+(\d+) allocs/op`)

// TestFigures finds what became slower or larger since docs/figures.txt was written.
func TestFigures(t *testing.T) {
	if *figures == "" {
		t.Skip("only with -figures check or update")
	}
	now := map[string]figure{}
	for pkg, pattern := range watched {
		out, err := exec.Command("go", "test", pkg, "-run", "XXX", "-bench", pattern, "-benchtime", "300ms", "-count", "3", "-benchmem").CombinedOutput()
		if err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		unit := hashing()
		for _, line := range strings.Split(string(out), "\n") {
			m := benchmarkLine.FindStringSubmatch(line)
			if m == nil {
				continue
			}
			var f figure
			for i, into := range []*float64{&f.time, &f.bytes, &f.allocations} {
				*into, _ = strconv.ParseFloat(m[i+2], 64)
			}
			if f.time /= unit; pkg == "./service" {
				f.time = 0 // the disk's, which no hashing stands for
			}
			name := strings.TrimPrefix(pkg, "./") + " " + m[1]
			if old, ok := now[name]; !ok || f.time < old.time { // the best of the three
				now[name] = f
			}
		}
	}
	if len(now) < len(watched) {
		t.Fatalf("only these ran: %v", now)
	}
	const file = "docs/figures.txt"
	if *figures == "update" {
		writeFigures(t, file, now)
		return
	}
	content, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	last := map[string]figure{}
	for lines := bufio.NewScanner(bytes.NewReader(content)); lines.Scan(); {
		var pkg, name string
		var f figure
		if n, _ := fmt.Sscan(lines.Text(), &pkg, &name, &f.time, &f.bytes, &f.allocations); n == 5 {
			last[pkg+" "+name] = f
		}
	}
	for name, f := range now {
		was, ok := last[name]
		t.Logf("%-55s time %8.3f (%.3f)  bytes %8.0f (%.0f)  allocations %5.0f (%.0f)", name, f.time, was.time, f.bytes, was.bytes, f.allocations, was.allocations)
		if !ok || f.time > slower*was.time+0.005 || f.bytes > larger*was.bytes+64 || f.allocations > larger*was.allocations+1 {
			t.Errorf("%s came to %.3f, %.0f bytes, %.0f allocations; last: %.3f, %.0f, %.0f", name, f.time, f.bytes, f.allocations, was.time, was.bytes, was.allocations)
		}
	}
}

// hashing is how long 64 KiB take to hash on this machine now, in nanoseconds.
func hashing() float64 {
	block := make([]byte, 64<<10)
	best := time.Hour
	for range 2000 {
		started := time.Now()
		sha256.Sum256(block)
		best = min(best, time.Since(started))
	}
	return float64(best.Nanoseconds())
}

func writeFigures(t *testing.T, file string, now map[string]figure) {
	t.Helper()
	var b strings.Builder
	b.WriteString("# What the short benchmarks came to, by `make figures`: package, benchmark, time in units of\n" +
		"# hashing 64 KiB on the same machine, bytes, allocations. CI compares (`make check`).\n")
	names := make([]string, 0, len(now))
	for name := range now {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		fmt.Fprintf(&b, "%s %.3f %.0f %.0f\n", name, now[name].time, now[name].bytes, now[name].allocations)
	}
	if err := os.WriteFile(file, []byte(b.String()), 0o644); err != nil {
		t.Fatal(err)
	}
}
