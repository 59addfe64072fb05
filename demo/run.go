package demo

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/netip"

	"yarnpost/client"
)

// Config says which service the mill is played to.
type Config struct {
	API    *client.Client
	DHCP4  netip.AddrPort
	Log    *slog.Logger
	Out    io.Writer // what a person should read
	SignIn string    // where and how to sign in
	Token  string    // file with the API token
}

// Run plays the mill until the context ends.
func Run(ctx context.Context, c Config) error {
	fmt.Fprintln(c.Out, "Defining Fellgate Mill …")
	<-ctx.Done()
	return nil
}
