package store

import (
	"context"
	"fmt"
)

// Identity is what a server keeps for good, whatever machine it runs on.
type Identity struct {
	DUID      []byte // by which clients of DHCPv6 know it
	ChoiceKey []byte // by which pools of IPv6 choose what a client gets (RFC 7943)
}

// Identity gives what the server is known by; the first time it takes the fresh one for good.
func (s *Store) Identity(ctx context.Context, fresh Identity) (i Identity, err error) {
	err = s.pool.QueryRow(ctx, `update server set duid = coalesce(duid, $1), choice_key = coalesce(choice_key, $2)
		returning duid, choice_key`, fresh.DUID, fresh.ChoiceKey).Scan(&i.DUID, &i.ChoiceKey)
	if err != nil {
		return i, fmt.Errorf("read what the server is known by: %w", err)
	}
	return i, nil
}
