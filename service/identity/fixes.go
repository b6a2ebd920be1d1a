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

func GrantCommand(privilege, object, subject, more string) string {
	return fmt.Sprintf("gneiss grant %s on %s to %s%s", strings.ToLower(privilege), object, subject, more)
}

// mostFixes bounds what is proposed. The last way, a grant to the subject
// itself, is always among it.
const mostFixes = 5

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
			w := wire.Fix{Give: &wire.Member{Member: to, Of: of.Ref()}, Opens: f.Opens}
			if of.Kind == access.Role {
				w.Says = fmt.Sprintf("give %s to %s (opens %s)", of.Ref(), to, say.Count(f.Opens, "table"))
				w.Commands = []string{fmt.Sprintf("gneiss role give %s to %s", of.Name, to)}
			} else {
				w.Says = fmt.Sprintf("put %s in %s (opens %s)", to, of.Ref(), say.Count(f.Opens, "table"))
				w.Commands = []string{fmt.Sprintf("gneiss group put %s in %s", to, of.Name)}
			}
			out = append(out, w)
			continue
		}
		w := wire.Fix{Opens: f.Opens}
		var parts []string
		for _, n := range f.Grants {
			path := p.Model.Path(n.Object)
			parts = append(parts, n.Privilege.String()+" on "+path)
			w.Commands = append(w.Commands, GrantCommand(n.Privilege.String(), path, to, ""))
			w.Grants = append(w.Grants, wire.GrantRequest{Privileges: []string{n.Privilege.String()}, Object: path, Subjects: []string{to}})
		}
		if last := f.Grants[len(f.Grants)-1]; len(f.Grants) > 1 && last.Privilege == privilege && last.Object == id {
			w.Commands = []string{GrantCommand(privilege.String(), p.Model.Path(id), to, " --with-entry")}
			w.Grants = []wire.GrantRequest{{Privileges: []string{privilege.String()}, Object: p.Model.Path(id), Subjects: []string{to}, WithEntry: true}}
		}
		w.Says = "grant " + strings.Join(parts, ", ") + " to " + to
		out = append(out, w)
	}
	return out
}
