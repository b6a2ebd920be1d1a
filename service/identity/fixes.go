package identity

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"gneiss/core/access"
	"gneiss/service/say"
	"gneiss/wire"
)

// mostFixes bounds what is proposed. The last way, a grant to the subject
// itself, is always among it.
const mostFixes = 5

// GrantOf is the fix that grants a standpoint's subject just what is asked, for who manages that.
func (s *Service) GrantOf(p *Viewer, need access.Need) wire.Fix {
	to, path := p.Model.Ref(p.Standpoint.Subject), p.Model.Path(need.Object)
	return wire.Fix{Says: "grant " + need.Privilege.String() + " on " + path + " to " + to,
		Grants: []wire.GrantRequest{{Privileges: []string{need.Privilege.String()}, Object: path, Subjects: []string{to}}}}
}

// Fixes proposes ways to give a standpoint a privilege on an object, the smallest first.
func (s *Service) Fixes(p *Viewer, privilege access.Privilege, id access.ObjectID) []wire.Fix {
	out := []wire.Fix{}
	fixes := p.Fixes(privilege, id, p.State.Census(time.Now()))
	if len(fixes) > mostFixes {
		fixes = append(slices.Clone(fixes[:mostFixes-1]), fixes[len(fixes)-1])
	}
	for _, f := range fixes {
		to := p.Model.Ref(f.To)
		if f.Give != 0 {
			of := p.Model.Subject(f.Give)
			verb := "add %s to %s"
			if of.Kind == access.Role {
				verb = "give %[2]s to %[1]s"
			}
			out = append(out, wire.Fix{Give: &wire.Member{Member: to, Of: of.Ref()}, Opens: f.Opens,
				Says: fmt.Sprintf(verb, to, of.Ref()) + " (opens " + say.Count(f.Opens, "table") + ")"})
			continue
		}
		w := wire.Fix{Opens: f.Opens}
		var parts []string
		for _, n := range f.Grants {
			path := p.Model.Path(n.Object)
			parts = append(parts, n.Privilege.String()+" on "+path)
			w.Grants = append(w.Grants, wire.GrantRequest{Privileges: []string{n.Privilege.String()}, Object: path, Subjects: []string{to}})
		}
		if last := f.Grants[len(f.Grants)-1]; len(f.Grants) > 1 && last.Privilege == privilege && last.Object == id {
			w.Grants = []wire.GrantRequest{
				{Privileges: []string{privilege.String()}, Object: p.Model.Path(id), Subjects: []string{to}, WithEntry: true},
			}
		}
		w.Says = "grant " + strings.Join(parts, ", ") + " to " + to
		out = append(out, w)
	}
	return out
}
