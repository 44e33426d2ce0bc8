package api

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
)

const cookieName = "heron_session"

// open marks an operation that needs no token.
var open = []map[string][]string{}

// session is the value of the cookie: a digest, so that the cookie does not
// give the token away.
func (s *Service) session() string {
	digest := sha256.Sum256([]byte("patient heron session\x00" + s.Token))
	return hex.EncodeToString(digest[:])
}

// authenticate lets a call pass that presents the token or the cookie.
func (s *Service) authenticate(api huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		if security := ctx.Operation().Security; security != nil && len(security) == 0 {
			next(ctx)
			return
		}
		given, isBearer := strings.CutPrefix(ctx.Header("Authorization"), "Bearer ")
		if isBearer && equal(given, s.Token) {
			next(ctx)
			return
		}
		if cookie, err := huma.ReadCookie(ctx, cookieName); err == nil && !isBearer && equal(cookie.Value, s.session()) {
			next(ctx)
			return
		}
		message := "this service wants its token; send 'Authorization: Bearer TOKEN', or sign in. The token is in the file 'token' of the service's data folder"
		if isBearer {
			message = "the token is wrong; it is in the file 'token' of the service's data folder"
		}
		_ = huma.WriteErr(api, ctx, http.StatusUnauthorized, message)
	}
}

func equal(given, wanted string) bool {
	return wanted != "" && subtle.ConstantTimeCompare([]byte(given), []byte(wanted)) == 1
}

type signIn struct {
	Body struct {
		Token string `json:"token" minLength:"1" maxLength:"200" doc:"The service's token"`
	}
}

type signedIn struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}

func (s *Service) registerSession(api huma.API) {
	huma.Register(api, operation(http.MethodGet, "/about", "about", "What this service is", http.StatusOK), s.about)

	op := operation(http.MethodPost, "/session", "sign-in", "Sign in with the token and get a cookie", http.StatusNoContent)
	op.Security = open
	huma.Register(api, op, func(_ context.Context, in *signIn) (*signedIn, error) {
		if !equal(in.Body.Token, s.Token) {
			return nil, huma.Error401Unauthorized("the token is wrong; it is in the file 'token' of the service's data folder")
		}
		return &signedIn{s.cookie(s.session(), 30*24*3600)}, nil
	})

	op = operation(http.MethodDelete, "/session", "sign-out", "Sign out", http.StatusNoContent)
	huma.Register(api, op, func(context.Context, *struct{}) (*signedIn, error) {
		return &signedIn{s.cookie("", -1)}, nil
	})
}

func (s *Service) cookie(value string, seconds int) http.Cookie {
	return http.Cookie{Name: cookieName, Value: value, Path: prefix, MaxAge: seconds, HttpOnly: true, SameSite: http.SameSiteStrictMode}
}
