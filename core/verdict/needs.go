package verdict

import (
	"slices"

	"dowsingrod/core/estate"
	"dowsingrod/core/route"
	"dowsingrod/core/strata"
)

// Needs lists the readings that [Locate] asks for: those of the strata, of ports beside the way that may hold up what is on it, and of
// links between sites.
func Needs(moments []route.Moment, of estate.Key) []route.Need {
	needs := strata.Needs(moments, of)
	have := map[estate.Key]bool{}
	for _, n := range needs {
		have[n.Key] = true
	}
	port := []string{"tx_bytes_s", "rx_bytes_s", "credit_zero_share", "crc_errors_s", "discards_s"}
	more := map[estate.Kind][]string{estate.SwitchPort: port, estate.HBAPort: port, estate.TargetPort: port, estate.SiteLink: {"round_trip_us"}}
	for _, m := range moments {
		e := m.Map.Estate()
		i, ok := e.Position(of)
		if !ok {
			continue
		}
		add := func(at int32) {
			if key := e.At(at).Key; !have[key] {
				if metrics := more[e.Kind(at)]; metrics != nil {
					have[key] = true
					needs = append(needs, route.Need{Key: key, Metrics: metrics})
				}
			}
		}
		starts := []int32{i}
		for _, d := range m.Map.VDisks(i) {
			starts = append(starts, d.At)
		}
		switches := map[int32]bool{}
		hosts := map[int32]bool{}
		mirrored := false
		for _, r := range m.Map.Below(starts...) {
			switch e.Kind(r.At) {
			case estate.Switch:
				switches[r.At] = true
			case estate.Host:
				hosts[r.At] = true
			case estate.ISL:
				for _, p := range e.To(r.At, estate.Joins) {
					add(p)
					if s, ok := e.Owner(p, estate.Switch); ok {
						switches[s] = true
					}
				}
			case estate.Volume:
				mirrored = mirrored || len(e.To(r.At, estate.BackedBy)) > 0
			}
		}
		for s := range switches {
			for _, p := range e.From(s, estate.PartOf) {
				add(p)
			}
		}
		for h := range hosts {
			for _, p := range e.From(h, estate.PartOf) {
				add(p)
			}
		}
		if mirrored {
			for _, link := range e.OfKind(estate.SiteLink) {
				add(link)
			}
		}
	}
	// What a limit is held against and a write cache filled by.
	for k := range needs {
		switch needs[k].Key.Ref.Kind {
		case estate.Controller, estate.Volume:
			needs[k].Metrics = append(slices.Clip(needs[k].Metrics), "write_bytes_s") // many needs share a list
		}
	}
	return needs
}
