package operation

import (
	"slices"

	"plumbbob/internal/core/estate"
)

// Asker is who wants something done. Most are people; what acts by itself is of a kind
// of its own, and no account can have its name: that has a blank in it.
type Asker struct {
	Kind AskerKind  `json:"kind,omitempty"`
	Name string     `json:"name"`
	Role Role       `json:"role"`
	Via  estate.Key `json:"via"` // where their way to this service begins; empty when that is not known
}

// AskerKind is what kind of asker one is.
type AskerKind string

// The kinds of asker.
const (
	Somebody      AskerKind = ""               // with an account
	StandingOrder AskerKind = "standing order" // something that was laid down beforehand, such as a ladder
	AnotherSite   AskerKind = "site"           // a service elsewhere
)

// Person says whether an asker is somebody with an account.
func (a Asker) Person() bool { return a.Kind == Somebody }

// By is how an asker stands in the records: "k.oster", "standing order night-restart".
func (a Asker) By() string {
	if a.Person() {
		return a.Name
	}
	return string(a.Kind) + " " + a.Name
}

// Role is what somebody may do. Each has all rights of those before it.
type Role string

// The roles.
const (
	Viewer   Role = "viewer"
	Operator Role = "operator"
	Steward  Role = "steward"
	Keeper   Role = "keeper"
)

// Roles lists them.
var Roles = []Role{Viewer, Operator, Steward, Keeper}

// AtLeast says whether a role has all rights of another.
func (r Role) AtLeast(least Role) bool { return slices.Index(Roles, r) >= slices.Index(Roles, least) }
