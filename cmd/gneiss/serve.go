package main

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"gneiss/api"
	"gneiss/demo"
	"gneiss/peer"
	"gneiss/service"
	"gneiss/sqlport"
)

func serveCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "serve", Short: "Run the service on a data folder", GroupID: "session", Args: cobra.NoArgs,
		Long: `Run the service on a data folder, in the foreground. A new folder gets an
administrator: name it with GNEISS_ADMIN and give its password in
GNEISS_ADMIN_PASSWORD; without, the password is made up and printed once.`,
		Example: "  gneiss serve --data /var/lib/gneiss --listen 127.0.0.1:7464",
	}
	cfg := newConfig(c)
	c.RunE = func(c *cobra.Command, _ []string) error {
		if err := cfg.load(c); err != nil {
			return err
		}
		if show, _ := c.Flags().GetBool("print-config"); show {
			cfg.print(c.OutOrStdout())
			return nil
		}
		return serve(c.Context(), cfg, nil, func(svc *service.Service, at addresses) error {
			if err := firstAdministrator(c.Context(), svc, c.OutOrStdout()); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "Gneiss serves %s at %s\n", cfg.get("data"), at.http)
			if at.sql != "" {
				fmt.Fprintf(c.OutOrStdout(), "The SQL port is at %s\n", at.sql)
			}
			return nil
		})
	}
	return c
}

// firstAdministrator makes the administrator of a new platform.
func firstAdministrator(ctx context.Context, svc *service.Service, out io.Writer) error {
	if !svc.Admin.Empty() {
		return nil
	}
	name, password := os.Getenv("GNEISS_ADMIN"), os.Getenv("GNEISS_ADMIN_PASSWORD")
	if name == "" {
		name = "admin"
	}
	if password == "" {
		password = rand.Text()
		fmt.Fprintf(out, "The platform is new. Sign in as %s with the password %s, and change it.\n", name, password)
	}
	_, err := svc.Admin.Bootstrap(ctx, name, password)
	return err
}

func demoCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "demo", Short: "Make the demo platform where it is missing, and serve it", GroupID: "session", Args: cobra.NoArgs,
		Long: `Make the demo platform, a geological survey that is all made up, where it is
missing, and serve it in the foreground. It listens on loopback; another address
needs a password of your own in GNEISS_DEMO_PASSWORD. With --postgresql the survey's
tables are loaded into an empty PostgreSQL database as well, which is connected as the
source survey_pg, under the same policies.`,
		Example: "  gneiss demo --data demo-data --listen 127.0.0.1:7464",
	}
	cfg := newConfig(c)
	cfg.usual(c, "sql-listen", "127.0.0.1:7465")
	server := c.Flags().String("postgresql", "", "an empty database for the same tables: postgresql://ACCOUNT@HOST:PORT/DATABASE")
	c.RunE = func(c *cobra.Command, _ []string) error {
		if err := cfg.load(c); err != nil {
			return err
		}
		password := os.Getenv("GNEISS_DEMO_PASSWORD")
		if password == "" {
			if err := loopback("listen", cfg.get("listen")); err != nil {
				return err
			}
			if err := loopback("sql-listen", cfg.get("sql-listen")); err != nil && cfg.get("sql-listen") != "" {
				return err
			}
			password = demo.Password
		}
		made := func() error {
			if err := demo.Make(c.Context(), cfg.get("data"), password, c.ErrOrStderr()); err != nil || *server == "" {
				return err
			}
			return demo.AddPostgres(c.Context(), cfg.get("data"), *server, c.ErrOrStderr())
		}
		return serve(c.Context(), cfg, made, func(_ *service.Service, at addresses) error {
			welcome(c.OutOrStdout(), at, password)
			return nil
		})
	}
	return c
}

// loopback refuses addresses that others can reach, for the demo's password is
// known to everyone.
func loopback(setting, address string) error {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return fmt.Errorf("--%s takes HOST:PORT: %w", setting, err)
	}
	if ip := net.ParseIP(host); host == "localhost" || ip != nil && ip.IsLoopback() {
		return nil
	}
	return fmt.Errorf(
		"the demo listens on loopback only, for its password is known; to listen on %s, set one of your own in GNEISS_DEMO_PASSWORD",
		host,
	)
}

func welcome(w io.Writer, at addresses, password string) {
	address := at.http
	shown := "the password you set"
	if password == demo.Password {
		shown = password
	}
	fmt.Fprintf(w, "\nThe Northmark Geological Survey (all made up) is served at %s\n\nAccounts, each with the password %s:\n", address, shown)
	for _, a := range demo.Accounts {
		fmt.Fprintf(w, "  %-16s %s\n", a.Ref, a.Title)
	}
	self := os.Args[0]
	fmt.Fprintf(w, `
Try, in another terminal:
  echo %s | %s sign-in --server %s --user opal --password-stdin
  %s preview survey.licensing.holders --as user:flint --beside user:garnet --server %s
  %s why user:marl select survey.assay.results --server %s
`, shown, self, address, self, address, self, address)
	if at.sql != "" {
		fmt.Fprintf(w, `
People's own tools connect as themselves, to %s, database survey. With psql:
`, at.sql)
		for _, line := range []string{
			`"select district, count(*) from drilling.boreholes group by 1"`,
			`"\d drilling.boreholes"`,
		} {
			secret := ":" + url.QueryEscape(shown)
			if shown != password {
				secret = ""
			}
			fmt.Fprintf(w, "  psql \"postgresql://flint%s@%s/survey\" -c %s\n", secret, at.sql, line)
		}
		fmt.Fprintf(w, "Other programs take a URL of the same form; with JDBC jdbc:postgresql://%s/survey. See docs/clients.md\n", at.sql)
	}
	fmt.Fprint(w, "\nCtrl-C stops it; the data stay.\n")
}

// addresses are where a service can be reached.
type addresses struct{ http, sql string } // sql is HOST:PORT, or empty

// drain is how long running requests may take to finish at a stop.
const drain = 10 * time.Second

// serve runs a service until the context ends. What made makes, if it is set, is made once the addresses are
// known to be free.
func serve(ctx context.Context, cfg *config, made func() error, started func(*service.Service, addresses) error) error {
	var level slog.Level
	if err := level.UnmarshalText([]byte(cfg.get("log-level"))); err != nil {
		return fmt.Errorf("log-level is debug, info, warn or error, not %q", cfg.get("log-level"))
	}
	log := slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: level}))
	checkEvery, err := time.ParseDuration(cfg.get("check-every"))
	if err != nil || checkEvery < 0 {
		return fmt.Errorf("check-every is a time, such as 15m, or 0, not %q", cfg.get("check-every"))
	}
	keepRecord, err := strconv.Atoi(cfg.get("keep-record"))
	if err != nil || keepRecord < 0 || keepRecord > 0 && keepRecord < 30 {
		return fmt.Errorf("keep-record is a number of days, 30 at the least, or 0, not %q", cfg.get("keep-record"))
	}
	acceptLoss := cfg.get("accept-loss")
	if acceptLoss != "true" && acceptLoss != "false" {
		return fmt.Errorf("accept-loss is true or false, not %q", acceptLoss)
	}
	secure, err := certificate(cfg)
	if err != nil {
		return err
	}
	listener, scheme, err := listen(cfg, secure)
	if err != nil {
		return err
	}
	port, limits, err := listenSQL(cfg)
	if err != nil {
		listener.Close()
		return err
	}
	if made != nil {
		if err := made(); err != nil {
			listener.Close()
			if port != nil {
				port.Close()
			}
			return err
		}
	}
	// A start makes much that is soon thrown away. Collected sooner than later, it does not take
	// twice the memory that the platform needs.
	usual := debug.SetGCPercent(40)
	svc, err := service.Open(ctx, cfg.get("data"), log, service.Options{Roots: filepath.SplitList(cfg.get("source-roots")),
		AcceptLoss: acceptLoss == "true", CheckEvery: checkEvery, KeepRecord: keepRecord})
	debug.FreeOSMemory()
	debug.SetGCPercent(usual)
	// By default Go collects garbage each time the heap has doubled. With a small platform and many statements that is
	// many times a second. This slice makes the heap look larger; it is never written to, so it occupies no memory.
	ballast := make([]byte, 32<<20)
	defer runtime.KeepAlive(ballast)
	if err != nil {
		listener.Close()
		if port != nil {
			port.Close()
		}
		return err
	}
	server := api.New(svc, log, scheme == "https", listed(cfg.get("trusted-proxies"))...)
	if address := cfg.get("metrics-listen"); address != "" {
		l, err := net.Listen("tcp", address)
		if err != nil {
			return errors.Join(fmt.Errorf("metrics-listen: %w", err), listener.Close(), svc.Close(ctx))
		}
		defer l.Close()
		mux := http.NewServeMux()
		mux.Handle("/metrics", server.Metrics())
		go (&http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}).Serve(l) // until the listener is closed
	}
	served := make(chan error, 2)
	go func() { served <- server.Serve(listener) }()
	at := addresses{http: scheme + "://" + listener.Addr().String()}
	stopSQL := func(context.Context) error { return nil }
	if port != nil {
		tools := sqlport.New(svc, log, secure, limits)
		go func() { served <- tools.Serve(port) }()
		at.sql, stopSQL = port.Addr().String(), tools.Shutdown
	}
	if err := started(svc, at); err != nil {
		return err
	}
	select {
	case err = <-served:
	case <-ctx.Done():
	}
	stop, cancel := context.WithTimeout(context.Background(), drain)
	defer cancel()
	return errors.Join(err, stopSQL(stop), server.Shutdown(stop), svc.Close(stop))
}

// listed parts a setting at its commas.
func listed(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })
}

// listenSQL opens the address of the SQL port, if there is one.
func listenSQL(cfg *config) (l net.Listener, limits sqlport.Limits, err error) {
	if limits.Connections, err = strconv.Atoi(cfg.get("sql-connections")); err != nil || limits.Connections < 1 {
		return nil, limits, fmt.Errorf("sql-connections is a whole number above zero, not %q", cfg.get("sql-connections"))
	}
	if limits.Idle, err = time.ParseDuration(cfg.get("sql-idle")); err != nil || limits.Idle <= 0 {
		return nil, limits, fmt.Errorf("sql-idle is a time, such as 24h or 30m, not %q", cfg.get("sql-idle"))
	}
	if cfg.get("sql-listen") == "" {
		return nil, limits, nil
	}
	l, err = net.Listen("tcp", cfg.get("sql-listen"))
	if errors.Is(err, syscall.EADDRINUSE) {
		err = fmt.Errorf("the address %s is in use; stop what listens there, or choose another with --sql-listen", cfg.get("sql-listen"))
	}
	return l, limits, err
}

func listen(cfg *config, secure *tls.Config) (net.Listener, string, error) {
	l, err := net.Listen("tcp", cfg.get("listen"))
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, "", fmt.Errorf("the address %s is in use; stop what listens there, or choose another with --listen", cfg.get("listen"))
	}
	if err != nil {
		return nil, "", err
	}
	// Many people can be behind one address, and behind a proxy all are.
	most, perAddress := 4_000, 1_000
	if cfg.get("trusted-proxies") != "" {
		perAddress = most
	}
	l = peer.NewDoors(most, perAddress).Listener(l)
	if secure == nil {
		return l, "http", nil
	}
	return tls.NewListener(l, secure), "https", nil
}

// certificate reads the certificate that both ports show; nil: there is none.
func certificate(cfg *config) (*tls.Config, error) {
	cert, key := cfg.get("tls-cert"), cfg.get("tls-key")
	if cert == "" && key == "" {
		return nil, nil
	}
	if err := errors.Join(readable(cert), readable(key)); err != nil {
		return nil, err
	}
	pair, err := tls.LoadX509KeyPair(cert, key)
	if err != nil {
		return nil, err
	}
	return &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}, nil
}
