package httpd

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yarnpost/service/permit"
	"yarnpost/service/store"
)

// This file serves backups.

func (s *Server) registerBackup(a huma.API) {
	o := op("make-backup", http.MethodGet, "/api/backup", "A backup of the whole server, in one file", "service", permit.Access)
	o.Responses = map[string]*huma.Response{"200": {Description: "A gzipped tar archive; it is whole if it ends with sums.json",
		Content: map[string]*huma.MediaType{"application/gzip": {}}}}
	huma.Register(a, o, func(ctx context.Context, in *struct {
		History bool `query:"history" doc:"With the history of leases"`
	}) (*huma.StreamResponse, error) {
		// Written to a file first: whoever reads slowly holds no snapshot of the database open.
		f, err := os.CreateTemp("", "yarnpost-backup-")
		if err != nil {
			return nil, failure(fmt.Errorf("there is no room for a backup: %w", err))
		}
		_ = os.Remove(f.Name()) // its name is not needed
		m := store.Manifest{Made: s.Clock.Now().UTC().Truncate(time.Second), Server: s.Pair.Name(), Version: Version, History: in.History}
		err = s.Store.Backup(ctx, f, m)
		if err == nil {
			_, err = f.Seek(0, 0)
		}
		if err != nil {
			f.Close()
			return nil, failure(err)
		}
		s.Trail.Add(ctx, store.Deed{At: s.Clock.Now(), Who: who(ctx).Name, Source: source(ctx), Deed: "took a backup"})
		return &huma.StreamResponse{Body: func(c huma.Context) {
			defer f.Close()
			c.SetHeader("Content-Type", "application/gzip")
			c.SetHeader("Content-Disposition", fmt.Sprintf("attachment; filename=%q", m.FileName()))
			_, _ = f.WriteTo(c.BodyWriter()) // whoever is cut off sees that sums.json is missing
		}}, nil
	})
}
