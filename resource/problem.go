package resource

// Kinds of problems that clients of this project branch on; GET /problems lists all.
const (
	ProblemNotFound = "not-found"
	ProblemNotEnded = "not-ended"
	ProblemTaken    = "taken"
	ProblemOutside  = "outside-array-folders"
)

// ProblemType is the type of a problem of some kind, as RFC 9457 has it: where it leads, there are
// words about it.
func ProblemType(kind string) string { return "/api/v1/problems/" + kind }
