package wire

// A Policy is a row or a column policy.
type Policy struct {
	Name      string     `json:"name"`
	Kind      string     `json:"kind" enum:"rows,columns"`
	Table     string     `json:"table" description:"what it is about: a table, of a row policy also a pattern such as survey.drilling.*, or label:NAME"`
	Columns   []string   `json:"columns,omitempty" description:"of a column policy on a table: names, or one pattern such as *_number"`
	Mode      string     `json:"mode,omitempty" enum:",allow,limit" description:"of a row policy"`
	Commands  string     `json:"commands,omitempty" enum:",read,write,both" description:"of a row policy: the statements it counts for; both when empty"`
	Rule      string     `json:"rule,omitempty" description:"of a row policy: a SQL condition"`
	Phrases   []Phrase   `json:"phrases,omitempty" description:"the condition as a sentence says it, where that reaches; taken in place of an empty rule"`
	Join      string     `json:"join,omitempty" enum:",AND,OR" description:"between phrases; AND when empty"`
	Follow    string     `json:"follow,omitempty" description:"of a row policy, in place of a rule: the parent table; a row is there when its parent row is"`
	Via       []string   `json:"via,omitempty" description:"the columns that lead to the parent"`
	Treatment *Treatment `json:"treatment,omitempty" description:"of a column policy"`
	When      string     `json:"when,omitempty" description:"of a column policy: a SQL condition; only rows for which it is true are treated"`
	For       []string   `json:"for" description:"subjects; everyone when empty"`
	Except    []string   `json:"except"`
	Purposes  []string   `json:"purposes" description:"only for sessions that declare one of them; for all when empty"`
	Status    string     `json:"status" enum:"draft,live,off"`
	Comment   string     `json:"comment,omitempty"`
	Sentence  string     `json:"sentence"`
	Covers    int        `json:"covers" description:"how many tables, of a column policy columns, it is about now"`
	Broken    string     `json:"broken,omitempty" description:"why it no longer fits what it is about"`
}

// A Phrase is a condition that is written without SQL: how a column's value
// compares with the reader.
type Phrase struct {
	Kind      string `json:"kind" enum:"attribute,group,listed,team,reader,come,all" required:"true"`
	Column    string `json:"column,omitempty"`
	Attribute string `json:"attribute,omitempty" description:"attribute: its name"`
	Table     string `json:"table,omitempty" description:"listed: the table of entitlements"`
	Key       string `json:"key,omitempty" description:"listed: its column that is compared"`
	Holder    string `json:"holder,omitempty" description:"listed: its column that names the user"`
}

// A Treatment says how values appear.
type Treatment struct {
	Kind       string            `json:"kind" enum:"expression,noise,round,generalize,mask,pseudonym,constant,suppress,withhold blank,withhold absent,withhold refuse" required:"true"`
	KeepFirst  int               `json:"keep_first,omitempty" description:"mask: characters kept at the start"`
	KeepLast   int               `json:"keep_last,omitempty" description:"mask: characters kept at the end"`
	Fill       string            `json:"fill,omitempty" description:"mask: the character for the others"`
	Keep       string            `json:"keep,omitempty" description:"mask: characters kept wherever they stand"`
	Value      string            `json:"value,omitempty" description:"constant: the value, as it is written"`
	Bucket     float64           `json:"bucket,omitempty" description:"generalize: the width, of numbers"`
	Unit       string            `json:"unit,omitempty" enum:",month,quarter,year" description:"generalize: the period, of dates"`
	Prefix     int               `json:"prefix,omitempty" description:"generalize: characters kept, of texts"`
	Mapping    map[string]string `json:"mapping,omitempty" description:"generalize: the group of each text; * for all others, which are NULL without it"`
	Decimals   int               `json:"decimals,omitempty" description:"round: decimal places"`
	Multiple   float64           `json:"multiple,omitempty" description:"round: to multiples of this instead"`
	Range      float64           `json:"range,omitempty" description:"noise: how far a value is moved at most, either way; of dates, in days"`
	Stable     bool              `json:"stable,omitempty" description:"noise: the same at each query"`
	Expression string            `json:"expression,omitempty" description:"expression: SQL over the columns of the row"`
	Paths      string            `json:"paths,omitempty" description:"of documents: the values that are treated, with commas: contact.phone,contact.email"`
}

// A PolicyRequest adds or replaces a policy.
type PolicyRequest struct {
	Policy
	Replace bool `json:"replace,omitempty" description:"the policy is there already"`
	Change
}

// A PolicyStatus publishes or stops a policy.
type PolicyStatus struct {
	Status string `json:"status" enum:"draft,live,off" required:"true"`
	Change
}

// A PolicyTrial asks what a policy would do, before it is saved or published.
type PolicyTrial struct {
	Policy
	Standpoints []Standpoint `json:"standpoints" description:"whose rows to count; those whom it makes a difference to when empty"`
}

// A TrialResult is what a policy would do.
type TrialResult struct {
	Sentence string       `json:"sentence"`
	Rule     string       `json:"rule" description:"the condition, in SQL"`
	Phrases  []Phrase     `json:"phrases" description:"the condition as a sentence says it; none where that does not reach"`
	Join     string       `json:"join"`
	Notes    []string     `json:"notes" description:"what to know, such as that nobody would read the table"`
	Counts   []TrialCount `json:"counts"`
	More     int          `json:"more" description:"standpoints that it touches and that were not counted"`
}

// A TrialCount is what one standpoint sees of one table now and would see.
type TrialCount struct {
	Standpoint string   `json:"standpoint"`
	Table      string   `json:"table"`
	Total      int64    `json:"total" description:"rows in the table"`
	Now        int64    `json:"now"`
	Then       int64    `json:"then"`
	Columns    []string `json:"columns" description:"columns that would look different"`
	Problem    string   `json:"problem,omitempty"`
}

// A Shaped is what the policies made of a table in a query.
type Shaped struct {
	Table   string         `json:"table"`
	Closed  bool           `json:"closed" description:"no row policy allows any row"`
	Rows    []string       `json:"rows" description:"the row policies that shaped it"`
	Columns []ShapedColumn `json:"columns" description:"of the columns that the query reads, those that policies are about"`
}

// A ShapedColumn is what the policies made of a column.
type ShapedColumn struct {
	Name      string   `json:"name"`
	Treatment string   `json:"treatment" description:"the strictest that a row gets; clear where none does"`
	Partly    bool     `json:"partly,omitempty" description:"only some rows get it"`
	By        []string `json:"by" description:"the policies that shaped it"`
	Lost      []string `json:"lost" description:"policies that a stricter one overrules"`
	Lifted    []string `json:"lifted" description:"policies that REVEAL lifts"`
	Conflict  bool     `json:"conflict,omitempty" description:"two ask for one kind with different arguments, so the value is suppressed"`
}

// A Matrix is what subjects get of a table, or of one column of it.
type Matrix struct {
	Table   string      `json:"table"`
	Total   int64       `json:"total" description:"rows in the table"`
	Columns []string    `json:"columns" description:"the columns that a policy treats for somebody, or that is asked for"`
	Rows    []MatrixRow `json:"rows"`
	More    int         `json:"more" description:"subjects that are not listed"`
}

// A MatrixRow is what one subject gets.
type MatrixRow struct {
	Subject string   `json:"subject"`
	Title   string   `json:"title,omitempty"`
	Reads   bool     `json:"reads" description:"may read the table"`
	Rows    int64    `json:"rows" description:"that are there for it"`
	Cells   []string `json:"cells" description:"by column: clear, not readable, or the treatment"`
	Problem string   `json:"problem,omitempty"`
}
