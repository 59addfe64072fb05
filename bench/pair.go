package main

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"syscall"
	"time"

	"yarnpost/api"
	"yarnpost/demo"
)

// changedLeases is how many leases change while the two cannot hear each other.
const changedLeases = 100_000

// asPair measures two services that are a pair beside one that is alone: durable
// exchanges, a table that is brought over whole, an outage that is caught up with,
// and how long it takes until the other serves.
func asPair(span time.Duration) error {
	ctx := context.Background()
	fmt.Println("\nA pair, both services with their databases on this machine:")
	alone, err := newService()
	if err != nil {
		return err
	}
	defer alone.close()
	two, at := [2]*service{}, [2]string{}
	for i := range two {
		partner, err := freePort("tcp")
		if err != nil {
			return err
		}
		udp, err := freePort("udp")
		if err != nil {
			return err
		}
		at[i] = partner.String()
		if two[i], err = newService("--dhcp4", udp.String(), "--partner", at[i]); err != nil {
			return err
		}
		two[i].udp = udp
		defer two[i].close()
	}
	cable, err := demo.NewCable(at[0])
	if err != nil {
		return err
	}
	defer cable.Close()
	single, err := newGenerator(alone.udp, false)
	if err != nil {
		return err
	}
	load, err := newGenerator(two[0].udp, false)
	if err != nil {
		return err
	}
	single.closed(span, outstanding)
	if err := two[0].meanwhile(ctx, load, strings.Replace(insertMany, "100.64.0.0", "10.128.0.0", 1), manyLeases); err != nil {
		return err
	}
	status, err := two[0].client.Status(ctx)
	if err != nil {
		return err
	}
	i, err := two[0].client.InvitePartner(ctx, api.PairInvite{At: cable.Address(), Mode: "hot-standby"})
	if err != nil {
		return err
	}
	began := time.Now()
	if _, err := two[1].client.JoinPair(ctx, api.PairJoin{Code: i.Code, Confirm: true}); err != nil {
		return err
	}
	if err := caughtUp(ctx, two); err != nil {
		return err
	}
	took := time.Since(began)
	fmt.Printf("  a table of %d leases brought to an empty partner: %.1f s   (bar 90 s)\n", status.Active, took.Seconds())
	if err := compared(ctx, two[0], "both tables are equal", 0); err != nil {
		return err
	}
	again, err := newGenerator(two[1].udp, false)
	if err != nil {
		return err
	}
	if err := two[1].meanwhile(ctx, again, differ, differing); err != nil {
		return err
	}
	if err := caughtUp(ctx, two); err != nil {
		return err
	}
	if err := compared(ctx, two[0], fmt.Sprintf("%d records differ", differing), differing); err != nil {
		return err
	}

	var ratios []float64
	for range 3 {
		a, p := single.closed(span, outstanding), load.closed(span, outstanding)
		ratios = append(ratios, p.rate()/a.rate())
		fmt.Printf("  alone %6.0f/s   pair %6.0f/s   ratio %.2f\n", a.rate(), p.rate(), p.rate()/a.rate())
	}
	fmt.Printf("  pair ÷ alone, median %.2f   (bar 0.40, goal 0.60)\n", median(ratios))
	if err := caughtUp(ctx, two); err != nil {
		return err
	}

	cable.Cut()
	n := 0
	for n < changedLeases {
		n += load.closed(span, outstanding).done
	}
	cable.Mend()
	began = time.Now()
	if err := caughtUp(ctx, two); err != nil {
		return err
	}
	fmt.Printf("  %d changed leases after an outage: brought over in %.1f s, with the making of the connection   (bar 10 s a 100,000)\n", n,
		time.Since(began).Seconds())

	other, err := newGenerator(two[1].udp, false)
	if err != nil {
		return err
	}
	began = time.Now()
	if err := two[0].process.Process.Signal(syscall.SIGKILL); err != nil {
		return err
	}
	if !other.first(30 * time.Second) {
		return fmt.Errorf("the other server does not serve after 30 s")
	}
	fmt.Printf("  from the death of one to the first new client of its own served by the other: %.2f s; a death is heard of at once, silence after 6 s\n",
		time.Since(began).Seconds())
	return nil
}

// differing is how many records are changed behind one server's back.
const differing = 1000

// differ gives some leases to other clients, in the database of a service that stands
// still: they lie all over the table.
const differ = `update lease set client = '\x6901'::bytea || '\x0666'::bytea || substring(hardware from 3) where address in
	(select address from lease where status = 2 and masklen(address) = 32 order by md5(address::text) limit $1)`

// meanwhile runs a statement in the database of a service to which nobody speaks, and
// restarts it.
func (s *service) meanwhile(ctx context.Context, load *generator, statement string, n int) error {
	conn, err := s.database(ctx)
	if err != nil {
		return err
	}
	_, err = conn.Exec(ctx, statement, n)
	conn.Close(ctx)
	if err != nil {
		return err
	}
	return s.again(ctx, load)
}

// compared times a comparison of both tables, which has to find so many differences.
func compared(ctx context.Context, s *service, what string, want int) error {
	c, err := s.client.ComparePair(ctx)
	if err != nil {
		return err
	}
	c.Differences = slices.DeleteFunc(c.Differences, func(d api.PairDifference) bool { return d.Class != "wrong" }) // the rest is on its way
	if len(c.Differences) != want {
		for _, d := range c.Differences[:min(len(c.Differences), 3)] {
			fmt.Printf("  %s is %s: %+v and %+v\n", d.Address, d.Class, d.Own, d.Partner)
		}
		return fmt.Errorf("%d differences are found, and %d were made", len(c.Differences), want)
	}
	fmt.Printf("  compared, %d records, %s: %.2f s, %.0f kB   (bar 3 s; 100 kB, and 1 MB with 1,000 differences)\n", c.Leases, what, c.Seconds,
		float64(c.Octets)/1000)
	return nil
}

// caughtUp waits until neither owes the other anything, and both stand together.
func caughtUp(ctx context.Context, two [2]*service) error {
	for end := time.Now().Add(5 * time.Minute); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		good := 0
		for _, s := range two {
			p, err := s.client.Pair(ctx)
			if err != nil {
				return err
			}
			if p.Own.State == "normal" && p.Own.Owed == 0 {
				good++
			}
		}
		if good == 2 {
			return nil
		}
	}
	return fmt.Errorf("the two do not come to rest in five minutes")
}
