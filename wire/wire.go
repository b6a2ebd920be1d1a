// Package wire has the words that the API, its clients and the console share:
// the JSON of requests and answers. Times are RFC 3339; objects are named by
// path and subjects by reference, as in survey.drilling.boreholes and
// user:flint.
package wire

import "time"

// A Problem is an error, as RFC 9457 has it.
type Problem struct {
	Type      string   `json:"type" description:"a URI reference for the kind of problem"`
	Title     string   `json:"title" description:"the kind of problem, in words"`
	Status    int      `json:"status" description:"the HTTP status"`
	Code      string   `json:"code" description:"stable, for programs"`
	Detail    string   `json:"detail" description:"what happened and what to do"`
	Reference string   `json:"reference,omitempty" description:"where the audit record has the full reason"`
	Missing   []string `json:"missing,omitempty" description:"privileges that would be needed"`
	Fixes     []Fix    `json:"fixes,omitempty" description:"ways to give them, smallest first; for administrators"`
	Near      []string `json:"near,omitempty" description:"names that may have been meant"`
	Line      int      `json:"line,omitempty" description:"of the place in a SQL text, from 1"`
	Column    int      `json:"column,omitempty" description:"of the place in a SQL text, from 1"`
}

func (p *Problem) Error() string { return p.Detail }

// A Standpoint says as whom to look. Empty fields mean the caller's own.
type Standpoint struct {
	As      string `json:"as,omitempty" query:"as" description:"a subject: user:flint, or role:survey_reader alone"`
	Role    string `json:"role,omitempty" query:"role" description:"act in this role only"`
	Purpose string `json:"purpose,omitempty" query:"purpose" description:"the declared purpose"`
}

// SignIn asks for a session. With Token the answer has a bearer token; without,
// a cookie is set.
type SignIn struct {
	User     string `json:"user" required:"true"`
	Password string `json:"password" required:"true"`
	Token    bool   `json:"token,omitempty"`
	Name     string `json:"name,omitempty" description:"what the token is for"`
}

// A Session says who is signed in.
type Session struct {
	User          string    `json:"user"`
	Title         string    `json:"title"`
	Administrator bool      `json:"administrator" description:"may manage the platform"`
	Reviewer      bool      `json:"reviewer" description:"may look at all subjects, grants and policies"`
	Auditor       bool      `json:"auditor" description:"may read the whole record"`
	Standing      string    `json:"standing" description:"the standpoint of this request, in words"`
	Purpose       string    `json:"purpose,omitempty"`
	Roles         []string  `json:"roles" description:"all that the standpoint acts in"`
	Groups        []string  `json:"groups"`
	Expires       time.Time `json:"expires"`
	Revision      int64     `json:"revision" description:"of the model"`
	CSRF          string    `json:"csrf,omitempty" description:"to be sent back as X-CSRF-Token with every change"`
	Token         string    `json:"token,omitempty"`
}

// Bands say how a subject stands to an object in four strata, each full,
// hatched or empty.
type Bands struct {
	Door    string `json:"door" enum:"full,hatched,empty" description:"can they get in"`
	Verbs   string `json:"verbs" enum:"full,hatched,empty" description:"read and write: both, one, none"`
	Rows    string `json:"rows" enum:"full,hatched,empty" description:"all, some, none"`
	Columns string `json:"columns" enum:"full,hatched,empty" description:"all in clear, some treated or withheld, none"`
	Says    string `json:"says" description:"the same in words"`
}

// A Node is an object in the tree.
type Node struct {
	Path     string `json:"path"`
	Name     string `json:"name"`
	Kind     string `json:"kind"`
	Type     string `json:"type,omitempty" description:"of a column; of a source, its kind of database"`
	Declared string `json:"declared,omitempty" description:"of a column: the database's own type, where type is another that holds its values"`
	NotNull  bool   `json:"not_null,omitempty"`
	Missing  bool   `json:"missing,omitempty" description:"no longer found in its source"`
	Bands    Bands  `json:"bands"`
	Children []Node `json:"children,omitempty"`
}

// A Grant is one grant, and why it gives nothing, where that is so.
type Grant struct {
	Privilege string     `json:"privilege" description:"or the bundle"`
	Gives     []string   `json:"gives,omitempty" description:"of a bundle: the privileges in it"`
	Object    string     `json:"object"`
	Subject   string     `json:"subject"`
	Grantor   string     `json:"grantor"`
	Basis     string     `json:"basis,omitempty" description:"the grant by which the grantor could give it"`
	Owns      string     `json:"owns,omitempty" description:"the object whose owner has it, without a grantor"`
	Option    bool       `json:"option"`
	At        time.Time  `json:"at"`
	Until     *time.Time `json:"until,omitempty"`
	Reason    string     `json:"reason,omitempty"`
	Ticket    string     `json:"ticket,omitempty"`
	Dormant   string     `json:"dormant,omitempty" description:"why it gives nothing now"`
	Wake      string     `json:"wake,omitempty" description:"the command that would wake it"`
	Fix       *Fix       `json:"fix,omitempty" description:"the same, for programs; without grants where somebody has to be chosen"`
}

// A Path is one way to a privilege, in steps: user:flint, role:x, then the grant.
type Path struct {
	Steps []string `json:"steps"`
	Grant Grant    `json:"grant"`
	Says  string   `json:"says"`
}

// A Fix is one way to give what is missing.
type Fix struct {
	Says     string         `json:"says"`
	Commands []string       `json:"commands"`
	Give     *Member        `json:"give,omitempty"`
	Grants   []GrantRequest `json:"grants,omitempty"`
	Opens    int            `json:"opens" description:"tables that this would open in all"`
}

// Why answers why, or why not.
type Why struct {
	Subject   string   `json:"subject"`
	Privilege string   `json:"privilege"`
	Object    string   `json:"object"`
	Allowed   bool     `json:"allowed"`
	Lane      bool     `json:"lane" description:"a lane is open to run queries on"`
	Says      string   `json:"says"`
	Paths     []Path   `json:"paths"`
	Missing   []string `json:"missing"`
	Fixes     []Fix    `json:"fixes"`
	Policies  []string `json:"policies" description:"what row and column policies make of it, in sentences"`
	Bands     Bands    `json:"bands"`
}

// A ColumnView is a column as one standpoint gets it.
type ColumnView struct {
	Name      string   `json:"name"`
	Type      string   `json:"type"`
	Declared  string   `json:"declared,omitempty" description:"the database's own type, where type is another that holds its values"`
	NotNull   bool     `json:"not_null"`
	Readable  bool     `json:"readable"`
	Treatment string   `json:"treatment" description:"clear, or what a policy makes of it"`
	By        []string `json:"by" description:"the policies that treat it"`
	Lost      []string `json:"lost" description:"policies that a stricter one overrules, or that REVEAL lifts"`
	Partly    bool     `json:"partly" description:"only some rows get the treatment"`
	Labels    []string `json:"labels" description:"the labels that it bears"`
	Conflict  bool     `json:"conflict"`
	Revealed  bool     `json:"revealed" description:"a grant of REVEAL shows it in clear"`
}

// A View is a named query in a schema.
type View struct {
	Path    string   `json:"path"`
	Text    string   `json:"text" description:"one SELECT; empty: it is sealed, and not for the caller"`
	Rights  string   `json:"rights" enum:"owner,reader" description:"whose privileges it reads its tables with; policies are always the reader's"`
	Sealed  bool     `json:"sealed" description:"its text is shown to nobody without DESCRIBE on it"`
	Owner   string   `json:"owner"`
	Columns []string `json:"columns"`
}

// A ViewRequest makes a view.
type ViewRequest struct {
	Path    string   `json:"path" required:"true" description:"where it is to stand: SOURCE.SCHEMA.NAME"`
	Text    string   `json:"text" required:"true" description:"one SELECT over tables of the same source"`
	Columns []string `json:"columns,omitempty" description:"names of its columns, in place of those of the text"`
	Rights  string   `json:"rights,omitempty" enum:"owner,reader" description:"owner by default"`
	Sealed  bool     `json:"sealed,omitempty"`
	Owner   string   `json:"owner,omitempty" description:"a subject that the caller has the rights of; by default the role that the caller acts in, else the caller"`
	Replace bool     `json:"replace,omitempty" description:"make one anew that is there"`
	Change
}

// An Object is the page of one object, from a standpoint.
type Object struct {
	Node
	View       *View        `json:"view,omitempty" description:"of a view"`
	ReadBy     []string     `json:"read_by,omitempty" description:"views that read it with their owners' rights, so that SELECT on them gives what policies leave of it"`
	Privileges []string     `json:"privileges" description:"what the standpoint may do"`
	Missing    []string     `json:"needs" description:"what it would need to read"`
	Columns    []ColumnView `json:"columns"`
	Policies   []Policy     `json:"policies"`
	Grants     []Grant      `json:"grants" description:"on the object itself, above and below"`
	Owner      string       `json:"owner,omitempty" description:"its own, or that of the nearest object above"`
	OwnOwner   bool         `json:"own_owner" description:"the owner is its own, not one from above"`
	Limits     *Limits      `json:"limits,omitempty" description:"of a lane"`
	Manage     bool         `json:"manage" description:"the caller may grant and write policies here"`
	Revision   int64        `json:"revision"`
}

// An Access is what one subject may do with one object.
type Access struct {
	Subject    string   `json:"subject"`
	Object     string   `json:"object"`
	Kind       string   `json:"kind"`
	Privileges []string `json:"privileges"`
	Bands      Bands    `json:"bands"`
	Rows       string   `json:"rows" description:"all, some or none, and by which policies"`
	Columns    string   `json:"columns" description:"all, or which are left, and which are treated"`
	Paths      []Path   `json:"paths,omitempty"`
}

// An AccessList is effective access, of one subject or to one object.
type AccessList struct {
	About    string   `json:"about"`
	Items    []Access `json:"items"`
	Revision int64    `json:"revision"`
}

// A Subject is a user, service, group, role or public.
type Subject struct {
	Ref         string              `json:"ref"`
	Kind        string              `json:"kind"`
	Name        string              `json:"name"`
	Title       string              `json:"title"`
	Disabled    bool                `json:"disabled"`
	Attributes  map[string][]string `json:"attributes"`
	Memberships []Membership        `json:"memberships" description:"groups it is in and roles it holds, directly"`
	Members     []string            `json:"members" description:"who is in the group or holds the role, directly"`
	Lead        string              `json:"lead,omitempty" description:"whom a user reports to"`
	Reports     []string            `json:"reports" description:"who reports to the user, directly"`
	Holders     int                 `json:"holders" description:"users and services that have it, at any depth"`
	Grants      int                 `json:"grants" description:"grants to it"`
	Dormant     int                 `json:"dormant" description:"those of them that give nothing"`
}

// A SubjectPage is one subject with its grants and the policies about it.
type SubjectPage struct {
	Subject
	Own       []Grant  `json:"own" description:"grants to the subject itself"`
	Inherited []Grant  `json:"inherited" description:"grants that it has through groups and roles"`
	Policies  []string `json:"policies" description:"policies that name it"`
	Revision  int64    `json:"revision"`
}

// A Membership is a group that a subject is in, or a role that it holds.
type Membership struct {
	Of     string     `json:"of"`
	By     string     `json:"by"`
	At     time.Time  `json:"at"`
	Until  *time.Time `json:"until,omitempty"`
	Option bool       `json:"option" description:"of a role: it may be given on"`
	Reason string     `json:"reason,omitempty"`
	Ticket string     `json:"ticket,omitempty"`
}

// A SubjectRequest adds or changes a subject. Nil fields stay as they are; an
// attribute without values is taken away.
type SubjectRequest struct {
	Subject    string              `json:"subject" required:"true"`
	Title      *string             `json:"title,omitempty"`
	Disabled   *bool               `json:"disabled,omitempty"`
	Lead       *string             `json:"lead,omitempty" description:"whom a user reports to; empty: nobody"`
	Rename     string              `json:"rename,omitempty" description:"another name; who it is stays"`
	Attributes map[string][]string `json:"attributes,omitempty"`
	Password   string              `json:"password,omitempty"`
	Change
}

// A Member puts a subject in a group, gives it a role, or takes it out.
type Member struct {
	Member string     `json:"member" required:"true"`
	Of     string     `json:"of" required:"true"`
	Until  *time.Time `json:"until,omitempty"`
	Option bool       `json:"option,omitempty" description:"of a role: it may be given on"`
	Ticket string     `json:"ticket,omitempty"`
	Change
}

// A GrantRequest grants or revokes privileges.
type GrantRequest struct {
	Privileges []string   `json:"privileges" required:"true" description:"or bundles"`
	Object     string     `json:"object,omitempty"`
	Objects    []string   `json:"objects,omitempty" description:"more of them, in the same change"`
	Columns    []string   `json:"columns,omitempty" description:"of the table; the whole table when empty"`
	Subjects   []string   `json:"subjects" required:"true"`
	Option     bool       `json:"option,omitempty" description:"with grant option"`
	Until      *time.Time `json:"until,omitempty"`
	Ticket     string     `json:"ticket,omitempty"`
	WithEntry  bool       `json:"with_entry,omitempty" description:"grant USAGE on the doors that are shut, too, and on a lane where there is none"`
	Grantor    string     `json:"grantor,omitempty" description:"revoke only this one's grants"`
	OptionOnly bool       `json:"option_only,omitempty" description:"revoke the grant option alone"`
	Cascade    bool       `json:"cascade,omitempty" description:"revoke what rests on it, too"`
	Change
}

// Change is what every request for a change can carry.
type Change struct {
	Reason string `json:"reason,omitempty" description:"kept in the journal"`
	DryRun bool   `json:"dry_run,omitempty" description:"say what it would do to whom, and do nothing"`
}

// An Effect is what a change did, or would do, to one subject.
type Effect struct {
	Subject string   `json:"subject"`
	Gains   []string `json:"gains"`
	Loses   []string `json:"loses"`
}

// A Changed says what a change did to whom.
type Changed struct {
	Revision int64    `json:"revision" description:"of the model after it; of a dry run, before"`
	Done     bool     `json:"done"`
	DryRun   bool     `json:"dry_run,omitempty" description:"it was only tried"`
	Says     []string `json:"says" description:"what was done, in sentences"`
	Notes    []string `json:"notes" description:"what to know, such as a grant that stays dormant"`
	Effects  []Effect `json:"effects"`
	More     bool     `json:"more,omitempty" description:"it touches more than the effects say"`
}

// A QueryRequest asks for governed rows.
type QueryRequest struct {
	SQL    string `json:"sql" required:"true"`
	Params []any  `json:"params,omitempty" description:"the values of $1, $2 and so on"`
	Limit  int    `json:"limit,omitempty" description:"rows at the most; the service's limit when 0"`
	Plan   bool   `json:"plan,omitempty" description:"add the governed SQL and the database's plan"`
	Lane   string `json:"lane,omitempty" description:"where to run; the first that is open when empty"`
	Standpoint
}

// A ResultColumn is a column of a result.
type ResultColumn struct {
	Name string `json:"name"`
	Type string `json:"type"`
}

// A Result is governed rows.
type Result struct {
	Columns   []ResultColumn `json:"columns"`
	Rows      [][]any        `json:"rows"`
	Truncated bool           `json:"truncated" description:"there are more rows than the limit let through"`
	TookMS    float64        `json:"took_ms"`
	Standing  string         `json:"standing"`
	Lane      string         `json:"lane,omitempty" description:"where it ran"`
	Changed   int64          `json:"changed" description:"rows that a statement inserted, changed or removed"`
	Record    string         `json:"record" description:"the reference in the audit record"`
	Plan      *Plan          `json:"plan,omitempty"`
}

// A Plan shows what ran.
type Plan struct {
	SQL      string   `json:"sql" description:"the governed SQL"`
	Args     []string `json:"args" description:"its arguments: their place in the SQL, an equals sign, their value"`
	Policies []string `json:"policies" description:"the policies that shaped it, in sentences"`
	Tables   []Shaped `json:"tables" description:"what the policies made of each table"`
	Database []string `json:"database" description:"the database's own plan"`
	PlanUS   int64    `json:"plan_us" description:"microseconds to plan"`
}

// A PreviewRequest asks for the rows of a table from one or more standpoints.
type PreviewRequest struct {
	Table       string       `json:"table" required:"true"`
	Standpoints []Standpoint `json:"standpoints" required:"true"`
	Limit       int          `json:"limit,omitempty"`
	Drafts      []string     `json:"drafts,omitempty" description:"policies that are not live: each standpoint is shown a second time, as if they were"`
	Plan        bool         `json:"plan,omitempty" description:"add the governed SQL of each side, and what the policies made of it"`
}

// A Preview shows the same rows side by side.
type Preview struct {
	Table   string         `json:"table"`
	Columns []ResultColumn `json:"columns" description:"all columns that any of the standpoints gets"`
	Sides   []Side         `json:"sides"`
	Rows    []PreviewRow   `json:"rows"`
	Matched bool           `json:"matched" description:"rows are matched by key; otherwise by place"`
	Key     string         `json:"key,omitempty" description:"the column that rows are matched by"`
}

// A Side is one standpoint's view of the table.
type Side struct {
	Standing  string       `json:"standing"`
	Problem   string       `json:"problem,omitempty"`
	Missing   []string     `json:"missing,omitempty"`
	Reference string       `json:"reference,omitempty"`
	Count     int64        `json:"count" description:"rows in all from here"`
	Columns   []ColumnView `json:"columns"`
	Bands     Bands        `json:"bands"`
	Plan      *Plan        `json:"plan,omitempty" description:"for who may review the table"`
}

// A PreviewRow is one row of the table as each side gets it.
type PreviewRow struct {
	Sides   [][]any `json:"sides" description:"by side, the cells in the order of the preview's columns; null where the row is not there"`
	Differs []bool  `json:"differs" description:"by column"`
}

// A Record is one line of the record of who did what.
type Record struct {
	ID        int64     `json:"id"`
	Reference string    `json:"reference"`
	At        time.Time `json:"at"`
	Actor     string    `json:"actor"`
	Standing  string    `json:"standing,omitempty"`
	Action    string    `json:"action"`
	Decision  string    `json:"decision"`
	Text      string    `json:"text"`
	Objects   []string  `json:"objects"`
	Labels    []string  `json:"labels" description:"that the objects bore"`
	Missing   []string  `json:"missing"`
	Reason    string    `json:"reason,omitempty"`
	Rows      int64     `json:"rows"`
	TookMS    float64   `json:"took_ms"`
	Address   string    `json:"address,omitempty"`
	Fixes     []Fix     `json:"fixes,omitempty"`
}

// A Found is one hit of a search over everything.
type Found struct {
	Kind string `json:"kind"`
	Name string `json:"name"`
	Says string `json:"says"`
}

// A List is one page of a list.
type List[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty" description:"the cursor of the next page"`
}

// A SourceRequest connects a database.
type SourceRequest struct {
	Name     string `json:"name" required:"true"`
	Location string `json:"location" required:"true" description:"a folder of SQLite files, one a schema, below the data folder when it is not absolute; or postgresql://ACCOUNT@HOST:PORT/DATABASE"`
	Change
}

// A Source is a connected database.
type Source struct {
	Name      string `json:"name"`
	Kind      string `json:"kind" enum:"sqlite,postgresql"`
	Location  string `json:"location,omitempty"`
	Tables    int    `json:"tables" description:"that the last scan found"`
	Available bool   `json:"available"`
	Problem   string `json:"problem,omitempty" description:"why it is not available"`
}

// A Comparison is what two subjects can do, where it differs.
type Comparison struct {
	A        string     `json:"a"`
	B        string     `json:"b"`
	Items    []Compared `json:"items" description:"only objects where the two differ"`
	Alike    int        `json:"alike" description:"objects that one of them can use, where they do not differ"`
	Grants   []Grant    `json:"grants" description:"those that make the difference"`
	Revision int64      `json:"revision"`
}

// A Compared is one object as two subjects stand to it.
type Compared struct {
	Object string   `json:"object"`
	Kind   string   `json:"kind"`
	A      Access   `json:"a"`
	B      Access   `json:"b"`
	OnlyA  []string `json:"only_a" description:"what the first has and the second lacks"`
	OnlyB  []string `json:"only_b"`
	Grants []int    `json:"grants" description:"those that make the difference, by their places in the comparison's list"`
}

// A Finding is something about rights that deserves a look, with its reason and
// its fix.
type Finding struct {
	Kind    string   `json:"kind" description:"stable, for programs"`
	Subject string   `json:"subject,omitempty"`
	Object  string   `json:"object,omitempty"`
	Says    string   `json:"says"`
	Why     string   `json:"why"`
	Fix     []string `json:"fix" description:"commands that mend it"`
}

// Limits bound what runs on a lane.
type Limits struct {
	Queries int   `json:"queries" description:"at once"`
	Seconds int   `json:"seconds" description:"of one query"`
	Rows    int   `json:"rows" description:"of one result"`
	Bytes   int64 `json:"bytes" description:"of one result, about"`
}

// A Lane is where queries run.
type Lane struct {
	Name    string `json:"name"`
	Path    string `json:"path" description:"as grants name it: lane:interactive"`
	Limits  Limits `json:"limits"`
	Users   int    `json:"users" description:"enabled users and services that may run queries there"`
	Running int    `json:"running" description:"queries now"`
	Owner   string `json:"owner,omitempty"`
	Open    bool   `json:"open" description:"to the caller"`
}

// A LaneRequest adds a lane or changes its limits; a limit of zero stays as it
// is, or is the built-in lane's for a new one.
type LaneRequest struct {
	Name    string `json:"name"`
	Limits  Limits `json:"limits"`
	Replace bool   `json:"replace,omitempty" description:"the lane is there already"`
	Change
}

// A Bundle is a named set of privileges that is granted like one.
type Bundle struct {
	Name       string   `json:"name"`
	Privileges []string `json:"privileges"`
	BuiltIn    bool     `json:"built_in"`
	Grants     int      `json:"grants" description:"that give it"`
}

// A BundleRequest adds a bundle, or changes what it and its grants give.
type BundleRequest struct {
	Name       string   `json:"name"`
	Privileges []string `json:"privileges" required:"true" description:"or other bundles, whose privileges are taken in"`
	Replace    bool     `json:"replace,omitempty" description:"the bundle is there already"`
	Change
}

// An OwnerRequest gives objects another owner.
type OwnerRequest struct {
	Objects []string `json:"objects" required:"true"`
	Owner   string   `json:"owner" description:"empty: that of the object above"`
	Change
}

// A PasswordRequest changes one's own password.
type PasswordRequest struct {
	Old string `json:"old" required:"true"`
	New string `json:"new" required:"true"`
}

// A Token lets its bearer act as an account, until it ends.
type Token struct {
	ID      string    `json:"id"`
	Name    string    `json:"name"`
	Subject string    `json:"subject"`
	Session bool      `json:"session" description:"it came from signing in"`
	Created time.Time `json:"created"`
	Expires time.Time `json:"expires"`
	Current bool      `json:"current" description:"it is this request's"`
}

// A TokenRequest makes a token for the caller, or for an account that the caller
// administers.
type TokenRequest struct {
	Name    string     `json:"name" required:"true" description:"what it is for"`
	Subject string     `json:"subject,omitempty" description:"the caller when empty"`
	Expires *time.Time `json:"expires,omitempty" description:"in 90 days when not given; in a year at the latest"`
}

// A NewToken is a token with its secret, which is shown this once.
type NewToken struct {
	Token
	Secret string `json:"secret"`
}

// A Roster is subjects with their memberships, for taking in and out.
type Roster struct {
	Subjects    []RosterSubject    `json:"subjects"`
	Memberships []RosterMembership `json:"memberships"`
}

// A RosterSubject is a subject as a file has it.
type RosterSubject struct {
	Ref        string              `json:"ref"`
	Title      string              `json:"title,omitempty"`
	Disabled   bool                `json:"disabled,omitempty"`
	Lead       string              `json:"lead,omitempty"`
	Attributes map[string][]string `json:"attributes,omitempty"`
	Line       int                 `json:"line,omitempty" description:"where the file has it, for messages"`
}

// A RosterMembership is a membership as a file has it.
type RosterMembership struct {
	Member string     `json:"member"`
	Of     string     `json:"of"`
	Until  *time.Time `json:"until,omitempty"`
	Option bool       `json:"option,omitempty"`
	Reason string     `json:"reason,omitempty"`
	Ticket string     `json:"ticket,omitempty"`
	Line   int        `json:"line,omitempty" description:"where the file has it, for messages"`
}

// A RosterRequest takes a roster in: what is there already is changed where it
// differs, and nothing is taken away.
type RosterRequest struct {
	Roster
	Files []RosterFile `json:"files,omitempty" description:"of CSV or JSON, read into the roster"`
	Change
}

// A RosterFile is a file's text: JSON as a Roster is, CSV with the head
// subject,title,disabled,lead,attribute:NAME, or with member,of,until,option,reason,ticket.
type RosterFile struct {
	Name    string `json:"name"`
	Content string `json:"content"`
}
