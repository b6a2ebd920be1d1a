package wire

import "time"

// A ReviewScope is what a review is about: all that people have on these objects, by these roles, on
// what has these labels, and all that these subjects have.
type ReviewScope struct {
	Objects  []string `json:"objects,omitempty"`
	Roles    []string `json:"roles,omitempty"`
	Labels   []string `json:"labels,omitempty"`
	Subjects []string `json:"subjects,omitempty"`
}

// A ReviewRequest opens a review.
type ReviewRequest struct {
	Name     string      `json:"name" required:"true"`
	Scope    ReviewScope `json:"scope"`
	Due      string      `json:"due" required:"true" description:"a day, as in 2026-12-15"`
	Reason   string      `json:"reason,omitempty"`
	Reviewer string      `json:"reviewer,omitempty" description:"who decides; the owners of the objects when empty"`
	DryRun   bool        `json:"dry_run,omitempty" description:"say how many items there would be, and do nothing"`
}

// A Review is one review of access, and how far it is.
type Review struct {
	Name     string          `json:"name"`
	Scope    ReviewScope     `json:"scope"`
	Says     string          `json:"says" description:"the scope in words"`
	Reason   string          `json:"reason,omitempty"`
	Due      string          `json:"due"`
	Late     bool            `json:"late" description:"it is open, and past its day"`
	By       string          `json:"by"`
	Opened   time.Time       `json:"opened"`
	Revision int64           `json:"revision" description:"that its items are of"`
	Status   string          `json:"status" enum:"open,closed"`
	Closed   *time.Time      `json:"closed,omitempty"`
	ClosedBy string          `json:"closed_by,omitempty"`
	Signed   int64           `json:"signed,omitempty" description:"the revision in which its digest stands"`
	Items    int             `json:"items"`
	Decided  int             `json:"decided"`
	Revokes  int             `json:"revokes" description:"decisions to revoke, or to end"`
	Yours    int             `json:"yours" description:"open items that are the caller's to decide"`
	Waiting  []ReviewWaiting `json:"waiting" description:"who has how many open items"`
	Version  int64           `json:"version" description:"to be given with a decision"`
}

// A ReviewWaiting is a reviewer with open items.
type ReviewWaiting struct {
	Reviewer string `json:"reviewer" description:"empty: who administers"`
	Open     int    `json:"open"`
	Gone     bool   `json:"gone,omitempty" description:"the reviewer is no longer there"`
}

// A ReviewItem is one thing to decide: somebody, through a group or role or by grants of their own, has
// something.
type ReviewItem struct {
	Number   int      `json:"number"`
	Subject  string   `json:"subject"`
	Title    string   `json:"title,omitempty"`
	Via      string   `json:"via,omitempty" description:"the group or role that they are in; empty: by grants of their own"`
	Has      []string `json:"has" description:"the privileges, in the review's scope"`
	Since    string   `json:"since,omitempty" description:"a day"`
	By       string   `json:"by,omitempty" description:"who gave it"`
	Reason   string   `json:"reason,omitempty"`
	Ticket   string   `json:"ticket,omitempty"`
	Until    string   `json:"until,omitempty"`
	Queries  int64    `json:"queries" description:"that needed it, in the last 90 days"`
	Last     string   `json:"last,omitempty" description:"when one last did"`
	Findings []string `json:"findings" description:"what to look at: unused, not_counted, direct, no_end, everyone"`
	Changed  string   `json:"changed" enum:"new,changed,same" description:"beside the last review that had it"`
	Before   string   `json:"before,omitempty" description:"what was decided then"`
	Reviewer string   `json:"reviewer,omitempty"`
	Yours    bool     `json:"yours"`
	Decision string   `json:"decision,omitempty" enum:",keep,revoke,until"`
	End      string   `json:"end,omitempty" description:"of a decision until a day"`
	Word     string   `json:"word,omitempty"`
	Decided  string   `json:"decided,omitempty"`
	Decider  string   `json:"decider,omitempty"`
}

// A ReviewPage is a review with some of its items.
type ReviewPage struct {
	Review
	List []ReviewItem `json:"list"`
	Next string       `json:"next,omitempty"`
}

// A ReviewDecision decides items, or hands them on.
type ReviewDecision struct {
	Items    []int  `json:"items" required:"true"`
	Decision string `json:"decision" required:"true" enum:"keep,revoke,until,undo,hand"`
	Until    string `json:"until,omitempty" description:"of until: a day"`
	To       string `json:"to,omitempty" description:"of hand: who is to decide"`
	Word     string `json:"word,omitempty"`
	Version  int64  `json:"version" required:"true" description:"of the review, as it was seen"`
}

// A ReviewClose closes a review.
type ReviewClose struct {
	Draft string `json:"into,omitempty" description:"put what is revoked into a new draft of this name, and not into force"`
	Change
}

// A ReviewVerified says whether a closed review is what was signed.
type ReviewVerified struct {
	Name     string `json:"name"`
	Holds    bool   `json:"holds"`
	Digest   string `json:"digest" description:"SHA-256 of what it is now"`
	Signed   string `json:"signed" description:"the digest in the journal"`
	Revision int64  `json:"revision"`
	Says     string `json:"says"`
}
