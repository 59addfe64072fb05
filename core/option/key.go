package option

import (
	"fmt"
	"strconv"
	"strings"
)

// Key names an option wherever values are set: its codebook and its code. The
// zero Book is the standard codebook together with the administrator's own
// options of the message itself.
type Key struct {
	Book string
	Code uint8
}

// Std is the key of an option of the message itself.
func Std(code uint8) Key { return Key{Code: code} }

// String writes "3" for an option of the message, "accesspoint/241" for one of
// a codebook.
func (k Key) String() string {
	if k.Book == "" {
		return strconv.Itoa(int(k.Code))
	}
	return k.Book + "/" + strconv.Itoa(int(k.Code))
}

// MarshalText writes the key as String does.
func (k Key) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads what String writes.
func (k *Key) UnmarshalText(text []byte) error {
	book, code, ok := strings.Cut(string(text), "/")
	if !ok {
		book, code = "", string(text)
	}
	n, err := strconv.ParseUint(code, 10, 8)
	if err != nil {
		return fmt.Errorf("%q is not the key of an option", text)
	}
	*k = Key{book, uint8(n)}
	return nil
}

// Compare orders keys: options of the message by code, then books by name.
func (k Key) Compare(o Key) int {
	if c := strings.Compare(k.Book, o.Book); c != 0 {
		return c
	}
	return int(k.Code) - int(o.Code)
}

// HeaderBook is the codebook of the fixed fields for booting (RFC 2131 section
// 2), which are set like options.
const HeaderBook = "header"

// Codes of HeaderBook.
const (
	NextServer = 1 // siaddr
	ServerName = 2 // sname
	BootFile   = 3 // file
)

// Header4 is the codebook of the fixed fields for booting.
var Header4 = NewCodebook("header", []Def{
	def(NextServer, "Next Server", one(Address), "boot server (siaddr)"),
	def(ServerName, "Server Name", one(Text), "name of the boot server (sname), 63 octets at most"),
	def(BootFile, "Boot File", one(Text), "boot file (file), 127 octets at most"),
})
