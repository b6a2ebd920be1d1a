// Package wire has the words that the API, its clients and the console share:
// the JSON of requests and answers. Times are RFC 3339; objects are named by
// path and subjects by reference, as in survey.drilling.boreholes and
// user:flint.
package wire

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
	SQLState  string   `json:"sqlstate,omitempty" description:"the code of ISO/IEC 9075 for what a database, or its rules, find wrong"`
	Column    int      `json:"column,omitempty" description:"of the place in a SQL text, from 1"`
}

func (p *Problem) Error() string { return p.Detail }

// A Standpoint says as whom to look. Empty fields mean the caller's own.
type Standpoint struct {
	As      string `json:"as,omitempty" query:"as" description:"a subject: user:flint, or role:survey_reader alone"`
	Role    string `json:"role,omitempty" query:"role" description:"act in this role only"`
	Purpose string `json:"purpose,omitempty" query:"purpose" description:"the declared purpose"`
}

// A Moment says which state to look at. Both empty mean the current one; at most one is given.
type Moment struct {
	Draft string `json:"draft,omitempty" query:"draft" description:"through this draft; a change goes into it"`
	At    string `json:"at,omitempty" query:"at" description:"as of a revision (118), a day (2026-11-01: its end, UTC), a time, or a name of a revision"`
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
	Path         string `json:"path"`
	Name         string `json:"name"`
	Kind         string `json:"kind"`
	Type         string `json:"type,omitempty" description:"of a column; of a routine, what it gives; of a source, its kind of database"`
	Declared     string `json:"declared,omitempty" description:"the database's own type of a column, or kind of a table, where it is another"`
	Comment      string `json:"comment,omitempty" description:"what the database says of it"`
	PastPolicies bool   `json:"past_policies,omitempty" description:"of a routine: it may read tables, and sees what policies hide"`
	NotNull      bool   `json:"not_null,omitempty"`
	Missing      bool   `json:"missing,omitempty" description:"no longer found in its source"`
	Bands        Bands  `json:"bands"`
	Children     []Node `json:"children,omitempty"`
}

// A ColumnView is a column as one standpoint gets it.
type ColumnView struct {
	Name      string   `json:"name"`
	Type      string   `json:"type"`
	Declared  string   `json:"declared,omitempty" description:"the database's own type, where type is another that holds its values"`
	Comment   string   `json:"comment,omitempty" description:"what the database says of it"`
	NotNull   bool     `json:"not_null"`
	Readable  bool     `json:"readable"`
	Treatment string   `json:"treatment" description:"clear, or what a policy makes of it: the kind and its arguments"`
	Says      string   `json:"says" description:"the same in words"`
	By        []string `json:"by" description:"the policies that treat it"`
	Lost      []string `json:"lost" description:"policies that a stricter one overrules, or that REVEAL lifts"`
	Partly    bool     `json:"partly" description:"only some rows get the treatment"`
	Labels    []string `json:"labels" description:"the labels that it has"`
	Conflict  bool     `json:"conflict"`
	Revealed  bool     `json:"revealed" description:"a grant of REVEAL shows it in clear"`
}

// An Object is the page of one object, from a standpoint.
type Object struct {
	Node
	View       *View        `json:"view,omitempty" description:"of a view"`
	ReadBy     []string     `json:"read_by,omitempty" description:"views that read it with their owners' rights"`
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

// Change is what every request for a change can carry.
type Change struct {
	Reason string `json:"reason,omitempty" description:"kept in the journal"`
	DryRun bool   `json:"dry_run,omitempty" description:"show what it would do to whom, and do nothing"`
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
	Revised  bool     `json:"revised" description:"the revision is one that it made"`
	DryRun   bool     `json:"dry_run,omitempty" description:"it was only tried"`
	Draft    string   `json:"draft,omitempty" description:"the draft that it went into; it takes effect when that is published"`
	Says     []string `json:"says" description:"what was done, in sentences"`
	Notes    []string `json:"notes" description:"what to know, such as a grant that stays dormant"`
	Effects  []Effect `json:"effects"`
	More     bool     `json:"more,omitempty" description:"it touches more than the effects say"`
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
	Location string `json:"location" required:"true" description:"a folder of SQLite files below the data folder, or postgresql://ACCOUNT@HOST:PORT/DATABASE"`
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

// SourceSettings are what of a source can be changed.
type SourceSettings struct {
	Location string `json:"location" required:"true" description:"where its database is now, in the form that it was connected with"`
	Change
}

// An AdoptRequest takes a view of a source's database in.
type AdoptRequest struct {
	View string `json:"view" required:"true" description:"SCHEMA.VIEW"`
	Change
}

// A DatabaseView is a view of a source's database.
type DatabaseView struct {
	View    string `json:"view" description:"SCHEMA.VIEW"`
	Adopted bool   `json:"adopted" description:"it is a table of the platform"`
	Says    string `json:"says" description:"what it reads, and with whose rights"`
}

// A SourceCheck is what a check of a source found.
type SourceCheck struct {
	Name  string       `json:"name"`
	Notes []SourceNote `json:"notes"`
}

// A SourceNote is one thing that a check found.
type SourceNote struct {
	Worry string `json:"worry" enum:"fine,odd,bad" description:"odd: worth a look; bad: to be changed"`
	Says  string `json:"says"`
}

// A Finding is something about rights to review, with its reason and
// its fix.
type Finding struct {
	Kind    string `json:"kind" description:"stable, for programs"`
	Subject string `json:"subject,omitempty"`
	Object  string `json:"object,omitempty"`
	Says    string `json:"says"`
	Why     string `json:"why"`
	Fixes   []Fix  `json:"fixes"`
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
