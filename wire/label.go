package wire

// A Label says what data are about, and how far they may spread.
type Label struct {
	Name     string   `json:"name"`
	Path     string   `json:"path" description:"as a grant or a policy names it: label:NAME"`
	Topic    string   `json:"topic"`
	Level    string   `json:"level" enum:"public,internal,confidential,restricted"`
	Placed   []string `json:"placed" description:"what it was put on"`
	Columns  int      `json:"columns" description:"how many columns have it, inherited ones included"`
	Covered  int      `json:"covered" description:"how many of them a live column policy treats"`
	Policies []string `json:"policies" description:"those that are about it"`
	Revealed []string `json:"revealed" description:"who sees in clear what those policies treat, by a grant of REVEAL on it"`
}

// A LabelRequest adds a label or, with Replace, changes its topic and level.
type LabelRequest struct {
	Name    string `json:"name" required:"true"`
	Topic   string `json:"topic,omitempty" description:"what the data are about, in a word; the name when empty"`
	Level   string `json:"level,omitempty" enum:",public,internal,confidential,restricted" description:"confidential when empty"`
	Replace bool   `json:"replace,omitempty"`
	Change
}

// A LabelPlacement puts a label on objects, lifts it off them, or remembers that
// it does not belong there.
type LabelPlacement struct {
	Do      string   `json:"do" enum:"put,lift,dismiss" required:"true"`
	Objects []string `json:"objects" required:"true" description:"sources, schemas, tables or columns; what stands below inherits"`
	Change
}

// A LabelledColumn is a column with its labels and what they do.
type LabelledColumn struct {
	Column   string   `json:"column"`
	Type     string   `json:"type"`
	Labels   []string `json:"labels"`
	From     []string `json:"from" description:"by label: what it was put on"`
	Level    string   `json:"level" description:"the strictest of its labels"`
	Policies []string `json:"policies" description:"live column policies that treat it for somebody"`
	Covered  bool     `json:"covered" description:"there is one"`
}

// A Suggestion is a label that a column looks as if it should have.
type Suggestion struct {
	Column     string   `json:"column"`
	Type       string   `json:"type"`
	Label      string   `json:"label" description:"it is made when it is accepted"`
	Topic      string   `json:"topic"`
	Level      string   `json:"level"`
	Form       string   `json:"form" description:"what was found"`
	Confidence float64  `json:"confidence" description:"from 0 to 1"`
	Evidence   []string `json:"evidence"`
	Dismissed  bool     `json:"dismissed,omitempty"`
}

// Suggestions are what a look at the data proposes.
type Suggestions struct {
	Items   []Suggestion `json:"items"`
	Scanned string       `json:"scanned" description:"when the values were sampled"`
	Tables  int          `json:"tables" description:"how many were looked at"`
	Failed  []string     `json:"failed" description:"tables whose values could not be read; their names and types were looked at"`
}

// An Acceptance puts suggested labels on their columns, in one change; labels
// that are not there yet are made.
type Acceptance struct {
	Items []AcceptedLabel `json:"items" required:"true"`
	Change
}

// An AcceptedLabel is one of an acceptance.
type AcceptedLabel struct {
	Column string `json:"column" required:"true"`
	Label  string `json:"label" required:"true"`
	Topic  string `json:"topic,omitempty" description:"of a label that is made"`
	Level  string `json:"level,omitempty" enum:",public,internal,confidential,restricted" description:"of a label that is made"`
}

// A Relationship says that rows of one table belong to rows of another.
type Relationship struct {
	From     []string `json:"from" required:"true" description:"columns of the table whose rows belong"`
	To       []string `json:"to" required:"true" description:"columns of the other, in pairs"`
	Declared bool     `json:"declared" description:"it was declared; else it is a foreign key of the source"`
	Followed []string `json:"followed" description:"the row policies that follow it"`
}

// A RelationshipRequest declares a relationship or, with Remove, forgets one.
type RelationshipRequest struct {
	From   []string `json:"from" required:"true"`
	To     []string `json:"to" required:"true"`
	Remove bool     `json:"remove,omitempty"`
	Change
}
