package cli

import (
	"strings"

	"gneiss/wire"
)

// commands are the command lines of a fix. SUBJECT and NAME are to be chosen.
func commands(f wire.Fix) []string {
	var out []string
	for _, g := range f.Grants {
		line := grantLine("grant", g, "to")
		if g.WithEntry {
			line += " --with-entry"
		}
		out = append(out, line)
	}
	if f.Revoke != nil {
		out = append(out, grantLine("revoke", *f.Revoke, "from"))
	}
	if f.Give != nil {
		out = append(out, memberLine(*f.Give, "give", "to", "put", "in"))
	}
	if f.Take != nil {
		out = append(out, memberLine(*f.Take, "take", "from", "take", "from"))
	}
	if f.Remove != "" {
		kind, name, _ := strings.Cut(f.Remove, ":")
		out = append(out, "gneiss "+kind+" remove "+name)
	}
	if f.Enable != "" {
		kind, name, _ := strings.Cut(f.Enable, ":")
		out = append(out, "gneiss "+kind+" set "+name+" --enable")
	}
	if f.Edit != "" {
		out = append(out, "gneiss policy "+f.Kind+" edit "+f.Edit)
	}
	if f.Stop != "" {
		out = append(out, "gneiss policy stop "+f.Stop)
	}
	if f.Treat != "" {
		out = append(out, "gneiss policy columns add NAME --on "+f.Treat+" --treat suppress --except SUBJECT")
	}
	return out
}

// shellWords writes words so that a shell leaves them as they are.
func shellWords(words []string) []string {
	out := make([]string, len(words))
	for i, w := range words {
		if strings.ContainsAny(w, ` "'()$&;|<>*?\\`) {
			w = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
		}
		out[i] = w
	}
	return out
}

func grantLine(verb string, g wire.GrantRequest, to string) string {
	objects := g.Objects
	if g.Object != "" {
		objects = append([]string{g.Object}, objects...)
	}
	return strings.Join(
		[]string{
			"gneiss",
			verb,
			strings.ToLower(strings.Join(g.Privileges, ",")),
			"on",
			strings.Join(shellWords(objects), " "),
			to,
			strings.Join(g.Subjects, " "),
		},
		" ",
	)
}

// memberLine is the command for a membership of a role, or of a group.
func memberLine(m wire.Member, give, to, put, in string) string {
	member := m.Member
	if member == "" {
		member = "SUBJECT"
	}
	kind, name, _ := strings.Cut(m.Of, ":")
	if kind == "role" {
		return strings.Join([]string{"gneiss role", give, name, to, member}, " ")
	}
	return strings.Join([]string{"gneiss group", put, member, in, name}, " ")
}
