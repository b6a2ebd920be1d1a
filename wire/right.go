package wire

import "time"

// A Grant is one grant, and why it has no effect, where that is so.
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
	Dormant   string     `json:"dormant,omitempty" description:"why it has no effect now"`
	Fix       *Fix       `json:"fix,omitempty" description:"the same, for programs; without grants where somebody has to be chosen"`
}

// A Path is one way to a privilege, in steps: user:flint, role:x, then the grant.
type Path struct {
	Steps []string `json:"steps"`
	Grant Grant    `json:"grant"`
	Says  string   `json:"says"`
}

// A Fix is one way to put something right: in words, and as the request that does it.
// One of the requests is set.
type Fix struct {
	Says   string         `json:"says"`
	Opens  int            `json:"opens,omitempty" description:"tables that the subject could read after it"`
	Grants []GrantRequest `json:"grants,omitempty"`
	Revoke *GrantRequest  `json:"revoke,omitempty"`
	Give   *Member        `json:"give,omitempty" description:"a membership to add; without a member, one is to be chosen"`
	Take   *Member        `json:"take,omitempty" description:"a membership to end; without a member, one is to be chosen"`
	Remove string         `json:"remove,omitempty" description:"a subject"`
	Enable string         `json:"enable,omitempty" description:"an account"`
	Edit   string         `json:"edit,omitempty" description:"a policy"`
	Stop   string         `json:"stop,omitempty" description:"a policy"`
	Kind   string         `json:"kind,omitempty" enum:",rows,columns" description:"of the policy"`
	Treat  string         `json:"treat,omitempty" description:"a label that a column policy is to be added for"`
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
	Next     string   `json:"next,omitempty" description:"a cursor: there is more"`
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
	WithEntry  bool       `json:"with_entry,omitempty" description:"also grant the USAGE that is missing on the way there, and on a lane where there is none"`
	Grantor    string     `json:"grantor,omitempty" description:"revoke only this one's grants"`
	OptionOnly bool       `json:"option_only,omitempty" description:"revoke the grant option alone"`
	Cascade    bool       `json:"cascade,omitempty" description:"revoke what depends on it, too"`
	Change
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

// An OwnerRequest gives objects another owner.
type OwnerRequest struct {
	Objects []string `json:"objects" required:"true"`
	Owner   string   `json:"owner" description:"empty: that of the object above"`
	Change
}
