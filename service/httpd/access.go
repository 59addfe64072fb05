package httpd

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/argon2"
	"golang.org/x/term"

	"yarnpost/service/node"
	"yarnpost/service/store"
)

// sessionTime is how long a sign-in holds.
const sessionTime = 12 * time.Hour

// Access knows who may do what. It answers from memory, so that signing in
// works while the database is away, and records what must last.
type Access struct {
	store *store.Store

	mu       sync.Mutex
	accounts map[string]store.Account
	grants   map[[32]byte]store.Grant
	failures map[string][]time.Time // by account, of the last minute
}

// ErrSignIn is given for a wrong name and a wrong password alike.
var ErrSignIn = errors.New("account and password do not fit together")

// ErrTooMany is given after too many failed attempts.
var ErrTooMany = errors.New("too many failed attempts; wait a minute and try again")

// OpenAccess reads accounts and grants. On the first start it creates the
// administrator: the one-time password is shown on the terminal alone, or kept
// in a file of mode 0600 where there is none, and an API token goes to
// admin.token.
func OpenAccess(ctx context.Context, s *store.Store, dir string, log *slog.Logger) (*Access, error) {
	accounts, grants, err := s.LoadAccess(ctx)
	if err != nil {
		return nil, err
	}
	a := &Access{store: s, accounts: map[string]store.Account{}, grants: map[[32]byte]store.Grant{}, failures: map[string][]time.Time{}}
	for _, acc := range accounts {
		a.accounts[acc.Name] = acc
	}
	for _, g := range grants {
		a.grants[[32]byte(g.Hash)] = g
	}
	if len(accounts) > 0 {
		return a, nil
	}
	password := secret(12)
	if err := a.setPassword(ctx, "admin", password, true); err != nil {
		return nil, err
	}
	token := "yp_" + secret(32)
	g := store.Grant{Hash: hashOf(token), Account: "admin", Name: "admin.token"}
	if err := s.SaveGrant(ctx, g); err != nil {
		return nil, err
	}
	a.grants[[32]byte(g.Hash)] = g
	if err := node.WriteSecret(dir, "admin.token", token); err != nil {
		return nil, err
	}
	if term.IsTerminal(int(os.Stderr.Fd())) {
		fmt.Fprintf(os.Stderr, "\n  The administrator's account is admin, its one-time password %s\n  Sign in to the console and choose your own.\n\n", password)
	} else if err := node.WriteSecret(dir, "admin.password", password); err != nil {
		return nil, err
	}
	log.Info("created the account admin", "token", dir+"/admin.token")
	return a, nil
}

func secret(octets int) string {
	b := make([]byte, octets)
	rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b)
}

func hashOf(secret string) []byte {
	h := sha256.Sum256([]byte(secret))
	return h[:]
}

// argon2id parameters: passes, memory in KiB, threads (RFC 9106 section 4,
// second choice, with less memory for small machines).
const (
	argonTime    = 3
	argonMemory  = 32 * 1024
	argonThreads = 2
)

func hashPassword(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	key := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, 32)
	e := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads, e.EncodeToString(salt), e.EncodeToString(key))
}

func checkPassword(encoded, password string) bool {
	parts := strings.Split(encoded, "$")
	if len(parts) != 6 {
		return false
	}
	var memory, passes uint32
	var threads uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &passes, &threads); err != nil {
		return false
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if err != nil {
		return false
	}
	want, err := base64.RawStdEncoding.DecodeString(parts[5])
	if err != nil {
		return false
	}
	return subtle.ConstantTimeCompare(argon2.IDKey([]byte(password), salt, passes, memory, threads, uint32(len(want))), want) == 1
}

// nobody is checked against where there is no such account, so that both take
// the same time.
var nobody = sync.OnceValue(func() string { return hashPassword(secret(16)) })

// SignIn gives the secret of a new session.
func (a *Access) SignIn(ctx context.Context, account, password string) (cookie string, err error) {
	a.mu.Lock()
	recent := a.failures[account][:0]
	for _, t := range a.failures[account] {
		if time.Since(t) < time.Minute {
			recent = append(recent, t)
		}
	}
	if len(recent) == 0 {
		delete(a.failures, account)
	} else {
		a.failures[account] = recent
	}
	acc, known := a.accounts[account]
	a.mu.Unlock()
	if len(recent) >= 5 {
		return "", ErrTooMany
	}
	encoded := acc.Password
	if !known {
		encoded = nobody()
	}
	if !checkPassword(encoded, password) || !known {
		a.mu.Lock()
		if len(a.failures) < 10000 {
			a.failures[account] = append(a.failures[account], time.Now())
		}
		a.mu.Unlock()
		return "", ErrSignIn
	}
	cookie = secret(32)
	g := store.Grant{Hash: hashOf(cookie), Account: account, Expires: time.Now().Add(sessionTime)}
	if err := a.store.SaveGrant(ctx, g); err != nil {
		return "", err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	for h, old := range a.grants {
		if old.Name == "" && time.Now().After(old.Expires) {
			delete(a.grants, h)
		}
	}
	a.grants[[32]byte(g.Hash)] = g
	return cookie, nil
}

// Who tells whose secret this is; ok is false for one that does not hold.
func (a *Access) Who(secret string) (account store.Account, ok bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	g, ok := a.grants[[32]byte(hashOf(secret))]
	if !ok || g.Name == "" && time.Now().After(g.Expires) {
		return store.Account{}, false
	}
	account, ok = a.accounts[g.Account]
	if g.Name != "" {
		account.MustChange = false // a token has no password to change
	}
	return account, ok
}

// SignOut ends a session.
func (a *Access) SignOut(ctx context.Context, cookie string) error {
	h := hashOf(cookie)
	a.mu.Lock()
	delete(a.grants, [32]byte(h))
	a.mu.Unlock()
	return a.store.EndSession(ctx, h)
}

// ChangePassword replaces one's own password and ends all one's sessions.
func (a *Access) ChangePassword(ctx context.Context, account, old, password string) error {
	a.mu.Lock()
	acc := a.accounts[account]
	a.mu.Unlock()
	if !checkPassword(acc.Password, old) {
		return ErrSignIn
	}
	return a.setPassword(ctx, account, password, false)
}

// SetPassword sets the password of an account, which is made if need be.
func (a *Access) SetPassword(ctx context.Context, account, password string) error {
	return a.setPassword(ctx, account, password, false)
}

func (a *Access) setPassword(ctx context.Context, account, password string, mustChange bool) error {
	acc := store.Account{Name: account, Password: hashPassword(password), MustChange: mustChange}
	if err := a.store.SaveAccount(ctx, acc); err != nil {
		return err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.accounts[account] = acc
	for h, g := range a.grants {
		if g.Account == account && g.Name == "" {
			delete(a.grants, h)
		}
	}
	return nil
}
