package main

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"

	"yarnpost/service/rights"
	"yarnpost/service/store"
)

// dropRoot goes on as another user where the process was started as root: the
// process begins anew, with the few rights that serving takes. Before that it
// gives that user what is to be written.
func dropRoot(o options, log *slog.Logger) error {
	if rights.Dropped() || os.Geteuid() != 0 || o.user == "root" {
		if os.Geteuid() == 0 {
			log.Warn("serving as root; name another user with --user")
		}
		return nil
	}
	name := o.user
	if name == "" {
		name = defaultUser(o.database)
	}
	a, err := rights.Find(name)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(o.data, 0o711); err != nil {
		return fmt.Errorf("make the data folder: %w", err)
	}
	if o.database == "" {
		if err := store.MakeFolders(o.data, a.UID, a.GID); err != nil {
			return err
		}
	}
	if err := rights.Own(o.data, a); err != nil {
		return err
	}
	if err := secretsFor(o.data, a); err != nil {
		return err
	}
	log.Info("giving up root", "user", name)
	return rights.Become(a)
}

// defaultUser is who serves where nobody says: the user of a private database,
// since nobody else may stop that.
func defaultUser(database string) string {
	if database == "" {
		return store.ClusterUser
	}
	if _, err := rights.Find("yarnpost"); err == nil {
		return "yarnpost"
	}
	return "nobody"
}

// secretsFor makes room for the secrets of the first start that whoever called
// sudo can read, too.
func secretsFor(data string, a rights.Account) error {
	caller, err := strconv.Atoi(os.Getenv("SUDO_UID"))
	if err != nil || caller == 0 {
		return nil
	}
	if _, err := os.Stat(filepath.Join(data, "admin.token")); err == nil {
		return nil
	}
	for _, name := range []string{"admin.token", "admin.password"} {
		path := filepath.Join(data, name)
		f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o660)
		if os.IsExist(err) {
			continue
		}
		if err == nil {
			err = f.Close()
		}
		if err == nil {
			err = os.Chown(path, caller, a.GID)
		}
		if err == nil {
			err = os.Chmod(path, 0o660) // whatever the mask
		}
		if err != nil {
			return fmt.Errorf("make room for %s: %w", name, err)
		}
	}
	return nil
}
