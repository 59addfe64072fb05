package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"

	"yarnpost/service/store"
)

// checkBackup reads a backup to its end and says what it is.
func checkBackup(args []string) error {
	if len(args) != 2 || args[0] != "check" {
		return errors.New("write yarnpostd backup check FILE; yarnpost backup FILE takes one")
	}
	f, err := os.Open(args[1])
	if err != nil {
		return err
	}
	defer f.Close()
	m, err := store.ReadBackup(f, nil, nil)
	if err != nil {
		return err
	}
	fmt.Print(about(m))
	return nil
}

// about says what a backup is.
func about(m store.Manifest) string {
	history := "without the history of leases"
	if m.History {
		history = "with the history of leases"
	}
	return fmt.Sprintf("It is whole: %s, as it was at %s, by version %s, %s;\n%d revisions of the plan, %d records of leases, %d rows in all.\n",
		m.Server, m.Made.UTC().Format("2006-01-02 15:04:05 UTC"), m.Version, history, m.Plan, m.Leases, m.Rows)
}

// restore brings a backup back into an empty server.
func restore(ctx context.Context, args []string) error {
	f := flag.NewFlagSet("yarnpostd restore", flag.ContinueOnError)
	data := f.String("data", "yarnpost-data", "the `folder` of the server, which is made")
	database := f.String("database", "", "use the PostgreSQL of this `DSN` instead of a private one under --data")
	alone := f.Bool("alone", false, "leave the pair that the server was in; what its partner may have promised is kept from others")
	file := ""
	for len(args) > 0 { // flags before and after the file
		if err := f.Parse(args); err != nil {
			return err
		}
		if args = f.Args(); len(args) > 0 {
			if file != "" {
				return fmt.Errorf("one backup at a time, and not %q, too", args[0])
			}
			file, args = args[0], args[1:]
		}
	}
	if file == "" {
		return errors.New("write yarnpostd restore FILE --data FOLDER")
	}
	in, err := os.Open(file)
	if err != nil {
		return err
	}
	defer in.Close()
	m, err := store.ReadBackup(in, nil, nil) // to its end, before anything is touched
	if err != nil {
		return err
	}
	if _, err := in.Seek(0, io.SeekStart); err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(*data, "journal.mark")); err == nil {
		return fmt.Errorf("%w: a server has worked in %s already; choose an empty folder", store.ErrBackup, *data)
	}
	if err := os.MkdirAll(*data, 0o711); err != nil {
		return err
	}
	dsn := *database
	if dsn == "" {
		c, err := store.StartCluster(ctx, *data, slog.New(slog.NewTextHandler(os.Stderr, nil)))
		if err != nil {
			return err
		}
		defer c.Stop()
		dsn = c.DSN
	}
	if _, err := store.Restore(ctx, dsn, in, *alone); err != nil {
		return err
	}
	fmt.Print(about(m))
	fmt.Printf("It is restored to %s; yarnpostd serve --data %s goes on from there.\n", *data, *data)
	return nil
}
