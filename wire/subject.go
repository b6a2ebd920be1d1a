package wire

import "time"

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
	Dormant     int                 `json:"dormant" description:"those of them that have no effect"`
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
	Option bool       `json:"option" description:"of a role: with admin option"`
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
	Rename     string              `json:"rename,omitempty" description:"another name; its grants and memberships are unchanged"`
	Attributes map[string][]string `json:"attributes,omitempty"`
	Password   string              `json:"password,omitempty"`
	Change
}

// A Member puts a subject in a group, gives it a role, or takes it out.
type Member struct {
	Member string     `json:"member" required:"true"`
	Of     string     `json:"of" required:"true"`
	Until  *time.Time `json:"until,omitempty"`
	Option bool       `json:"option,omitempty" description:"of a role: with admin option"`
	Ticket string     `json:"ticket,omitempty"`
	// To take it away:
	By      string `json:"by,omitempty" description:"only the membership that this subject gave; all when empty, or the caller's own without MANAGE"`
	Cascade bool   `json:"cascade,omitempty" description:"take along what the member has given on"`
	Change
}
