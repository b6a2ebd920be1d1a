package api

import (
	"bufio"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"gneiss/service/review"
	"gneiss/wire"
)

// records lists the record, page by page; or as CSV or JSON lines all of it that a search selects, newest
// first; or as server-sent events what comes from now on.
func (s *Server) records() {
	type in struct {
		recordsIn
		Format  string `query:"format" enum:"csv,jsonl" description:"the form, where an Accept header cannot say it"`
		CSVSafe bool   `query:"csv_safe" description:"in CSV, an apostrophe before texts that a spreadsheet would take for formulas"`
	}
	handle(s, "GET", "/records", "the record of who did what: a page as JSON, all of it as CSV or JSON lines, as server-sent events what comes",
		func(r request, in in) (wire.List[wire.Record], error) {
			q := review.RecordSearch(in.recordsIn)
			form := map[string]string{"csv": "text/csv", "jsonl": "application/jsonl"}[in.Format]
			if form == "" {
				form = r.fiber.Accepts(fiber.MIMEApplicationJSON, "text/csv", "application/jsonl", "text/event-stream")
			}
			switch form {
			case "text/csv":
				return wire.List[wire.Record]{}, s.exported(r, q, "text/csv; charset=utf-8; header=present", func(w *bufio.Writer) func(wire.Record) error {
					return recordCSV(w, in.CSVSafe)
				})
			case "application/jsonl":
				return wire.List[wire.Record]{}, s.exported(r, q, "application/jsonl", func(w *bufio.Writer) func(wire.Record) error {
					e := json.NewEncoder(w)
					return func(r wire.Record) error { return e.Encode(r) }
				})
			case "text/event-stream":
				return wire.List[wire.Record]{}, s.followed(r, q)
			}
			return s.service.Review.Records(r.ctx, r.Caller, q)
		})
}

// pageOfRecords is how many records are looked up at a time, so that any number takes the same memory.
const pageOfRecords = 1000

// exported answers with all records that a search selects, or with as many as it has a limit for.
func (s *Server) exported(r request, q review.RecordSearch, mime string, writer func(*bufio.Writer) func(wire.Record) error) error {
	left := q.Limit
	next := func(ctx context.Context) (wire.List[wire.Record], error) {
		if q.Limit = pageOfRecords; left > 0 {
			q.Limit = min(left, pageOfRecords)
		}
		list, err := s.service.Review.Records(ctx, r.Caller, q)
		q.Before = list.Next
		if left > 0 {
			if left -= len(list.Items); left <= 0 {
				q.Before = ""
			}
		}
		return list, err
	}
	if q.Behind != "" {
		return badInput("an export goes from the newest record back; behind is for server-sent events")
	}
	list, err := next(r.ctx) // what is wrong with the search is told as a problem
	if err != nil {
		return err
	}
	if !s.streams.Take(r.Caller.User) {
		return errStreams
	}
	r.fiber.Set(fiber.HeaderContentType, mime)
	conn := r.fiber.RequestCtx().Conn()
	r.fiber.RequestCtx().SetBodyStreamWriter(func(w *bufio.Writer) {
		defer s.streams.Leave(r.Caller.User)
		defer r.stop()
		write := writer(w)
		for {
			for _, record := range list.Items {
				if grace(conn) != nil || write(record) != nil {
					return // nobody reads any more
				}
			}
			if w.Flush() != nil || q.Before == "" {
				return
			}
			select {
			case <-s.stopping:
				conn.Close() // so that nobody takes it for whole
				return
			default:
			}
			if list, err = next(r.ctx); err != nil {
				s.log.Warn("an export of the record broke off", "error", err)
				conn.Close()
				return
			}
		}
	})
	return answered{streams: true}
}

// recordCSV writes records as CSV, with a header.
func recordCSV(w *bufio.Writer, safe bool) func(wire.Record) error {
	out := csv.NewWriter(w)
	head := []string{"reference", "at", "actor", "standpoint", "client", "address", "action", "decision", "status", "rows", "took_ms", "objects", "labels",
		"missing", "reason", "text"}
	return func(r wire.Record) error {
		if head != nil {
			if err := out.Write(head); err != nil {
				return err
			}
			head = nil
		}
		line := []string{r.Reference, r.At.Format(time.RFC3339Nano), r.Actor, r.Standpoint, r.Client, r.Address, r.Action, r.Decision, r.Status, fmt.Sprint(r.Rows),
			strconv.FormatFloat(r.TookMS, 'f', -1, 64), strings.Join(r.Objects, " "), strings.Join(r.Labels, " "), strings.Join(r.Missing, "; "), r.Reason, r.Text}
		if safe {
			for i := range line {
				line[i] = unformulated(line[i])
			}
		}
		err := out.Write(line)
		out.Flush()
		return err
	}
}

// followEvery is the least time between two looks for what has come, so that a busy service is not asked
// for each record.
const followEvery = 100 * time.Millisecond

// followed answers with the records that a search selects as they come: from now on, behind the one named,
// or behind the last that the reader got before.
func (s *Server) followed(r request, q review.RecordSearch) error {
	c := r.fiber
	if last := c.Get("Last-Event-ID"); last != "" {
		q.Behind = strings.Clone(last)
	}
	if q.Before != "" {
		return badInput("what comes is behind a record, not before one")
	}
	q.Limit = pageOfRecords
	if q.Behind == "" {
		newest, err := s.service.Review.Records(r.ctx, r.Caller, review.RecordSearch{Limit: 1})
		if err != nil {
			return err
		}
		if q.Behind = "R-1"; len(newest.Items) > 0 {
			q.Behind = newest.Items[0].Reference
		}
	}
	written := s.service.Audit.Written()
	list, err := s.service.Review.Records(r.ctx, r.Caller, q)
	if err != nil {
		return err
	}
	if !s.streams.Take(r.Caller.User) {
		return errStreams
	}
	c.Set(fiber.HeaderContentType, "text/event-stream")
	conn := c.RequestCtx().Conn()
	c.RequestCtx().SetBodyStreamWriter(func(w *bufio.Writer) {
		defer s.streams.Leave(r.Caller.User)
		defer r.stop()
		end := time.After(streamLasts)
		fmt.Fprintf(w, "retry: 500\nid: %s\n: behind it\n\n", q.Behind)
		for {
			for _, record := range list.Items {
				q.Behind = record.Reference
				text, err := json.Marshal(record)
				if err != nil {
					return
				}
				grace(conn)
				fmt.Fprintf(w, "id: %s\nevent: record\ndata: %s\n\n", record.Reference, text)
			}
			if grace(conn) != nil || w.Flush() != nil {
				return // nobody reads any more
			}
			if list.Next == "" {
				select {
				case <-written:
					time.Sleep(followEvery)
				case <-end:
					return
				case <-s.stopping:
					return
				case <-r.ctx.Done():
					return
				}
			}
			written = s.service.Audit.Written()
			if list, err = s.service.Review.Records(r.ctx, r.Caller, q); err != nil {
				return // why is told when it is asked for again
			}
		}
	})
	return answered{streams: true}
}
