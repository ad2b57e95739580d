package figure

import (
	"errors"
	"fmt"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
)

// Credits draws how a host's port that takes its frames slowly starves the inter-switch link and then the array's ports of credits,
// and what that costs a machine on another host.
func Credits() ([]*plot.Plot, error) {
	all, hosts, truth, err := readings("slow-receiver", 12, 1, func(of, metric string) bool {
		return metric == "credit_zero_share" || strings.HasPrefix(of, "vdisk:") && metric == "read_latency_us"
	})
	if err != nil {
		return nil, err
	}
	slow := truth.Causes[0].Component
	north := strings.HasSuffix(slow, "northmole")
	letter, fabric, array := "c", "fabric-southmole", "gannet"
	if north {
		letter, fabric, array = "a", "fabric-northmole", "heron"
	}
	if strings.Contains(slow, "hba1") {
		letter = string(letter[0] + 1)
	}
	port := 0
	if letter == "b" || letter == "d" {
		port = 1
	}
	starved := sheet("A receiver that takes its frames slowly: credits run out from there upstream", "", "time without credit, %")
	hurt := sheet("", "minutes since the port became slow", "read latency, ms")
	for _, l := range []struct {
		name string
		key  string
		c    int
	}{
		{"inter-switch link, toward the hosts", fmt.Sprintf("switch_port:skerry-%s2-46@%s credit_zero_share", letter, fabric), 0},
		{"the array's port above it", fmt.Sprintf("target_port:c0-p%d@%s credit_zero_share", port, array), 1},
		{"the same link of the other fabric", fmt.Sprintf("switch_port:skerry-%s2-46@%s credit_zero_share", other(letter), fabric), 2},
	} {
		points := all[l.key]
		if len(points) == 0 {
			return nil, errors.New("no readings of " + l.key)
		}
		if err := line(starved, l.name, tone(l.c), scaled(points, 100)); err != nil {
			return nil, err
		}
	}
	// One machine of the slow host, and one whose host shares nothing with it but the link.
	owner, _, _ := strings.Cut(strings.TrimPrefix(slow, "hba_port:"), "-hba")
	var own, shares string
	for _, s := range truth.Causes[0].Sufferers {
		switch {
		case hosts[s.VM] == "host:"+owner && own == "":
			own = s.VM
		case hosts[s.VM] != "host:"+owner && shares == "":
			shares = s.VM
		}
	}
	if own == "" || shares == "" {
		return nil, errors.New("the fault hurts too few")
	}
	for k, vm := range []string{own, shares} {
		says := []string{"the slow host", "another host, same link"}[k]
		if err := line(hurt, nameOf(vm)+", "+says, tone(k), scaled(all["vdisk:"+nameOf(vm)+"-0@"+sourceOf(vm)+" read_latency_us"], 1e-3)); err != nil {
			return nil, err
		}
	}
	starved.Y.Min, starved.Y.Max, hurt.Y.Min, hurt.Y.Max = 0, 105, 0, hurt.Y.Max*1.2
	starved.X.Tick.Marker, hurt.X.Tick.Marker, starved.Y.Tick.Marker, hurt.Y.Tick.Marker = every(10), every(10), every(25), every(2)
	return []*plot.Plot{starved, hurt}, nil
}

func other(letter string) string {
	return map[string]string{"a": "b", "b": "a", "c": "d", "d": "c"}[letter]
}

func nameOf(vm string) string {
	name, _, _ := strings.Cut(strings.TrimPrefix(vm, "vm:"), "@")
	return name
}

func sourceOf(vm string) string {
	_, source, _ := strings.Cut(vm, "@")
	return source
}

// Victim draws what happens to a machine that waits for each I/O before it asks for the next, while another takes the drives.
func Victim() ([]*plot.Plot, error) {
	all, _, truth, err := readings("neighbour-pool", 21, 1.6, func(of, metric string) bool {
		return strings.HasPrefix(of, "vdisk:") && (metric == "read_iops" || metric == "read_latency_us")
	})
	if err != nil {
		return nil, err
	}
	cause := truth.Causes[0]
	if len(cause.Sufferers) == 0 {
		return nil, errors.New("nobody suffers")
	}
	victim, most := cause.Sufferers[0].VM, 0.0
	for _, s := range cause.Sufferers { // whose loss of I/Os is best seen
		if s.LostIOPS > most {
			victim, most = s.VM, s.LostIOPS
		}
	}
	of := func(vm, metric string) plotter.XYs {
		return all["vdisk:"+nameOf(vm)+"-0@"+sourceOf(vm)+" "+metric]
	}
	neighbour := sheet("A victim in a closed loop does less because each I/O takes longer", "", "reads per second")
	rate := sheet("", "", "reads per second")
	latency := sheet("", "minutes since the neighbour began", "read latency, ms")
	for _, d := range []error{
		line(neighbour, nameOf(cause.Culprits[0])+", the neighbour", tone(0), of(cause.Culprits[0], "read_iops")),
		line(rate, nameOf(victim)+", the victim, on the same pool", tone(1), of(victim, "read_iops")),
		line(latency, nameOf(victim), tone(1), scaled(of(victim, "read_latency_us"), 1e-3)),
	} {
		if d != nil {
			return nil, d
		}
	}
	for _, p := range []*plot.Plot{neighbour, rate, latency} {
		p.Y.Min, p.X.Tick.Marker = 0, every(10)
	}
	neighbour.Y.Tick.Marker, rate.Y.Tick.Marker, latency.Y.Tick.Marker = every(2000), every(100), every(5)
	neighbour.Y.Max, rate.Y.Max, latency.Y.Max = neighbour.Y.Max*1.15, rate.Y.Max*1.25, latency.Y.Max*1.15
	return []*plot.Plot{neighbour, rate, latency}, nil
}
