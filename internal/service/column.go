package service

import (
	"dowsingrod/core/estate"
	"dowsingrod/core/route"
)

// Column is a column of an inventory.
type Column struct {
	Name string `json:"name" doc:"What to filter and sort by"`
	Head string `json:"head" doc:"Its heading"`
	Type string `json:"type" doc:"What its cells hold" enum:"text,number,bytes,share,bytes_s"`
	Doc  string `json:"doc" doc:"What it means"`

	of func(m *route.Map, i int32) any // string, float64, or nil where it is not known
}

func text(name, head, doc string, of func(m *route.Map, i int32) string) Column {
	return Column{name, head, "text", doc, func(m *route.Map, i int32) any {
		if s := of(m, i); s != "" {
			return s
		}
		return nil
	}}
}

func number(name, head, doc string, of func(m *route.Map, i int32) int) Column {
	return Column{name, head, "number", doc, func(m *route.Map, i int32) any { return float64(of(m, i)) }}
}

// fact is a column that shows a fact as it was sent.
func fact(name, head, kind, doc string) Column {
	return Column{name, head, kind, doc, func(m *route.Map, i int32) any {
		o := m.Estate().At(i)
		if v, ok := o.Facts.Number(name); ok {
			if kind == "text" {
				return o.Facts.Text(name)
			}
			return v
		}
		if s := o.Facts.Text(name); s != "" {
			return s
		}
		if o.Facts.True(name) {
			return "yes"
		}
		return nil
	}}
}

// linked names what a link leads to.
func linked(name, head, doc string, link estate.LinkKind) Column {
	return text(name, head, doc, func(m *route.Map, i int32) string { return titleOf(m, m.Estate().First(i, link)) })
}

func titleOf(m *route.Map, i int32) string {
	if i < 0 {
		return ""
	}
	return m.Estate().At(i).Title()
}

// owner names the object of a kind that something is part of.
func owner(name, head, doc string, kind estate.Kind) Column {
	return text(name, head, doc, func(m *route.Map, i int32) string {
		if at, ok := m.Estate().Owner(i, kind); ok {
			return titleOf(m, at)
		}
		return ""
	})
}

// counted counts the links of kinds that reach an object.
func counted(name, head, doc string, kind estate.Kind, links ...estate.LinkKind) Column {
	return number(name, head, doc, func(m *route.Map, i int32) int { return countIn(m, i, kind, links...) })
}

func countIn(m *route.Map, i int32, kind estate.Kind, links ...estate.LinkKind) (n int) {
	m.Estate().EachIn(i, func(link estate.LinkKind, from int32) {
		if m.Estate().Kind(from) != kind {
			return
		}
		for _, l := range links {
			if l == link {
				n++
			}
		}
	})
	return n
}

// identified shows an object's own identifier in display notation.
func identified(name, head, doc string) Column {
	return text(name, head, doc, func(m *route.Map, i int32) string {
		if ids := estate.Identities(m.Estate().At(i)); len(ids) > 0 {
			return ids[0].Display()
		}
		return ""
	})
}

func runsOn(m *route.Map, i int32) int32 { return m.Estate().First(i, estate.RunsOn) }

var siteColumn = text("site", "site", "The site it is at, by what it is part of or runs on", func(m *route.Map, i int32) string {
	if s, ok := m.Estate().Site(i); ok {
		return titleOf(m, s)
	}
	return ""
})

// protection says whether the disks of a machine, or a disk, lie on volumes that are replicated.
func protection(m *route.Map, i int32) string {
	copies, disks := 0, m.VDisks(i)
	for _, d := range disks {
		for _, v := range m.Volumes(d.At) {
			if m.Estate().First(v, estate.ReplicatedTo) >= 0 || mirrored(m, v) {
				copies++
				break
			}
		}
	}
	switch {
	case len(disks) == 0:
		return ""
	case copies == 0:
		return "none"
	case copies < len(disks):
		return "partly"
	}
	return "wholly"
}

// mirrored reports whether a volume lives on two sites at once.
func mirrored(m *route.Map, v int32) bool {
	for _, l := range m.Backing(v) {
		if l.Mirror {
			return true
		}
	}
	return len(m.Estate().To(v, estate.MirroredTo))+len(m.Estate().From(v, estate.MirroredTo)) > 0
}

func used(m *route.Map, i int32) string {
	e := m.Estate()
	for _, link := range []estate.LinkKind{estate.Extent, estate.Opens, estate.StoredOn, estate.BackedBy, estate.Exports} {
		if e.FirstFrom(i, link) >= 0 {
			return "used"
		}
	}
	switch {
	case e.First(i, estate.SnapshotOf) >= 0:
		return "snapshot"
	case e.FirstFrom(i, estate.ReplicatedTo) >= 0:
		return "replica"
	}
	return "unused"
}

// pathCount counts the paths of a device, or of all devices of a host, by what the host says of them.
func pathCount(name, head, doc string, count func(s route.State) bool) Column {
	return number(name, head, doc, func(m *route.Map, i int32) (n int) {
		devices := []int32{i}
		if m.Estate().Kind(i) == estate.Host {
			devices = m.Estate().From(i, estate.PartOf)
		}
		for _, d := range devices {
			if m.Estate().Kind(d) == estate.Device {
				for _, s := range m.PathStates(d) {
					if count(s) {
						n++
					}
				}
			}
		}
		return n
	})
}

var (
	allPaths  = pathCount("paths", "paths", "Paths listed by the host", func(route.State) bool { return true })
	goodPaths = pathCount("usable", "usable", "Paths that are active or standby", func(s route.State) bool { return s == route.Active || s == route.Standby })
	deadPaths = pathCount("dead", "dead", "Paths that are dead or disabled", func(s route.State) bool { return s == route.Dead || s == route.Disabled })
	fabrics   = number("fabrics", "fabrics", "Fabrics that usable paths lead through", func(m *route.Map, i int32) int {
		seen := map[int32]bool{}
		devices := []int32{i}
		if m.Estate().Kind(i) == estate.Host {
			devices = m.Estate().From(i, estate.PartOf)
		}
		for _, d := range devices {
			if m.Estate().Kind(d) == estate.Device {
				_, of := m.Usable(d)
				for _, f := range of {
					seen[f] = true
				}
			}
		}
		return len(seen)
	})
	machines = number("vms", "VMs", "Virtual machines that depend on it", func(m *route.Map, i int32) int { return len(m.VMs(i)) })
	fullness = Column{"used_share", "full", "share", "Used of what it holds", func(m *route.Map, i int32) any {
		all, okA := m.Estate().At(i).Facts.Number("bytes")
		used, okU := m.Estate().At(i).Facts.Number("used_bytes")
		if !okA || !okU || all <= 0 {
			return nil
		}
		return used / all
	}}
	ofArray = owner("array", "array", "The array it belongs to", estate.Array)
	media   = text("media", "media", "What its drives are", func(m *route.Map, i int32) string { return m.Estate().At(i).Facts.Text("media") })
)

// columns lists by kind what an inventory shows besides name and condition facts; the first few are shown first.
var columns = map[estate.Kind][]Column{
	estate.VM: {
		fact("tier", "tier", "text", "Service tier"), fact("application", "application", "text", "What it is part of"),
		linked("host", "host", "The host it runs on", estate.RunsOn),
		text("cluster", "cluster", "The cluster of its host", func(m *route.Map, i int32) string {
			if h := runsOn(m, i); h >= 0 {
				return titleOf(m, m.Estate().First(h, estate.MemberOf))
			}
			return ""
		}),
		number("disks", "disks", "Virtual disks", func(m *route.Map, i int32) int { return len(m.Estate().To(i, estate.Uses)) }),
		text("replicated", "replicated", "Whether all, some or none of its disks lie on replicated or mirrored volumes", protection),
		fact("power", "power", "text", "Whether it is on"), fact("vcpus", "vCPUs", "number", "Virtual processors"), fact("memory_bytes", "memory", "bytes", "Memory"), siteColumn,
	},
	estate.VDisk: {
		text("vm", "VM", "The machine that uses it", func(m *route.Map, i int32) string { return titleOf(m, m.Estate().FirstFrom(i, estate.Uses)) }),
		linked("stored_on", "stored on", "Datastore, volume or share", estate.StoredOn), fact("bytes", "size", "bytes", "Size"),
		fact("format", "format", "text", "Thin or thick"), fact("mode", "mode", "text", "How writes are kept"), fact("raw", "raw", "text", "Raw LUN: none, virtual or physical"),
		text("replicated", "replicated", "Whether it lies on a replicated or mirrored volume", protection), fact("iops_limit", "limit", "number", "Operations a second it is limited to"),
	},
	estate.Datastore: {
		fact("filesystem", "file system", "text", "block, nfs or direct"), fact("bytes", "size", "bytes", "Size"), fullness,
		number("extents", "extents", "LUNs it extends over", func(m *route.Map, i int32) int { return len(m.Estate().To(i, estate.Extent)) }),
		text("array", "array", "The array of its first LUN or share", func(m *route.Map, i int32) string {
			for _, link := range []estate.LinkKind{estate.Extent, estate.Exports} {
				if v := m.Estate().First(i, link); v >= 0 {
					return m.OwnerName(v)
				}
			}
			return ""
		}),
		counted("disks", "disks", "Virtual disks stored on it", estate.VDisk, estate.StoredOn),
		text("replicated", "replicated", "Whether its LUNs are replicated or mirrored", func(m *route.Map, i int32) string {
			for _, v := range m.Estate().To(i, estate.Extent) {
				if m.Estate().First(v, estate.ReplicatedTo) >= 0 || mirrored(m, v) {
					return "yes"
				}
			}
			return "no"
		}),
	},
	estate.Volume: {
		ofArray, fact("number", "number", "text", "Its number at the array"), identified("naa", "identifier", "NAA, EUI or NGUID, or its address behind a target"), fact("bytes", "size", "bytes", "Size"),
		linked("pool", "pool", "The pool it is carved from", estate.CarvedFrom), fact("raid", "RAID", "text", "RAID level"),
		text("used", "use", "used, unused, snapshot or replica", used),
		text("datastore", "datastore", "The datastore on it", func(m *route.Map, i int32) string { return titleOf(m, m.Estate().FirstFrom(i, estate.Extent)) }),
		counted("hosts", "hosts", "Hosts that have it mapped", estate.Device, estate.Opens),
		linked("replicated_to", "replicated to", "Where it is replicated to", estate.ReplicatedTo), fact("thin", "thin", "text", "Whether space is taken as it is written"), siteColumn,
	},
	estate.Share: {ofArray, fact("export", "export", "text", "As clients mount it"), fact("bytes", "size", "bytes", "Size"), fullness, linked("pool", "pool", "The pool it is carved from", estate.CarvedFrom), text("used", "use", "used or unused", used)},
	estate.Host: {
		linked("cluster", "cluster", "Its cluster", estate.MemberOf), counted("vms", "VMs", "Virtual machines that run on it", estate.VM, estate.RunsOn),
		counted("ports", "ports", "Host adapter ports", estate.HBAPort, estate.PartOf), counted("luns", "LUNs", "LUNs it has mapped", estate.Device, estate.PartOf),
		allPaths, deadPaths, fabrics, fact("cores", "cores", "number", "Processor cores"), fact("memory_bytes", "memory", "bytes", "Memory"), siteColumn,
	},
	estate.HBAPort: {
		owner("host", "host", "Its host", estate.Host), identified("wwpn", "WWPN", "WWPN, IQN or NQN"),
		text("switch", "switch", "The switch it is logged in to", func(m *route.Map, i int32) string {
			if p := m.Estate().First(i, estate.Attached); p >= 0 {
				return m.OwnerName(p)
			}
			return ""
		}),
		linked("switch_port", "port", "The switch port", estate.Attached), counted("paths", "paths", "Paths that begin here", estate.Path, estate.Initiator), fact("speed_bytes_s", "speed", "bytes_s", "Line rate"),
	},
	estate.Device: {
		text("host", "host", "The host or array whose view it is", func(m *route.Map, i int32) string { return m.OwnerName(i) }),
		linked("volume", "volume", "The volume it opens", estate.Opens),
		text("array", "array", "That volume's array", func(m *route.Map, i int32) string {
			if v := m.Estate().First(i, estate.Opens); v >= 0 {
				return m.OwnerName(v)
			}
			return ""
		}),
		fact("path_policy", "policy", "text", "How paths are chosen"), allPaths, goodPaths, deadPaths, fabrics, fact("queue_depth", "queue depth", "number", "I/Os it may have in flight"),
	},
	estate.Path: {
		text("host", "from", "Who it begins at", func(m *route.Map, i int32) string {
			if p := m.Estate().First(i, estate.Initiator); p >= 0 {
				return m.OwnerName(p)
			}
			return ""
		}),
		linked("port", "port", "Initiator port", estate.Initiator),
		text("array", "to", "Whose port it ends at", func(m *route.Map, i int32) string {
			if p := m.Estate().First(i, estate.Target); p >= 0 {
				return m.OwnerName(p)
			}
			return ""
		}),
		linked("target", "array port", "Target port", estate.Target), fact("lun", "LUN", "text", "LUN number"), fact("state", "state", "text", "As the host says"),
	},
	estate.Switch: {
		linked("fabric", "fabric", "Its fabric", estate.MemberOf), fact("model", "model", "text", "Model"), fact("firmware", "firmware", "text", "Firmware"),
		counted("ports", "ports", "Ports", estate.SwitchPort, estate.PartOf),
		number("in_use", "in use", "Ports something is logged in to, or that carry an inter-switch link", func(m *route.Map, i int32) (n int) {
			for _, p := range m.Estate().From(i, estate.PartOf) {
				if m.Estate().FirstFrom(p, estate.Attached) >= 0 || m.Estate().FirstFrom(p, estate.Joins) >= 0 {
					n++
				}
			}
			return n
		}),
	},
	estate.SwitchPort: {
		owner("switch", "switch", "Its switch", estate.Switch), fact("index", "index", "number", "Its number on the switch"), fact("role", "role", "text", "edge or isl"),
		text("attached", "logged in", "What is logged in here", func(m *route.Map, i int32) string {
			p := m.Estate().FirstFrom(i, estate.Attached)
			if p < 0 {
				return ""
			}
			return m.OwnerName(p) + " " + titleOf(m, p)
		}),
		identified("wwpn", "WWPN", "WWPN, IQN or NQN"), fact("speed_bytes_s", "speed", "bytes_s", "Line rate"),
	},
	estate.Zone: {
		linked("fabric", "fabric", "Its fabric", estate.MemberOf),
		number("members", "members", "Members listed", func(m *route.Map, i int32) int { return len(m.Estate().At(i).Facts.Texts("members")) }),
		number("known", "known", "Members that are on the map", func(m *route.Map, i int32) int { return len(m.Estate().To(i, estate.Zones)) }),
	},
	estate.Array: {
		fact("role", "role", "text", "array or virtualizer"), fact("model", "model", "text", "Model"), fact("firmware", "firmware", "text", "Firmware"), fact("serial", "serial", "text", "Serial number"),
		counted("controllers", "controllers", "Controllers", estate.Controller, estate.PartOf), counted("volumes", "volumes", "Volumes", estate.Volume, estate.PartOf), machines, siteColumn,
	},
	estate.Controller: {ofArray, counted("ports", "ports", "Array ports", estate.TargetPort, estate.PartOf), counted("volumes", "volumes", "Volumes it serves or stands by for", estate.Volume, estate.ServedBy), fact("cores", "cores", "number", "Processor cores"), siteColumn},
	estate.TargetPort: {ofArray, linked("controller", "controller", "Its controller", estate.PartOf), identified("wwpn", "WWPN", "WWPN, IQN or NQN"),
		text("switch", "switch", "The switch it is logged in to", func(m *route.Map, i int32) string {
			if p := m.Estate().First(i, estate.Attached); p >= 0 {
				return m.OwnerName(p)
			}
			return ""
		}),
		linked("switch_port", "port", "The switch port", estate.Attached), counted("paths", "paths", "Paths that end here", estate.Path, estate.Target), fact("speed_bytes_s", "speed", "bytes_s", "Line rate")},
	estate.Pool: {ofArray, media, fact("bytes", "size", "bytes", "Size"), fullness, fact("promised_bytes", "promised", "bytes", "What thin volumes may come to take"),
		counted("volumes", "volumes", "Volumes carved from it", estate.Volume, estate.CarvedFrom), machines},
	estate.RAIDGroup: {text("pool", "pool", "The pool it is in", func(m *route.Map, i int32) string { return titleOf(m, m.Estate().FirstFrom(i, estate.MadeOf)) }), fact("raid", "RAID", "text", "RAID level"), media,
		number("drives", "drives", "Drives", func(m *route.Map, i int32) int { return len(m.Estate().To(i, estate.MadeOf)) })},
	estate.Drive: {ofArray, linked("enclosure", "enclosure", "Where it sits", estate.PartOf), text("raid_group", "RAID group", "What it is part of", func(m *route.Map, i int32) string { return titleOf(m, m.Estate().FirstFrom(i, estate.MadeOf)) }),
		media, fact("bytes", "size", "bytes", "Size"), fact("state", "state", "text", "As its array says"), fact("serial", "serial", "text", "Serial number"), fact("wear_share", "worn", "share", "Part of its endurance that is used")},
	estate.Cluster:     {counted("hosts", "hosts", "Hosts", estate.Host, estate.MemberOf), machines, siteColumn},
	estate.Enclosure:   {ofArray, counted("drives", "drives", "Drives", estate.Drive, estate.PartOf), fact("state", "state", "text", "As its array says"), fact("serial", "serial", "text", "Serial number")},
	estate.Fan:         {ofArray, linked("enclosure", "enclosure", "Where it sits", estate.PartOf), fact("state", "state", "text", "As its array says")},
	estate.PowerSupply: {ofArray, linked("enclosure", "enclosure", "Where it sits", estate.PartOf), fact("state", "state", "text", "As its array says")},
	estate.ISL: {text("from", "from", "Switch at one end", func(m *route.Map, i int32) string { return endOf(m, i, 0) }), text("to", "to", "Switch at the other end", func(m *route.Map, i int32) string { return endOf(m, i, 1) }),
		fact("cost", "cost", "number", "Cost of the link, as frames choose their way by it")},
	estate.Fabric: {counted("switches", "switches", "Switches", estate.Switch, estate.MemberOf), counted("zones", "zones", "Zones", estate.Zone, estate.MemberOf)},
}

func endOf(m *route.Map, isl int32, n int) string {
	if ends := m.Estate().To(isl, estate.Joins); n < len(ends) {
		return m.OwnerName(ends[n])
	}
	return ""
}

// columnsOf returns the columns of a kind: name, its own, and who says so.
func columnsOf(k estate.Kind) []Column {
	out := []Column{text("name", "name", "Its name", func(m *route.Map, i int32) string {
		if k == estate.Path {
			return pathName(m, i)
		}
		return m.Estate().At(i).Title()
	})}
	out = append(out, columns[k]...)
	return append(out, text("source", "source", "Who lists it", func(m *route.Map, i int32) string { return m.Estate().At(i).Key.Source }))
}
