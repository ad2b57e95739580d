// Package estate is the typed graph of everything watched: objects of the layers between a guest
// and its drives, the identities they carry, and the links between them.
//
// An [Estate] is a picture of one moment. It is built once from objects by [Build], which resolves
// the links each source sent, joins objects of different sources by identity (never by name), and
// lists as a [Finding] whatever could not be joined. After that it is read-only and safe for
// concurrent use.
package estate

import "strings"

// Layer is one of the strata an I/O passes on its way down.
type Layer string

// The layers, from the surface down.
const (
	LayerSite      Layer = "site"
	LayerGuest     Layer = "guest"
	LayerHost      Layer = "host"
	LayerDatastore Layer = "datastore"
	LayerFabric    Layer = "fabric"
	LayerFrontEnd  Layer = "front end"
	LayerBackEnd   Layer = "back end"
)

// Bands of time in several layers that no source tells apart.
const (
	LayerAboveArray Layer = "above the array" // guest to fabric
	LayerInArray    Layer = "in the array"    // front and back end
	LayerUnsplit    Layer = "not told apart"  // on both sides of the array's border
)

// Within says where something lies that lies in a layer, or in several that no source tells apart: "in the fabric".
func (l Layer) Within() string {
	switch l {
	case LayerAboveArray:
		return "above the array, between guest and fabric"
	case LayerInArray:
		return string(l)
	case LayerUnsplit:
		return "in layers that no source tells apart"
	}
	return "in the " + string(l)
}

// Layers lists the layers an I/O passes, from the guest down to the drives.
var Layers = []Layer{LayerGuest, LayerHost, LayerDatastore, LayerFabric, LayerFrontEnd, LayerBackEnd}

// Kind is the kind of an object.
type Kind string

// The kinds of the feed, version 1.
const (
	Site           Kind = "site"
	SiteLink       Kind = "site_link"
	VM             Kind = "vm"
	VDisk          Kind = "vdisk"
	Cluster        Kind = "cluster"
	Host           Kind = "host"
	HBAPort        Kind = "hba_port"
	Device         Kind = "device"
	Path           Kind = "path"
	DatastoreGroup Kind = "datastore_group"
	Datastore      Kind = "datastore"
	Fabric         Kind = "fabric"
	Switch         Kind = "switch"
	Zone           Kind = "zone"
	SwitchPort     Kind = "switch_port"
	ISL            Kind = "isl"
	Flow           Kind = "flow"
	Array          Kind = "array"
	Controller     Kind = "controller"
	TargetPort     Kind = "target_port"
	Volume         Kind = "volume"
	Share          Kind = "share"
	Pool           Kind = "pool"
	RAIDGroup      Kind = "raid_group"
	Drive          Kind = "drive"
	Cache          Kind = "cache"
	Enclosure      Kind = "enclosure"
	Fan            Kind = "fan"
	PowerSupply    Kind = "power_supply"
)

type kindInfo struct {
	kind   Kind
	layer  Layer
	label  string
	depth  int // order of dependence, from the guests down
	inside int // order of containment, from parts to wholes
}

var kinds = map[Kind]kindInfo{
	Site:           {Site, LayerSite, "site", 50, 9},
	SiteLink:       {SiteLink, LayerSite, "site link", 45, 5},
	VM:             {VM, LayerGuest, "virtual machine", 1, 1},
	VDisk:          {VDisk, LayerGuest, "virtual disk", 2, 1},
	Cluster:        {Cluster, LayerHost, "cluster", 9, 4},
	Host:           {Host, LayerHost, "host", 3, 3},
	HBAPort:        {HBAPort, LayerHost, "host adapter port", 6, 2},
	Device:         {Device, LayerHost, "host device", 10, 2},
	Path:           {Path, LayerHost, "path", 11, 1},
	DatastoreGroup: {DatastoreGroup, LayerDatastore, "datastore group", 9, 3},
	Datastore:      {Datastore, LayerDatastore, "datastore", 4, 2},
	Fabric:         {Fabric, LayerFabric, "fabric", 21, 5},
	Switch:         {Switch, LayerFabric, "switch", 20, 4},
	Zone:           {Zone, LayerFabric, "zone", 5, 2},
	SwitchPort:     {SwitchPort, LayerFabric, "switch port", 19, 2},
	ISL:            {ISL, LayerFabric, "inter-switch link", 18, 2},
	Flow:           {Flow, LayerFabric, "flow", 1, 1},
	Array:          {Array, LayerFrontEnd, "array", 40, 5},
	Controller:     {Controller, LayerFrontEnd, "controller", 30, 3},
	TargetPort:     {TargetPort, LayerFrontEnd, "array port", 25, 2},
	Volume:         {Volume, LayerFrontEnd, "volume", 8, 2},
	Share:          {Share, LayerFrontEnd, "file share", 8, 2},
	Pool:           {Pool, LayerBackEnd, "pool", 31, 4},
	RAIDGroup:      {RAIDGroup, LayerBackEnd, "RAID group", 32, 3},
	Drive:          {Drive, LayerBackEnd, "drive", 33, 2},
	Cache:          {Cache, LayerBackEnd, "cache", 34, 2},
	Enclosure:      {Enclosure, LayerBackEnd, "enclosure", 35, 4},
	Fan:            {Fan, LayerBackEnd, "fan", 36, 2},
	PowerSupply:    {PowerSupply, LayerBackEnd, "power supply", 37, 2},
}

// Known reports whether k is a kind of the feed or an extension ("x_…").
func (k Kind) Known() bool {
	_, ok := kinds[k]
	return ok || isExtension(string(k))
}

// Layer returns the layer of k; an extension has none ("").
func (k Kind) Layer() Layer { return kinds[k].layer }

// Label returns the words for k in a sentence, "virtual machine" for VM.
func (k Kind) Label() string {
	if info, ok := kinds[k]; ok {
		return info.label
	}
	return string(k)
}

// Plural returns the words for several of k, "virtual machines" for VM.
func (k Kind) Plural() string {
	l := k.Label()
	switch {
	case strings.HasSuffix(l, "y"):
		return l[:len(l)-1] + "ies"
	case strings.HasSuffix(l, "ch"):
		return l + "es"
	}
	return l + "s"
}

// LinkKind is the kind of a link. Links point down, toward the drives.
type LinkKind string

// Links that sources send.
const (
	RunsOn       LinkKind = "runs_on"
	Uses         LinkKind = "uses"
	StoredOn     LinkKind = "stored_on"
	MemberOf     LinkKind = "member_of"
	PartOf       LinkKind = "part_of"
	ServedBy     LinkKind = "served_by"
	ExposedOn    LinkKind = "exposed_on"
	CarvedFrom   LinkKind = "carved_from"
	MadeOf       LinkKind = "made_of"
	BackedBy     LinkKind = "backed_by"
	MirroredTo   LinkKind = "mirrored_to"
	ReplicatedTo LinkKind = "replicated_to"
	SnapshotOf   LinkKind = "snapshot_of"
	Opens        LinkKind = "opens"
)

// Links that Build derives from identities. They are never sent.
const (
	Extent    LinkKind = "extent"    // datastore → volume, by NAA
	Exports   LinkKind = "exports"   // datastore → share, by export
	Initiator LinkKind = "initiator" // path, flow → hba_port
	Target    LinkKind = "target"    // path, flow → target_port
	Attached  LinkKind = "attached"  // hba_port, target_port → switch_port
	Joins     LinkKind = "joins"     // isl → switch_port
	Zones     LinkKind = "zones"     // zone → hba_port, target_port
	FlowOf    LinkKind = "flow_of"   // flow → vm
)

var knownLinks = []LinkKind{RunsOn, Uses, StoredOn, MemberOf, PartOf, ServedBy, ExposedOn, CarvedFrom, MadeOf, BackedBy, MirroredTo,
	ReplicatedTo, SnapshotOf, Opens, Extent, Exports, Initiator, Target, Attached, Joins, Zones, FlowOf}

var sentLinks = map[LinkKind]bool{
	RunsOn: true, Uses: true, StoredOn: true, MemberOf: true, PartOf: true, ServedBy: true, ExposedOn: true,
	CarvedFrom: true, MadeOf: true, BackedBy: true, MirroredTo: true, ReplicatedTo: true, SnapshotOf: true, Opens: true,
}

// Sendable reports whether a source may send links of kind l: those of the feed and extensions.
func (l LinkKind) Sendable() bool { return sentLinks[l] || isExtension(string(l)) }

// symmetric links say nothing about who depends on whom, so they cannot make a cycle.
func (l LinkKind) symmetric() bool { return l == MirroredTo || l == ReplicatedTo || l == SnapshotOf }

// containment links say what a thing is in. A pool made of a RAID group that is part of the pool is no
// circle of dependence, so they are checked apart.
func (l LinkKind) containment() bool { return l == PartOf || l == MemberOf }

func isExtension(name string) bool { return len(name) > 2 && name[:2] == "x_" }
