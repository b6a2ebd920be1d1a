package api

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"strconv"
	"strings"

	"github.com/gofiber/fiber/v3"

	"gneiss/wire"
)

// writeCSV writes rows as RFC 4180 has it, with a header line. NULL is an empty
// field; truth values are true and false.
func writeCSV(c fiber.Ctx, result wire.Result, safe bool) error {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.UseCRLF = true
	line := make([]string, len(result.Columns))
	for i, column := range result.Columns {
		line[i] = column.Name
	}
	w.Write(line) // a bytes.Buffer takes everything; Error below has the rest
	for _, row := range result.Rows {
		for i, v := range row {
			line[i] = Text(v)
			if text, ok := v.(string); ok && safe {
				line[i] = unformulated(text)
			}
		}
		w.Write(line)
	}
	w.Flush()
	if err := w.Error(); err != nil {
		return err
	}
	c.Set(fiber.HeaderContentType, "text/csv; charset=utf-8; header=present")
	return c.Send(b.Bytes())
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
		return strconv.FormatFloat(v, 'f', -1, 64)
	}
	text, err := json.Marshal(v)
	if err != nil {
		return ""
	}
	return string(text)
}
