package pair

// Head is the newest revision of a plan as one server has it on disk. The hash is of
// the revision and of all before it, so it tells a whole line of revisions.
type Head struct {
	Number int64
	Hash   uint64
}

// Standing is how the plans of two servers stand to each other.
type Standing uint8

// The standings.
const (
	Together Standing = iota // both have the same
	Ahead                    // this server has more; the other is to take it
	Behind                   // the other has more
	Parted                   // both changed it: a person has to choose
)

func (s Standing) String() string { return [...]string{"together", "ahead", "behind", "parted"}[s] }

// Compare says how this server's plan stands to the partner's; at gives the hash of
// one of this server's own revisions. Where the partner's number is the higher, it
// knows better: known reports whether it has this server's head in its line.
func Compare(mine, theirs Head, at func(number int64) (hash uint64, ok bool), known bool) Standing {
	if theirs.Number > mine.Number {
		if known {
			return Behind
		}
		return Parted
	}
	switch hash, ok := at(theirs.Number); {
	case !ok || hash != theirs.Hash:
		return Parted
	case mine == theirs:
		return Together
	}
	return Ahead
}

// Chain is the hash of a revision that follows another: FNV-1a over the hash of the
// one before, big-endian, and the octets that describe the revision.
func Chain(before uint64, revision []byte) uint64 {
	const offset, prime = 14695981039346656037, 1099511628211
	h := uint64(offset)
	for i := 56; i >= 0; i -= 8 {
		h = (h ^ before>>i&0xff) * prime
	}
	for _, b := range revision {
		h = (h ^ uint64(b)) * prime
	}
	return h
}
