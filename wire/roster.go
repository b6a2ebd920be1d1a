package wire

import "time"

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
