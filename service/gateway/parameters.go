package gateway

import (
	"encoding/json"
	"strings"

	"gneiss/core/query"
	"gneiss/service/fault"
)

// The most of a statement's parameters, in bytes: of one, and of all.
const (
	mostParam  = 1 << 20
	mostParams = 4 << 20
)

// parameters are the values of $1, $2 and so on, as the planner takes them: see
// [query.Govern].
func parameters(in []any) ([]any, error) {
	out, size := make([]any, len(in)), 0
	for i, v := range in {
		switch v := v.(type) {
		case query.Given:
			text, _ := v.Value.(string)
			if size += len(text); len(text) > mostParam || size > mostParams {
				return nil, fault.New(fault.Invalid, "bad_parameter", "a parameter may have %d bytes, and all together %d", mostParam, mostParams)
			}
			out[i] = v
		case nil, bool, int64, float64:
			out[i] = v
		case int:
			out[i] = int64(v)
		case json.Number:
			if n, err := v.Int64(); err == nil && !strings.ContainsAny(v.String(), ".eE") {
				out[i] = n
			} else if _, err := v.Float64(); err == nil {
				out[i] = query.Decimal(v.String())
			} else {
				return nil, fault.New(fault.Invalid, "bad_parameter", "the parameter $%d is a number out of range", i+1)
			}
		case string:
			if size += len(v); len(v) > mostParam || size > mostParams {
				return nil, fault.New(fault.Invalid, "bad_parameter", "a parameter may have %d bytes, and all together %d", mostParam, mostParams)
			}
			out[i] = v
		default:
			return nil, fault.New(fault.Invalid, "bad_parameter", "the parameter $%d is a list or an object; parameters are numbers, texts, truth values or null", i+1)
		}
	}
	return out, nil
}
