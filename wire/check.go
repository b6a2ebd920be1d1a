package wire

// A Guardrail states what must hold for everyone.
type Guardrail struct {
	Name     string   `json:"name" required:"true"`
	Kind     string   `json:"kind" required:"true" enum:"clear,treated,apart,to-public,to-users,without-end,whole-source,administrators,owned,second-person"`
	Mode     string   `json:"mode" enum:"warn,block" description:"what comes of a change that would break it; warn when empty"`
	Object   string   `json:"object,omitempty" description:"what it is about: a label, a column, a table, a schema, a source; the platform when empty"`
	Except   []string `json:"except,omitempty" description:"of clear: who may"`
	Roles    []string `json:"roles,omitempty" description:"of apart: the two"`
	Most     int      `json:"most,omitempty" description:"of administrators: how many there may be"`
	Comment  string   `json:"comment,omitempty"`
	Sentence string   `json:"sentence,omitempty" description:"the same in words; of an answer"`
}

// A GuardrailRequest adds a guardrail, or with Replace puts this one, whole, in the place of another.
type GuardrailRequest struct {
	Guardrail
	Replace bool `json:"replace,omitempty"`
	Change
}

// An AccessTest states what one standpoint gets of one table.
type AccessTest struct {
	Name     string            `json:"name" required:"true"`
	Subject  string            `json:"subject" required:"true"`
	Role     string            `json:"role,omitempty"`
	Purpose  string            `json:"purpose,omitempty"`
	Table    string            `json:"table" required:"true"`
	May      []string          `json:"may,omitempty"`
	MayNot   []string          `json:"may_not,omitempty"`
	Rows     *int64            `json:"rows,omitempty" description:"how many rows there are for it"`
	Where    string            `json:"where,omitempty" description:"of those for which this condition is true"`
	Columns  map[string]string `json:"columns,omitempty" description:"how columns appear: in clear, not granted, or the treatment in words"`
	Comment  string            `json:"comment,omitempty"`
	Sentence string            `json:"sentence,omitempty" description:"the same in words; of an answer"`
}

// An AccessTestRequest adds an access test, or replaces one.
type AccessTestRequest struct {
	AccessTest
	Replace bool `json:"replace,omitempty"`
	Change
}

// A BaselineRequest makes an access test of how things stand.
type BaselineRequest struct {
	Name    string `json:"name,omitempty" description:"of subject and table when empty"`
	Subject string `json:"subject" required:"true"`
	Role    string `json:"role,omitempty"`
	Purpose string `json:"purpose,omitempty"`
	Table   string `json:"table" required:"true"`
	Replace bool   `json:"replace,omitempty"`
	Change
}

// Checks are the guardrails and access tests that there are.
type Checks struct {
	Guardrails []Guardrail  `json:"guardrails"`
	Tests      []AccessTest `json:"tests"`
	Revision   int64        `json:"revision"`
}

// A CheckResult is what came of one check.
type CheckResult struct {
	Name     string   `json:"name"`
	Kind     string   `json:"kind" enum:"guardrail,test"`
	Sentence string   `json:"sentence"`
	Status   string   `json:"status" enum:"holds,fails,unknown"`
	Mode     string   `json:"mode,omitempty" description:"of a guardrail"`
	Says     []string `json:"says" description:"what breaks it: expected and got, or the counterexamples"`
	TookMS   float64  `json:"took_ms"`
}

// CheckResults are what came of checks.
type CheckResults struct {
	Results  []CheckResult `json:"results"`
	Failed   int           `json:"failed"`
	Revision int64         `json:"revision"`
	About    string        `json:"about,omitempty" description:"the draft or moment, where it is not now"`
}
