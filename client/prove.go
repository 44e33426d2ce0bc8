package client

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"patientheron/protocol/httpsign"
)

// ErrImpostor is wrapped when what answers at an address does not prove that it
// is the service of the client's token.
var ErrImpostor = errors.New("what answers there is not the service of this token")

// MakeSure lets the service prove that it knows the client's token, before the
// token is sent to it. With onPort, an answer that a program passes on from a
// service on another port does not do; without, a proxy may stand between.
func (c *Client) MakeSure(ctx context.Context, onPort bool) error {
	challenge := rand.Text()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, c.base+prefix+"/proof?challenge="+challenge, nil)
	if err != nil {
		return fmt.Errorf("the address of the service: %w", err)
	}
	answer, err := c.http.Do(request)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return c.unreachable(err)
	}
	defer answer.Body.Close()
	if answer.StatusCode == http.StatusMisdirectedRequest {
		return readProblem(answer)
	}
	var given struct{ Port, Proof string }
	err = json.NewDecoder(io.LimitReader(answer.Body, 1<<16)).Decode(&given)
	mac := hmac.New(sha256.New, []byte(c.token))
	fmt.Fprintf(mac, "patient heron\x00%s\x00%s", challenge, given.Port)
	proof, hexErr := hex.DecodeString(given.Proof)
	if err != nil || hexErr != nil || !hmac.Equal(proof, mac.Sum(nil)) {
		return fmt.Errorf("%s: %w: the token is wrong, or another program listens there; the token was not sent. It is in the file 'token' of the service's data folder", c.base, ErrImpostor)
	}
	if base, err := url.Parse(c.base); onPort && (err != nil || base.Port() != given.Port) {
		return fmt.Errorf("%s: %w: it passes on the answer of a service on port %s; the token was not sent. Name the service with --service", c.base, ErrImpostor, given.Port)
	}
	return nil
}

// prove shows that the client knows the token: not at all where nobody else can be there, with
// the token itself where TLS keeps it from others, and by a signature that is good for this
// one request at this one address everywhere else.
func (c *Client) prove(request *http.Request, body []byte) error {
	switch {
	case c.private:
		return nil
	case request.URL.Scheme == "https":
		request.Header.Set("Authorization", "Bearer "+c.token)
		return nil
	}
	address, err := c.reached.at(request.Context(), request.URL)
	if err != nil {
		return c.unreachable(err)
	}
	httpsign.Sign(request, body, c.token, address, time.Now())
	return nil
}

// reached is the one address that a client is connected to, whatever names lead to it.
type reached struct {
	mu      sync.Mutex
	address string
}

// at finds the address, by connecting to those that a name has, once.
func (r *reached) at(ctx context.Context, u *url.URL) (string, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.address != "" {
		return r.address, nil
	}
	port := u.Port()
	if port == "" {
		port = "80"
	}
	var d net.Dialer
	conn, err := d.DialContext(ctx, "tcp", net.JoinHostPort(u.Hostname(), port))
	if err != nil {
		return "", err
	}
	defer conn.Close()
	r.address = conn.RemoteAddr().String()
	return r.address, nil
}

// transport connects to the address that requests are signed for, and over TLS to whatever
// the name leads to.
func (c *Client) transport() *http.Transport {
	var d net.Dialer
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.Proxy = nil // what is signed is for one address
	if strings.HasPrefix(c.base, "http://") {
		transport.DialContext = func(ctx context.Context, network, _ string) (net.Conn, error) {
			u, err := url.Parse(c.base)
			if err != nil {
				return nil, err
			}
			address, err := c.reached.at(ctx, u)
			if err != nil {
				return nil, err
			}
			return d.DialContext(ctx, network, address)
		}
	}
	return transport
}
