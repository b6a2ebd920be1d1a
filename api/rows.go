package api

import (
	"bytes"
	"encoding/json"
	"math"
	"strconv"
	"strings"

	"github.com/gofiber/fiber/v3"

	"gneiss/wire"
)

// writeCSV writes rows as RFC 4180 has it, with a header line. A field is NULL where there is
// nothing, and an empty text where there is "". Line ends within a text stay as they are, which
// encoding/csv would change.
func writeCSV(c fiber.Ctx, result wire.Result, safe bool) error {
	var b bytes.Buffer
	for i, column := range result.Columns {
		separate(&b, i)
		field(&b, column.Name)
	}
	b.WriteString("\r\n")
	for _, row := range result.Rows {
		for i, v := range row {
			separate(&b, i)
			text := Text(v)
			if _, ok := v.(string); ok && safe && !number(result.Columns[i].Type, text) {
				text = unformulated(text)
			}
			if v != nil {
				field(&b, text)
			}
		}
		b.WriteString("\r\n")
	}
	c.Set(fiber.HeaderContentType, "text/csv; charset=utf-8; header=present")
	return c.Send(b.Bytes())
}

func separate(b *bytes.Buffer, i int) {
	if i > 0 {
		b.WriteByte(',')
	}
}

func field(b *bytes.Buffer, text string) {
	if text != "" && !strings.ContainsAny(text, ",\"\r\n") {
		b.WriteString(text)
		return
	}
	b.WriteByte('"')
	b.WriteString(strings.ReplaceAll(text, `"`, `""`))
	b.WriteByte('"')
}

// number reports whether the text is a number of a column of such a type, as decimals are given.
func number(typ, text string) bool {
	name, _, _ := strings.Cut(typ, "(")
	switch name {
	case "smallint", "integer", "bigint", "numeric", "real", "double precision":
		return text != "-Infinity"
	}
	return false
}

// unformulated puts an apostrophe before a text that a spreadsheet would take for a
// formula.
func unformulated(text string) string {
	if text != "" && strings.ContainsRune("=+-@\t\r", rune(text[0])) {
		return "'" + text
	}
	return text
}

// writeLines writes each row as one JSON object on a line of its own.
func writeLines(c fiber.Ctx, result wire.Result) error {
	var b bytes.Buffer
	for _, row := range result.Rows {
		b.WriteByte('{')
		for i, v := range row {
			if i > 0 {
				b.WriteByte(',')
			}
			name, err := json.Marshal(result.Columns[i].Name)
			if err != nil {
				return err
			}
			value, err := json.Marshal(v)
			if err != nil {
				return err
			}
			b.Write(name)
			b.WriteByte(':')
			b.Write(value)
		}
		b.WriteString("}\n")
	}
	c.Set(fiber.HeaderContentType, "application/jsonl")
	return c.Send(b.Bytes())
}

// Text is a value as it stands in CSV and tables.
func Text(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case bool:
		return strconv.FormatBool(v)
	case int64:
		return strconv.FormatInt(v, 10)
	case float64:
		if size := math.Abs(v); size != 0 && (size < 1e-4 || size >= 1e15) {
			return strconv.FormatFloat(v, 'e', -1, 64) // as PostgreSQL writes it
		}
		return strconv.FormatFloat(v, 'f', -1, 64)
	}
	text, err := json.Marshal(v)
	if err != nil {
		return ""
	}
	return string(text)
}
