package api

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"patientheron/core/array"
	"patientheron/core/choose"
	"patientheron/core/compare"
	"patientheron/core/fileset"
	"patientheron/core/need"
	"patientheron/core/plan"
	"patientheron/core/setup"
	"patientheron/core/twin"
	"patientheron/core/workload"
	"patientheron/format/arrayfile"
	"patientheron/format/strictyaml"
	"patientheron/patient"
	"patientheron/resource"
	"patientheron/service/aside"
	"patientheron/service/leftover"
	"patientheron/service/runner"
	"patientheron/service/store"
	"patientheron/storage/simulated"
	"patientheron/storage/volume"
)

var (
	errBusy     = errors.New("in use")
	errNoRace   = errors.New("it was not made as a race; measure two volumes or more with --race")
	errNotFound = errors.New("not found")
)

// kindOfProblem is what callers branch on: problems of one kind have one type (RFC 9457).
type kindOfProblem struct {
	name   string
	status int
	title  string
	words  string  // what happened and what a caller can do
	of     []error // that are of this kind
}

// kindsOfProblem are looked through in order; the last is for what nobody foresaw. Those without
// errors are found by the router and the library beneath.
var kindsOfProblem = []kindOfProblem{
	{resource.ProblemNotFound, http.StatusNotFound, "No such record", "There is nothing under this number, name or path.", []error{store.ErrNotFound, errNotFound, aside.ErrNotFound}},
	{resource.ProblemTaken, http.StatusConflict, "Taken", "A name or a locator is in use by another record; choose another, or use that record.", []error{store.ErrTaken}},
	{"changed", http.StatusConflict, "Changed meanwhile", "Somebody else changed the record since it was read; read it again.", []error{store.ErrChanged}},
	{"ended", http.StatusConflict, "Ended already", "The run has ended: nothing of it can be changed any more.", []error{runner.ErrFinal}},
	{resource.ProblemNotEnded, http.StatusConflict, "Not ended yet", "The run goes on; wait until it has ended, or stop it.", []error{runner.ErrNotEnded}},
	{"not-measuring", http.StatusConflict, "Nothing is being measured", "The run waits, or is between two measurements. Try again while it measures.", []error{runner.ErrNotMeasuring}},
	{"no-faults", http.StatusConflict, "No faults can be injected", "The volume is real storage, or nothing of it can fail.", []error{runner.ErrNotFaulty}},
	{"busy", http.StatusConflict, "In use", "The record is in use. Wait until that has ended, or stop it.", []error{errBusy, aside.ErrBusy, leftover.ErrInUse}},
	{"same-key", http.StatusConflict, "The key was used", "A call with this Idempotency-Key asked for something else, or was never answered. Take a new key.", nil},
	{"no-race", http.StatusConflict, "Not a race", "The run was not made at the same moment as another.", []error{errNoRace}},
	{"consent", http.StatusUnprocessableEntity, "No consent", "The load would overwrite data on the volume. Give consent to overwrite it, or measure with reads only.", []error{volume.ErrConsent}},
	{"in-use", http.StatusUnprocessableEntity, "The storage is in use", "Something else uses the storage; name other storage.", []error{volume.ErrInUse}},
	{"no-space", http.StatusUnprocessableEntity, "Not enough space", "The load needs more space than there is; use a smaller span.", []error{volume.ErrNoSpace}},
	{"no-memory", http.StatusUnprocessableEntity, "Not enough memory", "The load or the simulation needs more memory than can be spared.", []error{volume.ErrMemory}},
	{"limit", http.StatusUnprocessableEntity, "A limit of the host", "A limit of the service's host stands against it; the detail says which.", []error{volume.ErrLimit}},
	{"not-permitted", http.StatusUnprocessableEntity, "Not permitted", "The service may not do this with the storage; the detail says what it lacks.", []error{volume.ErrNotPermitted}},
	{"no-answer", http.StatusUnprocessableEntity, "No answer", "The storage did not answer in time; look whether it is up.", []error{patient.ErrNoAnswer}},
	{"unreachable", http.StatusUnprocessableEntity, "Unreachable", "The storage cannot be reached, or does not answer as it should.", []error{volume.ErrUnreachable}},
	{"not-storage", http.StatusUnprocessableEntity, "Not storage", "There is no folder, file or block device under this name.", []error{volume.ErrNotStorage, fs.ErrNotExist}},
	{resource.ProblemOutside, http.StatusUnprocessableEntity, "Outside the folders of array files", "The service reads array files only in its own folders. Upload the file (PUT /arrays/{name}).", []error{simulated.ErrOutside}},
	{"locator", http.StatusUnprocessableEntity, "Not a locator", "The text names no volume; the detail says how one is written.", []error{volume.ErrLocator, volume.ErrNotDescribed}},
	{"file", http.StatusUnprocessableEntity, "A mistake in a file", "A file has a mistake. The detail gives its line and column, and what is expected.", []error{strictyaml.ErrInvalid, simulated.ErrNotArrayFile, arrayfile.ErrUnknown, arrayfile.ErrKey}},
	{"unreadable", http.StatusUnprocessableEntity, "Unreadable record", "The record is kept, but this version cannot read it.", []error{store.ErrUnreadable}},
	{"invalid", http.StatusUnprocessableEntity, "Impossible as asked", "The request asks for something impossible. The detail and the list of errors name the values and what is expected.", []error{setup.ErrInvalid, compare.ErrInvalid, need.ErrInvalid, choose.ErrInvalid, twin.ErrInvalid, workload.ErrInvalid, fileset.ErrInvalid, plan.ErrInvalid, array.ErrInvalid}},
	{"full", http.StatusInsufficientStorage, "No space for records", "The file system of the service's data folder is full; make room.", []error{store.ErrFull}},
	{"malformed", http.StatusBadRequest, "Malformed request", "The request cannot be read; the detail says what of it.", nil},
	{"unauthorized", http.StatusUnauthorized, "Not signed in", "The call carries no token, signature or session of the service.", nil},
	{"forbidden", http.StatusForbidden, "Refused", "The request comes from another origin, or lacks what every client of this service sends.", nil},
	{"method", http.StatusMethodNotAllowed, "No such method", "The path takes other methods, which the header Allow lists.", nil},
	{"too-slow", http.StatusRequestTimeout, "Too slow", "The body of the request did not come in time.", nil},
	{"too-large", http.StatusRequestEntityTooLarge, "Too large", "The body of the request is larger than the service reads.", nil},
	{"media-type", http.StatusUnsupportedMediaType, "Unknown media type", "The body of the request has to be JSON.", nil},
	{"misdirected", http.StatusMisdirectedRequest, "Misdirected", "The request was made for another service.", nil},
	{"too-many-tries", http.StatusTooManyRequests, "Too many tries", "Wrong tokens came from this address; wait as long as the header Retry-After says.", nil},
	{"fault", http.StatusInternalServerError, "A fault of the service", "The service failed; its log says where.", nil},
}

func init() {
	huma.NewError = func(status int, detail string, errs ...error) huma.StatusError {
		kind := ofStatus(status)
		m := problemOf(kind, detail)
		m.Status = status
		var words []string
		for _, err := range errs {
			var one *huma.ErrorDetail
			if !errors.As(err, &one) {
				one = &huma.ErrorDetail{Message: err.Error()}
			}
			m.Errors = append(m.Errors, one)
			if at := strings.TrimPrefix(strings.TrimPrefix(one.Location, "body"), "."); at != "" {
				words = append(words, at+": "+one.Message)
			} else {
				words = append(words, one.Message)
			}
		}
		if len(words) > 0 && detail == "validation failed" { // which they say better
			m.Detail = strings.Join(words, "; ")
		}
		return m
	}
}

// ofStatus is the kind that the library and the router mean by a status.
func ofStatus(status int) kindOfProblem {
	if status == http.StatusUnprocessableEntity {
		return named("invalid")
	}
	for _, k := range kindsOfProblem {
		if k.status == status && (k.of == nil || status == http.StatusNotFound) {
			return k
		}
	}
	return kindOfProblem{status: status, title: http.StatusText(status)}
}

func named(name string) kindOfProblem {
	return kindsOfProblem[slices.IndexFunc(kindsOfProblem, func(k kindOfProblem) bool { return k.name == name })]
}

// problemOf is the document of a problem.
func problemOf(k kindOfProblem, detail string) *huma.ErrorModel {
	m := &huma.ErrorModel{Status: k.status, Title: k.title, Detail: cmp.Or(detail, k.words)}
	if k.name != "" {
		m.Type = resource.ProblemType(k.name)
	}
	return m
}

// problem turns an error into what its callers can act on. Its text already says what to do next.
func (s *Service) problem(err error) error {
	var made huma.StatusError
	if errors.As(err, &made) {
		return err
	}
	for _, k := range kindsOfProblem {
		if slices.ContainsFunc(k.of, func(of error) bool { return errors.Is(err, of) }) {
			return problemOf(k, err.Error())
		}
	}
	s.Log.Error("a call failed", "error", err)
	return problemOf(named("fault"), err.Error())
}

// register adds an operation. What an error of its handler means to a caller is said here, for all
// of them.
func register[In, Out any](s *Service, api huma.API, o huma.Operation, handle func(context.Context, *In) (*Out, error)) {
	huma.Register(api, o, func(ctx context.Context, in *In) (*Out, error) {
		out, err := handle(ctx, in)
		if err != nil {
			return nil, s.problem(err)
		}
		return out, nil
	})
}

// abort answers with a problem in place of a handler.
func abort(c *gin.Context, m *huma.ErrorModel) {
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(m.Status, m)
}

// ProblemKind is a kind of problem that calls answer with.
type ProblemKind struct {
	Type   string `json:"type" doc:"As it stands in the problem"`
	Status int    `json:"status"`
	Title  string `json:"title"`
	Words  string `json:"words" doc:"What happened, and what a caller can do"`
}

func (k kindOfProblem) told() ProblemKind {
	return ProblemKind{resource.ProblemType(k.name), k.status, k.title, k.words}
}

// ProblemList is all kinds of problems.
type ProblemList struct {
	Problems []ProblemKind `json:"problems"`
}

func (s *Service) registerProblems(api huma.API) {
	o := operation(http.MethodGet, "/problems", "list-problems", "The kinds of problems that calls answer with, by which programs can tell them apart", http.StatusOK)
	o.Security = open
	register(s, api, o, func(context.Context, *struct{}) (*body[ProblemList], error) {
		var all ProblemList
		for _, k := range kindsOfProblem {
			all.Problems = append(all.Problems, k.told())
		}
		return &body[ProblemList]{all}, nil
	})
	o = operation(http.MethodGet, "/problems/{name}", "get-problem", "One kind of problem: where the type of a problem leads", http.StatusOK, http.StatusNotFound)
	o.Security = open
	register(s, api, o, func(_ context.Context, in *struct {
		Name string `path:"name" maxLength:"40"`
	}) (*body[ProblemKind], error) {
		for _, k := range kindsOfProblem {
			if k.name == in.Name {
				return &body[ProblemKind]{k.told()}, nil
			}
		}
		return nil, errNotFound
	})
}

// answerForNone answers calls of the API that no operation takes, each with a problem. Other paths
// are those of the console.
func answerForNone(router *gin.Engine, console http.Handler) {
	router.HandleMethodNotAllowed = true
	router.NoMethod(func(c *gin.Context) {
		abort(c, problemOf(named("method"), c.Request.Method+" "+c.Request.URL.Path+": this path takes "+c.Writer.Header().Get("Allow")))
	})
	router.NoRoute(func(c *gin.Context) {
		if path := c.Request.URL.Path; path == prefix || strings.HasPrefix(path, prefix+"/") {
			abort(c, problemOf(named(resource.ProblemNotFound), c.Request.Method+" "+path+": there is no such call; "+prefix+"/openapi.json lists all"))
			return
		}
		console.ServeHTTP(c.Writer, c.Request)
	})
}

// head answers HEAD as the path answers GET, without the body. Feeds of events have no end that
// their length could be told of.
func head(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodHead || strings.HasSuffix(r.URL.Path, "/events") {
			next.ServeHTTP(w, r)
			return
		}
		get := r.Clone(r.Context())
		get.Method = http.MethodGet
		next.ServeHTTP(bodiless{w}, get)
	})
}

// bodiless is an answer of which only the head is sent.
type bodiless struct{ http.ResponseWriter }

// Flush sends what there is of it; the router counts on that.
func (b bodiless) Flush() { _ = http.NewResponseController(b.ResponseWriter).Flush() }

func (bodiless) Write(p []byte) (int, error) { return len(p), nil }

// Unwrap gives the answer to what sets its deadlines.
func (b bodiless) Unwrap() http.ResponseWriter { return b.ResponseWriter }
