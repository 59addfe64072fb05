package accounts

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"yarnpost/service/store"
)

// opened is the access of a server with a database of its own, and the clock it goes by.
type opened struct {
	*Keeper
	t     *testing.T
	store *store.Store
	dir   string
	mu    sync.Mutex
	now   time.Time
	tried map[string]int
}

func (o *opened) clock() time.Time {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.now
}

func (o *opened) pass(d time.Duration) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.now = o.now.Add(d)
}

// again reads everything anew, as a restart does.
func (o *opened) again() {
	o.t.Helper()
	a, err := Open(context.Background(), o.store, o.dir, o.clock,
		func(result string) { o.mu.Lock(); o.tried[result]++; o.mu.Unlock() },
		slog.New(slog.DiscardHandler))
	if err != nil {
		o.t.Fatal(err)
	}
	o.Keeper = a
}

func (o *opened) file(name string) string {
	b, err := os.ReadFile(filepath.Join(o.dir, name))
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(b))
}

// openAccess opens one on a database that two of a test may have each for itself.
func openAccess(t *testing.T) *opened {
	t.Helper()
	dir, err := os.MkdirTemp("", "yarnpost-access-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o711); err != nil {
		t.Fatal(err)
	}
	cluster, err := store.StartCluster(context.Background(), dir, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(cluster.Stop)
	s, err := store.Open(context.Background(), cluster.DSN)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	o := &opened{t: t, store: s, dir: dir, now: time.Now().Truncate(time.Second), tried: map[string]int{}}
	o.again()
	return o
}

// The first start makes the administrator, with a password that is good once; what holds
// over a restart, what ends a session, and what does not.
func TestAccess(t *testing.T) {
	t.Parallel()
	o := openAccess(t)
	ctx := context.Background()
	const mine = "a heddle of blue threads"
	first, token := o.file(passwordFile), o.file("admin.token")
	if acc, ok := o.Who(token); !ok || acc.Name != "admin" || acc.MustChange || len(first) < 12 {
		t.Fatalf("the first token is %+v's, %v; the password has %d letters", acc, ok, len(first))
	}
	if err := o.SetPassword(ctx, "ada", "a shuttle of green threads"); err != nil {
		t.Fatal(err)
	}
	if _, err := o.SignIn(ctx, "127.0.0.1", "ada", "a shuttle of green threads"); err != nil || o.file(passwordFile) != first {
		t.Fatalf("somebody else signs in: %v, and the administrator's password is there still: %v", err, o.file(passwordFile) == first)
	}
	cookie, err := o.SignIn(ctx, "127.0.0.1", "admin", first)
	if err != nil || o.file(passwordFile) != "" {
		t.Fatalf("signed in: %v, and the password lies there still: %v", err, o.file(passwordFile) != "")
	}
	if acc, ok := o.Who(cookie); !ok || !acc.MustChange {
		t.Errorf("with the one-time password it is %+v, %v", acc, ok)
	}
	for _, weak := range []string{first, "short", "password12", "admin-admin-admin", strings.Repeat("x", 400)} {
		if err := o.ChangePassword(ctx, "127.0.0.1", "admin", first, weak); !errors.Is(err, ErrWeak) {
			t.Errorf("%.20q is taken: %v", weak, err)
		}
	}
	if err := o.ChangePassword(ctx, "127.0.0.1", "admin", "wrong", mine); !errors.Is(err, ErrSignIn) {
		t.Errorf("a password is changed without the old one: %v", err)
	}
	ended := o.Changed()
	if err := o.ChangePassword(ctx, "127.0.0.1", "admin", first, mine); err != nil {
		t.Fatal(err)
	}
	select {
	case <-ended:
	default:
		t.Error("nobody is told that sessions ended")
	}
	if _, ok := o.Who(cookie); ok {
		t.Error("a session outlives the password that it was begun with")
	}
	if _, err := o.SignIn(ctx, "127.0.0.1", "admin", first); !errors.Is(err, ErrSignIn) {
		t.Errorf("the one-time password is good twice: %v", err)
	}
	one, err1 := o.SignIn(ctx, "127.0.0.1", "admin", mine)
	two, err2 := o.SignIn(ctx, "127.0.0.2", "admin", mine)
	if err := errors.Join(err1, err2); err != nil || one == two {
		t.Fatal(err)
	}
	if err := o.SignOut(ctx, one); err != nil {
		t.Fatal(err)
	}
	o.again()
	if _, ok := o.Who(one); ok {
		t.Error("a session that was signed out is back after a restart")
	}
	if acc, ok := o.Who(two); !ok || acc.MustChange {
		t.Errorf("a session is gone after a restart: %+v", acc)
	}
	o.pass(SessionTime + time.Second)
	if _, ok := o.Who(two); ok {
		t.Error("a session does not end")
	}
	if _, ok := o.Who(token); !ok {
		t.Error("a token ends with sessions")
	}
	for name, try := range map[string][2]string{"an empty name": {"", mine}, "nobody": {"nobody", mine},
		"a long name":     {strings.Repeat("x", 65), mine},
		"a long password": {"admin", strings.Repeat("x", 300)}, "a blank": {"admin ", mine}} {
		if _, err := o.SignIn(ctx, "127.0.0.9", try[0], try[1]); !errors.Is(err, ErrSignIn) {
			t.Errorf("%s signs in: %v", name, err)
		}
	}
	if o.tried["good"] < 3 || o.tried["failed"] < 3 {
		t.Errorf("counted: %v", o.tried)
	}
}

// Tokens have a name each, are kept as hashes alone, and end when they are revoked; a
// pair shares all but the one that lies in each server's own folder.
func TestTokens(t *testing.T) {
	t.Parallel()
	o, other := openAccess(t), openAccess(t)
	ctx := context.Background()
	token, err := o.AddToken(ctx, "admin", "desk")
	if err != nil || !strings.HasPrefix(token, "yp_") {
		t.Fatal(token, err)
	}
	if _, err := o.AddToken(ctx, "admin", "desk"); !errors.Is(err, ErrToken) {
		t.Errorf("a second token of one name: %v", err)
	}
	for _, g := range o.Tokens() {
		if strings.Contains(fmt.Sprint(g), token) || strings.Contains(string(g.Hash), token) {
			t.Error("a token is kept in the clear")
		}
	}
	own := other.file("admin.token")
	first := o.Copy()
	for i := range first.Accounts { // as if it was set last
		first.Accounts[i].Changed = first.Accounts[i].Changed.Add(time.Minute)
	}
	if err := other.Take(ctx, first); err != nil {
		t.Fatal(err)
	}
	if _, ok := other.Who(token); !ok {
		t.Error("the partner's token is not known")
	}
	if _, ok := other.Who(own); !ok {
		t.Error("the token in its own folder is gone")
	}
	session, err := other.SignIn(ctx, "127.0.0.1", "admin", o.file(passwordFile))
	if err != nil {
		t.Fatalf("the partner's password: %v", err)
	}
	if err := other.Take(ctx, first); err != nil {
		t.Fatal(err)
	}
	if _, ok := other.Who(session); !ok {
		t.Error("a session ends although nothing changed")
	}
	if err := o.ChangePassword(ctx, "127.0.0.1", "admin", o.file(passwordFile), "a heddle of blue threads"); err != nil {
		t.Fatal(err)
	}
	if err := o.RevokeToken(ctx, "admin", "desk"); err != nil {
		t.Fatal(err)
	}
	if err := o.RevokeToken(ctx, "admin", "desk"); !errors.Is(err, ErrToken) {
		t.Errorf("revoked twice: %v", err)
	}
	last := o.Copy()
	for i := range last.Accounts {
		last.Accounts[i].Changed = last.Accounts[i].Changed.Add(2 * time.Minute)
	}
	if err := other.Take(ctx, last); err != nil {
		t.Fatal(err)
	}
	if err := other.Take(ctx, first); err != nil { // whoever was away comes back with what it knew
		t.Fatal(err)
	}
	for what, secret := range map[string]string{"a token that was revoked": token, "a session with the password of before": session} {
		if _, ok := other.Who(secret); ok {
			t.Errorf("at the partner %s holds still", what)
		}
		other.again()
		if _, ok := other.Who(secret); ok {
			t.Errorf("at the partner %s holds again after a restart", what)
		}
	}
	if _, ok := other.Who(own); !ok {
		t.Error("the token in its own folder is gone in the end")
	}
}

func TestPasswords(t *testing.T) {
	h := hashPassword("warp and weft")
	if !strings.HasPrefix(h, "$argon2id$v=19$m=32768,t=3,p=2$") || strings.Contains(h, "warp") {
		t.Errorf("hashed to %s", h)
	}
	if !checkPassword(h, "warp and weft") || checkPassword(h, "warp and woof") || checkPassword("", "x") ||
		checkPassword("$argon2id$v=19$m=1$a$b", "x") {
		t.Error("passwords are not told apart")
	}
	if h == hashPassword("warp and weft") {
		t.Error("two hashes of one password are the same: no salt")
	}
}

// Accounts are made with a password that is good once, and closed with all that they hold; their names
// stay, and can be opened again.
func TestAccounts(t *testing.T) {
	t.Parallel()
	o := openAccess(t)
	ctx := context.Background()
	for _, name := range []string{"", "Ben", "ben ", "../ben", "-ben", "bén", strings.Repeat("b", 65), "admin"} {
		if _, err := o.AddAccount(ctx, name); !errors.Is(err, ErrAccount) {
			t.Errorf("%q is made: %v", name, err)
		}
	}
	once, err := o.AddAccount(ctx, "ben")
	if err != nil {
		t.Fatal(err)
	}
	cookie, err := o.SignIn(ctx, "127.0.0.1", "ben", once)
	if acc, ok := o.Who(cookie); err != nil || !ok || !acc.MustChange {
		t.Errorf("%+v %v", acc, err)
	}
	token, err := o.AddToken(ctx, "ben", "desk")
	if err != nil {
		t.Fatal(err)
	}
	if err := o.CloseAccount(ctx, "ben", "ben"); !errors.Is(err, ErrAccount) {
		t.Errorf("one closes one's own: %v", err)
	}
	if err := o.CloseAccount(ctx, "ben", "admin"); err != nil {
		t.Fatal(err)
	}
	for _, secret := range []string{cookie, token} {
		if _, ok := o.Who(secret); ok {
			t.Error("a closed account still holds something")
		}
	}
	for _, password := range []string{once, ""} {
		if _, err := o.SignIn(ctx, "127.0.0.1", "ben", password); !errors.Is(err, ErrSignIn) {
			t.Errorf("a closed account signs in with %q: %v", password, err)
		}
	}
	if err := o.CloseAccount(ctx, "ben", "admin"); !errors.Is(err, ErrAccount) {
		t.Errorf("it is closed twice: %v", err)
	}
	if again, err := o.AddAccount(ctx, "ben"); err != nil || again == once {
		t.Errorf("it is not opened again: %v", err)
	}
	if all := o.Accounts(); len(all) != 2 || all[0].Name != "admin" || all[1].Name != "ben" {
		t.Errorf("%+v", all)
	}
}
