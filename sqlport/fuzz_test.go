package sqlport

import (
	"bytes"
	"encoding/binary"
	"flag"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"slices"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	"gneiss/demo/demotest"
	"gneiss/service"
	"gneiss/service/identity"
	"gneiss/wire"
)

// A hostile input is what is sent, by one who has signed in or by a stranger.
type hostile struct {
	signedIn bool
	sent     []byte
}

func frames(messages ...pgproto3.FrontendMessage) []byte {
	var b []byte
	for _, m := range messages {
		b, _ = m.Encode(b)
	}
	return b
}

// hostiles are where mutations begin.
var hostiles = []hostile{
	{true, frames(&pgproto3.Query{String: "SELECT 1"})},
	{true, frames(&pgproto3.Parse{Name: "a", Query: "SELECT $1::bigint"}, &pgproto3.Bind{PreparedStatement: "a", Parameters: [][]byte{[]byte("1")}},
		&pgproto3.Describe{ObjectType: 'P'}, &pgproto3.Execute{MaxRows: 1}, &pgproto3.Execute{}, &pgproto3.Sync{})},
	{true, frames(&pgproto3.Query{String: "COPY field.visits FROM STDIN"}, &pgproto3.CopyData{Data: []byte("1\t2\n")}, &pgproto3.CopyDone{})},
	{true, frames(&pgproto3.Query{String: "BEGIN; DECLARE c CURSOR FOR SELECT id FROM drilling.boreholes"}, &pgproto3.Query{String: "FETCH 2 FROM c"})},
	{true, frames(&pgproto3.Parse{Query: "SELECT name FROM drilling.boreholes"}, &pgproto3.Bind{ResultFormatCodes: []int16{1}}, &pgproto3.Execute{MaxRows: 3},
		&pgproto3.Sync{}, &pgproto3.Query{String: "SELECT relname FROM pg_class"})},
	{true, frames(&pgproto3.Execute{Portal: "x"}, &pgproto3.Close{ObjectType: 'S'}, &pgproto3.Flush{}, &pgproto3.Sync{}, &pgproto3.Terminate{})},
	{true, []byte("Q\x00\x00\x00\x03")},
	{true, []byte("Q\xff\xff\xff\xff")},
	{true, []byte("P\x00\x00\x10\x00abc")},
	{false, []byte("\x00\x00\x00\x08\x04\xd2\x16\x2f\x16\x03\x01\x00\x05hello")},
	{false, []byte("\x00\x00\x00\x08\x04\xd2\x16\x30\x00\x00\x00\x08\x04\xd2\x16\x30\x00\x00\x00\x08\x04\xd2\x16\x30")},
	{false, []byte("\x00\x00\x00\x10\x04\xd2\x16\x2e\x00\x00\x00\x01\x00\x00\x00\x02")},
	{false, append(frames(&pgproto3.StartupMessage{ProtocolVersion: 196608, Parameters: map[string]string{"user": "tuff", "database": "survey", "options": "-c search_path=x"}}),
		frames(&pgproto3.SASLInitialResponse{AuthMechanism: "SCRAM-SHA-256", Data: []byte("n,,n=,r=abcdefghijklmnop")}, &pgproto3.SASLResponse{Data: []byte("c=biws,r=x,p=eA==")})...)},
	{false, []byte("\x00\x00\x00\x09\x00\x02\x00\x00\x00")},
	{false, []byte("GET / HTTP/1.1\r\n\r\n")},
}

// target is the port of a demo platform, to which hostile input is given.
type target struct {
	svc    *service.Service
	server *Server
	caller identity.Caller
	hidden [][]byte // names of boreholes that are not there for the caller
}

func newTarget(t testing.TB) *target {
	svc := demotest.Open(t, demotest.OwnFolder(t, "drilling", "field"))
	tuff, err := svc.Admin.ActAs("user:tuff")
	if err != nil {
		t.Fatal(err)
	}
	limits := Limits{SignIn: 500 * time.Millisecond, Write: 500 * time.Millisecond, Idle: time.Second}
	x := &target{svc: svc, server: New(svc, slog.New(slog.NewTextHandler(io.Discard, nil)), nil, limits), caller: tuff}
	opal, err := svc.Admin.ActAs("user:opal")
	if err != nil {
		t.Fatal(err)
	}
	names := func(c identity.Caller) map[string]bool {
		out, err := svc.Gateway.Query(t.Context(), c, wire.QueryRequest{SQL: "SELECT name FROM survey.drilling.boreholes"})
		if err != nil {
			t.Fatal(err)
		}
		found := map[string]bool{}
		for _, row := range out.Rows {
			found[row[0].(string)] = true
		}
		return found
	}
	own := names(tuff)
	for name := range names(opal) {
		if !own[name] {
			x.hidden = append(x.hidden, []byte(name))
		}
	}
	if len(own) == 0 || len(x.hidden) == 0 {
		t.Fatalf("%d boreholes are seen and %d hidden", len(own), len(x.hidden))
	}
	return x
}

// give gives it one input, and holds that nothing breaks, nothing stays, and no row comes that is
// hidden from the account.
func (x *target) give(t *testing.T, in hostile) {
	client, server := net.Pipe()
	defer client.Close()
	broke := make(chan any, 1)
	go func() {
		defer server.Close()
		defer func() { broke <- recover() }()
		if !in.signedIn {
			x.server.serve(server)
			return
		}
		b := pgproto3.NewBackend(server, server)
		b.SetMaxBodyLen(mostMessage)
		c := newSession(x.server, server, b)
		c.caller = x.caller
		if err := c.enter("survey", "tuff"); err != nil {
			t.Error(err)
			return
		}
		c.settings.set("statement_timeout", "300ms", false)
		c.run()
	}()
	var got bytes.Buffer
	read := make(chan struct{})
	go func() {
		defer close(read)
		io.Copy(&got, io.LimitReader(client, 4<<20))
		client.Close()
	}()
	go func() {
		client.SetWriteDeadline(time.Now().Add(time.Second))
		client.Write(in.sent)
		client.Write(frames(&pgproto3.Terminate{}))
		time.Sleep(20 * time.Millisecond) // a message that was begun takes what follows as its own
		client.Close()
	}()
	select {
	case what := <-broke:
		if what != nil {
			t.Fatalf("%q breaks it: %v", in.sent, what)
		}
	case <-time.After(10 * time.Second):
		t.Fatalf("%q holds it up", in.sent)
	}
	client.Close()
	<-read
	for _, name := range x.hidden {
		if bytes.Contains(got.Bytes(), name) {
			t.Errorf("%.300q gives %s, which is hidden", in.sent, name)
		}
	}
	if left := x.svc.Identity.Connections.All(); len(left) > 0 {
		t.Errorf("%q leaves %d connections behind", in.sent, len(left))
	}
}

// FuzzProtocol gives the port what a fuzzer makes of messages.
func FuzzProtocol(f *testing.F) {
	for _, h := range hostiles {
		f.Add(h.signedIn, h.sent)
	}
	x := newTarget(f)
	f.Fuzz(func(t *testing.T, signedIn bool, sent []byte) { x.give(t, hostile{signedIn, sent}) })
}

var hostileFor = flag.Duration("hostile", 3*time.Second, "how long messages are mutated")

// TestHostileMessages mutates messages at random: bytes, lengths, orders, halves.
func TestHostileMessages(t *testing.T) {
	x := newTarget(t)
	random := rand.New(rand.NewPCG(3, 5))
	n := 0
	for began := time.Now(); time.Since(began) < *hostileFor; n++ {
		in := hostiles[random.IntN(len(hostiles))]
		in.sent = slices.Clone(in.sent)
		for range random.IntN(4) {
			other := hostiles[random.IntN(len(hostiles))].sent
			switch at := random.IntN(len(in.sent) + 1); random.IntN(6) {
			case 0:
				if at < len(in.sent) {
					in.sent[at] = byte(random.IntN(256))
				}
			case 1:
				in.sent = in.sent[:at]
			case 2:
				in.sent = slices.Insert(in.sent, at, other...)
			case 3:
				in.sent = append(in.sent, other...)
			case 4:
				if at+4 <= len(in.sent) {
					binary.BigEndian.PutUint32(in.sent[at:], random.Uint32()>>uint(random.IntN(32)))
				}
			case 5:
				in.sent = append(slices.Clone(other), in.sent...)
			}
		}
		x.give(t, in)
	}
	if n < 20 {
		t.Errorf("only %d were given", n)
	}
	t.Logf("%d inputs", n)
}
