package access

import "context"

// Principal is who makes a call.
type Principal struct {
	By      string // "token" or "session"
	Session string // digest of the session's cookie, when it is one
}

type principalKey struct{}

// With is ctx with who makes the call.
func With(ctx context.Context, p Principal) context.Context {
	return context.WithValue(ctx, principalKey{}, p)
}

// Who makes the call; the zero Principal where nobody was asked to show who he is.
func Who(ctx context.Context) Principal {
	p, _ := ctx.Value(principalKey{}).(Principal)
	return p
}
