package cli

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
)

// This file has the command that takes a backup. Reading one is the service's.

func backupCommands() []command {
	return []command{{name: "backup", args: "FILE", short: "Take a backup of the whole server, in one file", least: 1, most: 1,
		more: "  yarnpost backup bobbin.backup\n  yarnpostd backup check FILE reads it to its end; yarnpostd restore FILE brings it back.\n" +
			"  It has the hashes of passwords and the key of the pair: keep it as you keep those.",
		flags: func(f *flag.FlagSet) func(*call) error {
			history := f.Bool("history", false, "with the history of leases, which is most of it")
			return func(k *call) error {
				name := k.args[0]
				if _, err := os.Stat(name); err == nil {
					return fmt.Errorf("%s is there already; choose another name", name)
				}
				part, err := os.CreateTemp(filepath.Dir(name), filepath.Base(name)+".part-")
				if err != nil {
					return err
				}
				defer os.Remove(part.Name()) // gone if all went well
				err = errors.Join(k.client.Backup(k.ctx, part, *history), part.Sync())
				size, _ := part.Seek(0, 1)
				if err = errors.Join(err, part.Close()); err == nil {
					err = os.Rename(part.Name(), name)
				}
				if err != nil {
					return err
				}
				k.say("", fmt.Sprintf("%s has the backup, %d octets. yarnpostd backup check %s reads it to its end.", name, size, name))
				return nil
			}
		}}}
}
