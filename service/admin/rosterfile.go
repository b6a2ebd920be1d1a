package admin

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"gneiss/service/fault"
	"gneiss/wire"
)

// A roster is read from JSON, or from CSV as RFC 4180 has it. A file of subjects
// has the columns
//
//	subject,title,disabled,lead,attribute:districts
//
// of which subject alone is needed; there may be more attributes, whose values
// stand between semicolons. A file of memberships has
//
//	member,of,until,option,reason,ticket
//
// of which the first two are needed.

// attributePrefix begins the head of a column of an attribute's values.
const attributePrefix = "attribute:"

// readRoster adds what a file has to a roster.
func readRoster(f wire.RosterFile, into *wire.Roster) error {
	text := strings.TrimPrefix(f.Content, "\ufeff")
	if strings.HasPrefix(strings.TrimSpace(text), "{") {
		d := json.NewDecoder(strings.NewReader(text))
		d.DisallowUnknownFields()
		var r wire.Roster
		if err := d.Decode(&r); err != nil {
			return badFile(f, 0, "%v", err)
		}
		into.Subjects, into.Memberships = append(into.Subjects, r.Subjects...), append(into.Memberships, r.Memberships...)
		return nil
	}
	c := csv.NewReader(strings.NewReader(text))
	c.TrimLeadingSpace = true
	head, err := c.Read()
	if err != nil {
		return badFile(f, 1, "the first line must name the columns, such as subject,title or member,of")
	}
	for i := range head {
		head[i] = strings.ToLower(strings.TrimSpace(head[i]))
	}
	read, err := readerOf(f, head)
	if err != nil {
		return err
	}
	for {
		row, err := c.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		var bad *csv.ParseError
		if errors.As(err, &bad) {
			return badFile(f, bad.Line, "%v", bad.Err)
		}
		if err != nil {
			return badFile(f, 0, "%v", err)
		}
		line, _ := c.FieldPos(0)
		if err := read(into, row, line); err != nil {
			return badFile(f, line, "%v", err)
		}
	}
}

func badFile(f wire.RosterFile, line int, format string, args ...any) error {
	p := fault.New(fault.Invalid, "bad_file", format, args...)
	where := f.Name
	if line > 0 {
		where = strings.TrimSpace(fmt.Sprintf("%s line %d", f.Name, line))
	}
	p.Detail, p.Line = fmt.Sprintf("%s: %s; nothing was imported", where, p.Detail), line
	return p
}

// readerOf tells by the head which of the two kinds of file it is.
func readerOf(f wire.RosterFile, head []string) (func(*wire.Roster, []string, int) error, error) {
	known := []string{"member", "of", "until", "option", "reason", "ticket"}
	read := readMembership
	if slices.Contains(head, "subject") {
		known, read = []string{"subject", "title", "disabled", "lead"}, readSubject
	} else if !slices.Contains(head, "member") || !slices.Contains(head, "of") {
		return nil, badFile(f, 1, "the first line names neither subject, nor member and of")
	}
	for i, name := range head {
		attribute := known[0] == "subject" && strings.HasPrefix(name, attributePrefix)
		if !attribute && !slices.Contains(known, name) {
			return nil, badFile(f, 1, "there is no column %q here; there are %s", name, strings.Join(known, ", "))
		}
		if slices.Contains(head[:i], name) {
			return nil, badFile(f, 1, "the column %q is there twice", name)
		}
	}
	return func(r *wire.Roster, row []string, line int) error {
		fields := map[string]string{}
		for i, name := range head {
			fields[name] = strings.TrimSpace(row[i])
		}
		return read(r, fields, line)
	}, nil
}

func readSubject(into *wire.Roster, fields map[string]string, line int) error {
	s := wire.RosterSubject{Ref: fields["subject"], Title: fields["title"], Lead: fields["lead"], Line: line}
	var err error
	if s.Disabled, err = yes(fields["disabled"]); err != nil {
		return fmt.Errorf("disabled: %w", err)
	}
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		if attribute, ok := strings.CutPrefix(name, attributePrefix); ok && fields[name] != "" {
			if s.Attributes == nil {
				s.Attributes = map[string][]string{}
			}
			for value := range strings.SplitSeq(fields[name], ";") {
				s.Attributes[attribute] = append(s.Attributes[attribute], strings.TrimSpace(value))
			}
		}
	}
	into.Subjects = append(into.Subjects, s)
	return nil
}

func readMembership(into *wire.Roster, fields map[string]string, line int) error {
	m := wire.RosterMembership{Member: fields["member"], Of: fields["of"], Reason: fields["reason"], Ticket: fields["ticket"], Line: line}
	var err error
	if m.Option, err = yes(fields["option"]); err != nil {
		return fmt.Errorf("option: %w", err)
	}
	if text := fields["until"]; text != "" {
		until, err := time.Parse(time.RFC3339, text)
		if err != nil {
			if until, err = time.Parse(time.DateOnly, text); err != nil {
				return fmt.Errorf("until: %q is not a date such as 2027-01-31", text)
			}
		}
		m.Until = &until
	}
	into.Memberships = append(into.Memberships, m)
	return nil
}

func yes(text string) (bool, error) {
	switch strings.ToLower(text) {
	case "", "no", "false", "0":
		return false, nil
	case "yes", "true", "1":
		return true, nil
	}
	return false, fmt.Errorf("%q is neither yes nor no", text)
}

// RosterCSV writes the subjects, or the memberships, of a roster as CSV.
func RosterCSV(r wire.Roster, memberships bool) ([][]string, error) {
	if memberships {
		rows := [][]string{{"member", "of", "until", "option", "reason", "ticket"}}
		for _, m := range r.Memberships {
			until := ""
			if m.Until != nil {
				until = m.Until.Format(time.RFC3339)
			}
			rows = append(rows, []string{m.Member, m.Of, until, strconv.FormatBool(m.Option), m.Reason, m.Ticket})
		}
		return rows, nil
	}
	attributes := map[string]bool{}
	for _, s := range r.Subjects {
		for name := range s.Attributes {
			attributes[name] = true
		}
	}
	names := slices.Sorted(maps.Keys(attributes))
	head := []string{"subject", "title", "disabled", "lead"}
	for _, name := range names {
		head = append(head, attributePrefix+name)
	}
	rows := [][]string{head}
	for _, s := range r.Subjects {
		row := []string{s.Ref, s.Title, strconv.FormatBool(s.Disabled), s.Lead}
		for _, name := range names {
			for _, value := range s.Attributes[name] {
				if strings.Contains(value, ";") {
					return nil, fault.New(
						fault.Invalid,
						"not_csv",
						"the attribute %s of %s has a value with a semicolon, which CSV cannot represent; export the roster as JSON",
						name,
						s.Ref,
					)
				}
			}
			row = append(row, strings.Join(s.Attributes[name], ";"))
		}
		rows = append(rows, row)
	}
	return rows, nil
}
