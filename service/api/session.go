package api

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"patientheron/service/access"
)

// Names of what a console that is signed in sends with each call: a cookie,
// with the port after it since browsers share cookies between ports, and a
// header.
const (
	cookieName  = "heron_session"
	proofHeader = "Heron-Proof"
)

const tokenHint = "it is in the file 'token' of the service's data folder"

// open marks an operation that needs no token.
var open = []map[string][]string{}

// screen refuses what no client of ours sends, before anything reads it.
func (s *Service) screen(c *gin.Context) {
	refusal := access.Screen(c.Request, prefix, s.Names)
	if refusal == nil {
		return
	}
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(refusal.Status, huma.ErrorModel{Title: http.StatusText(refusal.Status), Status: refusal.Status, Detail: refusal.Detail})
}

// authenticate lets a call pass that presents the token, or the cookie and the
// proof of a session.
func (s *Service) authenticate(api huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		if security := ctx.Operation().Security; security != nil && len(security) == 0 {
			next(ctx)
			return
		}
		request := humagin.Unwrap(ctx).Request
		refuse := func(status int, message string) { _ = huma.WriteErr(api, ctx, status, message) }
		if given, isBearer := strings.CutPrefix(ctx.Header("Authorization"), "Bearer "); isBearer {
			from := access.From(request)
			switch wait := s.tries.Wait(from); {
			case access.Same(given, s.Token):
				next(huma.WithContext(ctx, access.With(ctx.Context(), access.Principal{By: "token"})))
			case wait > 0:
				ctx.SetHeader("Retry-After", strconv.Itoa(int(wait.Seconds())+1))
				refuse(http.StatusTooManyRequests, tooManyTries(wait.Seconds()))
			default:
				s.tries.Wrong(from)
				refuse(http.StatusUnauthorized, "the token is wrong; "+tokenHint)
			}
			return
		}
		cookie, _ := request.Cookie(cookieOf(request))
		if cookie != nil {
			holds, err := s.sessions().Holds(ctx.Context(), cookie.Value, ctx.Header(proofHeader))
			if err != nil {
				s.Log.Error("cannot look for a session", "error", err)
			}
			if holds {
				next(huma.WithContext(ctx, access.With(ctx.Context(), access.Principal{By: "session", Session: access.Digest(cookie.Value)})))
				return
			}
		}
		refuse(http.StatusUnauthorized, "this service wants its token; send 'Authorization: Bearer TOKEN', or sign in. The token is in the file 'token' of the service's data folder")
	}
}

func tooManyTries(seconds float64) string {
	return fmt.Sprintf("too many wrong tokens came from there; wait %.0f seconds", seconds+1)
}

func (s *Service) sessions() access.Sessions {
	return access.Sessions{Keeper: s.Store, Token: s.Token}
}

// cookieOf is the name of the cookie of this service among those of the host.
func cookieOf(r *http.Request) string {
	if port := access.PortOf(r); port != "" {
		return cookieName + "_" + port
	}
	return cookieName
}

type signIn struct {
	Body struct {
		Token string `json:"token" minLength:"1" maxLength:"200" doc:"The service's token"`
	}
	caller
}

// caller is who makes a call.
type caller struct{ request *http.Request }

// Resolve takes the request from huma.
func (c *caller) Resolve(ctx huma.Context) []error {
	c.request = humagin.Unwrap(ctx).Request
	return nil
}

// SignedIn is what the pages of the console keep.
type SignedIn struct {
	Proof string `json:"proof" doc:"To send as the header Heron-Proof with every call, beside the cookie"`
}

type signedIn struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      SignedIn
}

type signedOut struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}

// Proof shows that a service knows its token.
type Proof struct {
	Port  string `json:"port" doc:"On which the service took the call"`
	Proof string `json:"proof" doc:"HMAC-SHA-256 with the token as key, in hexadecimal, over 'patient heron', the challenge and the port, with a zero byte between each"`
}

func (s *Service) registerSession(api huma.API) {
	huma.Register(api, operation(http.MethodGet, "/about", "about", "What this service is", http.StatusOK), s.about)

	op := operation(http.MethodGet, "/proof", "prove", "Let the service prove that it knows its token, before it is given away", http.StatusOK)
	op.Security = open
	huma.Register(api, op, func(_ context.Context, in *struct {
		Challenge string `query:"challenge" required:"true" minLength:"16" maxLength:"200" doc:"Anything that was not asked before"`
		caller
	}) (*body[Proof], error) {
		port := access.PortOf(in.request)
		return &body[Proof]{Proof{Port: port, Proof: access.Prove(s.Token, in.Challenge, port)}}, nil
	})

	op = operation(http.MethodPost, "/session", "sign-in", "Sign in with the token and get a cookie and a proof", http.StatusOK, http.StatusTooManyRequests)
	op.Security = open
	huma.Register(api, op, func(ctx context.Context, in *signIn) (*signedIn, error) {
		from := access.From(in.request)
		if wait := s.tries.Wait(from); wait > 0 {
			return nil, huma.ErrorWithHeaders(huma.NewError(http.StatusTooManyRequests, tooManyTries(wait.Seconds())), http.Header{"Retry-After": {strconv.Itoa(int(wait.Seconds()) + 1)}})
		}
		if !access.Same(in.Body.Token, s.Token) {
			s.tries.Wrong(from)
			return nil, huma.Error401Unauthorized("the token is wrong; " + tokenHint)
		}
		s.tries.Right(from)
		cookie, proof, err := s.sessions().Begin(ctx)
		if err != nil {
			return nil, s.problem(err)
		}
		return &signedIn{ofSession(in.request, cookie, int(access.Longest.Seconds())), SignedIn{proof}}, nil
	})

	op = operation(http.MethodDelete, "/session", "sign-out", "Sign out", http.StatusNoContent)
	huma.Register(api, op, func(ctx context.Context, in *struct{ caller }) (*signedOut, error) {
		if cookie, err := in.request.Cookie(cookieOf(in.request)); err == nil {
			if err := s.sessions().End(ctx, cookie.Value); err != nil {
				return nil, s.problem(err)
			}
		}
		return &signedOut{ofSession(in.request, "", -1)}, nil
	})
}

func ofSession(r *http.Request, value string, seconds int) http.Cookie {
	return http.Cookie{Name: cookieOf(r), Value: value, Path: prefix, MaxAge: seconds, HttpOnly: true, SameSite: http.SameSiteStrictMode}
}
