package platform

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"

	jsonv2 "github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	jsonv1 "github.com/go-json-experiment/json/v1"

	"gneiss/core/access"
	"gneiss/core/guard"
	"gneiss/core/policy"
	"gneiss/store"
)

// changeKinds are the changes as the journal names them.
var changeKinds = map[string]reflect.Type{
	"add_object":          reflect.TypeFor[access.AddObject](),
	"miss_object":         reflect.TypeFor[access.MissObject](),
	"add_subject":         reflect.TypeFor[access.AddSubject](),
	"set_subject":         reflect.TypeFor[access.SetSubject](),
	"set_attribute":       reflect.TypeFor[access.SetAttribute](),
	"remove_subject":      reflect.TypeFor[access.RemoveSubject](),
	"join":                reflect.TypeFor[access.Join](),
	"leave":               reflect.TypeFor[access.Leave](),
	"rename_subject":      reflect.TypeFor[access.RenameSubject](),
	"set_owner":           reflect.TypeFor[access.SetOwner](),
	"put_view":            reflect.TypeFor[access.PutView](),
	"drop_view":           reflect.TypeFor[access.DropView](),
	"put_lane":            reflect.TypeFor[access.PutLane](),
	"remove_lane":         reflect.TypeFor[access.RemoveLane](),
	"put_bundle":          reflect.TypeFor[access.PutBundle](),
	"remove_bundle":       reflect.TypeFor[access.RemoveBundle](),
	"add_grant":           reflect.TypeFor[access.AddGrant](),
	"remove_grant":        reflect.TypeFor[access.RemoveGrant](),
	"put_label":           reflect.TypeFor[access.PutLabel](),
	"remove_label":        reflect.TypeFor[access.RemoveLabel](),
	"place_label":         reflect.TypeFor[policy.PlaceLabel](),
	"lift_label":          reflect.TypeFor[policy.LiftLabel](),
	"dismiss_topic":       reflect.TypeFor[policy.DismissTopic](),
	"put_relationship":    reflect.TypeFor[policy.PutRelationship](),
	"remove_relationship": reflect.TypeFor[policy.RemoveRelationship](),
	"put_row_policy":      reflect.TypeFor[policy.PutRowPolicy](),
	"put_column_policy":   reflect.TypeFor[policy.PutColumnPolicy](),
	"set_policy_status":   reflect.TypeFor[policy.SetPolicyStatus](),
	"remove_policy":       reflect.TypeFor[policy.RemovePolicy](),
	"put_guardrail":       reflect.TypeFor[guard.PutGuardrail](),
	"remove_guardrail":    reflect.TypeFor[guard.RemoveGuardrail](),
	"put_test":            reflect.TypeFor[guard.PutTest](),
	"remove_test":         reflect.TypeFor[guard.RemoveTest](),
	"sign_review":         reflect.TypeFor[guard.SignReview](),
}

// journalChange is one change in the journal.
type journalChange struct {
	Do   string          `json:"do"`
	What json.RawMessage `json:"what"`
}

func encodeChanges(changes []Change) (string, error) {
	list := make([]journalChange, len(changes))
	for i, c := range changes {
		what, err := json.Marshal(c)
		if err != nil {
			return "", err
		}
		for name, t := range changeKinds {
			if t == reflect.TypeOf(c) {
				list[i] = journalChange{name, what}
			}
		}
		if list[i].Do == "" {
			return "", fmt.Errorf("the journal has no name for %T", c)
		}
	}
	text, err := json.Marshal(list)
	return string(text), err
}

// decodeChanges reads each change as it comes, in one pass: a journal may have millions.
func decodeChanges(text string) ([]Change, error) {
	d := jsontext.NewDecoder(bytes.NewBufferString(text), jsonv1.DefaultOptionsV1())
	if _, err := d.ReadToken(); err != nil { // [
		return nil, err
	}
	var changes []Change
	for d.PeekKind() == '{' {
		c, err := decodeChange(d)
		if err != nil {
			return nil, err
		}
		changes = append(changes, c)
	}
	_, err := d.ReadToken() // ]
	return changes, err
}

// decodeChange reads what journalChange writes: the kind, then the change.
func decodeChange(d *jsontext.Decoder) (Change, error) {
	var head [4]string // { do KIND what
	for i := range head {
		token, err := d.ReadToken()
		if err != nil {
			return nil, err
		}
		head[i] = token.String()
	}
	if head[1] != "do" || head[3] != "what" {
		return nil, fmt.Errorf("the journal has %q and %q where a change has its kind and what it does", head[1], head[3])
	}
	t, ok := changeKinds[head[2]]
	if !ok {
		return nil, fmt.Errorf("the journal has a change that this version does not know: %s", head[2])
	}
	into := reflect.New(t)
	if err := jsonv2.UnmarshalDecode(d, into.Interface()); err != nil {
		return nil, err
	}
	_, err := d.ReadToken() // }
	return into.Elem().Interface(), err
}

// SignedDigest is the digest by which an entry signs a review; "" where it does not.
func SignedDigest(e store.Entry, review string) (string, error) {
	changes, err := decodeChanges(e.Changes)
	if err != nil {
		return "", err
	}
	for _, c := range changes {
		if sign, is := c.(guard.SignReview); is && sign.Review == review {
			return sign.Digest, nil
		}
	}
	return "", nil
}
