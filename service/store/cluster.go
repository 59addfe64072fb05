package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"sort"
	"strconv"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"yarnpost/service/lock"
	"yarnpost/service/rights"
)

// Cluster is a private PostgreSQL under the service's data directory, reached
// through a socket that only its owner can open. It is started again when it
// dies.
type Cluster struct {
	DSN    string
	log    *slog.Logger
	bin    string
	data   string
	socket string
	cred   *syscall.Credential
	output *os.File

	mu      sync.Mutex
	process *os.Process
	stopped bool
	done    chan struct{}
}

// StartCluster creates the cluster under dir if need be, and starts it. As root
// it runs as the postgres user.
func StartCluster(ctx context.Context, dir string, log *slog.Logger) (*Cluster, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, fmt.Errorf("private database: %w", err)
	}
	c := &Cluster{log: log, data: filepath.Join(dir, "postgres"), socket: filepath.Join(dir, "socket"), done: make(chan struct{})}
	if c.bin, err = findPostgres(); err != nil {
		return nil, err
	}
	if len(c.socket) > 90 {
		return nil, fmt.Errorf("private database: the path %s is too long for a socket; choose a shorter --data", c.socket)
	}
	if err := c.makeDirs(dir); err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(c.data, "PG_VERSION")); err != nil {
		log.Info("creating the private database", "dir", c.data)
		if out, err := c.initdb(); err != nil {
			return nil, fmt.Errorf("private database: initdb: %w: %s", err, bytes.TrimSpace(out))
		}
	}
	if c.output, err = os.OpenFile(filepath.Join(dir, "postgres.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600); err != nil {
		return nil, fmt.Errorf("private database: %w", err)
	}
	c.DSN = socketDSN(c.socket)
	ready := make(chan error, 1)
	go c.run(ready)
	select {
	case err := <-ready:
		if err != nil {
			c.Stop()
			return nil, err
		}
		return c, nil
	case <-ctx.Done():
		c.Stop()
		return nil, ctx.Err()
	}
}

// initdb makes the cluster. Its thread is its own, and ends with it, since it
// gives up what no database needs.
func (c *Cluster) initdb() (out []byte, err error) {
	var done sync.WaitGroup
	done.Go(func() {
		runtime.LockOSThread()
		rights.NoneForChildren()
		out, err = c.command("initdb", "-D", c.data, "-U", "yarnpost", "-A", "trust", "-E", "UTF8", "--locale=C").CombinedOutput()
	})
	done.Wait()
	return out, err
}

// PrivateDSN reaches the private cluster of a service by its data folder.
func PrivateDSN(data string) string {
	if whole, err := filepath.Abs(data); err == nil {
		data = whole
	}
	return socketDSN(filepath.Join(data, "socket"))
}

// socketDSN reaches a private cluster by its socket's folder.
func socketDSN(folder string) string {
	return fmt.Sprintf("postgres:///postgres?host=%s&user=yarnpost", url.QueryEscape(folder))
}

// findPostgres gives the folder of the server's programs, the newest first.
func findPostgres() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	sort.Slice(found, func(i, j int) bool { return majorOf(found[i]) > majorOf(found[j]) })
	if len(found) > 0 {
		return filepath.Dir(found[0]), nil
	}
	if path, err := exec.LookPath("initdb"); err == nil {
		return filepath.Dir(path), nil
	}
	return "", errors.New("private database: PostgreSQL is not installed; run apt-get install postgresql, or name a database with --database")
}

func majorOf(initdb string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(initdb))))
	return n
}

// ClusterUser is who a private cluster runs as where the service is root.
const ClusterUser = "postgres"

func (c *Cluster) makeDirs(dir string) error {
	uid, gid := -1, -1
	if os.Getuid() == 0 {
		u, err := user.Lookup(ClusterUser)
		if err != nil {
			return errors.New("private database: PostgreSQL does not run as root and there is no user postgres; run apt-get install postgresql, or start as another user")
		}
		uid, _ = strconv.Atoi(u.Uid)
		gid, _ = strconv.Atoi(u.Gid)
		c.cred = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	}
	return MakeFolders(dir, uid, gid)
}

// MakeFolders makes the folders of a private cluster under a data folder, for a
// user; -1 is who asks.
func MakeFolders(dir string, uid, gid int) error {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return fmt.Errorf("private database: %w", err)
	}
	for parent := dir; uid > 0; parent = filepath.Dir(parent) {
		info, err := os.Stat(parent)
		if err != nil {
			return fmt.Errorf("private database: %w", err)
		}
		if st := info.Sys().(*syscall.Stat_t); info.Mode().Perm()&0o001 == 0 && st.Uid != uint32(uid) {
			return fmt.Errorf("private database: the user postgres cannot pass through %s; choose a --data elsewhere, such as /var/lib/yarnpost",
				parent)
		}
		if parent == "/" {
			break
		}
	}
	for _, d := range []string{filepath.Join(dir, "postgres"), filepath.Join(dir, "socket")} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return fmt.Errorf("private database: %w", err)
		}
		if uid >= 0 {
			if err := os.Chown(d, uid, gid); err != nil {
				return fmt.Errorf("private database: %w", err)
			}
		}
	}
	return nil
}

func (c *Cluster) command(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(filepath.Join(c.bin, name), args...)
	cmd.Dir = "/"
	// A service that dies takes its database down in good order.
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: c.cred, Pdeathsig: syscall.SIGINT, Setpgid: true}
	return cmd
}

// run keeps the server alive until Stop. The thread is locked because the
// death signal follows the thread that started the child.
func (c *Cluster) run(ready chan<- error) {
	runtime.LockOSThread()
	rights.NoneForChildren()
	defer close(c.done)
	for attempt := 0; ; attempt++ {
		cmd := c.command("postgres", "-D", c.data, "-k", c.socket, "-c", "listen_addresses=", "-c", "shared_buffers=256MB",
			"-c", "max_wal_size=4GB", "-c", "min_wal_size=1GB", "-c", "checkpoint_timeout=15min", "-c", "max_connections=40", "-c",
			"wal_level=minimal", "-c", "max_wal_senders=0", "-c", "log_checkpoints=off")
		cmd.Stdout, cmd.Stderr = c.output, c.output
		stopped, err := c.start(cmd)
		if stopped {
			return
		}
		if err != nil {
			ready <- fmt.Errorf("private database: %w", err)
			return
		}
		if ready != nil {
			go func(ready chan<- error) { ready <- c.await() }(ready)
			ready = nil
		}
		err = cmd.Wait()
		lock.While(&c.mu, func() { c.process, stopped = nil, c.stopped })
		if stopped {
			return
		}
		if attempt%20 == 0 {
			c.log.Error("the private database ended and is started again", "err", err, "log", c.output.Name())
		}
		time.Sleep(500 * time.Millisecond) // its last children may still hold its memory
	}
}

// start starts the server, unless it was stopped for good.
func (c *Cluster) start(cmd *exec.Cmd) (stopped bool, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.stopped {
		return true, nil
	}
	if err = cmd.Start(); err == nil {
		c.process = cmd.Process
	}
	return false, err
}

// await waits until the server accepts connections.
func (c *Cluster) await() error {
	var err error
	for range 600 {
		var conn *pgx.Conn
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		if conn, err = pgx.Connect(ctx, c.DSN); err == nil {
			err = conn.Ping(ctx)
			conn.Close(ctx)
		}
		cancel()
		if err == nil {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return fmt.Errorf("private database: it does not come up (see %s): %w", c.output.Name(), err)
}

// Stop ends the server in good order and waits for it.
func (c *Cluster) Stop() {
	lock.While(&c.mu, func() {
		c.stopped = true
		if c.process != nil {
			c.process.Signal(syscall.SIGINT) // fast shutdown
		}
	})
	<-c.done
	c.output.Close()
}
