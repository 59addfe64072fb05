// Package rights narrows what the process may do: it gives up root and
// keeps the few rights that serving takes.
package rights

import (
	"fmt"
	"os"
	"os/user"
	"runtime"
	"strconv"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// kept are the rights that stay, since sockets have to be opened again when
// interfaces come and go: raw frames, network settings, ports below 1024.
var kept = []uintptr{unix.CAP_NET_BIND_SERVICE, unix.CAP_NET_ADMIN, unix.CAP_NET_RAW}

// dropped marks, in the environment, a process that gave up root; its value is
// the signal that was to be had when the parent ends, which the change of user
// takes away.
const dropped = "YARNPOST_DROPPED"

// Dropped reports whether this process gave up root, and puts back what that
// took away.
func Dropped() bool {
	text, ok := os.LookupEnv(dropped)
	if !ok {
		return false
	}
	os.Unsetenv(dropped)
	if sig, err := strconv.Atoi(text); err == nil && sig > 0 {
		_ = unix.Prctl(unix.PR_SET_PDEATHSIG, uintptr(sig), 0, 0, 0)
	}
	return true
}

// Account is who the process becomes.
type Account struct {
	Name     string
	UID, GID int
}

// Find looks an account up by name.
func Find(name string) (Account, error) {
	u, err := user.Lookup(name)
	if err != nil {
		return Account{}, fmt.Errorf("there is no user %s; name another one with --user", name)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	return Account{name, uid, gid}, nil
}

// capData is one half of a set of capabilities as the kernel takes it.
type capData struct{ effective, permitted, inheritable uint32 }

// Become replaces this process by itself as another account, with the rights
// that are kept and no others. It only returns with an error, after which the
// process must end.
//
// One thread alone changes what it may do and then executes the program anew,
// so no other thread is left with root.
func Become(a Account) error {
	runtime.LockOSThread()
	deathSignal := 0
	_, _, _ = unix.RawSyscall(unix.SYS_PRCTL, unix.PR_GET_PDEATHSIG, uintptr(unsafe.Pointer(&deathSignal)), 0)
	call := func(what string, number uintptr, args ...uintptr) error {
		var v [5]uintptr
		copy(v[:], args)
		if _, _, errno := unix.RawSyscall6(number, v[0], v[1], v[2], v[3], v[4], 0); errno != 0 {
			return fmt.Errorf("give up root: %s: %w", what, errno)
		}
		return nil
	}
	var head struct {
		version uint32
		pid     int32
	}
	head.version = unix.LINUX_CAPABILITY_VERSION_3
	var have, want [2]capData
	if err := call("read capabilities", unix.SYS_CAPGET, uintptr(unsafe.Pointer(&head)), uintptr(unsafe.Pointer(&have))); err != nil {
		return err
	}
	var raise []uintptr
	for _, c := range kept {
		if bit := uint32(1) << (c & 31); have[c>>5].permitted&bit != 0 {
			want[c>>5].permitted |= bit
			raise = append(raise, c)
		}
	}
	for i := range want {
		want[i].effective, want[i].inheritable = want[i].permitted, want[i].permitted
	}
	gid := uint32(a.GID)
	steps := []func() error{
		func() error { return call("keep capabilities", unix.SYS_PRCTL, unix.PR_SET_KEEPCAPS, 1) },
		func() error { return call("leave groups", unix.SYS_SETGROUPS, 1, uintptr(unsafe.Pointer(&gid))) },
		func() error {
			return call("change group", unix.SYS_SETRESGID, uintptr(a.GID), uintptr(a.GID), uintptr(a.GID))
		},
		func() error {
			return call("change user", unix.SYS_SETRESUID, uintptr(a.UID), uintptr(a.UID), uintptr(a.UID))
		},
		func() error {
			return call("set capabilities", unix.SYS_CAPSET, uintptr(unsafe.Pointer(&head)), uintptr(unsafe.Pointer(&want)))
		},
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	for _, c := range raise {
		if err := call("pass capabilities on", unix.SYS_PRCTL, unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_RAISE, c); err != nil {
			return err
		}
	}
	env := append(os.Environ(), dropped+"="+strconv.Itoa(deathSignal))
	err := syscall.Exec("/proc/self/exe", os.Args, env)
	return fmt.Errorf("go on as user %s: %w (can that user execute this program?)", a.Name, err)
}

// Own gives a folder and the files right in it to an account.
func Own(dir string, a Account) error {
	if err := os.Chown(dir, a.UID, a.GID); err != nil {
		return fmt.Errorf("give %s to user %s: %w", dir, a.Name, err)
	}
	list, err := os.ReadDir(dir)
	if err != nil {
		return fmt.Errorf("give %s to user %s: %w", dir, a.Name, err)
	}
	for _, e := range list {
		info, err := e.Info()
		if err != nil || !info.Mode().IsRegular() {
			continue
		}
		if st := info.Sys().(*syscall.Stat_t); st.Uid != 0 {
			continue
		}
		if err := os.Lchown(dir+"/"+e.Name(), a.UID, a.GID); err != nil {
			return fmt.Errorf("give %s to user %s: %w", e.Name(), a.Name, err)
		}
	}
	return nil
}

// NoneForChildren makes programs that this thread starts begin without the
// rights that are kept. Lock the thread.
func NoneForChildren() {
	_ = unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0)
}
