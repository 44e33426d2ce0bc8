package api

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"patientheron/protocol/httpsign"
	"patientheron/service/access"
)

// Names of what a console that is signed in sends with each call: a cookie,
// with the port after it since browsers share cookies between ports, and a
// header.
const (
	cookieName  = "heron_session"
	proofHeader = "Heron-Proof"
)

const tokenHint = "is in the file 'token' of the service's data folder"

// open marks an operation that needs no token.
var open = []map[string][]string{}

// screen refuses what no client of ours sends, before anything reads it.
func (s *Service) screen(c *gin.Context) {
	refusal := access.Screen(c.Request, prefix, s.Names)
	if refusal == nil {
		readInTime(c)
		return
	}
	m := problemOf(ofStatus(refusal.Status), refusal.Detail)
	m.Status = refusal.Status
	abort(c, m)
}

// bodyPatience is how long the body of a call may take to come.
const bodyPatience = 30 * time.Second

// readInTime bounds the time that a body takes to come: whoever sends one slowly holds a
// connection and a goroutine.
func readInTime(c *gin.Context) {
	if c.Request.Body == nil || c.Request.Body == http.NoBody || c.Request.ContentLength == 0 {
		return
	}
	control := http.NewResponseController(c.Writer)
	if control.SetReadDeadline(time.Now().Add(bodyPatience)) == nil {
		c.Request.Body = &timelyBody{c.Request.Body, control}
	}
}

// timelyBody is a body that has to come in time; when it is there, the connection may be quiet
// for as long as the answer takes.
type timelyBody struct {
	io.ReadCloser
	control *http.ResponseController
}

func (b *timelyBody) Read(into []byte) (int, error) {
	n, err := b.ReadCloser.Read(into)
	if err == io.EOF {
		_ = b.control.SetReadDeadline(time.Time{})
	}
	return n, err
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
		if access.IsPrivate(request.Context()) {
			next(huma.WithContext(ctx, access.With(ctx.Context(), access.Principal{By: "peer"})))
			return
		}
		if given, isBearer := strings.CutPrefix(ctx.Header("Authorization"), "Bearer "); isBearer || httpsign.Signed(request) {
			status, reason := s.proved(request, given)
			if status == http.StatusTooManyRequests {
				ctx.SetHeader("Retry-After", "5")
			}
			if status != 0 {
				refuse(status, reason)
				return
			}
			access.Known(request.Context())
			next(huma.WithContext(ctx, access.With(ctx.Context(), access.Principal{By: "token"})))
			return
		}
		cookie, _ := request.Cookie(cookieOf(request))
		if cookie != nil {
			holds, err := s.sessions().Holds(ctx.Context(), cookie.Value, ctx.Header(proofHeader))
			if err != nil {
				s.Log.Error("cannot look for a session", "error", err)
			}
			if holds {
				access.Known(request.Context())
				next(huma.WithContext(ctx, access.With(ctx.Context(), access.Principal{By: "session", Session: access.Digest(cookie.Value)})))
				return
			}
		}
		refuse(http.StatusUnauthorized, "this service wants its token; sign each request with it (docs/safety.md), send 'Authorization: Bearer TOKEN', or sign in. The token is in the file 'token' of the service's data folder")
	}
}

// proved reports why a call does not show that it knows the token, which it bears or has
// signed with; the status is 0 for one that does.
func (s *Service) proved(r *http.Request, bears string) (status int, reason string) {
	from := access.From(r)
	if err := s.tries.Turn(r.Context(), from); err != nil {
		return http.StatusTooManyRequests, err.Error()
	}
	if !httpsign.Signed(r) {
		if !access.Same(bears, s.Token) {
			s.tries.Wrong(from)
			return http.StatusUnauthorized, "the token is wrong; it " + tokenHint
		}
		s.tries.Right(from)
		return 0, ""
	}
	now := time.Now()
	signed, err := httpsign.Verify(r, s.Token, now)
	if err != nil {
		s.tries.Wrong(from)
		return http.StatusUnauthorized, err.Error() + "; the token is wrong, or the request was changed on its way. The token " + tokenHint
	}
	s.tries.Right(from)
	local, _ := r.Context().Value(http.LocalAddrContextKey).(net.Addr)
	if !access.OurAddress(signed.Address, local, s.Names) {
		return http.StatusMisdirectedRequest, fmt.Sprintf("the request was made for %s, and came to %s: something passes it on. Call the service itself, or start it with --reached-as %s where that is a proxy of yours", signed.Address, local, signed.Address)
	}
	if !s.nonces.New(signed.Nonce, now, httpsign.Lasting) {
		return http.StatusUnauthorized, "the request came before; sign each request by itself"
	}
	return 0, ""
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
	register(s, api, operation(http.MethodGet, "/about", "about", "What this service is", http.StatusOK), s.about)

	op := operation(http.MethodGet, "/proof", "prove", "Let the service prove that it knows its token, before it is given away", http.StatusOK)
	op.Security = open
	register(s, api, op, func(_ context.Context, in *struct {
		Challenge string `query:"challenge" required:"true" minLength:"16" maxLength:"200" doc:"Anything that was not asked before"`
		caller
	}) (*body[Proof], error) {
		port := access.PortOf(in.request)
		return &body[Proof]{Proof{Port: port, Proof: access.Prove(s.Token, in.Challenge, port)}}, nil
	})

	op = operation(http.MethodPost, "/session", "sign-in", "Sign in with the token and get a cookie and a proof", http.StatusOK, http.StatusTooManyRequests)
	op.Security = open
	register(s, api, op, func(ctx context.Context, in *signIn) (*signedIn, error) {
		from := access.From(in.request)
		if err := s.tries.Turn(ctx, from); err != nil {
			return nil, huma.ErrorWithHeaders(huma.NewError(http.StatusTooManyRequests, err.Error()), http.Header{"Retry-After": {"5"}})
		}
		if !access.Same(in.Body.Token, s.Token) {
			s.tries.Wrong(from)
			return nil, huma.Error401Unauthorized("the token is wrong; it " + tokenHint)
		}
		s.tries.Right(from)
		cookie, proof, err := s.sessions().Begin(ctx)
		if err != nil {
			return nil, err
		}
		return &signedIn{ofSession(in.request, cookie, int(access.Longest.Seconds())), SignedIn{proof}}, nil
	})

	op = operation(http.MethodDelete, "/session", "sign-out", "Sign out", http.StatusNoContent)
	register(s, api, op, func(ctx context.Context, in *struct{ caller }) (*signedOut, error) {
		if cookie, err := in.request.Cookie(cookieOf(in.request)); err == nil {
			if err := s.sessions().End(ctx, cookie.Value); err != nil {
				return nil, err
			}
		}
		return &signedOut{ofSession(in.request, "", -1)}, nil
	})
}

func ofSession(r *http.Request, value string, seconds int) http.Cookie {
	return http.Cookie{Name: cookieOf(r), Value: value, Path: prefix, MaxAge: seconds, HttpOnly: true, SameSite: http.SameSiteStrictMode}
}
