package option

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
)

// Family is the version of DHCP that an option is of.
type Family uint8

// The families; the zero value is V4, of which there were plans first.
const (
	V4 Family = iota
	V6
)

// Standard is the registered codebook of a family.
func Standard(f Family) *Codebook {
	if f == V6 {
		return Standard6
	}
	return Standard4
}

// Key names an option wherever values are set: the family, its codebook and its
// code. The zero Book is the standard codebook together with the administrator's
// own options of the message itself.
type Key struct {
	Family Family
	Book   string
	Code   uint16
}

// Std is the key of a DHCPv4 option of the message itself.
func Std(code uint16) Key { return Key{Code: code} }

// Std6 is the key of a DHCPv6 option of the message itself.
func Std6(code uint16) Key { return Key{Family: V6, Code: code} }

// mark6 stands before the keys of DHCPv6. No codebook can have that name.
const mark6 = "v6"

// String writes "3" for an option of the message, "accesspoint/241" for one of
// a codebook, and "v6/" before either for DHCPv6.
func (k Key) String() string {
	out := strconv.Itoa(int(k.Code))
	if k.Book != "" {
		out = k.Book + "/" + out
	}
	if k.Family == V6 {
		out = mark6 + "/" + out
	}
	return out
}

// MarshalText writes the key as String does.
func (k Key) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads what String writes.
func (k *Key) UnmarshalText(text []byte) error {
	out, rest := Key{}, string(text)
	if after, is6 := strings.CutPrefix(rest, mark6+"/"); is6 {
		out.Family, rest = V6, after
	}
	if book, code, ok := strings.Cut(rest, "/"); ok {
		out.Book, rest = book, code
	}
	bits := 8
	if out.Family == V6 || out.Book != "" {
		bits = 16
	}
	n, err := strconv.ParseUint(rest, 10, bits)
	if err != nil {
		return fmt.Errorf("%q is not the key of an option", text)
	}
	out.Code = uint16(n)
	*k = out
	return nil
}

// Compare orders keys: by family, then options of the message by code, then books
// by name.
func (k Key) Compare(o Key) int {
	if k.Book == o.Book && k.Family == o.Family {
		return int(k.Code) - int(o.Code)
	}
	return cmp.Or(cmp.Compare(k.Family, o.Family), strings.Compare(k.Book, o.Book))
}

// HeaderBook is the codebook of the fixed fields for booting (RFC 2131 section
// 2), which are set like options.
const HeaderBook = "header"

// Reserved reports whether a name cannot be that of a codebook.
func Reserved(book string) bool { return book == HeaderBook || book == mark6 || book == "v4" }

// Codes of HeaderBook.
const (
	NextServer = 1 // siaddr
	ServerName = 2 // sname
	BootFile   = 3 // file
)

// Codes of HeaderBook with DHCPv6: times of an association, which are set like options.
const (
	RenewalTime6   = 1 // T1
	RebindingTime6 = 2 // T2
)

// Header6 is the codebook of the times of an association (RFC 8415 section 14.2).
var Header6 = NewCodebook("header", []Def{
	def(RenewalTime6, "Renewal Time", one(Duration), "when clients renew (T1), if it is not half the lease time"),
	def(RebindingTime6, "Rebinding Time", one(Duration), "when clients ask any server (T2), if it is not 8 tenths of the lease time"),
})

// Header4 is the codebook of the fixed fields for booting.
var Header4 = NewCodebook("header", []Def{
	def(NextServer, "Next Server", one(Address), "boot server (siaddr)"),
	def(ServerName, "Server Name", one(Text), "name of the boot server (sname), 63 octets at most"),
	def(BootFile, "Boot File", one(Text), "boot file (file), 127 octets at most"),
})
