package httpsign

import (
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

// The signature is that which openssl makes of the base that RFC 9421 describes:
//
//	printf '"@method": POST\n"@authority": 127.0.0.1:7437\n"@path": /api/v1/runs\n"@query": ?a=b\n"content-digest": sha-256=:%s:\n"heron-address": 127.0.0.1:7437\n"@signature-params": ("@method" "@authority" "@path" "@query" "content-digest" "heron-address");created=1767225600;nonce="once";alg="hmac-sha256"' \
//	  "$(printf '{"x":1}' | openssl dgst -sha256 -binary | base64)" | openssl dgst -sha256 -hmac secret -binary | base64
func TestAgainstAnotherProgram(t *testing.T) {
	const want = "acGqZ7STGMV7DlmKkhw551xPkxK2EV1zJ5b9yWv7WOk="
	r := httptest.NewRequest(http.MethodPost, "http://127.0.0.1:7437/api/v1/runs?a=b", strings.NewReader(`{"x":1}`))
	r.Header.Set(AddressHeader, "127.0.0.1:7437")
	r.Header.Set("Content-Digest", digest([]byte(`{"x":1}`)))
	r.Header.Set("Signature-Input", "heron="+components+`;created=1767225600;nonce="once";alg="hmac-sha256"`)
	r.Header.Set("Signature", "heron=:"+want+":")
	s, err := Verify(r, "secret", time.Unix(1767225600, 0))
	if err != nil || s.Nonce != "once" || s.Address != "127.0.0.1:7437" {
		t.Errorf("%+v, %v", s, err)
	}
}

// Whatever of a request is changed on its way, it is not taken.
func TestWhatIsChangedIsNotTaken(t *testing.T) {
	now := time.Unix(1767225600, 0)
	made := func() *http.Request {
		r := httptest.NewRequest(http.MethodPost, "http://127.0.0.1:7437/api/v1/runs?a=b", strings.NewReader("body"))
		Sign(r, []byte("body"), "secret", "127.0.0.1:7437", now)
		return r
	}
	r := made()
	if s, err := Verify(r, "secret", now.Add(Lasting)); err != nil || !Signed(r) || s.Created != now {
		t.Fatalf("%+v, %v", s, err)
	}
	if body, err := io.ReadAll(r.Body); string(body) != "body" || err != nil {
		t.Errorf("the body is %q (%v)", body, err)
	}
	for header := range made().Header {
		if value := made().Header.Get(header); strings.Contains(value, "secret") {
			t.Errorf("%s holds the secret", header)
		}
	}
	for name, change := range map[string]func(*http.Request){
		"method":   func(r *http.Request) { r.Method = http.MethodPut },
		"path":     func(r *http.Request) { r.URL.Path = "/api/v1/volumes" },
		"query":    func(r *http.Request) { r.URL.RawQuery = "a=c" },
		"no query": func(r *http.Request) { r.URL.RawQuery = "" },
		"host":     func(r *http.Request) { r.Host = "127.0.0.1:7438" },
		"address":  func(r *http.Request) { r.Header.Set(AddressHeader, "127.0.0.1:7438") },
		"body":     func(r *http.Request) { r.Body = io.NopCloser(strings.NewReader("other")) },
		"no body":  func(r *http.Request) { r.Body = nil },
		"body and digest": func(r *http.Request) {
			r.Body = io.NopCloser(strings.NewReader("other"))
			r.Header.Set("Content-Digest", digest([]byte("other")))
		},
		"less covered": func(r *http.Request) {
			r.Header.Set("Signature-Input", `heron=("@method");created=1767225600;nonce="once"`)
		},
		"nonce": func(r *http.Request) {
			r.Header.Set("Signature-Input", r.Header.Get("Signature-Input")+`;nonce="other"`)
		},
		"no signature":      func(r *http.Request) { r.Header.Del("Signature") },
		"an empty one":      func(r *http.Request) { r.Header.Set("Signature", "heron=::") },
		"one of no base 64": func(r *http.Request) { r.Header.Set("Signature", "heron=:!:") },
	} {
		r := made()
		change(r)
		if _, err := Verify(r, "secret", now); !errors.Is(err, ErrInvalid) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for name, c := range map[string]struct {
		secret string
		at     time.Time
	}{"another secret": {"other", now}, "no secret": {"", now}, "too late": {"secret", now.Add(Lasting + time.Second)}, "too early": {"secret", now.Add(-Lasting - time.Second)}} {
		if _, err := Verify(made(), c.secret, c.at); !errors.Is(err, ErrInvalid) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
