package query

import (
	"strings"
	"unicode"

	pg "github.com/pganalyze/pg_query_go/v6"

	"gneiss/core/access"
)

// A Command is a statement of ISO SQL that changes the access model, or the
// session: GRANT and REVOKE of privileges and of roles, CREATE ROLE, DROP ROLE,
// CREATE VIEW, DROP VIEW, and SET ROLE.
type Command struct {
	Kind CommandKind
	// Rights are what GRANT and REVOKE name, each with its columns.
	Rights []Right
	// Objects are paths. A schema may be named without its source.
	Objects  []string
	Subjects []string // whom it is granted to or revoked from; members of a role
	Roles    []string // that are given, taken, created or dropped
	// Option is WITH GRANT OPTION or WITH ADMIN OPTION; of a REVOKE, that the
	// option alone is taken.
	Option  bool
	Cascade bool // of a REVOKE: what depends on it goes along
	View    *View
}

// A View is what CREATE VIEW says. Its path is among the command's objects.
type View struct {
	Text    string
	Columns []string
	Rights  string // owner or reader; empty: not said
	Sealed  bool
	Replace bool
}

// A Right is a privilege, on some columns or on all.
type Right struct {
	Privilege string
	Columns   []string
}

// A CommandKind is what a command does.
type CommandKind uint8

const (
	GrantPrivileges CommandKind = iota + 1
	RevokePrivileges
	GiveRole
	TakeRole
	CreateRole
	DropRole
	SetRole // Roles has the one to act in; empty: all that are held
	CreateView
	DropView
)

// IsCommand reports whether a text begins as a command does, so that it is not
// for [Make].
func IsCommand(text string) bool {
	text = strings.TrimSpace(text)
	end := strings.IndexFunc(text, func(r rune) bool { return r != '_' && !unicode.IsLetter(r) })
	if end < 0 {
		end = len(text)
	}
	switch strings.ToUpper(text[:end]) {
	case "GRANT", "REVOKE", "CREATE", "DROP", "SET", "RESET":
		return true
	}
	return false
}

// ParseCommand reads a command. Names are not looked up.
func ParseCommand(text string) (c *Command, err error) {
	defer caught(&err)
	b := &binder{text: text}
	tree, err := parseOne(text)
	if err != nil {
		return nil, err
	}
	at := tree.Stmts[0].StmtLocation
	switch s := tree.Stmts[0].Stmt.GetNode().(type) {
	case *pg.Node_GrantStmt:
		return b.grantCommand(s.GrantStmt, at), nil
	case *pg.Node_GrantRoleStmt:
		return b.roleCommand(s.GrantRoleStmt, at), nil
	case *pg.Node_CreateRoleStmt:
		if s.CreateRoleStmt.StmtType != pg.RoleStmtType_ROLESTMT_ROLE || len(s.CreateRoleStmt.Options) > 0 {
			b.unsupported(at, "CREATE USER or GROUP, and options of CREATE ROLE")
		}
		return &Command{Kind: CreateRole, Roles: []string{s.CreateRoleStmt.Role}}, nil
	case *pg.Node_DropRoleStmt:
		if s.DropRoleStmt.MissingOk {
			b.unsupported(at, "IF EXISTS")
		}
		return &Command{Kind: DropRole, Roles: b.roleNames(s.DropRoleStmt.Roles)}, nil
	case *pg.Node_ViewStmt:
		return b.createView(s.ViewStmt, at), nil
	case *pg.Node_DropStmt:
		return b.dropView(s.DropStmt, at), nil
	case *pg.Node_VariableSetStmt:
		return b.setRole(s.VariableSetStmt, at), nil
	}
	b.unsupported(at, statementName(tree.Stmts[0], b.text))
	return nil, nil
}

// createView reads CREATE [OR REPLACE] VIEW name [(columns)] [WITH (rights = reader,
// sealed)] AS query.
func (b *binder) createView(s *pg.ViewStmt, at int32) *Command {
	if s.View.Relpersistence == "t" || s.WithCheckOption != pg.ViewCheckOption_NO_CHECK_OPTION {
		b.unsupported(at, "TEMPORARY, or WITH CHECK OPTION, of a view")
	}
	v := &View{Columns: texts(s.Aliases), Replace: s.Replace, Text: b.afterAs()}
	for _, n := range s.Options {
		e := n.GetDefElem()
		value := e.GetArg().GetTypeName()
		switch {
		case e.Defname == "rights" && value != nil:
			v.Rights = texts(value.Names)[len(value.Names)-1]
		case e.Defname == "rights" && e.GetArg().GetString_() != nil:
			v.Rights = e.GetArg().GetString_().GetSval()
		case e.Defname == "sealed" && e.GetArg() == nil:
			v.Sealed = true
		default:
			b.fail(at, Unsupported, "a view is made WITH (rights = owner), WITH (rights = reader) or WITH (sealed); %s is none of these", e.Defname)
		}
	}
	return &Command{Kind: CreateView, Objects: []string{rangePath(s.View)}, View: v}
}

// afterAs is what stands behind the first AS of the text: the first of all, for a
// name that reads so is in quotes.
func (b *binder) afterAs() string {
	scanned, err := pg.Scan(b.text)
	if err == nil {
		for _, t := range scanned.Tokens {
			if t.Token == pg.Token_AS {
				return strings.TrimRight(strings.TrimSpace(b.text[t.End:]), "; \t\n")
			}
		}
	}
	b.unsupported(-1, "this form of CREATE VIEW")
	return ""
}

func (b *binder) dropView(s *pg.DropStmt, at int32) *Command {
	if s.RemoveType != pg.ObjectType_OBJECT_VIEW || s.MissingOk || s.Behavior == pg.DropBehavior_DROP_CASCADE {
		b.unsupported(at, "DROP of anything but a ROLE or a VIEW, IF EXISTS, and CASCADE")
	}
	c := &Command{Kind: DropView}
	for _, n := range s.Objects {
		c.Objects = append(c.Objects, access.JoinPath(texts(n.GetList().Items)...))
	}
	return c
}

func rangePath(r *pg.RangeVar) string {
	parts := []string{}
	for _, part := range []string{r.Catalogname, r.Schemaname, r.Relname} {
		if part != "" {
			parts = append(parts, part)
		}
	}
	return access.JoinPath(parts...)
}

// setRole reads SET ROLE name, SET ROLE NONE and RESET ROLE, as ISO/IEC 9075-2
// 19.2 has it. NONE and RESET give back all roles that are held.
func (b *binder) setRole(s *pg.VariableSetStmt, at int32) *Command {
	if s.Name != "role" || s.IsLocal {
		b.unsupported(at, "SET of anything but ROLE")
	}
	c := &Command{Kind: SetRole}
	if s.Kind == pg.VariableSetKind_VAR_SET_VALUE && len(s.Args) == 1 {
		if name := s.Args[0].GetAConst().GetSval().GetSval(); name != "none" {
			c.Roles = []string{name}
		}
	}
	return c
}

func (b *binder) grantCommand(s *pg.GrantStmt, at int32) *Command {
	c := &Command{Kind: GrantPrivileges, Subjects: b.roleNames(s.Grantees), Option: s.GrantOption}
	if !s.IsGrant {
		c.Kind, c.Cascade = RevokePrivileges, s.Behavior == pg.DropBehavior_DROP_CASCADE
	}
	if s.Grantor != nil {
		b.unsupported(at, "GRANTED BY")
	}
	if s.Targtype != pg.GrantTargetType_ACL_TARGET_OBJECT {
		b.unsupported(at, "ALL TABLES IN SCHEMA (a grant on the schema covers them, present and future)")
	}
	for _, n := range s.Objects {
		switch s.Objtype {
		case pg.ObjectType_OBJECT_TABLE:
			c.Objects = append(c.Objects, rangePath(n.GetRangeVar()))
		case pg.ObjectType_OBJECT_SCHEMA, pg.ObjectType_OBJECT_DATABASE:
			// A quoted name may be a whole path: ON SCHEMA "survey.drilling".
			c.Objects = append(c.Objects, n.GetString_().GetSval())
		case pg.ObjectType_OBJECT_ROUTINE, pg.ObjectType_OBJECT_FUNCTION, pg.ObjectType_OBJECT_PROCEDURE:
			c.Objects = append(c.Objects, access.JoinPath(texts(n.GetObjectWithArgs().GetObjname())...))
		default:
			b.unsupported(at, "a privilege on this kind of object")
		}
	}
	if len(s.Privileges) == 0 {
		c.Rights = []Right{{Privilege: "ALL"}}
	}
	for _, n := range s.Privileges {
		p := n.GetAccessPriv()
		c.Rights = append(c.Rights, Right{Privilege: p.PrivName, Columns: texts(p.Cols)})
	}
	return c
}

func (b *binder) roleCommand(s *pg.GrantRoleStmt, at int32) *Command {
	c := &Command{Kind: GiveRole, Subjects: b.roleNames(s.GranteeRoles)}
	if !s.IsGrant {
		c.Kind, c.Cascade = TakeRole, s.Behavior == pg.DropBehavior_DROP_CASCADE
	}
	if s.Grantor != nil {
		b.unsupported(at, "GRANTED BY")
	}
	for _, n := range s.Opt {
		if n.GetDefElem().GetDefname() != "admin" {
			b.unsupported(at, "another option than ADMIN of a role")
		}
		c.Option = !s.IsGrant || n.GetDefElem().GetArg() == nil || n.GetDefElem().GetArg().GetBoolean().GetBoolval()
	}
	for _, n := range s.GrantedRoles {
		p := n.GetAccessPriv()
		if len(p.Cols) > 0 {
			b.unsupported(at, "columns of a role")
		}
		c.Roles = append(c.Roles, p.PrivName)
	}
	return c
}

func (b *binder) roleNames(nodes []*pg.Node) []string {
	var names []string
	for _, n := range nodes {
		r := n.GetRoleSpec()
		switch r.Roletype {
		case pg.RoleSpecType_ROLESPEC_CSTRING:
			names = append(names, r.Rolename)
		case pg.RoleSpecType_ROLESPEC_PUBLIC:
			names = append(names, "public")
		default:
			b.unsupported(r.Location, "CURRENT_USER and its like as a grantee")
		}
	}
	return names
}
