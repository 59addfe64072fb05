package lease

import "net/netip"

// offers are promises that stand, one a key and one a client.
type offers struct {
	n  int // how many; most of the time and in most scopes none, so that nothing else is looked at
	at map[netip.Prefix]Offer
	to map[Client]netip.Prefix
}

func newOffers() offers {
	return offers{at: map[netip.Prefix]Offer{}, to: map[Client]netip.Prefix{}}
}

// on is the offer of a key.
func (o *offers) on(k netip.Prefix) (of Offer, ok bool) {
	if o.n > 0 {
		of, ok = o.at[k]
	}
	return of, ok
}

// made is the key on offer to a client.
func (o *offers) made(c Client) (k netip.Prefix, ok bool) {
	if o.n > 0 {
		k, ok = o.to[c]
	}
	return k, ok
}

func (o *offers) put(n Offer) {
	if old, ok := o.at[n.Prefix]; ok && old.Client != n.Client {
		delete(o.to, old.Client)
	}
	o.at[n.Prefix], o.to[n.Client] = n, n.Prefix
	o.n = len(o.at)
}

func (o *offers) drop(n Offer) {
	delete(o.at, n.Prefix)
	delete(o.to, n.Client)
	o.n = len(o.at)
}
