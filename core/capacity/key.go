package capacity

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"yarnpost/core/addr"
	"yarnpost/core/plan"
)

// Key names what a series is of: a scope, one of its pools, a link, a supernet, or all.
type Key struct {
	Scope    plan.ID
	Pool     addr.Range // of the scope; or not valid
	Link     plan.ID
	Supernet plan.ID
}

// All is the key of the whole.
var All = Key{}

// String is the key as it is stored, such as "scope 12".
func (k Key) String() string {
	switch {
	case k.Pool.Valid():
		return fmt.Sprintf("pool %d %s", k.Scope, k.Pool)
	case k.Scope != 0:
		return fmt.Sprintf("scope %d", k.Scope)
	case k.Link != 0:
		return fmt.Sprintf("link %d", k.Link)
	case k.Supernet != 0:
		return fmt.Sprintf("supernet %d", k.Supernet)
	}
	return "all"
}

// ParseKey is the inverse of String.
func ParseKey(text string) (k Key, err error) {
	kind, rest, _ := strings.Cut(text, " ")
	number, pool, _ := strings.Cut(rest, " ")
	id, bad := strconv.ParseInt(number, 10, 64)
	switch kind {
	case "all":
		return All, nil
	case "link":
		return Key{Link: plan.ID(id)}, bad
	case "supernet":
		return Key{Supernet: plan.ID(id)}, bad
	case "scope":
		return Key{Scope: plan.ID(id)}, bad
	case "pool":
		r, err := addr.ParseRange(pool)
		return Key{Scope: plan.ID(id), Pool: r}, errors.Join(bad, err)
	}
	return k, fmt.Errorf("%q names no series", text)
}
