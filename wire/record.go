package wire

import "time"

// RecordCounts are what the record comes to over some days, from counts that are kept apart from it.
type RecordCounts struct {
	From      string        `json:"from" description:"the first day, in UTC"`
	Until     string        `json:"until" description:"the last day"`
	Days      []string      `json:"days"`
	Labels    []CountSeries `json:"labels" description:"what was read or written of each label"`
	People    []CountTotal  `json:"people" description:"who read or wrote what has a label"`
	Addresses []CountTotal  `json:"addresses" description:"and from where"`
	Tables    []CountTotal  `json:"tables" description:"which tables that have a label now were read; of one person without rows"`
	Roles     []CountTotal  `json:"roles" description:"the roles by which; of one person without rows"`
	Purposes  []CountTotal  `json:"purposes" description:"the purposes that were declared"`
	ForOthers []CountTotal  `json:"for_others" description:"who did so as somebody else, counted apart: as whom"`
	Queries   []int64       `json:"queries" description:"statements of all kinds, by day; empty, as the next two, where one label or person is asked for"`
	Refused   []int64       `json:"refused"`
	Changes   []int64       `json:"changes"`
	Unusual   []Unusual     `json:"unusual" description:"what is new, or far above usual; the latest first"`
}

// A CountSeries is one line of a chart.
type CountSeries struct {
	Name  string  `json:"name"`
	Level string  `json:"level,omitempty"`
	N     []int64 `json:"n" description:"records, by day"`
	Rows  []int64 `json:"rows" description:"rows, by day"`
}

// A CountTotal is what something comes to over all days.
type CountTotal struct {
	Name string `json:"name"`
	N    int64  `json:"n"`
	Rows int64  `json:"rows"`
}

// An Unusual is something that stands out.
type Unusual struct {
	Day     string `json:"day"`
	Kind    string `json:"kind" enum:"first,far_above,address"`
	Actor   string `json:"actor"`
	Label   string `json:"label,omitempty"`
	Address string `json:"address,omitempty"`
	Rows    int64  `json:"rows"`
	N       int64  `json:"n"`
	Usual   int64  `json:"usual" description:"rows on such a day"`
	Says    string `json:"says"`
}

// An Anchor has the heads of both chains at a time, to be kept elsewhere: later it proves that nothing
// before them was altered.
type Anchor struct {
	At      time.Time `json:"at"`
	Record  Link      `json:"record"`
	Journal Link      `json:"journal"`
}

// A Link is one entry of a chain.
type Link struct {
	Number int64  `json:"number"`
	Hash   string `json:"hash"`
}

// A Pruning takes away old records.
type Pruning struct {
	Before string `json:"before" required:"true" description:"a day: records from before it go"`
	Change
}
