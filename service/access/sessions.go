package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"time"
)

// How long a session lasts: at most, and without being used.
const (
	Longest = 30 * 24 * time.Hour
	Idle    = 7 * 24 * time.Hour
)

// Session is a browser that is signed in, as it is kept. Of its secrets only
// digests are.
type Session struct {
	ID      string // digest of the cookie
	Proof   string // digest of what each call carries beside it
	Token   string // digest of the token it was signed in with
	Created time.Time
	Used    time.Time
}

// Keeper keeps sessions.
type Keeper interface {
	AddSession(context.Context, Session) error
	// Session gives a session, or nil when there is none of that id.
	Session(ctx context.Context, id string) (*Session, error)
	UseSession(ctx context.Context, id string, at time.Time) error
	EndSession(ctx context.Context, id string) error
	// EndSessions ends those of other tokens, those made before the first time,
	// and those not used since the second.
	EndSessions(ctx context.Context, otherThan string, made, used time.Time) error
}

// Sessions are the browsers that are signed in.
type Sessions struct {
	Keeper Keeper
	Token  string           // of the service; another one ends all sessions
	Now    func() time.Time // time.Now when nil
}

func (s Sessions) now() time.Time {
	if s.Now != nil {
		return s.Now()
	}
	return time.Now()
}

// Digest is how secrets are kept: nobody who reads it can use it.
func Digest(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// Begin signs a browser in. The cookie is for its cookie jar, the proof for the
// pages of its own origin.
func (s Sessions) Begin(ctx context.Context) (cookie, proof string, err error) {
	now := s.now().UTC()
	if err := s.Keeper.EndSessions(ctx, Digest(s.Token), now.Add(-Longest), now.Add(-Idle)); err != nil {
		return "", "", fmt.Errorf("end old sessions: %w", err)
	}
	cookie, proof = rand.Text(), rand.Text()
	err = s.Keeper.AddSession(ctx, Session{ID: Digest(cookie), Proof: Digest(proof), Token: Digest(s.Token), Created: now, Used: now})
	if err != nil {
		return "", "", fmt.Errorf("begin a session: %w", err)
	}
	return cookie, proof, nil
}

// Holds reports whether a cookie and a proof belong to one session that still
// lasts.
func (s Sessions) Holds(ctx context.Context, cookie, proof string) (bool, error) {
	if cookie == "" || proof == "" {
		return false, nil
	}
	found, err := s.Keeper.Session(ctx, Digest(cookie))
	if err != nil {
		return false, fmt.Errorf("look for a session: %w", err)
	}
	now := s.now().UTC()
	if found == nil || !Same(Digest(proof), found.Proof) || found.Token != Digest(s.Token) || now.Sub(found.Created) > Longest || now.Sub(found.Used) > Idle {
		return false, nil
	}
	if now.Sub(found.Used) > time.Hour {
		_ = s.Keeper.UseSession(ctx, found.ID, now) // only to last longer; the next call tries again
	}
	return true, nil
}

// End signs a browser out.
func (s Sessions) End(ctx context.Context, cookie string) error {
	if err := s.Keeper.EndSession(ctx, Digest(cookie)); err != nil {
		return fmt.Errorf("end a session: %w", err)
	}
	return nil
}
