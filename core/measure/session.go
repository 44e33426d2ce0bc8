package measure

import "slices"

// Session is what the two sides of a session agreed on, and how many had the same over the
// same way.
type Session struct {
	Over  string   `json:"over" doc:"The portal it led to, as address:port"`
	Count int      `json:"count" doc:"Sessions, of all workers, that agreed on the same over it"`
	Keys  []Agreed `json:"keys"`

	Operations int64 `json:"operations,omitempty" doc:"Operations that were asked of them while they were measured, warm-up included"`
	Commands   int64 `json:"commands,omitempty" doc:"Commands that were sent for those"`
	Sent       int64 `json:"sentBytes,omitempty" doc:"Bytes that were sent, all headers of the protocol included, those of TCP and below not"`
	Received   int64 `json:"receivedBytes,omitempty" doc:"And received"`
}

// Agreed is what became of one key of a session.
type Agreed struct {
	Key      string `json:"key" doc:"Its name in the standard of the protocol (RFC 7143)"`
	Offered  string `json:"offered,omitempty" doc:"What this host offered, or declared for itself; absent where it said nothing"`
	Answered string `json:"answered,omitempty" doc:"What the target answered, or declared for itself; absent where it said nothing"`
	InEffect string `json:"inEffect"`
	Cut      string `json:"cut,omitempty" enum:"initiator,target" doc:"The side that did not take what the other wished"`
}

// JoinSessions adds sessions to others: those that agreed on the same over the same way
// are counted together.
func JoinSessions(all, more []Session) []Session {
	for _, s := range more {
		i := slices.IndexFunc(all, func(have Session) bool { return have.Over == s.Over && slices.Equal(have.Keys, s.Keys) })
		if i < 0 {
			all = append(all, s)
			continue
		}
		all[i].Count += s.Count
		all[i].Operations += s.Operations
		all[i].Commands += s.Commands
		all[i].Sent += s.Sent
		all[i].Received += s.Received
	}
	return all
}
