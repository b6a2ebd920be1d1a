package admin

import (
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
