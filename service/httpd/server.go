// Package httpd serves the HTTP API and the console: requests come in,
// the service and the core answer, and every refusal says what to do (RFC 9457).
package httpd

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humago"
	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"yarnpost/console"
	"yarnpost/service/clock"
	"yarnpost/service/permit"
	"yarnpost/service/store"
)

// Version is the version of the service and its API.
const Version = "0.1.0"

// cookieName is the session's cookie.
const cookieName = "yarnpost_session"

// Server is the HTTP side of a service.
type Server struct {
	Parts
	lenient     map[string]permit.Need // operations that need less than others
	operations  []route                // that may do something
	log         *slog.Logger
	echo        *echo.Echo
	mux         *http.ServeMux // of the API, behind the guard
	server      *http.Server
	addr        net.Addr
	secure      bool
	files       [2]string // certificate and key
	certificate atomic.Pointer[tls.Certificate]
}

// Time limits of a connection: for a request's head and body, for a reply that
// is no stream, and between requests.
const (
	headTime = 10 * time.Second
	bodyTime = 30 * time.Second
	sendTime = 2 * time.Minute
	idleTime = 2 * time.Minute
)

// Listen opens the HTTP side. Without a certificate only loopback addresses
// are allowed.
func Listen(addr, cert, key string, parts Parts, log *slog.Logger) (*Server, error) {
	if (cert == "") != (key == "") {
		return nil, fmt.Errorf("listen for HTTPS on %s: --tls-cert and --tls-key belong together; give both or none", addr)
	}
	s := &Server{Parts: parts, log: log, secure: cert != "", files: [2]string{cert, key}}
	if s.Prepared != nil {
		s.Prepared.MadeAround(&around{Server: s, ctx: context.Background(), named: true})
	}
	l, err := net.Listen("tcp", addr)
	if err != nil {
		return nil, fmt.Errorf("listen for HTTP on %s: %w", addr, err)
	}
	if t, ok := l.Addr().(*net.TCPAddr); !s.secure && ok && !t.IP.IsLoopback() {
		l.Close()
		return nil, fmt.Errorf("listen for HTTP on %s: passwords would cross the network in the clear; give --tls-cert and --tls-key, or listen on 127.0.0.1", addr)
	}
	if s.secure {
		if err := s.Reload(); err != nil {
			l.Close()
			return nil, fmt.Errorf("listen for HTTPS on %s: %w", addr, err)
		}
		l = tls.NewListener(l, &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"},
			GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return s.certificate.Load(), nil }})
	}
	s.addr = l.Addr()
	s.build()
	s.server = &http.Server{Handler: s.echo, ReadHeaderTimeout: headTime, IdleTimeout: idleTime, MaxHeaderBytes: 64 << 10,
		ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug)}
	go func() {
		if err := s.server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			log.Error("the HTTP side ended", "err", err)
		}
	}()
	return s, nil
}

// Reload reads the certificate and its key again; what is in force stays if they
// cannot be read.
func (s *Server) Reload() error {
	if !s.secure {
		return nil
	}
	certificate, err := tls.LoadX509KeyPair(s.files[0], s.files[1])
	if err != nil {
		return fmt.Errorf("read the certificate: %w", err)
	}
	s.certificate.Store(&certificate)
	return nil
}

// URL is where the console is.
func (s *Server) URL() string {
	if s.secure {
		return "https://" + s.addr.String()
	}
	return "http://" + s.addr.String()
}

// Stop ends the HTTP side; open streams are cut after a moment.
func (s *Server) Stop() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if s.server.Shutdown(ctx) != nil {
		s.server.Close()
	}
}

func (s *Server) build() {
	e := echo.New()
	e.Logger = s.log
	s.echo = e
	e.Use(middleware.Recover())
	hsts := 0
	if s.secure {
		hsts = 365 * 24 * 3600
	}
	e.Use(middleware.SecureWithConfig(middleware.SecureConfig{
		HSTSMaxAge:         hsts,
		ContentTypeNosniff: "nosniff", XFrameOptions: "DENY", ReferrerPolicy: "same-origin",
		ContentSecurityPolicy: "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'",
	}))
	e.Use(middleware.Gzip())
	mux := http.NewServeMux()
	s.mux = mux
	s.Pair.KeepAccess(s.Access, s.carryOut)
	s.Facts.CertificateEnds(s.certificateEnds)
	s.Scheduled.MakeWith(s.scheduledReport)
	doc := NewAPI(mux, s).OpenAPI()
	s.lenient, s.operations = lenient(doc), routes(doc)
	mux.HandleFunc("/api/", func(w http.ResponseWriter, r *http.Request) {
		problem(w, http.StatusNotFound, "there is no "+r.Method+" "+r.URL.Path+"; /api/openapi.json lists what there is")
	})
	e.Any("/api/*", echo.WrapHandler(s.addressed(limited(s.guard(mux)))))
	metrics := promhttp.HandlerFor(s.Registry, promhttp.HandlerOpts{EnableOpenMetrics: true, DisableCompression: true})
	e.GET("/metrics", echo.WrapHandler(s.local(metrics)))
	e.GET("/healthz", echo.WrapHandler(s.local(http.HandlerFunc(s.healthz))))
	e.GET("/*", echo.WrapHandler(consoleFiles()))
}

// openAPIConfig is the API's title page.
func openAPIConfig() huma.Config {
	huma.DefaultArrayNullable = false
	c := huma.DefaultConfig("Yarn Post", Version)
	c.Info.Description = "Scopes, reservations, options, leases and unserved clients of a Yarn Post server."
	c.CreateHooks = nil
	c.Formats = map[string]huma.Format{"application/json": jsonFormat, "json": jsonFormat}
	plainErrors()
	c.OpenAPIPath, c.DocsPath, c.SchemasPath = "/api/openapi", "", ""
	c.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":   {Type: "http", Scheme: "bearer", Description: "An API token, such as the one in admin.token"},
		"session": {Type: "apiKey", In: "cookie", Name: cookieName},
	}
	c.Security = []map[string][]string{{"token": {}}, {"session": {}}}
	return c
}

// NewAPI registers every operation on the mux. The server may be nil to get
// the OpenAPI document alone.
func NewAPI(mux *http.ServeMux, s *Server) huma.API {
	c := openAPIConfig()
	if s != nil {
		c.Transformers = append(c.Transformers, s.narrowed)
	}
	a := humago.New(mux, c)
	a.UseMiddleware(s.permitted(a))
	s.registerSession(a)
	s.registerTokens(a)
	s.registerAccounts(a)
	s.registerPlan(a)
	s.registerPlanFile(a)
	s.registerPrepared(a)
	s.registerBackup(a)
	s.registerFields(a)
	s.registerLeases(a)
	s.registerActing(a)
	s.registerMoving(a)
	s.registerStatus(a)
	s.registerUnderstand(a)
	s.registerRules(a)
	s.registerServers(a)
	s.registerPair(a)
	s.registerCapacity(a)
	s.registerAudit(a)
	s.registerRehearsals(a)
	s.registerAlerts(a)
	s.registerTrail(a)
	return a
}

type accountKey struct{}
type sourceKey struct{}
type holdsKey struct{}

// source is the address that a request comes from, without its port.
func source(ctx context.Context) string {
	s, _ := ctx.Value(sourceKey{}).(string)
	return s
}

// holds reports whether the session or token of a request still does.
func holds(ctx context.Context) bool {
	f, _ := ctx.Value(holdsKey{}).(func() bool)
	return f == nil || f()
}

// who is the account a request acts for.
func who(ctx context.Context) store.Account {
	a, _ := ctx.Value(accountKey{}).(store.Account)
	return a
}

// guard lets nobody pass without a session or a token, but to what needs neither.
func (s *Server) guard(next http.Handler) http.Handler {
	foreign := http.NewCrossOriginProtection()
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if err := cleanURL(r); err != nil {
			problem(w, http.StatusUnprocessableEntity, err.Error())
			return
		}
		from, _, _ := net.SplitHostPort(r.RemoteAddr)
		r = r.WithContext(context.WithValue(r.Context(), sourceKey{}, from))
		needs := s.lenient[r.Method+" "+r.URL.Path]
		if needs == permit.Nothing {
			if err := foreign.Check(r); err != nil {
				problem(w, http.StatusForbidden, "the request comes from another site")
				return
			}
			next.ServeHTTP(w, r)
			return
		}
		secret, bearer := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		if !bearer {
			c, err := r.Cookie(cookieName)
			if err != nil {
				problem(w, http.StatusUnauthorized, "sign in at the console, or send an API token as Authorization: Bearer …")
				return
			}
			if err := foreign.Check(r); err != nil {
				problem(w, http.StatusForbidden, "the request comes from another site")
				return
			}
			secret = c.Value
		}
		account, ok := s.Access.Who(secret)
		if !ok {
			problem(w, http.StatusUnauthorized, "the session has ended or the token is not valid; sign in again, or use another token")
			return
		}
		if account.MustChange && needs != permit.Self {
			problem(w, http.StatusForbidden, "the one-time password has to be replaced first, at the console or with POST /api/password")
			return
		}
		w.Header().Set("Yarnpost-Revision", strconv.FormatInt(s.Engine.Plan().Revision, 10))
		ctx := context.WithValue(r.Context(), accountKey{}, account)
		ctx = context.WithValue(ctx, holdsKey{}, func() bool { _, ok := s.Access.Who(secret); return ok })
		s.withDeed(w, r.WithContext(ctx), account.Name, func(w http.ResponseWriter, r *http.Request) {
			if !s.forward(w, r, account.Name) {
				next.ServeHTTP(w, r)
			}
		})
	})
}

// local opens a path to this machine, and to others with a token.
func (s *Server) local(next http.Handler) http.Handler {
	guarded := s.guard(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host, _, _ := net.SplitHostPort(r.RemoteAddr)
		if ip := net.ParseIP(host); ip != nil && ip.IsLoopback() && s.own(r.Host) {
			next.ServeHTTP(w, r)
			return
		}
		guarded.ServeHTTP(w, r)
	})
}

// own reports whether a request's Host is this machine by address or as
// localhost. A page of another site that has its name resolved to loopback has
// that name there.
func (s *Server) own(host string) bool {
	name, _, err := net.SplitHostPort(host)
	if err != nil {
		name = strings.Trim(host, "[]")
	}
	at, _, _ := net.SplitHostPort(s.addr.String())
	ip := net.ParseIP(name)
	return name == "localhost" || name == at || ip != nil && ip.IsLoopback()
}

// limited gives the body of a request and a reply that is no stream a time
// limit each.
func limited(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c := http.NewResponseController(w)
		if r.ContentLength != 0 {
			c.SetReadDeadline(clock.Deadline(bodyTime))
			r = r.WithContext(r.Context()) // the server looks at the body of its own, to see whether all was read
			r.Body = &untilRead{r.Body, c}
		}
		if r.URL.Path != "/api/events" {
			c.SetWriteDeadline(clock.Deadline(sendTime))
		}
		next.ServeHTTP(w, r)
	})
}

// untilRead is a body whose time limit ends once it is read.
type untilRead struct {
	io.ReadCloser
	c *http.ResponseController
}

func (b *untilRead) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if errors.Is(err, io.EOF) {
		b.c.SetReadDeadline(time.Time{})
	}
	return n, err
}

func (s *Server) healthz(w http.ResponseWriter, _ *http.Request) {
	if err := s.Service.Health(); err != nil {
		problem(w, http.StatusServiceUnavailable, err.Error())
		return
	}
	fmt.Fprintln(w, "serving")
}

// problem answers with an RFC 9457 document.
func problem(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	// Who asked may be gone.
	_ = json.NewEncoder(w).Encode(map[string]any{"title": http.StatusText(status), "status": status, "detail": detail})
}

// consoleFiles serves the built console; paths that are not files are pages.
func consoleFiles() http.Handler {
	files, err := fs.Sub(console.Dist, "dist")
	if err != nil {
		panic(err) // the folder is embedded at build time
	}
	server := http.FileServerFS(files)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(r.URL.Path, "/")
		if _, err := fs.Stat(files, name); err != nil || name == "" {
			if strings.HasPrefix(name, "assets/") {
				http.NotFound(w, r)
				return
			}
			if _, err := fs.Stat(files, "index.html"); errors.Is(err, fs.ErrNotExist) {
				http.Error(w, "This binary was built without the console; run make build.", http.StatusNotFound)
				return
			}
			r.URL.Path = "/"
			w.Header().Set("Cache-Control", "no-cache")
		} else {
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		server.ServeHTTP(w, r)
	})
}
