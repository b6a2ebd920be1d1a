package admin

import (
	"strings"
	"testing"

	"gneiss/service/fault"
	"gneiss/wire"
)

// FuzzRoster looks for what a file could say to break its reader.
func FuzzRoster(f *testing.F) {
	for _, seed := range []string{"subject,title,disabled,lead,attribute:districts\nuser:flint,geologist,no,user:chert,north;coast\n", "member,of,until,option,reason,ticket\nuser:flint,group:north,2027-01-31,no,,GS-40\n",
		"subject,title\n\"user\"x:b,c", "a\"b,title\n", "\ufeffsubject\r\nuser:a\r\n", `{"subjects":[{"ref":"user:a"}],"memberships":[]}`, "subject\n\"\n", "", "member,of\nuser:a\n"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, content string) {
		var into wire.Roster
		if err := readRoster(wire.RosterFile{Name: "f", Content: content}, &into); err != nil && fault.Of(err).Kind == fault.Internal {
			t.Errorf("%q: %v", content, err)
		}
	})
}

// TestTestNames: what a test of use is called is a name that tests can have, and no two are the same.
func TestTestNames(t *testing.T) {
	seen := map[string]string{}
	long := strings.Repeat("a_long_schema_name.", 6)
	for _, table := range []string{"survey.drilling.boreholes", long + "x", long + "y", `src."Ünïcode".t`} {
		for _, subject := range []string{"flint", strings.Repeat("n", 80)} {
			name := testName(subject, table)
			if len(name) > longestName || strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789_.-") != "" {
				t.Errorf("%q", name)
			}
			if other := seen[name]; other != "" {
				t.Errorf("%s and %s are both called %s", other, subject+" "+table, name)
			}
			seen[name] = subject + " " + table
		}
	}
}
