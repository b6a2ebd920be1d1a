package sqlport_test

import (
	"bytes"
	"encoding/binary"
	"flag"
	"fmt"
	"regexp"
	"strings"
	"sync"
	"testing"

	"gneiss/source/corpus"
	"gneiss/source/pgtest"
	"gneiss/sqlport"
	"gneiss/wire"
)

// ways are those in which the protocol lets one ask.
var ways = []string{"simple", "extended", "prepared", "binary", "portal", "cursor", "move", "copy"}

var modifier = regexp.MustCompile(`:-?\d+( |$)`)

var allWays = flag.Bool("all-ways", false, "TestTheCorpus asks each statement in each way, rather than in one of them")

// TestTheCorpus asks the statements of the language through the port, in the ways that the protocol has,
// and of the server itself, and compares columns and values byte for byte, and errors by their SQLSTATE.
func TestTheCorpus(t *testing.T) {
	p := opened(t, false, sqlport.Limits{})
	url := p.withCorpus(t)
	// A type of the database's own making is a text to clients of the port.
	var own, ownArray uint32
	if err := mustConnect(t, url).QueryRow(ctx, "SELECT 's.rock'::regtype::oid, 's.rock[]'::regtype::oid").Scan(&own, &ownArray); err != nil {
		t.Fatal(err)
	}
	texts := strings.NewReplacer(fmt.Sprintf(":%d:4:", own), ":25:-1:", fmt.Sprintf(":%d:", ownArray), ":1009:")
	perWay := map[string][]corpus.Statement{}
	n := 0
	for s := range corpus.Statements(1, 600) {
		for i, way := range ways {
			if way == "move" && s.Unordered { // which row it leaves out is anybody's guess
				continue
			}
			if *allWays || s.Part == corpus.Written || n%len(ways) == i {
				perWay[way] = append(perWay[way], s)
			}
		}
		n++
	}
	var mu sync.Mutex
	same, failing, other := map[string]int{}, 0, 0
	t.Run("ways", func(t *testing.T) {
		for _, way := range ways {
			t.Run(way, func(t *testing.T) {
				t.Parallel()
				port, direct := p.connect(t, "opal", "src"), mustConnect(t, url)
				if _, err := direct.Exec(ctx, "SET TimeZone = 'UTC'"); err != nil {
					t.Fatal(err)
				}
				for _, s := range perWay[way] {
					got, want := ask(t, port, way, s.Text), ask(t, direct, way, strings.ReplaceAll(s.Text, "src.", ""))
					want.types = texts.Replace(want.types)
					if s.Unordered { // what the server folds as it plans has another modifier than what it has read
						want.types, got.types = modifier.ReplaceAllString(want.types, ""), modifier.ReplaceAllString(got.types, "")
					}
					if way == "binary" && strings.Contains(want.types, "1009") {
						for _, head := range []string{"\x00\x00\x00\x00\x00\x00\x00\x00", "\x00\x00\x00\x01\x00\x00\x00\x00", "\x00\x00\x00\x01\x00\x00\x00\x01"} {
							want.rows = bytes.ReplaceAll(want.rows, binary.BigEndian.AppendUint32([]byte(head), own), []byte(head+"\x00\x00\x00\x19"))
						}
					}
					mu.Lock()
					switch {
					case got.like(want, s.Unordered):
						if same[way]++; got.state != "" {
							failing++
						}
					case s.Gap || s.Unordered && got.state == "0A000" || want.state == "XX000" && got.state == "22023": // what the server says of its inside is kept
						other++
					default:
						t.Errorf("%s\n gives %s\n  for %s", s.Text, got, want)
					}
					mu.Unlock()
				}
			})
		}
	})
	t.Logf("%d statements: the same %v, %d of them errors; %d are known to be otherwise", n, same, failing, other)
	for _, way := range ways {
		if len(perWay[way]) < 1000 || same[way] < len(perWay[way])*98/100 {
			t.Errorf("%s: %d of %d are the same", way, same[way], len(perWay[way]))
		}
	}
}

// withCorpus adds the tables of the corpus as the source src, and returns where they are.
func (p *port) withCorpus(t testing.TB) (url string) {
	t.Helper()
	url, err := pgtest.Start(t).Database("corpus")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := mustConnect(t, url).Exec(ctx, "CREATE SCHEMA s; SET search_path = s; "+corpus.Tables); err != nil {
		t.Fatal(err)
	}
	opal, err := p.svc.Admin.ActAs("user:opal")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.svc.Admin.AddSource(ctx, opal, wire.SourceRequest{Name: "src", Location: url}); err != nil {
		t.Fatal(err)
	}
	return url
}
