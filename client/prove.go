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
	"net/http"
	"net/url"
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
		return fmt.Errorf("%w at %s; is it running? (%w)", ErrUnreachable, c.base, err)
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
