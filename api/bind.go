package api

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/gofiber/fiber/v3"

	"gneiss/wire"
)

// What a request says comes from three places, and each field of an input from one:
// from the path (uri tag), from the query string (query tag), or from the JSON body.
// What has no field is refused, and so is a value outside of a field's enum.

// longest bounds each value of a path or query string, in bytes.
const longest = 4096

func bind[In any](c fiber.Ctx, look wire.Moment) (In, error) {
	var in In
	if c.Method() != fiber.MethodGet {
		if err := bindBody(c, &in); err != nil {
			return in, err
		}
	}
	known := map[string]bool{"draft": look.Draft != "", "at": look.At != "", "set_aside": c.Query("set_aside") != ""}
	if err := bindFields(c, reflect.ValueOf(&in).Elem(), known); err != nil {
		return in, err
	}
	for name := range c.Queries() {
		if !known[name] {
			return in, badInput(fmt.Sprintf("there is no parameter %.64q here", name))
		}
	}
	return in, nil
}

func bindBody(c fiber.Ctx, in any) error {
	body := c.Body()
	if len(bytes.TrimSpace(body)) == 0 {
		return nil
	}
	if !strings.HasPrefix(c.Get(fiber.HeaderContentType), fiber.MIMEApplicationJSON) {
		return &wire.Problem{Type: "about:blank", Title: "Unsupported media type", Status: 415, Code: "media_type", Detail: "send application/json"}
	}
	d := json.NewDecoder(bytes.NewReader(body))
	d.DisallowUnknownFields()
	d.UseNumber() // whole numbers stay exact
	if err := d.Decode(in); err != nil {
		return badInput(strings.TrimPrefix(err.Error(), "json: "))
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return badInput("there is more than one JSON value")
	}
	return nil
}

// A parameter is a field of an input whose value comes from the path or the query string.
type parameter struct {
	index   []int // of the field
	name    string
	inPath  bool     // else in the query string
	getOnly bool     // with other methods the body has it
	enum    []string // the allowed values; nil: any
}

var parameters sync.Map // the []parameter of each type of input

// parametersOf lists the parameters among the fields of an input, including those of embedded structs.
func parametersOf(t reflect.Type) []parameter {
	if known, ok := parameters.Load(t); ok {
		return known.([]parameter)
	}
	var out []parameter
	if t.Kind() == reflect.Struct {
		for _, field := range reflect.VisibleFields(t) {
			p := parameter{index: field.Index, name: field.Tag.Get("uri"), inPath: true}
			if p.name == "" {
				p.name, p.inPath, p.getOnly = field.Tag.Get("query"), false, field.Tag.Get("json") != "-"
			}
			if enum := field.Tag.Get("enum"); enum != "" {
				p.enum = strings.Split(enum, ",")
			}
			if p.name != "" && !field.Anonymous {
				out = append(out, p)
			}
		}
	}
	parameters.Store(t, out)
	return out
}

// bindFields fills the fields that are parameters, and adds the names of those in the query string to known.
func bindFields(c fiber.Ctx, v reflect.Value, known map[string]bool) error {
	for _, p := range parametersOf(v.Type()) {
		value := ""
		switch {
		case p.inPath:
			value = c.Params(p.name)
		case p.getOnly && c.Method() != fiber.MethodGet:
			continue
		default:
			known[p.name] = true
			value = c.Query(p.name)
		}
		if err := p.set(v.FieldByIndex(p.index), value); err != nil {
			return err
		}
	}
	return nil
}

// set parses a value into the parameter's field.
func (p parameter) set(v reflect.Value, value string) error {
	if len(value) > longest {
		return badInput(fmt.Sprintf("%s is longer than %d bytes", p.name, longest))
	}
	if value == "" {
		return nil
	}
	if p.enum != nil && !slices.Contains(p.enum, value) {
		return badInput(fmt.Sprintf("%s is one of %s, not %.64q", p.name, strings.Join(p.enum, ", "), value))
	}
	var err error
	switch v.Kind() {
	case reflect.String:
		v.SetString(value)
	case reflect.Bool:
		var b bool
		b, err = strconv.ParseBool(value)
		v.SetBool(b)
	case reflect.Int:
		var n int64
		n, err = strconv.ParseInt(value, 10, 32)
		v.SetInt(n)
	default:
		panic("api: no way to bind a " + v.Type().String())
	}
	if err != nil {
		return badInput(fmt.Sprintf("%s cannot be %.64q", p.name, value))
	}
	return nil
}
