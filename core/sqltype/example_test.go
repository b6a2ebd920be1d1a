package sqltype_test

import (
	"fmt"

	"gneiss/core/sqltype"
)

// What an operator and a call mean is found by the types of their operands.
func Example() {
	m, err := sqltype.Binary("*", sqltype.Parse("numeric(15,2)"), sqltype.Int4)
	fmt.Println(m.Args, m.Result, err)
	m, err = sqltype.Call("array_agg", []*sqltype.Type{sqltype.Date}, false)
	fmt.Println(m.Result, err)
	_, err = sqltype.Call("lower", []*sqltype.Type{sqltype.Int4}, false)
	fmt.Println(err)
	fmt.Println(sqltype.Never("pg_sleep"))
	// Output:
	// [numeric numeric] numeric <nil>
	// date[] <nil>
	// function lower(integer) does not exist
	// it sleeps
}

func ExampleCommon() {
	fmt.Println(sqltype.Common([]*sqltype.Type{nil, sqltype.Int4, sqltype.Numeric}))
	fmt.Println(sqltype.Common([]*sqltype.Type{sqltype.Date, sqltype.Boolean}) == nil)
	// Output:
	// numeric
	// true
}
