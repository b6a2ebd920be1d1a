package wire

import "time"

// A UseReport says what of people's rights queries needed.
type UseReport struct {
	Of      string     `json:"of,omitempty" description:"the subject that it is about; all when empty"`
	Since   time.Time  `json:"since" description:"from when on it counts: the days asked for, or as far back as there are counts"`
	Days    int        `json:"days"`
	Short   bool       `json:"short" description:"use has not been counted for so long yet"`
	Queries int64      `json:"queries" description:"that were counted"`
	Items   []UseItem  `json:"items"`
	Tables  []UseTable `json:"tables" description:"of one subject: the tables that were read or written"`
	More    int        `json:"more,omitempty" description:"items that are left out"`
}

// A UseItem is one grant, membership, role or group, and how it was used.
type UseItem struct {
	Kind    string     `json:"kind" enum:"grant,membership,role,group"`
	Says    string     `json:"says"`
	Subject string     `json:"subject" description:"the grantee, or the member"`
	Object  string     `json:"object,omitempty" description:"what it is on, or in"`
	Queries int64      `json:"queries"`
	People  int        `json:"people" description:"who used it"`
	Last    string     `json:"last,omitempty" description:"the last day, in UTC; empty: within the time nobody used it"`
	Since   *time.Time `json:"since,omitempty" description:"when it was made"`
	New     bool       `json:"new,omitempty" description:"it is younger than the days asked for"`
	Reads   int        `json:"reads,omitempty" description:"of a grant on a container: how many tables below it were used by it"`
	Of      int        `json:"of,omitempty" description:"of how many"`
	Tables  []string   `json:"tables,omitempty" description:"which, where they are few"`
	Note    string     `json:"note,omitempty" description:"what would have been enough"`
	Fixes   []Fix      `json:"fixes"`
}

// A UseTable is a table that somebody's queries were about.
type UseTable struct {
	Table   string   `json:"table"`
	Queries int64    `json:"queries"`
	Last    string   `json:"last"`
	Columns []string `json:"columns" description:"that were read"`
	Writes  bool     `json:"writes,omitempty"`
}

// A TakeBackRequest puts into a draft what takes back what nobody used.
type TakeBackRequest struct {
	Of    string `json:"of,omitempty" description:"a subject; of all when empty"`
	Days  int    `json:"days,omitempty" description:"90 when not given"`
	Draft string `json:"draft" required:"true" description:"the draft to open"`
	Tests bool   `json:"tests,omitempty" description:"with an access test of each table that was used, so that nothing breaks unseen"`
}
