package wire

import "time"

// A QueryRequest asks for governed rows.
type QueryRequest struct {
	SQL    string `json:"sql" required:"true"`
	Params []any  `json:"params,omitempty" description:"the values of $1, $2 and so on"`
	// CSVSafe is for files that are opened in a spreadsheet.
	CSVSafe bool   `json:"csv_safe,omitempty" description:"in CSV, an apostrophe before texts that a spreadsheet would take for formulas"`
	Limit   int    `json:"limit,omitempty" description:"rows at the most; the service's limit when 0"`
	Plan    bool   `json:"plan,omitempty" description:"add the governed SQL and the database's plan"`
	Lane    string `json:"lane,omitempty" description:"where to run; the first that is open when empty"`
	Standpoint
}

// A ResultColumn is a column of a result.
type ResultColumn struct {
	Name string `json:"name"`
	Type string `json:"type" description:"as it is declared, with its length or precision: numeric(15,2)"`
}

// A Result is governed rows.
type Result struct {
	Columns    []ResultColumn `json:"columns"`
	Rows       [][]any        `json:"rows" description:"null, true or false, a number, or the database's own text for what JSON could round or lacks"`
	Truncated  bool           `json:"truncated" description:"there are more rows than the limit let through"`
	TookMS     float64        `json:"took_ms"`
	Standpoint string         `json:"standpoint"`
	Lane       string         `json:"lane,omitempty" description:"where it ran"`
	Changed    int64          `json:"changed" description:"rows that a statement inserted, changed or removed"`
	Record     string         `json:"record" description:"the reference in the audit record"`
	Problem    *Problem       `json:"problem,omitempty" description:"why no more rows came, where some had left already: the rows are not all"`
	Plan       *Plan          `json:"plan,omitempty"`
}

// A Plan shows what ran.
type Plan struct {
	SQL      string   `json:"sql" description:"the governed SQL"`
	Args     []string `json:"args" description:"its arguments: their place in the SQL, an equals sign, their value"`
	Policies []string `json:"policies" description:"the policies that shaped it, in sentences"`
	Tables   []Shaped `json:"tables" description:"what the policies made of each table"`
	Database []string `json:"database" description:"the database's own plan"`
	PlanUS   int64    `json:"plan_us" description:"microseconds to plan"`
}

// A PreviewPoint is a standpoint of a preview, at a moment. Rows are those of now.
type PreviewPoint struct {
	Standpoint
	Moment
}

// A PreviewRequest asks for the rows of a table from one or more standpoints.
type PreviewRequest struct {
	Table       string         `json:"table" required:"true"`
	Standpoints []PreviewPoint `json:"standpoints" required:"true"`
	Limit       int            `json:"limit,omitempty"`
	Drafts      []string       `json:"drafts,omitempty" description:"policies that are not live: each standpoint is shown a second time, as if they were"`
	Plan        bool           `json:"plan,omitempty" description:"add the governed SQL of each side, and what the policies made of it"`
}

// A Preview shows the same rows side by side.
type Preview struct {
	Table   string         `json:"table"`
	Columns []ResultColumn `json:"columns" description:"all columns that any of the standpoints gets"`
	Sides   []Side         `json:"sides"`
	Rows    []PreviewRow   `json:"rows"`
	Matched bool           `json:"matched" description:"rows are matched by key; otherwise by place"`
	Key     string         `json:"key,omitempty" description:"the column that rows are matched by"`
}

// A Side is one standpoint's view of the table.
type Side struct {
	Standpoint string       `json:"standpoint"`
	Problem    string       `json:"problem,omitempty"`
	Missing    []string     `json:"missing,omitempty"`
	Reference  string       `json:"reference,omitempty"`
	Count      int64        `json:"count" description:"rows in all from here"`
	Columns    []ColumnView `json:"columns"`
	Bands      Bands        `json:"bands"`
	Plan       *Plan        `json:"plan,omitempty" description:"for who may review the table"`
}

// A PreviewRow is one row of the table as each side gets it.
type PreviewRow struct {
	Sides   [][]any `json:"sides" description:"by side, the cells in the order of the preview's columns; null where the row is not there"`
	Differs []bool  `json:"differs" description:"by column"`
}

// A Record is one line of the record of who did what.
type Record struct {
	ID         int64     `json:"id"`
	Reference  string    `json:"reference"`
	At         time.Time `json:"at"`
	Actor      string    `json:"actor"`
	Standpoint string    `json:"standpoint,omitempty"`
	Action     string    `json:"action"`
	Decision   string    `json:"decision"`
	Text       string    `json:"text"`
	Objects    []string  `json:"objects"`
	Labels     []string  `json:"labels" description:"that the objects bore"`
	Missing    []string  `json:"missing"`
	Reason     string    `json:"reason,omitempty"`
	Rows       int64     `json:"rows"`
	TookMS     float64   `json:"took_ms"`
	Address    string    `json:"address,omitempty"`
	Client     string    `json:"client,omitempty" description:"the program that asked, as it calls itself"`
	Status     string    `json:"status" enum:"ended,running,unknown" description:"whether what was allowed has ended; unknown: the service stopped first"`
	Fixes      []Fix     `json:"fixes,omitempty"`
}
