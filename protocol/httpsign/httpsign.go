// Package httpsign signs HTTP requests with a secret that both sides know, so that it need
// not be sent: HTTP Message Signatures (RFC 9421) with HMAC-SHA-256 over the method, the
// host, the path, the query, the digest of the body (RFC 9530) and the address that the
// client is connected to.
//
// Whoever passes a signed request on learns nothing to make another by, and a service that
// compares the address with its own takes none that was made for somebody else's port. A
// nonce lets it take each request once.
package httpsign

import (
	"bytes"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// AddressHeader holds the address that the client is connected to, as IP:port.
const AddressHeader = "Heron-Address"

// components are what a signature covers, in this order.
const components = `("@method" "@authority" "@path" "@query" "content-digest" "heron-address")`

// MostBody is how large the body of a signed request may be.
const MostBody = 16 << 20

// Lasting is how far the clocks of both sides may be apart.
const Lasting = 5 * time.Minute

// ErrInvalid is wrapped when a signature is not that of the secret.
var ErrInvalid = errors.New("the signature is wrong")

// Signed reports a request that bears a signature, right or wrong.
func Signed(r *http.Request) bool { return r.Header.Get("Signature-Input") != "" }

// Sign signs a request with its body, which is that of the request.
func Sign(r *http.Request, body []byte, secret, address string, now time.Time) {
	r.Header.Set(AddressHeader, address)
	r.Header.Set("Content-Digest", digest(body))
	parameters := fmt.Sprintf(`%s;created=%d;nonce="%s";alg="hmac-sha256"`, components, now.Unix(), rand.Text())
	r.Header.Set("Signature-Input", "heron="+parameters)
	r.Header.Set("Signature", "heron=:"+base64.StdEncoding.EncodeToString(mac(secret, base(r, parameters)))+":")
}

// Signature is what a request was signed with.
type Signature struct {
	Nonce   string
	Address string // that the client was connected to
	Created time.Time
}

// Verify checks the signature of a request, and reads its body to compare it; the request
// keeps the body.
func Verify(r *http.Request, secret string, now time.Time) (s Signature, err error) {
	parameters, is := strings.CutPrefix(r.Header.Get("Signature-Input"), "heron=")
	rest, covers := strings.CutPrefix(parameters, components)
	if !is || !covers || len(parameters) > 1000 {
		return s, fmt.Errorf("%w: it has to cover %s", ErrInvalid, components)
	}
	given, err := base64.StdEncoding.DecodeString(strings.TrimSuffix(strings.TrimPrefix(r.Header.Get("Signature"), "heron=:"), ":"))
	if err != nil || secret == "" || !hmac.Equal(given, mac(secret, base(r, parameters))) {
		return s, ErrInvalid
	}
	s.Address = r.Header.Get(AddressHeader)
	for part := range strings.SplitSeq(rest, ";") {
		name, value, _ := strings.Cut(part, "=")
		switch name {
		case "created":
			seconds, err := strconv.ParseInt(value, 10, 64)
			if err != nil {
				return s, fmt.Errorf("%w: it was created at %q", ErrInvalid, value)
			}
			s.Created = time.Unix(seconds, 0)
		case "nonce":
			s.Nonce = strings.Trim(value, `"`)
		}
	}
	if apart := now.Sub(s.Created); s.Nonce == "" || apart > Lasting || -apart > Lasting {
		return s, fmt.Errorf("%w: it was made at %s by the caller's clock, and it is %s here; set the clocks right", ErrInvalid, s.Created.UTC().Format(time.RFC3339), now.UTC().Format(time.RFC3339))
	}
	var body []byte
	if r.Body != nil {
		if body, err = io.ReadAll(io.LimitReader(r.Body, MostBody+1)); err != nil {
			return s, fmt.Errorf("read what was signed: %w", err)
		}
		if len(body) > MostBody {
			return s, fmt.Errorf("%w: more than %d bytes", ErrInvalid, MostBody)
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
	}
	if !hmac.Equal([]byte(r.Header.Get("Content-Digest")), []byte(digest(body))) {
		return s, fmt.Errorf("%w: the body is another", ErrInvalid)
	}
	return s, nil
}

func digest(body []byte) string {
	sum := sha256.Sum256(body)
	return "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
}

// base is what is signed (RFC 9421, 2.5).
func base(r *http.Request, parameters string) string {
	host := r.Host
	if host == "" {
		host = r.URL.Host
	}
	return fmt.Sprintf("\"@method\": %s\n\"@authority\": %s\n\"@path\": %s\n\"@query\": ?%s\n\"content-digest\": %s\n\"heron-address\": %s\n\"@signature-params\": %s",
		r.Method, strings.ToLower(host), r.URL.EscapedPath(), r.URL.RawQuery, r.Header.Get("Content-Digest"), r.Header.Get(AddressHeader), parameters)
}

func mac(secret, text string) []byte {
	m := hmac.New(sha256.New, []byte(secret))
	m.Write([]byte(text))
	return m.Sum(nil)
}
