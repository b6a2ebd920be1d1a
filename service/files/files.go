// Package files writes what administrators decided as files for version control, and reads them: YAML
// 1.2, one file a schema and one a role. What is in a source, and secrets, are not in them.
package files

import (
	"net/url"
	"strings"

	"gneiss/core/access"
	"gneiss/core/guard"
	"gneiss/core/outline"
	"gneiss/core/policy"
)

// A File is one of them, by its path below the folder.
type File struct {
	Path string
	Text string
}

// What each kind of file holds. A field that is not given is as it is on a new platform.
type (
	// Platform is platform.yaml: what is about no single role or schema.
	Platform struct {
		Bundles    []Bundle    `json:"bundles,omitempty"`
		Lanes      []Lane      `json:"lanes,omitempty"`
		Labels     []Label     `json:"labels,omitempty"`
		Policies   []Policy    `json:"policies,omitempty" description:"on labels"`
		Guardrails []Guardrail `json:"guardrails,omitempty"`
	}
	// Tests is tests.yaml.
	Tests struct {
		Tests []Test `json:"tests"`
	}
	// People is subjects.yaml: users, services and groups, and what is granted to them.
	People struct {
		Subjects    []Subject `json:"subjects,omitempty"`
		Memberships []Member  `json:"memberships,omitempty" description:"in groups"`
		Grants      []Grant   `json:"grants,omitempty" description:"to users, services, groups and public"`
	}
	// Role is roles/NAME.yaml.
	Role struct {
		Role    string   `json:"role"`
		Title   string   `json:"title,omitempty"`
		Holders []Member `json:"holders,omitempty"`
		Grants  []Grant  `json:"grants,omitempty"`
	}
	// Place is schemas/SOURCE.SCHEMA.yaml, or schemas/SOURCE.yaml for what is about a whole source.
	Place struct {
		Place         string         `json:"place"`
		Owners        []Owner        `json:"owners,omitempty"`
		Labels        []Placement    `json:"labels,omitempty"`
		Relationships []Relationship `json:"relationships,omitempty"`
		Views         []View         `json:"views,omitempty"`
		Policies      []Policy       `json:"policies,omitempty"`
	}

	Bundle struct {
		Bundle     string   `json:"bundle"`
		Privileges []string `json:"privileges"`
	}
	Lane struct {
		Lane    string `json:"lane"`
		Queries int    `json:"queries" description:"at once"`
		Seconds int    `json:"seconds"`
		Rows    int    `json:"rows"`
		Bytes   int64  `json:"bytes"`
	}
	Label struct {
		Label string `json:"label"`
		Topic string `json:"topic,omitempty"`
		Level string `json:"level,omitempty"`
	}
	Subject struct {
		Subject    string              `json:"subject"`
		Title      string              `json:"title,omitempty"`
		Disabled   bool                `json:"disabled,omitempty"`
		Lead       string              `json:"lead,omitempty"`
		Attributes map[string][]string `json:"attributes,omitempty"`
	}
	Member struct {
		Member string `json:"member"`
		Of     string `json:"of,omitempty" description:"the group; of a role's holders, the role"`
		By     string `json:"by,omitempty"`
		Until  string `json:"until,omitempty"`
		Option bool   `json:"admin_option,omitempty"`
		Passed bool   `json:"passed_on,omitempty"`
		Reason string `json:"reason,omitempty"`
		Ticket string `json:"ticket,omitempty"`
	}
	Grant struct {
		Privilege string `json:"privilege" description:"or a bundle"`
		Object    string `json:"object"`
		To        string `json:"to,omitempty" description:"in a role's file, the role"`
		By        string `json:"by,omitempty" description:"who loads the file, when empty"`
		Option    bool   `json:"grant_option,omitempty"`
		Until     string `json:"until,omitempty"`
		Reason    string `json:"reason,omitempty"`
		Ticket    string `json:"ticket,omitempty"`
	}
	Owner struct {
		Object string `json:"object"`
		Owner  string `json:"owner"`
	}
	Placement struct {
		Label  string `json:"label"`
		Object string `json:"object"`
	}
	Relationship struct {
		From []string `json:"from"`
		To   []string `json:"to"`
	}
	View struct {
		View   string `json:"view"`
		Text   string `json:"text"`
		Rights string `json:"rights"`
		Sealed bool   `json:"sealed,omitempty"`
	}
	Policy struct {
		Policy    string            `json:"policy"`
		Rows      string            `json:"rows_of,omitempty" description:"of a row policy: a table, a pattern or a label"`
		Columns   []string          `json:"columns,omitempty" description:"of a column policy: their paths, or one pattern"`
		Label     string            `json:"label,omitempty" description:"of a column policy: the label instead"`
		Mode      string            `json:"mode,omitempty"`
		Commands  string            `json:"commands,omitempty"`
		Rule      string            `json:"rule,omitempty"`
		Follow    string            `json:"follow,omitempty"`
		Via       []string          `json:"via,omitempty"`
		When      string            `json:"when,omitempty"`
		Treat     string            `json:"treat,omitempty"`
		Arguments *policy.Treatment `json:"with,omitempty"`
		For       []string          `json:"for,omitempty"`
		Except    []string          `json:"except,omitempty"`
		Purposes  []string          `json:"purposes,omitempty"`
		Status    string            `json:"status,omitempty"`
		Comment   string            `json:"comment,omitempty"`
	}
	Guardrail struct {
		Guardrail string   `json:"guardrail"`
		Kind      string   `json:"kind"`
		Mode      string   `json:"mode"`
		Object    string   `json:"object,omitempty"`
		Except    []string `json:"except,omitempty"`
		Roles     []string `json:"roles,omitempty"`
		Most      int      `json:"most,omitempty"`
		Comment   string   `json:"comment,omitempty"`
	}
	Test struct {
		Test    string            `json:"test"`
		Subject string            `json:"subject"`
		Role    string            `json:"role,omitempty"`
		Purpose string            `json:"purpose,omitempty"`
		Table   string            `json:"table"`
		May     []string          `json:"may,omitempty"`
		MayNot  []string          `json:"may_not,omitempty"`
		Rows    *int64            `json:"rows,omitempty"`
		Where   string            `json:"where,omitempty"`
		Columns map[string]string `json:"columns,omitempty"`
		Comment string            `json:"comment,omitempty"`
	}
)

const (
	platformFile = "platform.yaml"
	testsFile    = "tests.yaml"
	peopleFile   = "subjects.yaml"
)

func roleFile(name string) string  { return "roles/" + url.PathEscape(name) + ".yaml" }
func placeFile(path string) string { return "schemas/" + url.PathEscape(path) + ".yaml" }

// Home is the file that a thing is in.
func Home(t outline.Thing) string {
	switch c := only(t).(type) {
	case access.AddSubject:
		if role, is := strings.CutPrefix(c.Subject, "role:"); is {
			return roleFile(role)
		}
		return peopleFile
	case access.Join:
		if role, is := strings.CutPrefix(c.Of, "role:"); is {
			return roleFile(role)
		}
		return peopleFile
	case access.AddGrant:
		if role, is := strings.CutPrefix(c.Subject, "role:"); is {
			return roleFile(role)
		}
		return peopleFile
	case access.SetOwner:
		return homeOf(c.Object)
	case access.PutView:
		return homeOf(c.Path)
	case policy.PlaceLabel:
		return homeOf(c.Object)
	case policy.PutRelationship:
		return homeOf(c.From[0])
	case policy.PutRowPolicy:
		return homeOf(c.Table)
	case policy.PutColumnPolicy:
		if c.Label == "" {
			return homeOf(c.Columns[0])
		}
	case guard.PutTest:
		return testsFile
	}
	return platformFile
}

// only is the first change that makes a thing, which says what it is.
func only(t outline.Thing) any { return outline.Changes(t)[0] }

func homeOf(path string) string {
	within, _ := access.CutPattern(path)
	parts, err := access.ParsePath(within)
	if err != nil || len(parts) == 0 || strings.Contains(parts[0], ":") || within == "platform" {
		return platformFile
	}
	return placeFile(access.JoinPath(parts[:min(len(parts), 2)]...))
}
