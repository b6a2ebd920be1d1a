package wire

// An AccessMatrix is who has what on what, at a glance: subjects down, objects across. It is one window
// of a whole.
type AccessMatrix struct {
	In       string         `json:"in" description:"the object whose parts are across"`
	About    string         `json:"about,omitempty" description:"the draft or moment, where it is not now"`
	Beside   string         `json:"beside,omitempty" description:"the standpoint, draft or moment that is compared with"`
	Columns  []MatrixObject `json:"columns"`
	Before   int            `json:"before" description:"columns before the window"`
	Behind   int            `json:"behind" description:"columns behind it"`
	Rows     []AccessRow    `json:"rows"`
	Next     string         `json:"next,omitempty" description:"the cursor of the next rows"`
	Subjects int            `json:"subjects" description:"of the kind asked for, filtered or not"`
	Revision int64          `json:"revision"`
}

// A MatrixObject is one column of a matrix.
type MatrixObject struct {
	Path  string `json:"path"`
	Name  string `json:"name"`
	Kind  string `json:"kind"`
	Below int    `json:"below" description:"tables at and below it"`
}

// An AccessRow is one subject of a matrix. A cell has four digits, for door, verbs, rows and columns, from
// the top of the band glyph down: 2 full, 1 in part, 0 none.
type AccessRow struct {
	Subject string   `json:"subject"`
	Title   string   `json:"title"`
	Kind    string   `json:"kind"`
	Members int      `json:"members,omitempty" description:"of a group or role"`
	Cells   []string `json:"cells"`
	Other   []string `json:"other,omitempty" description:"the same cells in what is compared with; only of rows that differ"`
	Lit     []int    `json:"lit,omitempty" description:"the columns, from 0, in which anything at or below the object differs"`
}
