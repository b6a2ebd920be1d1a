package wire

import "time"

// A DraftRequest opens a draft.
type DraftRequest struct {
	Name   string          `json:"name" required:"true"`
	Reason string          `json:"reason,omitempty" description:"why; it becomes the revision's"`
	Steps  []DraftStepText `json:"steps,omitempty" description:"what is in it, as another draft was exported"`
}

// A DraftText is a draft by itself, to be handed over.
type DraftText struct {
	Name   string          `json:"name"`
	Reason string          `json:"reason"`
	Steps  []DraftStepText `json:"steps"`
}

// A DraftStepText is one change of it.
type DraftStepText struct {
	Says    []string `json:"says"`
	Reason  string   `json:"reason,omitempty"`
	Changes []any    `json:"changes" description:"as the journal has them"`
}

// A Draft is a named set of changes that are not made yet.
type Draft struct {
	Name     string      `json:"name"`
	Reason   string      `json:"reason,omitempty"`
	Status   string      `json:"status" enum:"open,published,dropped"`
	Opened   time.Time   `json:"opened"`
	By       string      `json:"by" description:"who opened it"`
	Base     int64       `json:"base" description:"the revision that it was opened on"`
	Closed   *time.Time  `json:"closed,omitempty"`
	ClosedBy string      `json:"closed_by,omitempty" description:"who published or dropped it"`
	Revision int64       `json:"revision,omitempty" description:"that it became"`
	Steps    []DraftStep `json:"steps"`
	Misfits  int         `json:"misfits" description:"how many of its changes do not fit what is there now"`
	Fill     bool        `json:"fill" description:"the caller may put changes into it, and drop it"`
}

// A DraftStep is what one command put into a draft.
type DraftStep struct {
	Number int64     `json:"number"`
	Says   []string  `json:"says"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
	Reason string    `json:"reason,omitempty"`
	Misfit string    `json:"misfit,omitempty" description:"why it does not fit what is there now"`
}

// An Impact is what a draft would do, to whom, where.
type Impact struct {
	Draft    string        `json:"draft"`
	Revision int64         `json:"revision" description:"on which it was worked out"`
	Says     []string      `json:"says"`
	Effects  []Effect      `json:"effects" description:"by person"`
	Tables   []TableImpact `json:"tables" description:"by table, rows counted on the data"`
	More     bool          `json:"more" description:"it touches more than is listed"`
	Between  []Past        `json:"between" description:"revisions since it was opened"`
	Misfits  []string      `json:"misfits"`
	Breaks   []CheckResult `json:"breaks" description:"access tests and guardrails that hold now, and would not"`
	Notes    []string      `json:"notes"`
}

// A TableImpact is what a draft would do to one person's rows and columns of one table.
type TableImpact struct {
	Table   string   `json:"table"`
	Subject string   `json:"subject"`
	Before  *int64   `json:"before,omitempty" description:"rows now; not there: none are readable, or they could not be counted"`
	After   *int64   `json:"after,omitempty" description:"rows with the draft"`
	Columns []string `json:"columns" description:"that become clear, treated or withheld"`
	Note    string   `json:"note,omitempty"`
}

// A Past is a revision, as history tells of it.
type Past struct {
	Revision int64     `json:"revision"`
	At       time.Time `json:"at"`
	By       string    `json:"by"`
	Reason   string    `json:"reason,omitempty"`
	Says     []string  `json:"says"`
	Effects  []Effect  `json:"effects" description:"what came of it for whom, as it was worked out then"`
	Draft    string    `json:"draft,omitempty" description:"that it published"`
	Names    []string  `json:"names" description:"that people gave it"`
}

// An UndoRequest names revisions to take back.
type UndoRequest struct {
	Revisions []int64 `json:"revisions" required:"true"`
	Change
}

// A RevisionName names a revision.
type RevisionName struct {
	Name     string `json:"name" required:"true"`
	Revision int64  `json:"revision,omitempty" description:"zero takes the name away"`
}

// Between is what differs between two moments.
type Between struct {
	At      int64     `json:"at" description:"the earlier revision"`
	With    int64     `json:"with" description:"the later"`
	Effects []Effect  `json:"effects" description:"who gained and who lost what"`
	Differs []Differs `json:"differs" description:"what was added, removed or changed"`
	More    int       `json:"more,omitempty" description:"how many things beyond those named"`
	Bounded bool      `json:"bounded,omitempty" description:"there was more to compare than was compared"`
}

// Differs is one thing that two moments do not have alike.
type Differs struct {
	Name string `json:"name"`
	How  string `json:"how" enum:"added,removed,changed"`
}
