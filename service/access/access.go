// Package access decides who may call the service: what a request has to be
// like before anything reads it (Screen), who is signed in (Sessions), and how
// the service proves to a client that it is the one the client means (Prove).
//
// A browser sends cookies to every port of a host, lets any page post forms,
// and can be led here by a name that was made to point here. So a cookie alone
// opens nothing: each call of the console also carries a proof that only its own
// origin can read.
package access

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"fmt"
	"mime"
	"net"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
)

// Refusal says why a request is not even looked at.
type Refusal struct {
	Status int
	Detail string // and what to do next
}

// Screen refuses requests that no client of ours makes: sent to a name that is
// not ours, by a page of another origin, or with a body that is not JSON. Names
// are those by which the service is reached besides this host's own and its
// addresses.
//
// Pages may be come to from anywhere; only calls, whose paths begin with prefix,
// have to come from here.
func Screen(r *http.Request, prefix string, names []string) *Refusal {
	if !ourName(r.Host, names) {
		return &Refusal{http.StatusMisdirectedRequest, fmt.Sprintf("this service is not called %q; call it by address, or start it with --reached-as and that name", clip(r.Host))}
	}
	if !strings.HasPrefix(r.URL.Path, prefix) {
		return nil
	}
	if origin := r.Header.Get("Origin"); origin != "" && !sameOrigin(origin, r.Host) {
		return &Refusal{http.StatusForbidden, fmt.Sprintf("a page of %s may not call this service; use its own console", clip(origin))}
	}
	if site := r.Header.Get("Sec-Fetch-Site"); site != "" && site != "same-origin" && site != "none" {
		return &Refusal{http.StatusForbidden, "a page of another origin may not call this service; use its own console"}
	}
	if r.ContentLength == 0 || r.Body == nil || r.Body == http.NoBody {
		return nil
	}
	if kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type")); err != nil || kind != "application/json" {
		return &Refusal{http.StatusUnsupportedMediaType, "the body must be JSON and say so; send 'Content-Type: application/json'"}
	}
	return nil
}

func clip(text string) string { return text[:min(len(text), 200)] }

// ourName reports whether a Host header names this service. An address cannot
// be made to point elsewhere, a name can.
func ourName(host string, names []string) bool {
	name := hostOf(host)
	if net.ParseIP(name) != nil || name == "localhost" || slices.ContainsFunc(names, func(n string) bool { return name == hostOf(n) }) {
		return true
	}
	own, err := os.Hostname()
	return err == nil && own != "" && name == strings.ToLower(own)
}

// hostOf is the name in what a caller or an administrator says, which may have a port.
func hostOf(host string) string {
	name, _, err := net.SplitHostPort(host)
	if err != nil {
		name = host
	}
	return strings.ToLower(strings.TrimSuffix(strings.Trim(name, "[]"), "."))
}

// sameOrigin reports whether an Origin header is that of pages of this host and
// port. The scheme may differ: a proxy may end TLS.
func sameOrigin(origin, host string) bool {
	u, err := url.Parse(origin)
	return err == nil && (u.Scheme == "http" || u.Scheme == "https") && strings.EqualFold(u.Host, host)
}

// Same compares secrets without telling by its time how much of them agrees.
func Same(given, wanted string) bool {
	a, b := sha256.Sum256([]byte(given)), sha256.Sum256([]byte(wanted))
	return wanted != "" && subtle.ConstantTimeCompare(a[:], b[:]) == 1
}

// Prove shows knowledge of the token without giving it away: an HMAC over a
// client's challenge and the port that the service listens on, so that a
// program on another port cannot pass the answer on as its own.
func Prove(token, challenge, port string) string {
	mac := hmac.New(sha256.New, []byte(token))
	fmt.Fprintf(mac, "patient heron\x00%s\x00%s", challenge, port)
	return hex.EncodeToString(mac.Sum(nil))
}

// PortOf is the port on which a request came in; "" within this process.
func PortOf(r *http.Request) string {
	address, is := r.Context().Value(http.LocalAddrContextKey).(net.Addr)
	if !is {
		return ""
	}
	_, port, err := net.SplitHostPort(address.String())
	if err != nil {
		return ""
	}
	return port
}

// From is where a call comes from: an address, or a user of this host.
func From(r *http.Request) string { return place(r.RemoteAddr) }
