package pair

import (
	"encoding/binary"
	"fmt"
	"time"

	"yarnpost/core/effect"
	"yarnpost/core/lease"
	"yarnpost/core/pair/message"
)

// What two servers say to each other about themselves (RFC 8156 sections 6 and 8).

// protocolVersion is F_PROTOCOL_VERSION: major and minor, two octets each. Version 1 knew no IPv6.
const protocolVersion = 2 << 16

// Options beside those of RFC 8156, in CONNECT and CONNECTREPLY.
const ownSplit = 65002 // of 100 clients, how many are the primary's, in one octet

// Flags of F_SERVER_FLAGS; the second is ours.
const (
	flagStartup = 1
	flagResting = 64
)

// Opened says that there is a connection: the primary speaks first (RFC 8156
// section 6.1.1).
func (s *Server) Opened(now lease.Time) []effect.List {
	s.link = link{open: true, heard: now, number: s.link.number, ahead: s.link.ahead, refused: s.link.refused}
	s.asked, s.updated = false, false
	if s.set.Side == lease.Primary {
		m := message.Message{Type: message.Connect}
		m.Options.PutUint32(message.ProtocolVersion, protocolVersion)
		m.Options.PutUint32(message.LeadTime, uint32(s.set.MCLT/time.Second))
		m.Options.PutUint32(message.KeepaliveTime, uint32(s.set.Contact/time.Second))
		m.Options.PutUint32(message.MaxUnackedBndUpd, uint32(s.Sizes.Window))
		m.Options.Put(message.RelationshipName, []byte(s.set.Name))
		m.Options.PutUint8(ownSplit, uint8(s.set.Split))
		s.send(m, now)
	}
	return s.take()
}

// Closed says that the connection is no more.
func (s *Server) Closed(now lease.Time) []effect.List {
	if s.link.open {
		if s.link.agreed {
			s.rec.Contact = max(s.rec.Contact, s.link.heard)
		}
		s.link = link{number: s.link.number, ahead: s.link.ahead, refused: s.link.refused}
		s.asked, s.updated = false, false
		s.outbox.cut()
		s.walks.all = nil
	}
	s.advance(now)
	return s.take()
}

// Received takes a message in. An error says that the connection is of no use.
func (s *Server) Received(m message.Message, now lease.Time) ([]effect.List, error) {
	if !s.link.open {
		return nil, nil
	}
	s.link.heard, s.now = now, now
	s.measure(m.Sent, now)
	var err error
	switch {
	case m.Type == message.Connect:
		err = s.connect(m, now)
	case m.Type == message.ConnectReply:
		err = s.connectReply(m, now)
	case !s.link.agreed:
		err = fmt.Errorf("%s before CONNECT", m.Type)
	default:
		err = s.takeIn(m, now)
	}
	if err != nil {
		return s.take(), err
	}
	s.advance(now)
	s.ask(now)
	s.pump(now)
	return s.take(), nil
}

func (s *Server) takeIn(m message.Message, now lease.Time) error {
	switch m.Type {
	case message.StateMsg:
		return s.stateOf(m, now)
	case message.BndUpd:
		return s.learn(m, now)
	case message.BndReply:
		return s.acknowledged(m, now)
	case message.PoolReq:
		s.send(message.Message{Type: message.PoolResp, Transaction: m.Transaction}, now)
		s.lend(m, now)
	case message.UpdReq:
		s.outbox.promise(m.Transaction)
	case message.UpdReqAll:
		s.outbox.promise(m.Transaction)
		s.rec.setTold(false) // it lost what it knew
		s.walks.all = s.table.Iterator(0)
	case message.UpdDone:
		s.updated = s.asked
	case message.Disconnect:
		return fmt.Errorf("the partner hangs up")
	}
	return nil // what is not known is ignored
}

// measure estimates by how much the partner's clock is ahead: a message that took
// time makes it look behind.
func (s *Server) measure(sent uint32, now lease.Time) {
	ahead := int64(int32(sent - message.Stamp(now, now)))
	if !s.link.measured || ahead > s.link.ahead {
		s.link.ahead, s.link.measured = ahead, true
	} else if s.link.ahead-ahead > 2 { // clocks drift
		s.link.ahead--
	}
}

// agree checks what the other says of the pair.
func (s *Server) agree(m message.Message) (status uint16, text string) {
	version, _ := m.Options.Uint32(message.ProtocolVersion)
	lead, _ := m.Options.Uint32(message.LeadTime)
	name, _ := m.Options.Get(message.RelationshipName)
	split, _ := m.Options.Uint8(ownSplit)
	switch {
	case version>>16 != protocolVersion>>16:
		return message.ConfigurationConflict,
			fmt.Sprintf("the %s speaks version %d of the protocol, the %s version %d; they may differ by none",
				s.set.Side.Other(), version>>16,
				s.set.Side, protocolVersion>>16)
	case string(name) != s.set.Name:
		return message.ConfigurationConflict, fmt.Sprintf("the %s is of pair %q, the %s of %q", s.set.Side.Other(), name, s.set.Side,
			s.set.Name)
	case time.Duration(lead)*time.Second != s.set.MCLT, int(split) != s.set.Split:
		return message.ConfigurationConflict, "lead time or split of the two differ"
	case time.Duration(max(s.link.ahead, -s.link.ahead))*time.Second > s.set.MaxSkewed:
		first, second, by := s.set.Side.Other(), s.set.Side, time.Duration(s.link.ahead)*time.Second
		if by < 0 {
			first, second, by = second, first, -by
		}
		return message.ExcessiveTimeSkew,
			fmt.Sprintf("the clock of the %s is %s ahead of that of the %s, and %s is the most; set both by a time server", first, by,
				second, s.set.MaxSkewed)
	}
	return 0, ""
}

func (s *Server) connect(m message.Message, now lease.Time) error {
	if s.set.Side != lease.Secondary {
		return fmt.Errorf("both servers are the primary")
	}
	status, text := s.agree(m)
	r := message.Message{Type: message.ConnectReply, Transaction: m.Transaction}
	for _, o := range m.Options {
		if o.Code != message.StatusCode {
			r.Options = append(r.Options, o)
		}
	}
	if status != 0 {
		r.Options.Put(message.StatusCode, append(binary.BigEndian.AppendUint16(nil, status), text...))
	}
	s.send(r, now)
	return s.agreed(text, now)
}

func (s *Server) connectReply(m message.Message, now lease.Time) error {
	if s.set.Side != lease.Primary {
		return fmt.Errorf("both servers are the secondary")
	}
	if b, ok := m.Options.Get(message.StatusCode); ok && len(b) >= 2 && binary.BigEndian.Uint16(b) != 0 {
		return s.agreed(string(b[2:]), now)
	}
	_, text := s.agree(m)
	return s.agreed(text, now)
}

func (s *Server) agreed(refused string, now lease.Time) error {
	if s.link.refused = refused; refused != "" {
		return fmt.Errorf("no pair with this partner: %s", refused)
	}
	s.link.agreed = true
	s.table.Claim(false) // what was given of its half is on record, and reaches it before it gives anything
	s.outbox.retry()
	s.sayState(now)
	return nil
}

// sayState tells the partner where this server stands (RFC 8156 section 6.4.1): a
// server that starts up says what is on its record.
func (s *Server) sayState(now lease.Time) {
	if !s.link.agreed {
		return
	}
	state, flags := s.state, uint8(0)
	if s.state == Startup {
		flags |= flagStartup
		if state = s.rec.State; state == 0 {
			state = Recover
		}
	}
	if s.rests() {
		flags |= flagResting
	}
	m := message.Message{Type: message.StateMsg}
	m.Options.PutUint8(message.ServerState, uint8(state))
	m.Options.PutUint8(message.ServerFlags, flags)
	m.Options.PutUint32(message.StartTimeOfState, message.Stamp(s.rec.Since, now))
	s.send(m, now)
}

func (s *Server) stateOf(m message.Message, now lease.Time) error {
	n, ok := m.Options.Uint8(message.ServerState)
	if !ok || State(n) < Startup || State(n) > ConflictDone {
		return fmt.Errorf("STATE says %d", n)
	}
	flags, _ := m.Options.Uint8(message.ServerFlags)
	was := s.link.partner
	s.link.partner, s.link.starting, s.link.resting = State(n), flags&flagStartup != 0, flags&flagResting != 0
	if s.link.partner == ConflictDone && was != ConflictDone && s.state == PotentialConflict {
		s.asked, s.updated = false, false // what it knows now counts
	}
	return nil
}

// Alive says that something came from the partner at a moment, though it may not have
// been looked at yet.
func (s *Server) Alive(at lease.Time) {
	if s.link.open {
		s.link.heard = max(s.link.heard, at)
	}
}

// Tick does what time asks for; call it about once a second. Hangup reports that
// the partner was not heard for too long.
func (s *Server) Tick(now lease.Time) (lists []effect.List, hangup bool) {
	late := s.ticked != 0 && now.Sub(s.ticked) > s.set.Contact
	s.now, s.ticked = now, now
	if s.link.open {
		if late { // this server did not look for so long, so it cannot know that nothing came
			s.link.heard = max(s.link.heard, now.Add(-s.set.Contact))
		}
		silent := now.Sub(s.link.heard)
		if hangup = silent > 3*s.set.Contact; hangup {
			return s.Closed(now), true
		}
		if s.link.agreed && now.Sub(s.link.said) >= s.set.Contact {
			s.send(message.Message{Type: message.Contact}, now)
		}
	}
	if d := s.set.AutoDown; d > 0 && s.state == CommunicationsInterrupted && s.next == nil && now.Sub(s.rec.Since) >= d {
		s.down = true
	}
	s.outbox.age(now)
	s.forgetConflicts(now)
	s.advance(now)
	s.ask(now)
	s.walk(now)
	s.pump(now)
	return s.take(), false
}
