package review

import (
	"reflect"
	"testing"

	"gneiss/core/policy"
	"gneiss/wire"
)

// TestTreatmentsAreWhole sets each argument of a treatment and looks for it on the other
// side and back: one that is added to one side alone fails here.
func TestTreatmentsAreWhole(t *testing.T) {
	var given wire.Treatment
	v := reflect.ValueOf(&given).Elem()
	for i := range v.NumField() {
		switch f := v.Field(i); f.Kind() {
		case reflect.String:
			f.SetString("suppress")
		case reflect.Int:
			f.SetInt(3)
		case reflect.Float64:
			f.SetFloat(0.5)
		case reflect.Bool:
			f.SetBool(true)
		case reflect.Map:
			f.Set(reflect.ValueOf(map[string]string{"a": "b"}))
		default:
			t.Fatalf("the test knows no %s", f.Kind())
		}
	}
	args := TreatmentArguments(&given)
	args.Kind = policy.Suppress
	if back := wireTreatment(args); !reflect.DeepEqual(*back, given) {
		t.Errorf("%+v comes back as %+v", given, *back)
	}
	if a := reflect.ValueOf(args); a.NumField() != v.NumField() {
		t.Errorf("the core's treatments have %d fields, the API's %d", a.NumField(), v.NumField())
	}
}
