package api

import (
	"bufio"
	"fmt"
	"time"

	"github.com/gofiber/fiber/v3"

	"gneiss/core/access"
	"gneiss/service/events"
	"gneiss/service/fault"
)

// How long one stream of events lasts, after which its reader asks again; and the most
// streams, of one account and of all.
const (
	streamLasts   = 25 * time.Second
	mostOfAccount = 16
	mostStreams   = 1000
)

var errStreams = fault.New(fault.TooMany, "too_many_streams", "too many streams of events or of the record are open; close some")

// events tells of each revision of the model as it comes (server-sent events, as the HTML standard has
// them), and of drafts and checks those who may look at them, so that pages know when to look again.
// An event's id is the revision, and after a dot for who reviews the number of the last event in the
// records: to others it would tell that there was something which they do not hear of.
func (s *Server) events(c fiber.Ctx) error {
	caller, err := s.caller(c)
	if err != nil {
		return err
	}
	if !s.streams.Take(caller.User) {
		return errStreams
	}
	c.Set(fiber.HeaderContentType, "text/event-stream")
	seen, after := lastEvent(c.Get("Last-Event-ID"), s.service.Events.Last())
	ctx, stop := watched(c) // a page that is gone frees its stream at once
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer s.streams.Leave(caller.User)
		defer stop()
		end := time.After(streamLasts)
		fmt.Fprint(w, "retry: 500\n\n")
		told := func(event string) {
			number := int64(0)
			if s.service.Identity.MayHear(caller, 0) {
				number = after
			}
			fmt.Fprintf(w, "id: %d.%d\nevent: %s\ndata: %d\n\n", seen, number, event, seen)
		}
		for {
			changed := s.service.Platform.Changed()
			happened, more := s.service.Events.After(after)
			if at := s.service.Revision(); at != seen {
				seen = at
				told("revision")
			}
			topics := map[string]bool{}
			for _, e := range happened {
				after = e.ID
				topic := events.Kind(e.Kind).Topic()
				if topic == "revision" || topics[topic] || !s.service.Identity.MayHear(caller, access.SubjectID(e.Subject)) {
					continue
				}
				topics[topic] = true // once, for all that there is to look at
				told(topic)
			}
			if w.Flush() != nil {
				return // nobody reads any more
			}
			select {
			case <-changed:
			case <-more:
			case <-end:
				return
			case <-s.stopping:
				return
			case <-ctx.Done():
				return
			}
		}
	})
}

// lastEvent takes apart the id of the last event that a reader got. Who got none begins with now.
func lastEvent(id string, now int64) (revision, event int64) {
	if n, err := fmt.Sscanf(id, "%d.%d", &revision, &event); err != nil || n != 2 || event > now || event == 0 {
		return revision, now
	}
	return revision, event
}
