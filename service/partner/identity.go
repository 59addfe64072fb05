// Package partner is the channel to the other server of a pair: TLS 1.3
// both ways with certificates that the pair made itself, messages of RFC 8156 and
// questions beside them, and forming a pair by an invitation. It decides nothing.
package partner

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base32"
	"encoding/binary"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"strconv"
	"strings"
	"time"
)

// NewIdentity makes a key and a certificate that nobody signed but itself, as PEM.
// Partners know each other by the certificate alone.
func NewIdentity(name string, now time.Time) ([]byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, fmt.Errorf("make a key: %w", err)
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return nil, fmt.Errorf("make a certificate: %w", err)
	}
	// It is pinned, so its times say nothing; clocks may be wrong when it is made.
	c := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: name}, NotBefore: now.AddDate(-1, 0, 0),
		NotAfter: now.AddDate(50, 0, 0), KeyUsage: x509.KeyUsageDigitalSignature}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	if err != nil {
		return nil, fmt.Errorf("make a certificate: %w", err)
	}
	secret, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		return nil, fmt.Errorf("write a key: %w", err)
	}
	var b bytes.Buffer
	for _, block := range []*pem.Block{{Type: "CERTIFICATE", Bytes: der}, {Type: "EC PRIVATE KEY", Bytes: secret}} {
		if err := pem.Encode(&b, block); err != nil {
			return nil, err
		}
	}
	return b.Bytes(), nil
}

func certificateOf(identity []byte) (tls.Certificate, error) {
	c, err := tls.X509KeyPair(identity, identity)
	if err != nil {
		return c, fmt.Errorf("read this server's certificate: %w", err)
	}
	return c, nil
}

// Invitation is what a server needs to join another: where that is heard, how its
// certificate is known, and a secret that is good once.
type Invitation struct {
	Address     string // host and port
	Fingerprint [32]byte
	Secret      [16]byte
}

// codePrefix begins an invitation as it is pasted; the number is its form's.
const codePrefix = "yarnpair1-"

var codeLetters = base32.NewEncoding("abcdefghijkmnpqrstuvwxyz23456789").WithPadding(base32.NoPadding)

// NewInvitation makes an invitation to a server with an identity.
func NewInvitation(address string, identity []byte) (i Invitation, err error) {
	host, port, err := net.SplitHostPort(address)
	if n, bad := strconv.ParseUint(port, 10, 16); err != nil || bad != nil || n == 0 || host == "" {
		return i, fmt.Errorf("%q does not say where this server is heard: a name or an address, a colon, a port", address)
	}
	c, err := certificateOf(identity)
	if err != nil {
		return i, err
	}
	i = Invitation{Address: address, Fingerprint: sha256.Sum256(c.Certificate[0])}
	_, err = rand.Read(i.Secret[:])
	return i, err
}

// Code is the invitation as one line to paste. Its last octets tell slips of the
// clipboard.
func (i Invitation) Code() string {
	b := append(append(i.Fingerprint[:len(i.Fingerprint):len(i.Fingerprint)], i.Secret[:]...), i.Address...)
	sum := sha256.Sum256(b)
	return codePrefix + codeLetters.EncodeToString(append(b, sum[:4]...))
}

// ParseInvitation reads what Code wrote.
func ParseInvitation(code string) (i Invitation, err error) {
	text, ok := strings.CutPrefix(strings.ToLower(strings.Join(strings.Fields(code), "")), codePrefix)
	if !ok {
		return i, errors.New("this is no invitation; paste the whole line that \"yarnpost pair invite\" printed")
	}
	b, err := codeLetters.DecodeString(text)
	const fixed = len(i.Fingerprint) + len(i.Secret)
	if err != nil || len(b) < fixed+4+3 {
		return i, errors.New("the invitation is cut short or changed; paste the whole line")
	}
	b, tail := b[:len(b)-4], b[len(b)-4:]
	if sum := sha256.Sum256(b); binary.BigEndian.Uint32(sum[:]) != binary.BigEndian.Uint32(tail) {
		return i, errors.New("the invitation is cut short or changed; paste the whole line")
	}
	copy(i.Fingerprint[:], b)
	copy(i.Secret[:], b[len(i.Fingerprint):])
	i.Address = string(b[fixed:])
	if _, _, err := net.SplitHostPort(i.Address); err != nil {
		return i, fmt.Errorf("the invitation names no address: %w", err)
	}
	return i, nil
}
