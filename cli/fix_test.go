package cli

import (
	"reflect"
	"strings"
	"testing"

	"gneiss/wire"
)

// TestFixesAreCommands: each request of a fix has its command line, and a fix that this
// command line does not know fails here.
func TestFixesAreCommands(t *testing.T) {
	for _, c := range []struct {
		fix  wire.Fix
		want string
	}{
		{wire.Fix{Grants: []wire.GrantRequest{{Privileges: []string{"SELECT", "INSERT"}, Object: "a.b", Objects: []string{"a.c"}, Subjects: []string{"role:x"}, WithEntry: true}}},
			"gneiss grant select,insert on a.b a.c to role:x --with-entry"},
		{wire.Fix{Revoke: &wire.GrantRequest{Privileges: []string{"SELECT"}, Object: "a", Subjects: []string{"public"}}}, "gneiss revoke select on a from public"},
		{wire.Fix{Give: &wire.Member{Member: "user:y", Of: "role:x"}}, "gneiss role give x to user:y"},
		{wire.Fix{Give: &wire.Member{Of: "group:x"}}, "gneiss group put SUBJECT in x"},
		{wire.Fix{Take: &wire.Member{Of: "role:x"}}, "gneiss role take x from SUBJECT"},
		{wire.Fix{Take: &wire.Member{Member: "user:y", Of: "group:x"}}, "gneiss group take user:y from x"},
		{wire.Fix{Remove: "group:x"}, "gneiss group remove x"},
		{wire.Fix{Enable: "service:x"}, "gneiss service set x --enable"},
		{wire.Fix{Edit: "p", Kind: "columns"}, "gneiss policy columns edit p"},
		{wire.Fix{Stop: "p", Kind: "rows"}, "gneiss policy stop p"},
		{wire.Fix{Treat: "label:x"}, "gneiss policy columns add NAME --on label:x --treat suppress --except SUBJECT"},
		{wire.Fix{Says: "nothing to do"}, ""},
	} {
		if got := strings.Join(commands(c.fix), "; "); got != c.want {
			t.Errorf("%+v is %q, want %q", c.fix, got, c.want)
		}
	}
	fields := reflect.TypeFor[wire.Fix]()
	for i := range fields.NumField() {
		name := fields.Field(i).Name
		if name == "Says" || name == "Opens" || name == "Kind" {
			continue
		}
		var fix wire.Fix
		switch f := reflect.ValueOf(&fix).Elem().Field(i); f.Kind() {
		case reflect.String:
			f.SetString("role:x")
		case reflect.Slice:
			f.Set(reflect.ValueOf([]wire.GrantRequest{{}}))
		case reflect.Pointer:
			f.Set(reflect.New(f.Type().Elem()))
		}
		if len(commands(fix)) != 1 {
			t.Errorf("%s has no command", name)
		}
	}
}
