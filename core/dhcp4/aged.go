package dhcp4

import (
	"encoding/binary"

	"yarnpost/core/option"
)

// Age takes from the times of an encoded reply, in place, what passed since it was
// made: the lease time (option 51) and when to renew and rebind (58 and 59), in
// seconds. Its client counts from when it gets the reply, or sent the request (RFC
// 2131 section 4.4.1), and the record from when it was decided. A lease for ever
// stays one. It reports whether anything is left of the lease.
func Age(b []byte, seconds uint32) bool {
	if len(b) < optionsAt {
		return true
	}
	for b = b[optionsAt:]; len(b) > 0 && b[0] != option.End; {
		if b[0] == 0 { // padding
			b = b[1:]
			continue
		}
		if len(b) < 2 || len(b) < 2+int(b[1]) {
			return true
		}
		code, data := b[0], b[2:2+int(b[1])]
		b = b[2+len(data):]
		if code != option.AddressTime && code != option.RenewalTime && code != option.RebindingTime || len(data) != 4 {
			continue
		}
		t := binary.BigEndian.Uint32(data)
		switch {
		case t == 1<<32-1:
		case t > seconds:
			binary.BigEndian.PutUint32(data, t-seconds)
		case code == option.AddressTime:
			return false
		default:
			binary.BigEndian.PutUint32(data, 0) // it is time already
		}
	}
	return true
}
