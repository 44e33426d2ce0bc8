package api

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"patientheron/service/store"
)

// keyHeader marks a call that is to take effect once, however often it is sent: a client that got
// no answer sends it again with the same key, and gets the answer of the first
// (draft-ietf-httpapi-idempotency-key-header).
const keyHeader = "Idempotency-Key"

const (
	longestKey = 200            // characters
	keysLast   = 24 * time.Hour // for which a key is known
)

// takesKey lets an operation that makes something be sent again under a key. Those that only work
// something out, or stop something, can be repeated as they are.
func takesKey(o huma.Operation) huma.Operation {
	o.Metadata = map[string]any{keyHeader: true}
	o.Parameters = []*huma.Param{{
		Name: keyHeader, In: "header", Schema: &huma.Schema{Type: huma.TypeString},
		Description: "A key that the caller chooses. A second call with it, within a day, is not carried out: it gets the answer of the first",
	}}
	return o
}

// keyed are the keys of calls under way, each with what is closed when its call has ended.
type keyed struct {
	mutex sync.Mutex
	keys  map[string]chan struct{}
}

// take takes a key, when nobody else has it any more; ctx bounds the wait.
func (k *keyed) take(ctx context.Context, key string) error {
	for {
		k.mutex.Lock()
		ended, under := k.keys[key]
		if !under {
			if k.keys == nil {
				k.keys = map[string]chan struct{}{}
			}
			k.keys[key] = make(chan struct{})
			k.mutex.Unlock()
			return nil
		}
		k.mutex.Unlock()
		select {
		case <-ended:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (k *keyed) give(key string) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	close(k.keys[key])
	delete(k.keys, key)
}

// once lets a call with a key take effect once. It goes on to its end when the caller leaves: what it
// came to is then kept for when he asks again.
func (s *Service) once(ctx huma.Context, next func(huma.Context)) {
	key := strings.Trim(ctx.Header(keyHeader), `"`)
	if key == "" || ctx.Operation().Metadata[keyHeader] == nil {
		next(ctx)
		return
	}
	c := humagin.Unwrap(ctx)
	if len(key) > longestKey {
		abort(c, problemOf(named("invalid"), fmt.Sprintf("%s: %d characters; at most %d", keyHeader, len(key), longestKey)))
		return
	}
	if s.keys.take(ctx.Context(), key) != nil {
		return // who asked has left
	}
	defer s.keys.give(key)
	body, err := io.ReadAll(io.LimitReader(c.Request.Body, ctx.Operation().MaxBodyBytes+1))
	if err != nil {
		abort(c, problemOf(named("malformed"), "the body of the request: "+err.Error()))
		return
	}
	c.Request.Body = io.NopCloser(bytes.NewReader(body))
	digest := sha256.Sum256(append([]byte(c.Request.Method+" "+c.Request.URL.RequestURI()+"\n"), body...))
	asked := hex.EncodeToString(digest[:])
	first, known, err := s.Store.BeginCall(ctx.Context(), store.Call{Key: key, Asked: asked}, time.Now().Add(-keysLast))
	switch {
	case err != nil:
		s.fail(c, err)
		return
	case known && first.Asked != asked:
		abort(c, problemOf(named("same-key"), "another call was made with this key; take a new key for each thing that is asked for"))
		return
	case known && first.Status == 0:
		abort(c, problemOf(named("same-key"), "a call with this key was made, and the service ended before it was answered; look whether it took effect, and take a new key"))
		return
	case known:
		c.Data(first.Status, "application/json", first.Answer)
		return
	}
	kept := &keptAnswer{ResponseWriter: c.Writer}
	c.Writer = kept
	done := false
	defer func() { // also of a call that panics: what it did is not known then
		c.Writer = kept.ResponseWriter
		keep, cancel := context.WithTimeout(context.WithoutCancel(ctx.Context()), 10*time.Second)
		defer cancel()
		switch status := kept.Status(); {
		case !done:
		case status >= 200 && status < 300:
			err = s.Store.EndCall(keep, key, status, kept.answer.Bytes())
		default:
			err = s.Store.DropCall(keep, key)
		}
		if err != nil {
			s.Log.Error("the answer of a call with a key could not be kept", "error", err)
		}
	}()
	next(huma.WithContext(ctx, context.WithoutCancel(ctx.Context())))
	done = true
}

// fail answers with what an error means.
func (s *Service) fail(c *gin.Context, err error) {
	if m, is := s.problem(err).(*huma.ErrorModel); is {
		abort(c, m)
	}
}

// keptAnswer keeps what is answered.
type keptAnswer struct {
	gin.ResponseWriter
	answer bytes.Buffer
}

func (k *keptAnswer) Write(p []byte) (int, error) {
	k.answer.Write(p)
	return k.ResponseWriter.Write(p)
}

func (k *keptAnswer) WriteString(text string) (int, error) {
	k.answer.WriteString(text)
	return k.ResponseWriter.WriteString(text)
}
