// Package httpapi is the HTTP API: it reads requests, knows who makes them,
// calls one use case each, and writes answers. Its OpenAPI description is
// generated from the handlers.
package httpapi

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"victualler/internal/api"
	"victualler/internal/hosting/language"
	"victualler/internal/hosting/nearest"
	"victualler/internal/hosting/plans"
	"victualler/internal/hosting/refusal"
	"victualler/internal/hosting/rights"
	"victualler/internal/service"
	"victualler/internal/service/usecase"
	"victualler/internal/version"
)

// Base is the path before all routes of this version of the API.
const Base = "/api/v1"

const (
	maxBody    = 1 << 20
	cookieName = "victualler_session"
	// unattendedHeader marks requests that nobody has made just now:
	// they do not keep a session alive.
	unattendedHeader = "Victualler-Unattended"
)

// API answers HTTP requests. Make one with [New].
type API struct {
	service *service.Service
	log     *slog.Logger
	secure  bool
	huma    huma.API
	router  chi.Router
	timings *prometheus.HistogramVec
	// watchers are those who watch operations.
	watchers watchers
}

// Options are what an API works with.
type Options struct {
	Service *service.Service
	Log     *slog.Logger
	// Console is the built console, served beside the API; nil for none.
	Console fs.FS
	// Secure says that people reach the service over HTTPS, so that cookies may
	// not go over anything else.
	Secure bool
	// Proxies are the networks of reverse proxies in front: of their
	// requests, X-Forwarded-For says where they come from.
	Proxies []netip.Prefix
}

// New makes the handler of the whole service.
func New(o Options) *API {
	if o.Service == nil {
		o.Service = &service.Service{} // only to be described
	}
	a := &API{service: o.Service, log: o.Log, secure: o.Secure, router: chi.NewRouter()}
	metrics := prometheus.NewRegistry()
	a.timings = prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "victualler_request_seconds",
		Help:    "Time to answer, by route and status.",
		Buckets: []float64{.001, .003, .01, .03, .1, .3, 1, 3, 10}}, []string{"route", "method", "status"})
	metrics.MustRegister(a.timings, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))

	a.router.Use(behind(o.Proxies), endAfterChunks, a.observe, secureHeaders, a.sameOrigin, checkText, digestBody)
	a.router.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "alive\n") })
	a.router.Get("/readyz", func(w http.ResponseWriter, r *http.Request) {
		if err := a.service.Ready(r.Context()); err != nil {
			http.Error(w, "the database does not answer", http.StatusServiceUnavailable)
			return
		}
		io.WriteString(w, "ready\n")
	})
	a.router.Get("/metrics", func(w http.ResponseWriter, r *http.Request) {
		// Figures are for the machine's own collector, not for everybody.
		if ip := net.ParseIP(clientAddress(r)); ip == nil || !ip.IsLoopback() {
			http.NotFound(w, r)
			return
		}
		promhttp.HandlerFor(metrics, promhttp.HandlerOpts{}).ServeHTTP(w, r)
	})
	const leaving = "/leave/{list}/{code}"
	a.router.Post(leaving, a.leave)
	if o.Console != nil {
		a.router.Get(leaving, func(w http.ResponseWriter, r *http.Request) { serveConsole(w, r, o.Console) })
	}
	a.router.NotFound(func(w http.ResponseWriter, r *http.Request) {
		if o.Console != nil && (r.Method == http.MethodGet || r.Method == http.MethodHead) &&
			!strings.HasPrefix(r.URL.Path, "/api/") {
			serveConsole(w, r, o.Console)
			return
		}
		writeProblem(w, r, problem(refusal.NotFound, "there is no such address; see %s/openapi.json", Base))
	})
	a.router.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		writeProblem(w, r, problem(noMethod, "this address does not know that method; see %s/openapi.json", Base))
	})
	a.huma = humachi.New(a.router, config())
	a.huma.UseMiddleware(a.identify)
	a.addRoutes()
	return a
}

// addRoutes adds the tables of routes, one for each noun. Their order is that of the description.
func (a *API) addRoutes() {
	a.accountRoutes()
	a.certificateRoutes()
	a.customerRoutes()
	a.eventRoutes()
	a.kitRoutes()
	a.loginRoutes()
	a.databaseRoutes()
	a.databaseContentRoutes()
	a.mailRoutes()
	a.listRoutes()
	a.holderRoutes()
	a.messageRoutes()
	a.sendingRoutes()
	a.operationRoutes()
	a.overviewRoutes()
	a.peopleRoutes()
	a.personalRoutes()
	a.planRoutes()
	a.problemRoutes()
	a.exceptionRoutes()
	a.resellerRoutes()
	a.serverRoutes()
	a.sessionRoutes()
	a.settingsRoutes()
	a.siteRoutes()
	a.templateRoutes()
	a.zoneRoutes()
}

// ServeHTTP implements http.Handler.
func (a *API) ServeHTTP(w http.ResponseWriter, r *http.Request) { a.router.ServeHTTP(w, r) }

// OpenAPI returns the description of the API as JSON.
func (a *API) OpenAPI() ([]byte, error) { return json.MarshalIndent(a.huma.OpenAPI(), "", "  ") }

func init() { huma.DefaultArrayNullable = false } // an empty list is [], not null

func config() huma.Config {
	registry := huma.NewMapRegistry("#/components/schemas/", huma.DefaultSchemaNamer)
	registry.RegisterTypeAlias(reflect.TypeFor[plans.Limits](), reflect.TypeFor[limitsSchema]())
	registry.RegisterTypeAlias(reflect.TypeFor[plans.Features](), reflect.TypeFor[featuresSchema]())
	registry.RegisterTypeAlias(reflect.TypeFor[api.GivenAmount](), reflect.TypeFor[amountSchema]())
	c := huma.DefaultConfig("Victualler", version.Version)
	c.Info.Description = "Everything that the console and the command-line client do. Sizes are integers in bytes; " +
		"null is unlimited; times are RFC 3339 in UTC. " +
		"A POST may carry an Idempotency-Key: repeated, it has no second effect and gets the same answer. Work on " +
		"servers answers 202 with the number of an operation. " +
		"Whatever changes something takes preview=true and then tells what would be done. Requests with the header " +
		unattendedHeader + " do not keep a session alive."
	c.OpenAPIPath = Base + "/openapi"
	c.DocsPath, c.SchemasPath = "", ""
	c.CreateHooks = nil
	c.Components = &huma.Components{Schemas: registry, SecuritySchemes: map[string]*huma.SecurityScheme{
		"session": {Type: "http", Scheme: "bearer", Description: "The token of POST " + Base +
			"/session, or one of POST " + Base + "/tokens."},
		"cookie": {Type: "apiKey", In: "cookie", Name: cookieName, Description: "The console's session."},
		"mailbox": {Type: "apiKey", In: "cookie", Name: holderCookie,
			Description: "The session of a mailbox's holder."},
	}}
	return c
}

// amountSchema describes an amount of some limit.
type amountSchema struct{}

// Schema implements huma.SchemaProvider.
func (amountSchema) Schema(huma.Registry) *huma.Schema {
	zero := 0.0
	s := &huma.Schema{Type: huma.TypeInteger, Format: "int64", Nullable: true, Minimum: &zero}
	s.PrecomputeMessages()
	return s
}

// limitsSchema and featuresSchema describe maps with known keys.
type limitsSchema struct{}

// Schema implements huma.SchemaProvider.
func (limitsSchema) Schema(huma.Registry) *huma.Schema {
	s := &huma.Schema{Type: huma.TypeObject, Properties: map[string]*huma.Schema{}, AdditionalProperties: false}
	zero := 0.0
	for _, info := range plans.AllLimits {
		p := &huma.Schema{Type: huma.TypeInteger, Format: "int64", Nullable: true, Minimum: &zero,
			Description: strings.ToUpper(info.Title[:1]) + info.Title[1:] + ", in " + string(info.Unit) +
				"; null is unlimited."}
		if info.Most > 0 {
			most := float64(info.Most)
			p.Maximum = &most
		}
		s.Properties[string(info.Key)] = p
	}
	s.PrecomputeMessages()
	return s
}

type featuresSchema struct{}

// Schema implements huma.SchemaProvider.
func (featuresSchema) Schema(huma.Registry) *huma.Schema {
	s := &huma.Schema{Type: huma.TypeObject, Properties: map[string]*huma.Schema{}, AdditionalProperties: false}
	for _, f := range plans.AllFeatures {
		s.Properties[string(f)] = &huma.Schema{Type: huma.TypeBoolean}
	}
	s.PrecomputeMessages()
	return s
}

// route describes one operation of the API. Every route names its permission.
type route struct {
	id, method, path, summary, description, tag string
	permission                                  rights.Permission
	// status is that of success, 200 where it is 0.
	status int
	// largest is how many bytes its body may have, and time how long it may take to come; 0 is what
	// is usual.
	largest int64
	time    time.Duration
	// answer is the document of a route made with [registerChange]; nil for one without.
	answer reflect.Type
	// changes says that the route was made with [registerChange].
	changes bool
	// begins says that its answer may name an operation.
	begins bool
}

// Previewable is part of what a route that changes something takes.
type Previewable struct {
	Preview bool `query:"preview" doc:"True to be told what would be done; nothing is."`
}

func (p Previewable) preview() bool { return p.Preview }

// Versioned is part of what a route takes that changes something with a version.
type Versioned struct {
	IfMatch string `header:"If-Match" doc:"The ETag that was read; the change is refused if somebody was quicker."`
}

// changeOutcome is what a route that changes something answers.
type changeOutcome struct {
	Status   int
	Location string `header:"Location"`
	ETag     string `header:"ETag"`
	Notes    string `header:"Notes"`
	Body     any
}

// mostNotes is how many there are: proxies bound what headers may have in all.
const mostNotes = 20

// noteHeader writes notes as a list of display strings (RFC 9651, sections 3.1 and 3.3.8): UTF-8,
// of which all but visible ASCII is escaped.
func noteHeader(notes []string) string {
	if more := len(notes) - mostNotes; more > 0 {
		notes = append(notes[:mostNotes:mostNotes], fmt.Sprintf("and %d more", more))
	}
	var list []string
	for _, note := range notes {
		var b strings.Builder
		for _, c := range []byte(note) {
			if c < ' ' || c > '~' || c == '%' || c == '"' {
				fmt.Fprintf(&b, "%%%02x", c)
			} else {
				b.WriteByte(c)
			}
		}
		list = append(list, `%"`+b.String()+`"`)
	}
	return strings.Join(list, ", ")
}

// nothing is the answer of a route that has none.
type nothing struct{}

// registerChange adds a route that changes something. Its handler returns the answer; one that is
// [api.Versioned] has its version in the ETag, one that is [api.Begun] leads to its operation.
// Asked for a preview, the use case goes through everything and leaves nothing behind.
func registerChange[I interface{ preview() bool }, T any](a *API, r route,
	handler func(context.Context, usecase.Actor, *I) (T, error)) {
	r.changes = true
	if t := reflect.TypeFor[T](); t != reflect.TypeFor[nothing]() {
		r.answer = t
		_, r.begins = any(*new(T)).(api.Begun)
	}
	register(a, r, func(ctx context.Context, in *I) (*changeOutcome, error) {
		who := actor(ctx)
		if (*in).preview() {
			who.Preview = &usecase.Preview{}
			_, err := handler(ctx, who, in)
			return &changeOutcome{Status: http.StatusOK, Body: who.Preview.Document()}, err
		}
		who.Notes = &usecase.Notes{}
		answer, err := handler(ctx, who, in)
		out := &changeOutcome{Status: r.success(), Notes: noteHeader(who.Notes.List())}
		if r.answer != nil {
			out.Body = answer
		}
		if d, is := any(answer).(api.Versioned); is {
			out.ETag = etag(d.ETagVersion())
		}
		if d, is := any(answer).(api.Begun); is && d.OperationNumber() != 0 {
			out.Status, out.Location = http.StatusAccepted, operationPath(d.OperationNumber())
		}
		return out, err
	})
}

func (r route) success() int {
	if r.status != 0 {
		return r.status
	}
	if r.changes && r.answer == nil {
		return http.StatusNoContent
	}
	return http.StatusOK
}

const permissionKey = "permission"

// operation is the route as huma knows it.
func (r route) operation(registry huma.Registry) huma.Operation {
	if r.permission == "" {
		panic("route " + r.id + " names no permission")
	}
	o := huma.Operation{OperationID: r.id, Method: r.method, Path: Base + r.path, Summary: r.summary,
		Description: r.description,
		Tags:        []string{r.tag}, DefaultStatus: r.status, MaxBodyBytes: cmp.Or(r.largest, maxBody),
		BodyReadTimeout: cmp.Or(r.time, bodyTime),
		Metadata:        map[string]any{permissionKey: r.permission},
		Extensions:      map[string]any{"x-permission": string(r.permission)}}
	if r.permission != rights.Public {
		o.Security = []map[string][]string{{"session": {}}, {"cookie": {}}}
		if r.permission == rights.OwnMailbox {
			o.Security = []map[string][]string{{"mailbox": {}}}
		}
		o.Errors = append(o.Errors, http.StatusUnauthorized, http.StatusForbidden)
	}
	if r.changes {
		o.DefaultStatus = r.success()
		schema := func(t reflect.Type) *huma.Schema { return registry.Schema(t, true, "") }
		content := func(s *huma.Schema) map[string]*huma.MediaType {
			return map[string]*huma.MediaType{"application/json": {Schema: s}}
		}
		preview := schema(reflect.TypeFor[api.Preview]())
		o.Responses = map[string]*huma.Response{"200": {Description: "What would be done", Content: content(preview)}}
		if r.answer != nil {
			answer := schema(r.answer)
			if r.success() == http.StatusOK {
				o.Responses["200"] = &huma.Response{Description: "Done; or what would be done",
					Content: content(&huma.Schema{OneOf: []*huma.Schema{answer, preview}})}
			} else {
				o.Responses[strconv.Itoa(r.success())] = &huma.Response{Description: "Done, or begun",
					Content: content(answer)}
			}
			if r.begins && r.success() != http.StatusAccepted {
				o.Responses["202"] = &huma.Response{Description: "Begun on servers", Content: content(answer)}
			}
		} else {
			o.Responses[strconv.Itoa(r.success())] = &huma.Response{Description: "Done"}
		}
	}
	if r.method == http.MethodPost && r.permission != rights.Public {
		o.Parameters = append(o.Parameters, &huma.Param{Name: "Idempotency-Key", In: "header",
			Description: "Makes repeating the request harmless.",
			Schema:      &huma.Schema{Type: huma.TypeString, MaxLength: ptr(255)}})
	}
	return o
}

func ptr[T any](v T) *T { return &v }

// register adds a route whose handler's errors become problems.
func register[I, O any](a *API, r route, handler func(context.Context, *I) (*O, error)) {
	huma.Register(a.huma, r.operation(a.huma.OpenAPI().Components.Schemas),
		func(ctx context.Context, in *I) (*O, error) {
			out, err := handler(ctx, in)
			return out, a.toProblem(ctx, err)
		})
}

type contextKey int

const (
	requestKey contextKey = iota
	actorKey
)

// request is what is known of a request before anybody looks at its body.
type request struct {
	id             string
	idempotencyKey string
	digest         []byte
	// language is what whoever asks reads: what the person has chosen, else what the request says
	// (RFC 9110, section 12.5.4); empty is English.
	language string
}

func requestOf(ctx context.Context) *request {
	if r, ok := ctx.Value(requestKey).(*request); ok {
		return r
	}
	return &request{}
}

// actor returns who makes the request.
func actor(ctx context.Context) usecase.Actor {
	a, _ := ctx.Value(actorKey).(usecase.Actor)
	return a
}

// behind has requests that come by one of our own proxies bear the address
// of whoever made them: the last one that X-Forwarded-For names and that is
// no such proxy. What stands before it, anybody could have written.
func behind(proxies []netip.Prefix) func(http.Handler) http.Handler {
	ours := func(text string) bool {
		ip, err := netip.ParseAddr(text)
		return err == nil && slices.ContainsFunc(proxies, func(p netip.Prefix) bool { return p.Contains(ip.Unmap()) })
	}
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			hops := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
			for from := clientAddress(r); ours(from) && len(hops) > 0; hops = hops[:len(hops)-1] {
				hop, err := netip.ParseAddr(strings.TrimSpace(hops[len(hops)-1]))
				if err != nil {
					break
				}
				from = hop.Unmap().WithZone("").String()
				r.RemoteAddr = net.JoinHostPort(from, "0")
			}
			next.ServeHTTP(w, r)
		})
	}
}

// observe numbers, times and logs requests.
func (a *API) observe(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		start := time.Now()
		req := &request{id: rand.Text()[:12], language: language.Match(r.Header.Get("Accept-Language"))}
		w.Header().Set("Request-Id", req.id)
		seen := &statusWriter{ResponseWriter: w, status: http.StatusOK}
		r = r.WithContext(context.WithValue(r.Context(), requestKey, req))
		next.ServeHTTP(seen, r)
		pattern := chi.RouteContext(r.Context()).RoutePattern()
		if pattern == "" {
			pattern = "other"
		}
		took := time.Since(start)
		a.timings.WithLabelValues(pattern, methodLabel(r.Method), http.StatusText(seen.status)).Observe(took.Seconds())
		a.log.Info("request", "request", req.id, "method", r.Method, "path", r.URL.Path, "status", seen.status, "ms",
			took.Milliseconds(), "from", clientAddress(r))
	})
}

// methodLabel is a method for the metrics: anybody can invent others,
// and each would be kept for ever.
func methodLabel(method string) string {
	switch method {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete,
		http.MethodOptions:
		return method
	}
	return "other"
}

// statusWriter remembers the status.
type statusWriter struct {
	http.ResponseWriter
	status int
}

// WriteHeader implements http.ResponseWriter.
func (w *statusWriter) WriteHeader(status int) {
	w.status = status
	w.ResponseWriter.WriteHeader(status)
}

// Unwrap lets http.ResponseController reach what is below.
func (w *statusWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// Flush implements http.Flusher.
func (w *statusWriter) Flush() { http.NewResponseController(w.ResponseWriter).Flush() }

func secureHeaders(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' "+
			"data:; font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Cache-Control", "no-store")
		next.ServeHTTP(w, r)
	})
}

// sameOrigin refuses changes that a browser makes for another site: cookies
// would go with them.
func (a *API) sameOrigin(next http.Handler) http.Handler {
	protection := http.NewCrossOriginProtection()
	protection.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		writeProblem(w, r, problem(foreign, "a page of another site may not change anything here"))
	}))
	return protection.Handler(next)
}

// bodyTime is how long the body of a request may take to come; shorter in tests.
var bodyTime = 10 * time.Second

// digestBody remembers what a request with an Idempotency-Key asks for.
func digestBody(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		key := r.Header.Get("Idempotency-Key")
		if key == "" || r.Method != http.MethodPost {
			next.ServeHTTP(w, r)
			return
		}
		if len(key) > 255 {
			writeProblem(w, r, problem(refusal.InvalidInput, "an Idempotency-Key has at most 255 characters"))
			return
		}
		body, err := readBody(w, r)
		if err != nil {
			writeProblem(w, r, problem(malformed, cutBody))
			return
		}
		req := requestOf(r.Context())
		req.idempotencyKey, req.digest = key, usecase.RequestDigest(r.Method, r.URL.RequestURI(), body)
		next.ServeHTTP(allRead{w}, r)
	})
}

// allRead is the answer to a request of which all has been read. A deadline for reading it, as huma
// sets one before it looks at the body, would pass while a use case is at work, and end the context
// of the request and of all later ones on the connection.
type allRead struct{ http.ResponseWriter }

// SetReadDeadline is what http.ResponseController calls.
func (allRead) SetReadDeadline(time.Time) error { return nil }

// Unwrap lets http.ResponseController reach what is below.
func (w allRead) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// identify finds out who makes the request and whether they may.
func (a *API) identify(ctx huma.Context, next func(huma.Context)) {
	permission, _ := ctx.Operation().Metadata[permissionKey].(rights.Permission)
	req := requestOf(ctx.Context())
	who := usecase.Actor{}
	host, _, err := net.SplitHostPort(ctx.RemoteAddr())
	if err != nil {
		host = ctx.RemoteAddr()
	}
	if token := sessionToken(ctx, permission); token != "" && permission != rights.Public {
		var found usecase.Actor
		var err error
		if permission == rights.OwnMailbox {
			found, err = a.service.Mail.IdentifyHolder(ctx.Context(), token)
		} else {
			found, err = a.service.People.Identify(ctx.Context(), token, host, ctx.Header(unattendedHeader) != "")
		}
		if err != nil {
			a.refuse(ctx, a.toProblem(ctx.Context(), err))
			return
		}
		who = found
	}
	req.language = cmp.Or(who.Language, req.language)
	who.Language = req.language
	ctx.SetHeader("Content-Language", cmp.Or(req.language, language.English))
	if err := who.Require(permission); err != nil {
		a.refuse(ctx, a.toProblem(ctx.Context(), err))
		return
	}
	if err := checkQuery(ctx); err != nil {
		a.refuse(ctx, a.toProblem(ctx.Context(), err))
		return
	}
	who.Address, who.Request, who.Program = host, req.id, ctx.Header("User-Agent")
	who.IdempotencyKey, who.RequestDigest = req.idempotencyKey, req.digest
	next(huma.WithValue(ctx, actorKey, who))
}

// checkQuery refuses query parameters that an operation does not have: a filter with a slip in its
// name would be none.
func checkQuery(ctx huma.Context) error {
	u := ctx.URL()
	if u.RawQuery == "" {
		return nil
	}
	var known []string
	for _, p := range ctx.Operation().Parameters {
		if p.In == "query" {
			known = append(known, p.Name)
		}
	}
	for name := range u.Query() {
		if !slices.Contains(known, name) {
			return refusal.Input(name, "there is no such query parameter here%s", nearest.Hint(name, known))
		}
	}
	return nil
}

func (a *API) refuse(ctx huma.Context, err error) {
	p, ok := err.(*api.Problem)
	if !ok {
		p = problem(internal, "something is wrong in the service")
	}
	ctx.SetHeader("Content-Type", p.ContentType(""))
	if p.Status == http.StatusUnauthorized {
		ctx.SetHeader("WWW-Authenticate", `Bearer realm="victualler"`)
	}
	ctx.SetStatus(p.Status)
	json.NewEncoder(ctx.BodyWriter()).Encode(p)
}

// sessionToken returns the token of the Authorization header (RFC 6750) or of the cookie.
func sessionToken(ctx huma.Context, permission rights.Permission) string {
	if token, found := strings.CutPrefix(ctx.Header("Authorization"), "Bearer "); found {
		return token
	}
	name := cookieName
	if permission == rights.OwnMailbox {
		name = holderCookie
	}
	cookie, err := huma.ReadCookie(ctx, name)
	if err != nil {
		return ""
	}
	return cookie.Value
}

func clientAddress(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return host
}

func writeProblem(w http.ResponseWriter, r *http.Request, p *api.Problem) {
	p.Say(requestOf(r.Context()).language)
	w.Header().Set("Content-Type", p.ContentType(""))
	w.WriteHeader(p.Status)
	json.NewEncoder(w).Encode(p)
}

// serveConsole serves the console's files, and its page for every address that
// is not one: the console finds its way by itself.
func serveConsole(w http.ResponseWriter, r *http.Request, files fs.FS) {
	name := strings.TrimPrefix(r.URL.Path, "/")
	if info, err := fs.Stat(files, name); name == "" || err != nil || info.IsDir() {
		if strings.HasPrefix(name, "assets/") {
			http.NotFound(w, r)
			return
		}
		http.ServeFileFS(w, r, files, "index.html")
		return
	}
	if strings.HasPrefix(name, "assets/") { // named after their content
		w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
	}
	http.ServeFileFS(w, r, files, name)
}
