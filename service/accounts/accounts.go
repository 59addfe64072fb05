// Package accounts keeps who may do what: accounts with their passwords, sessions, and API
// tokens. It answers from memory, so that signing in works while the database is away, and
// records what must last. It knows nothing of HTTP.
package accounts

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
	"golang.org/x/term"

	"yarnpost/service/store"
)

// SessionTime is how long a sign-in holds.
const SessionTime = 12 * time.Hour

// Keeper keeps the accounts of a service.
type Keeper struct {
	store   Store
	now     func() time.Time
	count   func(result string)
	log     *slog.Logger
	dir     string // where admin.password may lie
	limiter *limiter

	mu       sync.Mutex
	accounts map[string]store.Account
	grants   map[[32]byte]store.Grant
	gone     map[[32]byte]bool // tokens that were revoked
	changed  chan struct{}     // closed and made anew when grants end
}

// Store records accounts and what gives access to them.
type Store interface {
	LoadAccess(ctx context.Context, now time.Time) ([]store.Account, []store.Grant, error)
	SaveAccount(context.Context, store.Account) error
	SaveGrant(ctx context.Context, g store.Grant, now time.Time) error
	EndSession(ctx context.Context, hash []byte) error
	EndToken(ctx context.Context, account, name string) error
	GoneTokens(context.Context) ([][]byte, error)
	MergeAccess(context.Context, store.Access) error
}

// ErrSignIn is given for a wrong name and a wrong password alike.
var ErrSignIn = errors.New("account and password do not fit together")

// ErrTooMany is given when too many attempts wait already.
var ErrTooMany = errors.New("too many attempts to sign in; wait a minute and try again")

// ErrWeak is wrapped when a new password will not do.
var ErrWeak = errors.New("the new password will not do")

// Limits of what is worked on at a time: a check takes 32 MB and two cores for a
// moment.
const (
	checksMost   = 2
	accountMost  = 64  // octets of an account's name
	passwordMost = 256 // octets of a password
)

// Open reads accounts and grants. On the first start it creates the
// administrator: the one-time password is shown on the terminal alone, or kept
// in a file of mode 0600 where there is none, and an API token goes to
// admin.token. Attempts to sign in are told to count.
func Open(ctx context.Context, s Store, dir string, now func() time.Time, count func(result string),
	log *slog.Logger) (*Keeper, error) {
	accounts, grants, err := s.LoadAccess(ctx, now())
	if err != nil {
		return nil, err
	}
	a := &Keeper{store: s, now: now, count: count, log: log, dir: dir, limiter: newLimiter(now, checksMost),
		accounts: map[string]store.Account{}, grants: map[[32]byte]store.Grant{}, gone: map[[32]byte]bool{}, changed: make(chan struct{})}
	for _, acc := range accounts {
		a.accounts[acc.Name] = acc
	}
	for _, g := range grants {
		a.grants[[32]byte(g.Hash)] = g
	}
	if len(accounts) > 0 {
		return a, a.Reload(ctx)
	}
	password := secret(12)
	if err := a.setPassword(ctx, "admin", password, true); err != nil {
		return nil, err
	}
	token, err := a.AddToken(ctx, "admin", "admin.token")
	if err != nil {
		return nil, err
	}
	if err := writeSecret(dir, "admin.token", token); err != nil {
		return nil, err
	}
	if term.IsTerminal(int(os.Stderr.Fd())) {
		fmt.Fprintf(os.Stderr,
			"\n  The administrator's account is admin, its one-time password %s\n  Sign in to the console and choose your own.\n\n",
			password)
	} else if err := writeSecret(dir, passwordFile, password); err != nil {
		return nil, err
	}
	if info, err := os.Stat(filepath.Join(dir, passwordFile)); err == nil && info.Size() == 0 {
		os.Remove(filepath.Join(dir, passwordFile))
	}
	log.Info("created the account admin", "token", dir+"/admin.token")
	return a, nil
}

// passwordFile keeps the one-time password until it is used.
const passwordFile = "admin.password"

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
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads, e.EncodeToString(salt),
		e.EncodeToString(key))
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

// verify checks an account's password on behalf of a source, which is an address
// without a port. The attempt is counted before anything is checked; beyond a few
// failures attempts are paced, and never refused only because others failed.
func (a *Keeper) verify(ctx context.Context, source, account, password string) error {
	if len(account) > accountMost || len(password) > passwordMost {
		return ErrSignIn
	}
	acc, known := a.account(account)
	try, err := a.limiter.begin(ctx, source, account, known)
	if err != nil {
		a.countSignIn("refused", source, account)
		return err
	}
	defer try.done()
	encoded := acc.Password
	if known = known && encoded != ""; !known {
		encoded = nobody()
	}
	if !checkPassword(encoded, password) || !known {
		a.countSignIn("failed", source, account)
		return ErrSignIn
	}
	try.good()
	return nil
}

func (a *Keeper) account(name string) (acc store.Account, known bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	acc, known = a.accounts[name]
	return acc, known
}

func (a *Keeper) countSignIn(result, source, account string) {
	a.count(result)
	a.log.Info("sign-in "+result, "account", fmt.Sprintf("%.64q", account), "from", source)
}

// SignIn gives the secret of a new session.
func (a *Keeper) SignIn(ctx context.Context, source, account, password string) (cookie string, err error) {
	if err := a.verify(ctx, source, account, password); err != nil {
		return "", err
	}
	cookie = secret(32)
	g := store.Grant{Hash: hashOf(cookie), Account: account, Expires: a.now().Add(SessionTime)}
	if err := a.store.SaveGrant(ctx, g, a.now()); err != nil { // whoever mends the database has to see what is wrong
		a.log.Warn("a session is not on record, and ends with this process", "account", account, "err", err)
	}
	a.countSignIn("good", source, account)
	if account == "admin" && os.Remove(filepath.Join(a.dir, passwordFile)) == nil {
		a.log.Info("the one-time password was used; its file is gone")
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	for h, old := range a.grants {
		if old.Name == "" && a.now().After(old.Expires) {
			delete(a.grants, h)
		}
	}
	a.grants[[32]byte(g.Hash)] = g
	return cookie, nil
}

// Who tells whose secret this is; ok is false for one that does not hold.
func (a *Keeper) Who(secret string) (account store.Account, ok bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	g, ok := a.grants[[32]byte(hashOf(secret))]
	if !ok || g.Name == "" && a.now().After(g.Expires) {
		return store.Account{}, false
	}
	account, ok = a.accounts[g.Account]
	if g.Name != "" {
		account.MustChange = false // a token has no password to change
	}
	return account, ok
}

// Changed is closed when grants end: whoever acts on one looks again whether it
// still holds.
func (a *Keeper) Changed() <-chan struct{} {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.changed
}

// end forgets the grants that fit. The caller holds the lock.
func (a *Keeper) end(fits func(store.Grant) bool) {
	for h, g := range a.grants {
		if fits(g) {
			delete(a.grants, h)
		}
	}
	close(a.changed)
	a.changed = make(chan struct{})
}

// SignOut ends a session.
func (a *Keeper) SignOut(ctx context.Context, cookie string) error {
	h := hashOf(cookie)
	a.endSession(h)
	return a.store.EndSession(ctx, h)
}

func (a *Keeper) endSession(hash []byte) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.end(func(g store.Grant) bool { return g.Name == "" && bytes.Equal(g.Hash, hash) })
}

// ChangePassword replaces one's own password and ends all one's sessions.
func (a *Keeper) ChangePassword(ctx context.Context, source, account, old, password string) error {
	if err := a.verify(ctx, source, account, old); err != nil {
		return err
	}
	if err := strong(account, old, password); err != nil {
		return err
	}
	if err := a.setPassword(ctx, account, password, false); err != nil {
		return err
	}
	a.log.Info("password replaced", "account", account, "from", source)
	return nil
}

// SetPassword sets the password of an account, which is made if need be.
func (a *Keeper) SetPassword(ctx context.Context, account, password string) error {
	return a.setPassword(ctx, account, password, false)
}

func (a *Keeper) setPassword(ctx context.Context, account, password string, mustChange bool) error {
	acc := store.Account{Name: account, Password: hashPassword(password), MustChange: mustChange,
		Changed: a.now().UTC().Truncate(time.Microsecond)}
	return a.keep(ctx, acc)
}

// keep records what an account has become, which ends its sessions.
func (a *Keeper) keep(ctx context.Context, acc store.Account) error {
	if err := a.store.SaveAccount(ctx, acc); err != nil {
		return err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.accounts[acc.Name] = acc
	a.end(func(g store.Grant) bool { return g.Account == acc.Name && g.Name == "" })
	return nil
}

// Accounts lists the accounts by name, those that are closed, too: their passwords are empty.
func (a *Keeper) Accounts() []store.Account {
	a.mu.Lock()
	defer a.mu.Unlock()
	out := slices.Collect(maps.Values(a.accounts))
	slices.SortFunc(out, func(x, y store.Account) int { return strings.Compare(x.Name, y.Name) })
	return out
}

// ErrAccount is wrapped when an account is there already, is not there, or has to stay.
var ErrAccount = errors.New("account")

// accountNames are what accounts can be called.
var accountNames = regexp.MustCompile("^[a-z0-9]([a-z0-9._-]{0,62}[a-z0-9])?$")

// AddAccount makes an account, or opens a closed one again, and gives its one-time password, which
// is nowhere else.
func (a *Keeper) AddAccount(ctx context.Context, name string) (password string, err error) {
	if !accountNames.MatchString(name) {
		return "", fmt.Errorf("%w: %.80q cannot be the name of one; use small letters and digits, with dots, dashes and underscores between, 64 at most",
			ErrAccount, name)
	}
	if acc, known := a.account(name); known && acc.Password != "" {
		return "", fmt.Errorf("%w %s is there already; choose another name", ErrAccount, name)
	}
	password = secret(12)
	if err := a.setPassword(ctx, name, password, true); err != nil {
		return "", err
	}
	a.log.Info("account added", "account", name)
	return password, nil
}

// CloseAccount ends an account at once, with its sessions and tokens. Its name stays, since history
// and trail name it.
func (a *Keeper) CloseAccount(ctx context.Context, name, by string) error {
	acc, known := a.account(name)
	switch {
	case !known || acc.Password == "":
		return fmt.Errorf("%w %s is not there; yarnpost account list shows all", ErrAccount, name)
	case name == by:
		return fmt.Errorf("%w %s is your own; somebody else closes it", ErrAccount, name)
	}
	for _, g := range a.Tokens() {
		if g.Account == name {
			if err := a.RevokeToken(ctx, name, g.Name); err != nil {
				return err
			}
		}
	}
	if err := a.keep(ctx, store.Account{Name: name, Changed: a.now().UTC().Truncate(time.Microsecond)}); err != nil {
		return err
	}
	a.log.Info("account closed", "account", name, "by", by)
	return nil
}

// passwordLeast is how many characters a password has at least.
const passwordLeast = 10

// common are passwords that everybody tries first, or parts of them.
var common = []string{"password", "passwort", "1234567", "qwerty", "qwertz", "letmein", "welcome", "administrator", "changeme", "iloveyou",
	"yarnpost", "dhcp"}

// strong refuses passwords that are short, unchanged, or soon guessed.
func strong(account, old, password string) error {
	weak := func(why string) error { return fmt.Errorf("%w: %s", ErrWeak, why) }
	plain := strings.ToLower(password)
	different := map[rune]bool{}
	for _, r := range plain {
		different[r] = true
	}
	rest := plain
	for _, part := range append(common, strings.ToLower(account)) {
		rest = strings.ReplaceAll(rest, part, "")
	}
	switch {
	case utf8.RuneCountInString(password) < passwordLeast:
		return weak(fmt.Sprintf("it has %d characters at least", passwordLeast))
	case len(password) > passwordMost:
		return weak(fmt.Sprintf("it takes %d octets at most", passwordMost))
	case password == old:
		return weak("it is the old one")
	case len(different) < 5:
		return weak("it has too few different characters")
	case utf8.RuneCountInString(rest) < 6:
		return weak("it is one that everybody tries first; take some words that belong to nothing")
	}
	return nil
}

// Tokens lists the API tokens by account and name.
func (a *Keeper) Tokens() []store.Grant {
	a.mu.Lock()
	defer a.mu.Unlock()
	var out []store.Grant
	for _, g := range a.grants {
		if g.Name != "" {
			out = append(out, g)
		}
	}
	slices.SortFunc(out, func(a, b store.Grant) int {
		return cmp.Or(strings.Compare(a.Account, b.Account), strings.Compare(a.Name, b.Name))
	})
	return out
}

// ErrToken is wrapped when a token is there already, or is not there.
var ErrToken = errors.New("API token")

// AddToken makes an API token of an account and gives its secret, which is
// nowhere else.
func (a *Keeper) AddToken(ctx context.Context, account, name string) (string, error) {
	for _, g := range a.Tokens() {
		if g.Account == account && g.Name == name {
			return "", fmt.Errorf("%w %s is there already; revoke it first, or choose another name", ErrToken, name)
		}
	}
	token := "yp_" + secret(32)
	g := store.Grant{Hash: hashOf(token), Account: account, Name: name, Made: a.now()}
	if err := a.store.SaveGrant(ctx, g, a.now()); err != nil {
		return "", err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.grants[[32]byte(g.Hash)] = g
	return token, nil
}

// RevokeToken ends an API token of an account.
func (a *Keeper) RevokeToken(ctx context.Context, account, name string) error {
	if !slices.ContainsFunc(a.Tokens(), func(g store.Grant) bool { return g.Account == account && g.Name == name }) {
		return fmt.Errorf("%w %s is not there; yarnpost token list shows all", ErrToken, name)
	}
	if err := a.store.EndToken(ctx, account, name); err != nil {
		return err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	for h, g := range a.grants {
		if g.Account == account && g.Name == name {
			a.gone[h] = true
		}
	}
	a.end(func(g store.Grant) bool { return g.Account == account && g.Name == name })
	return nil
}

// Copy gives all accounts and tokens, and which tokens were revoked, for the partner
// (failover.AccessKeeper).
func (a *Keeper) Copy() store.Access {
	out := store.Access{Tokens: a.Tokens()}
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, acc := range a.accounts {
		out.Accounts = append(out.Accounts, acc)
	}
	for h := range a.gone {
		out.Gone = append(out.Gone, h[:])
	}
	slices.SortFunc(out.Accounts, func(x, y store.Account) int { return strings.Compare(x.Name, y.Name) })
	slices.SortFunc(out.Gone, bytes.Compare)
	return out
}

// Take takes in what the partner knows: of each account the password that was set last,
// each token, and that a token was revoked (failover.AccessKeeper).
func (a *Keeper) Take(ctx context.Context, in store.Access) error {
	if !a.news(in) {
		return nil
	}
	if err := a.store.MergeAccess(ctx, in); err != nil {
		return err
	}
	return a.Reload(ctx)
}

// news reports whether the partner knows something newer.
func (a *Keeper) news(in store.Access) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, acc := range in.Accounts {
		if own, known := a.accounts[acc.Name]; !known || own.Changed.Before(acc.Changed) {
			return true
		}
	}
	for _, g := range in.Tokens {
		if _, known := a.grants[[32]byte(g.Hash)]; !known && !a.gone[[32]byte(g.Hash)] {
			return true
		}
	}
	for _, h := range in.Gone {
		if len(h) == 32 && !a.gone[[32]byte(h)] {
			return true
		}
	}
	return false
}

// Reload reads what is on record, and ends what is not any more.
func (a *Keeper) Reload(ctx context.Context) error {
	all, grants, err := a.store.LoadAccess(ctx, a.now())
	if err != nil {
		return err
	}
	gone, err := a.store.GoneTokens(ctx)
	if err != nil {
		return err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.accounts, a.gone = map[string]store.Account{}, map[[32]byte]bool{}
	for _, acc := range all {
		a.accounts[acc.Name] = acc
	}
	for _, h := range gone {
		a.gone[[32]byte(h)] = true
	}
	kept := map[[32]byte]bool{}
	for _, g := range grants {
		kept[[32]byte(g.Hash)] = true
		a.grants[[32]byte(g.Hash)] = g
	}
	a.end(func(g store.Grant) bool { return !kept[[32]byte(g.Hash)] })
	return nil
}

// writeSecret writes a file that only its owner can read.
func writeSecret(dir, name, text string) error {
	path := filepath.Join(dir, name)
	if info, err := os.Stat(path); err == nil && info.Size() == 0 && info.Mode().Perm()&0o007 == 0 {
		if err := os.WriteFile(path, []byte(text+"\n"), 0o600); err == nil { // it was made for this
			return nil
		}
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("write %s: %w", path, err)
	}
	if err := os.WriteFile(path, []byte(text+"\n"), 0o600); err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	return nil
}
