package main

import (
	"context"
	"fmt"
	"os"
	"time"

	"dowsingrod/internal/client"
	"dowsingrod/internal/demo"
)

// demoQuestions times what people ask of the demo, with its week of readings, while it goes on and its incidents are looked for.
func demoQuestions(ctx context.Context) error {
	home, err := os.MkdirTemp("", "dowse-measure-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(home)
	if err := os.Chmod(home, 0o755); err != nil { // the database runs as another user
		return err
	}
	d, err := demo.Start(home, 7470)
	if err != nil {
		return err
	}
	defer d.Stop()
	p := &place{base: d.Address}
	if p.token, err = d.Token(); err != nil {
		return err
	}
	p.client = client.New(p.base, p.token)
	if err := p.caughtUp(ctx, 3*time.Minute); err != nil {
		return err
	}
	vms, err := p.client.Inventory(ctx, client.Inventory{Kind: "vm", Limit: 200})
	if err != nil {
		return err
	}
	var every []string
	for _, r := range vms.Rows {
		every = append(every, "/explain?of="+r.Ref)
	}
	// Surveys are kept for a while; windows that differ by minutes are each made anew.
	var short, long []string
	for k := range 100 {
		short = append(short, fmt.Sprintf("/survey?from=-%dm", 120+k))
		long = append(long, fmt.Sprintf("/survey?from=-%dm", 24*60+k))
	}
	for _, q := range []struct {
		name string
		n    int
		ask  []string
	}{
		{"explain.victim", 200, []string{"/explain?of=vm:manifest-db-02"}},
		{"explain.every_vm", 2 * len(every), every},
		{"survey.2h", len(short), short},
		{"survey.24h", len(long), long},
		{"incidents", 100, []string{"/incidents"}},
		{"suspects.pool", 100, []string{"/suspects?of=pool:p2@heron"}},
		{"suspects.estate", 20, []string{"/neighbours"}},
		{"compare.day", 40, []string{"/compare?of=vm:manifest-db-02&with_from=-26h&with_to=-24h"}},
	} {
		if err := p.ask(ctx, "demo_week."+q.name, q.n, q.ask...); err != nil {
			return err
		}
	}
	return nil
}

// caughtUp waits until incidents were looked for up to a few minutes ago.
func (p *place) caughtUp(ctx context.Context, patience time.Duration) error {
	for began := time.Now(); time.Since(began) < patience; {
		list, err := p.client.Incidents(ctx, client.Window{}, 1)
		if err != nil {
			return err
		}
		if list.Until != nil && time.Since(*list.Until) < 5*time.Minute {
			bench("demo_week.incidents_of_a_week", time.Since(began).Seconds(), "s")
			return nil
		}
		time.Sleep(time.Second / 4)
	}
	return fmt.Errorf("incidents were not looked for within %s", patience)
}
