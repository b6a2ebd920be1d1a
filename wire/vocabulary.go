package wire

// A Vocabulary has the names that are the same on every platform, for forms and help.
type Vocabulary struct {
	Privileges []PrivilegeName `json:"privileges"`
	Treatments []TreatmentName `json:"treatments"`
	Levels     []string        `json:"levels" description:"of labels, the widest first"`
	Actions    []string        `json:"actions" description:"what a record can be of"`
	Decisions  []string        `json:"decisions" description:"how a record can have ended"`
	Looks      []string        `json:"looks" description:"endpoints that answer through a draft or as of a moment: GET /object"`
	Fills      []string        `json:"fills" description:"endpoints whose changes can go into a draft: POST /grants"`
}

// A PrivilegeName is a privilege with the kinds of objects that it can be granted on.
type PrivilegeName struct {
	Name   string   `json:"name"`
	Says   string   `json:"says" description:"what it lets its holder do"`
	Levels []string `json:"levels"`
}

// A TreatmentName is a kind of treatment.
type TreatmentName struct {
	Kind  string   `json:"kind"`
	Says  string   `json:"says" description:"what it does, in words"`
	Types []string `json:"types" description:"the types of columns that it works on; empty: all"`
}
