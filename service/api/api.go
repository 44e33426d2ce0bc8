// Package api is the HTTP interface of the service: the contract, its
// handlers, who may call them, and the errors they give (RFC 9457).
//
// It holds no arithmetic and decides nothing: it checks what comes in, asks
// the store and the runner, and gives back records of package resource. The
// contract is OpenAPI 3.1, generated from these handlers' Go types.
package api

import (
	"context"
	"encoding/json"
	"io/fs"
	"log/slog"
	"net/http"
	"reflect"
	"runtime/debug"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"patientheron/core/workload"
	"patientheron/patient"
	"patientheron/resource"
	"patientheron/service/access"
	"patientheron/service/aside"
	"patientheron/service/leftover"
	"patientheron/service/runner"
	"patientheron/service/store"
	"patientheron/storage"
)

// Service is what the handlers work with.
type Service struct {
	Store     *store.Store
	Runner    *runner.Runner
	Bounds    storage.Bounds
	Leftovers *leftover.Keeper
	Aside     *aside.Keeper
	Token     string   // what callers must present
	Names     []string // by which the service is reached, besides this host's own
	Version   string
	Console   fs.FS // the built web console
	Log       *slog.Logger
	Started   time.Time

	tries    access.Tries
	nonces   access.Nonces
	keys     keyed
	searches *aside.Works[resource.Search]
	fits     *aside.Works[resource.Fitting]
}

// Handler makes the HTTP handler of the whole service.
func (s *Service) Handler() http.Handler {
	s.searches = aside.Of(s.Aside, "search", func(r *resource.Search) *resource.Aside { return &r.Aside })
	s.fits = aside.Of(s.Aside, "fit", func(r *resource.Fitting) *resource.Aside { return &r.Aside })
	router := newRouter(s.Log)
	router.Use(s.screen, newBackseat().stepBack)
	s.register(router)
	answerForNone(router, consoleHandler(s.Console))
	return head(router)
}

// Contract is the OpenAPI document of the service as indented JSON.
func Contract(version string) ([]byte, error) {
	s := &Service{Version: version}
	contract := s.register(newRouter(slog.New(slog.DiscardHandler))).OpenAPI()
	return json.MarshalIndent(contract, "", "  ")
}

func newRouter(log *slog.Logger) *gin.Engine {
	gin.SetMode(gin.ReleaseMode)
	router := gin.New()
	router.Use(gin.CustomRecoveryWithWriter(nil, func(c *gin.Context, problem any) {
		log.Error("a fault of this program", "path", c.Request.URL.Path, "error", problem, "stack", string(debug.Stack()))
		abort(c, problemOf(named("fault"), "a fault of this program; nothing else of the service is touched, and its log has where it happened: please report it"))
	}))
	router.Use(func(c *gin.Context) {
		c.Header("X-Content-Type-Options", "nosniff")
		c.Header("Content-Security-Policy", "default-src 'self'; img-src 'self' data: blob:; style-src 'self' 'unsafe-inline'; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
		c.Header("X-Frame-Options", "DENY")
		c.Header("Referrer-Policy", "no-referrer")
		c.Header("Cross-Origin-Opener-Policy", "same-origin")
		c.Header("Cross-Origin-Resource-Policy", "same-origin")
	})
	return router
}

const prefix = "/api/v1"

// register adds all operations to the router.
func (s *Service) register(router *gin.Engine) huma.API {
	config := huma.DefaultConfig("Patient Heron", s.Version)
	config.Info.Description = "Measures storage and compares what was measured. All numbers are in base units: bytes, seconds, per second, shares of one."
	config.OpenAPIPath = prefix + "/openapi"
	config.DocsPath, config.SchemasPath = "", ""
	config.CreateHooks = nil // no $schema member in every answer
	config.RejectUnknownQueryParameters = true
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":  {Type: "http", Scheme: "bearer", Description: "The service's token, as 'Authorization: Bearer TOKEN'"},
		"cookie": {Type: "apiKey", In: "cookie", Name: cookieName, Description: "Set by signing in, with the service's port after its name"},
		"proof":  {Type: "apiKey", In: "header", Name: proofHeader, Description: "Given by signing in, to go with the cookie"},
	}
	config.Security = []map[string][]string{{"token": {}}, {"cookie": {}, "proof": {}}}
	api := humagin.New(router, config)
	api.UseMiddleware(s.authenticate(api), s.once)

	s.registerProblems(api)
	s.registerSession(api)
	s.registerVolumes(api)
	s.registerTuning(api)
	s.registerNeeds(api)
	s.registerSearches(api)
	s.registerTwins(api)
	s.registerEfficiency(api)
	s.registerLeftovers(api)
	s.registerArrays(api)
	s.registerWorkloads(api)
	s.registerRuns(api)
	s.registerResults(api)
	s.registerLooks(api)
	s.registerComparisons(api)
	describeLoads(api.OpenAPI().Components.Schemas)
	refuseNull(api.OpenAPI().Components.Schemas.Map())
	return api
}

// describeLoads tells the contract of the kinds of load: each has a name, and most a body under
// that name.
func describeLoads(schemas huma.Registry) {
	load := schemas.Map()["Spec"]
	kinds := load.Properties["kind"]
	kinds.Enum = nil
	for _, kind := range workload.Kinds() {
		kinds.Enum = append(kinds.Enum, string(kind))
		r := workload.Registered(kind)
		if r.Words == "" {
			continue
		}
		body := schemas.Schema(reflect.TypeOf(r.New()), true, string(kind))
		body.Description = r.Words
		load.Properties[string(kind)] = body
	}
	kinds.PrecomputeMessages()
	load.PrecomputeMessages()
}

// refuseNull refuses null where a list has to have members: null has none, and is taken for a
// list that is not counted.
func refuseNull(schemas map[string]*huma.Schema) {
	for _, schema := range schemas {
		for _, property := range schema.Properties {
			if property.Type == huma.TypeArray && property.MinItems != nil && *property.MinItems > 0 && property.Nullable {
				property.Nullable = false
				property.PrecomputeMessages()
			}
		}
	}
}

// operation describes one call of the contract.
func operation(method, path, id, summary string, status int, errors ...int) huma.Operation {
	o := huma.Operation{
		Method: method, Path: prefix + path, OperationID: id, Summary: summary, DefaultStatus: status,
		Errors: append([]int{http.StatusUnauthorized}, errors...), MaxBodyBytes: 1 << 20,
	}
	if method == http.MethodPost && status == http.StatusCreated {
		return takesKey(o)
	}
	return o
}

// body is an answer with a JSON body.
type body[T any] struct{ Body T }

// How long a call waits for storage that may hang: to look at it, and to read
// what it holds.
const (
	lookTime  = 2 * time.Second
	agreeTime = 20 * time.Second
)

// inTime waits for storage that may hang, up to lookTime. Locator and purpose
// name the call, which all who ask for the same meanwhile share.
func inTime[T any](ctx context.Context, locator, purpose string, work func(context.Context) (T, error)) (T, error) {
	ctx, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	return patient.Ask(ctx, locator, purpose, work)
}

// about says what this service is.
func (s *Service) about(ctx context.Context, _ *struct{}) (*body[resource.About], error) {
	waiting, err := s.Runner.Waiting(ctx)
	if err != nil {
		return nil, err
	}
	return &body[resource.About]{resource.About{
		Product: "Patient Heron", Version: s.Version, Host: s.Runner.Host(), Started: s.Started, Waiting: waiting, Trouble: s.Runner.Trouble(),
	}}, nil
}
