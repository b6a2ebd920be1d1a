package query

import (
	"gneiss/core/access"
	"gneiss/core/policy"
	"gneiss/core/sqltype"
)

// An Expr is a bound expression. The set of its types is closed.
type Expr interface{ Type() Type }

type (
	// A ColumnRef is a column of a relation in scope.
	ColumnRef struct {
		Rel *Relation
		Col int
	}
	// A Literal is a constant; its Value is nil, bool, int64, float64 or string. A text
	// is the value's form as text, whatever its type.
	Literal struct {
		T     Type
		Value any
	}
	// A Now is a fact of the query's start, given when it runs.
	Now struct{ T Type }
	// A Unary is NOT or minus.
	Unary struct {
		Op string
		X  Expr
	}
	// A Binary is an operator between two operands.
	Binary struct {
		Op   string
		L, R Expr
		T    Type
	}
	// An IsNull is IS [NOT] NULL.
	IsNull struct {
		X   Expr
		Not bool
	}
	// An IsTrue is IS TRUE: false where the operand is NULL.
	IsTrue struct{ X Expr }
	// An OfType reports whether a column holds a value of its type, or NULL. A SQLite table can hold others.
	OfType struct{ X *ColumnRef }
	// An InList is [NOT] IN with listed values; an empty list holds nothing.
	InList struct {
		X    Expr
		List []Expr
		Not  bool
	}
	// An InQuery is IN with a sub-query; NOT IN is NOT of it. With an operator it is that
	// operator with ANY, or ALL, of the sub-query's rows.
	InQuery struct {
		X     Expr
		Query *Query
		Op    string // empty: IN
		All   bool
	}
	// An Operation is an operator of the source's, between two operands or, where L is nil,
	// before one.
	Operation struct {
		Op   *sqltype.Operator
		L, R Expr
		T    Type
	}
	// A Quantified is an operator with ANY, or ALL, elements of an array.
	Quantified struct {
		X     Expr
		Op    *sqltype.Operator
		Array Expr
		All   bool
	}
	// An Array is ARRAY[…].
	Array struct {
		List []Expr
		T    Type
	}
	// An ArrayQuery is the array of a sub-query's values.
	ArrayQuery struct {
		Query *Query
		T     Type
	}
	// A Row is a row value.
	Row struct{ List []Expr }
	// A TableRow is the row of a table in FROM, by the table's alias.
	TableRow struct {
		List  []Expr
		Names []string // of its columns
	}
	// RowsCompared is a comparison of two rows, or of a row with what a sub-query gives.
	RowsCompared struct {
		Op   string
		L, R Expr
	}
	// A Subscript is an element of an array or document, or a part of an array. The bounds of
	// a part that are not written are nil.
	Subscript struct {
		X    Expr
		Part bool
		At   []Expr // of a part two for each dimension
		T    Type
	}
	// A FieldOf is a field of a row value.
	FieldOf struct {
		X    Expr
		Name string
		T    Type
	}
	// A Collated is a text with the collation that it is compared and sorted by.
	Collated struct {
		X    Expr
		Name []string // with its schema before it, if that is written
	}
	// A Default is what a column holds where nothing is said.
	Default struct{ T Type }
	// An Exists is EXISTS with a sub-query. One says that the sub-query has one row
	// at the most, so that it can be joined in its place.
	Exists struct {
		Query *Query
		One   bool
	}
	// A Scalar is a sub-query that stands for one value.
	Scalar struct{ Query *Query }
	// A Case is a searched CASE.
	Case struct {
		Whens []When
		Else  Expr // nil: NULL
		T     Type
	}
	// A When is one branch of a CASE.
	When struct{ If, Then Expr }
	// A Cast converts a value. In the shared language what cannot be converted is NULL.
	Cast struct {
		X        Expr
		To       Type
		Modifier string // a length or precision: 15,2
	}
	// A Like is [NOT] LIKE, or ILIKE with Fold.
	Like struct {
		X, Pattern Expr
		Not, Fold  bool
	}
	// A Call is a call of an allowed function.
	Call struct {
		Fn       *Function
		Args     []Expr
		Star     bool
		Distinct bool
		Filter   Expr
		Order    []Order  // of an aggregate's rows
		Within   bool     // Order is that of WITHIN GROUP
		Named    []string // of the last of Args
		Spread   bool     // the last of Args is an array of operands: VARIADIC
		Over     *Window
		T        Type
	}
	// A Treated is a column's value as a column policy lets it appear. For noise,
	// Of is the column and Row the key of its row.
	Treated struct {
		X         Expr
		T         Type
		Treatment policy.Treatment
		Of        access.ObjectID
		Row       []Expr
	}
)

func (e *ColumnRef) Type() Type { return e.Rel.Columns[e.Col].Type }

func (e *Literal) Type() Type { return e.T }

func (e *Now) Type() Type { return e.T }

func (e *Binary) Type() Type { return e.T }

func (e *IsNull) Type() Type { return Boolean }

func (e *IsTrue) Type() Type { return Boolean }

func (e *OfType) Type() Type { return Boolean }

func (e *InList) Type() Type { return Boolean }

func (e *InQuery) Type() Type { return Boolean }

func (e *Exists) Type() Type { return Boolean }

func (e *Operation) Type() Type { return e.T }

func (e *Quantified) Type() Type { return Boolean }

func (e *Array) Type() Type { return e.T }

func (e *ArrayQuery) Type() Type { return e.T }

func (e *Row) Type() Type { return sqltype.Record }

func (e *TableRow) Type() Type { return sqltype.Record }

func (e *RowsCompared) Type() Type { return Boolean }

func (e *Subscript) Type() Type { return e.T }

func (e *FieldOf) Type() Type { return e.T }

func (e *Collated) Type() Type { return e.X.Type() }

func (e *Default) Type() Type { return e.T }

func (e *Scalar) Type() Type { return e.Query.Columns[0].Type }

func (e *Case) Type() Type { return e.T }

func (e *Cast) Type() Type { return e.To }

func (e *Like) Type() Type { return Boolean }

func (e *Call) Type() Type { return e.T }

func (e *Treated) Type() Type { return e.T }

func (e *Unary) Type() Type {
	if e.Op == "NOT" {
		return Boolean
	}
	return e.X.Type()
}

// A Window is the frame of a window function.
type Window struct {
	Partition []Expr
	Order     []Order
	Frame     *Frame // nil: the usual one
}

// A Frame is which rows of a window a function looks at.
type Frame struct {
	Unit     string // ROWS, RANGE or GROUPS
	From, To Bound
	Exclude  string // EXCLUDE and what; empty: nothing
}

// A Bound is where a frame begins or ends: at a place, or at a distance from the row.
type Bound struct {
	Distance Expr   // nil: none
	Words    string // PRECEDING, UNBOUNDED FOLLOWING, CURRENT ROW and so on
}

// An Order is one sort key: an expression, or the number of an output column.
type Order struct {
	Expr       Expr
	Output     int // from 1; 0: Expr counts
	Desc       bool
	NullsFirst bool
	NotNull    bool // no NULL can occur, so that an index may serve the order
}

// A Column is a column of a relation or of a query's result.
type Column struct {
	Name     string
	Type     Type
	Declared string // the type's name with its modifier, where it has one: numeric(15,2)
	NotNull  bool
	ID       access.ObjectID // of a base table's column
	Indexed  bool            // an index of the base table begins with it
	// Collation is that of a base table's column: see [access.Object].
	Collation string
	// Withheld is policy.Absent or policy.Refuse where the column is not there
	// for the reader; else policy.Clear.
	Withheld policy.TreatmentKind
}

// A Relation is one entry of a FROM clause: a base table, a view, a derived table
// or a reference to a WITH query.
type Relation struct {
	Alias   string
	Columns []Column
	// One of these four; of a view the first two.
	Table *access.Object
	Query *Query
	CTE   *CTE
	Calls *Calls

	Lateral  bool // of a derived table: it may read the items before it
	nullable bool // an outer join can give a row of NULLs in its place

	Used       []bool // of a base table: the columns that the query uses
	Lends      bool   // a view, read with its owner's rights
	governance policy.Governance
	// governed is what the session's policies put in the table's place; nil
	// for a table that none touches.
	Governed *governed
	// opaque marks a table that the session may not read; every column name is
	// taken as there, so that all that is missing is found in one go.
	opaque bool
}

// A From is an item of a FROM clause: a *Relation or a *Join.
type From interface{ from() }

func (*Relation) from() {}

func (*Join) from() {}

// A Join joins two items; Kind is CROSS, INNER, LEFT, RIGHT or FULL.
type Join struct {
	Kind string
	L, R From
	On   Expr
}

// Calls are functions in FROM, whose rows stand beside each other.
type Calls struct {
	List    []*Call
	Ordinal bool // WITH ORDINALITY: the last column numbers the rows
	// Fields are the columns that are written behind a function that gives rows of any
	// kind, with their types' names.
	Fields []Column
}

// A CTE is a query of a WITH clause.
type CTE struct {
	Name  string
	Query *Query
	// Keep is what is written about keeping its rows: MATERIALIZED, NOT MATERIALIZED.
	Keep      string
	Recursive bool // it reads itself
	Search    *Search
	Cycle     *Cycle
	More      []Column // which SEARCH and CYCLE add

	uses int // how often it is read
}

// A Search is the order in which a recursive query finds its rows (ISO/IEC 9075-2, 7.18).
type Search struct {
	By      []int // columns of the query
	Breadth bool
	Set     string
}

// A Cycle is how a recursive query ends where it comes to a row again.
type Cycle struct {
	By             []int
	Set, Using     string
	Value, Default *Literal // a truth value, a whole number or a text
}

// A Query is a SELECT with what stands round it.
type Query struct {
	With          []*CTE
	Body          Body
	OrderBy       []Order
	Limit, Offset Expr
	Ties          bool // LIMIT is FETCH FIRST … WITH TIES
	Columns       []Column
}

// A Body is a *Select, a *SetOp or a *Values.
type Body interface{ body() }

func (*Select) body() {}

func (*SetOp) body() {}

func (*Values) body() {}

// Values are the rows of VALUES.
type Values struct{ Rows [][]Expr }

// A Select is one SELECT … FROM … WHERE … GROUP BY … HAVING.
type Select struct {
	Distinct bool
	On       []Expr // of DISTINCT ON
	Items    []Expr
	From     []From
	Where    Expr
	GroupBy  []Expr
	// Sets are the grouping sets, each with the places of its expressions in GroupBy;
	// nil: one, of all.
	Sets   [][]int
	Having Expr
}

// A SetOp joins two queries by UNION, INTERSECT or EXCEPT.
type SetOp struct {
	Op   string
	All  bool
	L, R *Query
}

// governed is a table as one session's policies leave it.
type governed struct {
	Inner   *Relation    // the table as the conditions see it, untreated
	Joins   []From       // rows of other tables, one at the most for each of its rows, that the filter is about
	Filter  Expr         // nil: all rows
	Treated map[int]Expr // by column
}
