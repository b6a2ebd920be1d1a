package api

import (
	"bufio"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"

	"gneiss/core/access"
	"gneiss/service/fault"
)

// How long one stream of events lasts, after which its reader asks again; and the most
// streams, of one account and of all.
const (
	streamLasts   = 25 * time.Second
	mostOfAccount = 16
	mostStreams   = 1000
)

// streams counts the open streams of events.
type streams struct {
	mu  sync.Mutex
	of  map[access.SubjectID]int
	all int
}

func (s *streams) enter(id access.SubjectID) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.of[id] >= mostOfAccount || s.all >= mostStreams {
		return false
	}
	s.of[id]++
	s.all++
	return true
}

func (s *streams) leave(id access.SubjectID) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all--
	if s.of[id]--; s.of[id] == 0 {
		delete(s.of, id)
	}
}

// events tells of each revision of the model as it comes (server-sent events, as the HTML
// standard has them), so that pages know when to look again.
func (s *Server) events(c fiber.Ctx) error {
	caller, err := s.caller(c)
	if err != nil {
		return err
	}
	if !s.streams.enter(caller.User) {
		return fault.New(fault.TooMany, "too_many_streams", "too many streams of events are open; close some")
	}
	c.Set(fiber.HeaderContentType, "text/event-stream")
	seen := strings.Clone(c.Get("Last-Event-ID"))
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer s.streams.leave(caller.User)
		end := time.After(streamLasts)
		fmt.Fprint(w, "retry: 500\n\n")
		for {
			changed := s.service.Platform.Changed()
			if at := fmt.Sprint(s.service.Revision()); at != seen {
				fmt.Fprintf(w, "id: %s\nevent: revision\ndata: %s\n\n", at, at)
				seen = at
			}
			if w.Flush() != nil {
				return // nobody reads any more
			}
			select {
			case <-changed:
			case <-end:
				return
			case <-s.stopping:
				return
			}
		}
	})
}
