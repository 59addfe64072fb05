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

// offerQueue holds offers in the order of Until, those that were taken
// included. It grows by blocks: a busy server has hundreds of thousands, and
// moving them all at once would hold up the packets.
type offerQueue struct {
	blocks []*[offerBlock]Offer
	begin  int // of the first block
	end    int // of the last block
}

const offerBlock = 1024

func (q *offerQueue) add(o Offer) {
	if len(q.blocks) == 0 || q.end == offerBlock {
		q.blocks = append(q.blocks, new([offerBlock]Offer))
		q.end = 0
	}
	q.blocks[len(q.blocks)-1][q.end] = o
	q.end++
}

func (q *offerQueue) empty() bool {
	return len(q.blocks) == 0 || len(q.blocks) == 1 && q.begin == q.end
}

func (q *offerQueue) first() (Offer, bool) {
	if q.empty() {
		return Offer{}, false
	}
	return q.blocks[0][q.begin], true
}

func (q *offerQueue) drop() {
	if q.begin++; q.begin == offerBlock {
		q.blocks, q.begin = q.blocks[1:], 0
	}
}
