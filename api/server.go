package api

import (
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"math"
	"net"
	"net/http"
	"net/netip"
	"path"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/adaptor"
	"github.com/gofiber/fiber/v3/middleware/compress"
	"github.com/gofiber/fiber/v3/middleware/helmet"
	"github.com/gofiber/fiber/v3/middleware/recover"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"github.com/valyala/fasthttp"

	"gneiss/core/access"
	"gneiss/peer"
	"gneiss/service"
	"gneiss/service/fault"
	"gneiss/web"
)

// Server is the HTTP face of a service.
type Server struct {
	app     *fiber.App
	service *service.Service
	log     *slog.Logger
	metrics *metrics
	routes  []operation
	secure  bool // cookies are for TLS only
	proxies []netip.Prefix

	streams  *peer.Places[access.SubjectID] // open streams of events and of the record
	stopping chan struct{}                  // closed when the server is to stop
	stop     sync.Once
}

// bodyLimit is the most that a request may have, in bytes, and filesLimit the most of the files that an
// administrator of the platform compares or loads.
const (
	bodyLimit  = 4 << 20
	filesLimit = 256 << 20
)

// headLimit is the most that a request's first line and headers may have, in bytes:
// names and filters stand in them.
const headLimit = 16 << 10

// strangerLimit is bodyLimit for who has not shown a token or cookie that holds: to sign in takes
// less.
const strangerLimit = 64 << 10

// writeTimeout is how long a caller may read nothing of what is sent to them.
var writeTimeout = 30 * time.Second

// New makes the HTTP face of a service. Secure is whether it is reached by TLS.
// Proxies are the addresses, or ranges of them, of proxies whose X-Forwarded-For is
// believed.
func New(s *service.Service, log *slog.Logger, secure bool, proxies ...string) *Server {
	srv := &Server{service: s, log: log, metrics: newMetrics(), secure: secure, proxies: prefixes(proxies),
		streams: peer.NewPlaces[access.SubjectID](mostStreams, mostOfAccount), stopping: make(chan struct{})}
	srv.app = fiber.New(fiber.Config{
		AppName:        "gneiss",
		Immutable:      true, // values outlive their request in caches and records
		UnescapePath:   true, // references and names stand in paths
		BodyLimit:      bodyLimit,
		ReadBufferSize: headLimit,
		ReadTimeout:    30 * time.Second,
		WriteTimeout:   writeTimeout, // of an answer that is there; see [grace]
		IdleTimeout:    2 * time.Minute,
		ErrorHandler:   srv.failed,
	})
	srv.app.Server().HeaderReceived = srv.allowed
	srv.app.Use(srv.observe, headers, srv.kept, recover.New(recover.Config{EnableStackTrace: true, StackTraceHandler: srv.panicked}))
	srv.app.Get("/healthz", func(c fiber.Ctx) error { return c.SendString("ok\n") })
	srv.app.Get("/readyz", func(c fiber.Ctx) error {
		if err := s.Ready(c.Context()); err != nil {
			log.Error("the service is not ready", "error", err)
			return c.Status(503).SendString("not ready: the records cannot be written; the log has the reason\n")
		}
		return c.SendString("ready\n")
	})
	metrics := adaptor.HTTPHandler(srv.Metrics())
	srv.app.Get("/metrics", func(c fiber.Ctx) error {
		caller, err := srv.caller(c)
		if err == nil {
			err = s.Identity.MayMeasure(caller)
		}
		if err != nil {
			return err
		}
		return metrics(c)
	})
	srv.register()
	document := srv.document()
	srv.app.Get(prefix+"/openapi.json", func(c fiber.Ctx) error {
		c.Set(fiber.HeaderContentType, fiber.MIMEApplicationJSON)
		return c.Send(document)
	})
	srv.app.Get(prefix+"/events", srv.events)
	srv.app.Use(prefix, func(c fiber.Ctx) error {
		return fault.New(fault.NotFound, "no_such_endpoint", "%s %s is not part of the API; see %s/openapi.json", c.Method(), c.Path(), prefix)
	})
	srv.app.Use(compress.New(), console(web.Files()))
	return srv
}

// allowed is how large the body of a request may be, decided before it is read: files may be
// large, from a program with the token of an administrator of the platform.
func (s *Server) allowed(head *fasthttp.RequestHeader) fasthttp.RequestConfig {
	usual := fasthttp.RequestConfig{}
	if head.ContentLength() == 0 || head.IsGet() {
		return usual
	}
	path, _, _ := strings.Cut(string(head.RequestURI()), "?")
	token, bearer := strings.CutPrefix(string(head.Peek(fiber.HeaderAuthorization)), "Bearer ")
	if !bearer {
		token = string(head.Cookie(cookie))
	}
	caller, err := s.service.Identity.Authenticate(context.Background(), token, "")
	if token == "" || err != nil {
		return fasthttp.RequestConfig{MaxRequestBodySize: strangerLimit}
	}
	if !bearer || !head.IsPost() || path != prefix+"/files" && path != prefix+"/files/comparison" ||
		!s.service.Identity.Manages(s.service.Platform.Current(), caller, access.PlatformID) {
		return usual
	}
	return fasthttp.RequestConfig{MaxRequestBodySize: filesLimit, ReadTimeout: 5 * time.Minute}
}

// Metrics is what /metrics shows (OpenMetrics), for a listener of its own that asks
// for no token.
func (s *Server) Metrics() http.Handler {
	return promhttp.HandlerFor(s.metrics.registry, promhttp.HandlerOpts{EnableOpenMetrics: true})
}

// Serve answers requests on a listener until Shutdown.
func (s *Server) Serve(l net.Listener) error {
	return s.app.Listener(l, fiber.ListenConfig{DisableStartupMessage: true})
}

// Shutdown lets running requests finish, until the context is done.
func (s *Server) Shutdown(ctx context.Context) error {
	s.stop.Do(func() { close(s.stopping) })
	return s.app.ShutdownWithContext(ctx)
}

// headers are those that have a browser take nothing from elsewhere, and show the console
// in no other page.
var headers = helmet.New(helmet.Config{
	XFrameOptions:  "DENY",
	ReferrerPolicy: "same-origin",
	ContentSecurityPolicy: "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; " +
		"frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
})

// kept says what is kept: that the service is reached by TLS, where it is, and of the
// API's answers nothing.
func (s *Server) kept(c fiber.Ctx) error {
	if s.secure {
		c.Set(fiber.HeaderStrictTransportSecurity, "max-age=31536000")
	}
	if strings.HasPrefix(strings.ToLower(c.Path()), prefix) {
		c.Set(fiber.HeaderCacheControl, "no-store")
	}
	return c.Next()
}

// panicked notes what broke: the caller is told that the service failed, and the
// service goes on.
func (s *Server) panicked(c fiber.Ctx, what any) {
	s.metrics.panics.Inc()
	s.log.Error("a request broke", "method", c.Method(), "path", c.Path(), "panic", what, "stack", string(debug.Stack()))
	s.service.Audit.Broken(c.Method()+" "+c.Path(), s.address(c), what)
}

// failed writes an error as a problem.
func (s *Server) failed(c fiber.Ctx, err error) error {
	p := problem(err)
	if p.Status >= 500 {
		s.log.Error("a request failed", "method", c.Method(), "path", c.Path(), "error", err)
	}
	c.Status(p.Status)
	if p.Status == 401 {
		c.Set(fiber.HeaderWWWAuthenticate, `Bearer realm="gneiss"`)
	}
	if e := (*fault.Error)(nil); errors.As(err, &e) && e.Wait > 0 {
		c.Set(fiber.HeaderRetryAfter, strconv.Itoa(int(math.Ceil(e.Wait.Seconds()))))
	}
	return c.JSON(p, "application/problem+json")
}

// console serves the built console; a path that is no file is a page of it.
func console(files fs.FS) fiber.Handler {
	return func(c fiber.Ctx) error {
		name := strings.TrimPrefix(path.Clean(c.Path()), "/")
		content, err := fs.ReadFile(files, name)
		if err != nil {
			if path.Ext(name) != "" && !strings.Contains(name, ":") && strings.HasPrefix(name, "assets/") {
				return fiber.ErrNotFound
			}
			name = "index.html"
			if content, err = fs.ReadFile(files, name); err != nil {
				return c.Status(503).SendString("The console is not part of this build; make build puts it in.\n")
			}
		}
		if strings.HasPrefix(name, "assets/") {
			c.Set("Cache-Control", "public, max-age=31536000, immutable")
		} else {
			c.Set("Cache-Control", "no-cache")
		}
		c.Type(strings.TrimPrefix(path.Ext(name), "."))
		return c.Send(content)
	}
}

// metrics are what /metrics shows.
type metrics struct {
	registry *prometheus.Registry
	requests *prometheus.HistogramVec
	panics   prometheus.Counter
}

func newMetrics() *metrics {
	m := &metrics{registry: prometheus.NewRegistry(), requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name: "gneiss_request_duration_seconds", Help: "Time to answer, by route and status.", Buckets: prometheus.ExponentialBuckets(0.001, 2, 14),
	}, []string{"method", "route", "status"}),
		panics: prometheus.NewCounter(
			prometheus.CounterOpts{Name: "gneiss_panics_total", Help: "Requests that broke, which is a fault of the service; the log has the place."},
		)}
	m.registry.MustRegister(m.requests, m.panics, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

func (s *Server) observe(c fiber.Ctx) error {
	started := time.Now()
	if err := c.Next(); err != nil {
		if err := s.failed(c, err); err != nil {
			return err
		}
	}
	status := c.Response().StatusCode()
	route := "console"
	if strings.HasPrefix(strings.ToLower(c.Path()), prefix) {
		route = c.Route().Path
	}
	took := time.Since(started)
	s.metrics.requests.WithLabelValues(c.Method(), route, statusText(status)).Observe(took.Seconds())
	if route != "console" {
		s.log.Debug("request", "method", c.Method(), "path", c.Path(), "status", status, "took", took)
	}
	return nil
}
