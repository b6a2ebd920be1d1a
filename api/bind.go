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

// bindFields fills the fields of path and query string, those of embedded structs
// too, and notes the names of the latter.
func bindFields(c fiber.Ctx, v reflect.Value, known map[string]bool) error {
	if v.Kind() != reflect.Struct {
		return nil
	}
	for i := range v.NumField() {
		field := v.Type().Field(i)
		if field.Anonymous {
			if err := bindFields(c, v.Field(i), known); err != nil {
				return err
			}
			continue
		}
		name, value := field.Tag.Get("uri"), ""
		if name != "" {
			value = c.Params(name)
		} else if name = field.Tag.Get("query"); name == "" || c.Method() != fiber.MethodGet && field.Tag.Get("json") != "-" {
			continue // which the body has
		} else {
			known[name] = true
			value = c.Query(name)
		}
		if err := setField(v.Field(i), field, name, value); err != nil {
			return err
		}
	}
	return nil
}

func setField(v reflect.Value, field reflect.StructField, name, value string) error {
	if len(value) > longest {
		return badInput(fmt.Sprintf("%s is longer than %d bytes", name, longest))
	}
	if value == "" {
		return nil
	}
	if enum := field.Tag.Get("enum"); enum != "" && !slices.Contains(strings.Split(enum, ","), value) {
		return badInput(fmt.Sprintf("%s is one of %s, not %.64q", name, strings.ReplaceAll(enum, ",", ", "), value))
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
		return badInput(fmt.Sprintf("%s cannot be %.64q", name, value))
	}
	return nil
}
