package estate

// Facts hold identifiers of unlike schemes where the object itself does not say which.
const (
	anyLUN  Scheme = "extent" // what a datastore names its LUNs by
	anyPort Scheme = "port"   // what a path names its ends by
)

// role is what an identifier in a fact means for its object: either that the object is the thing
// identified, or that it is joined to it.
type role struct {
	kind        Kind
	fact        string
	scheme      Scheme
	claim       bool     // the object is what the identifier names
	link        LinkKind // otherwise: the link that joins it to the object that claims the identifier
	to          []Kind   // kinds of object it may be joined to, the first that claims it
	reversed    bool     // the link leads from the claimant to this object
	consequence string   // what is lost where nobody claims it; "" where that is of no interest
}

// roles lists the facts that join, in the order in which their links are kept.
var roles = []role{
	{kind: VM, fact: "uuid", scheme: UUID, claim: true},
	{kind: VDisk, fact: "uuid", scheme: UUID, claim: true},
	{kind: Cluster, fact: "uuid", scheme: UUID, claim: true},
	{kind: Host, fact: "uuid", scheme: UUID, claim: true},
	{kind: Host, fact: "iqn", scheme: IQN, claim: true},
	{kind: Host, fact: "nqn", scheme: NQN, claim: true},
	{kind: HBAPort, fact: "wwpn", scheme: WWN, claim: true},
	{kind: HBAPort, fact: "iqn", scheme: IQN, claim: true},
	{kind: HBAPort, fact: "nqn", scheme: NQN, claim: true},
	{kind: TargetPort, fact: "wwpn", scheme: WWN, claim: true},
	{kind: TargetPort, fact: "iqn", scheme: IQN, claim: true},
	{kind: TargetPort, fact: "nqn", scheme: NQN, claim: true},
	{kind: SwitchPort, fact: "wwpn", scheme: WWN, claim: true},
	{kind: Switch, fact: "wwnn", scheme: WWN, claim: true},
	{kind: Fabric, fact: "wwnn", scheme: WWN, claim: true},
	{kind: Volume, fact: "naa", scheme: NAA, claim: true},
	{kind: Volume, fact: "eui", scheme: EUI, claim: true},
	{kind: Volume, fact: "nguid", scheme: NGUID, claim: true},
	{kind: Volume, fact: "luns", scheme: LUN, claim: true},
	{kind: Share, fact: "export", scheme: Export, claim: true},
	{kind: Array, fact: "serial", scheme: Serial, claim: true},
	{kind: Drive, fact: "serial", scheme: Serial, claim: true},
	{kind: Enclosure, fact: "serial", scheme: Serial, claim: true},
	{kind: RAIDGroup, fact: "serial", scheme: Serial, claim: true},
	{kind: Pool, fact: "serial", scheme: Serial, claim: true},
	{kind: Cache, fact: "serial", scheme: Serial, claim: true},
	{kind: Fan, fact: "serial", scheme: Serial, claim: true},
	{kind: PowerSupply, fact: "serial", scheme: Serial, claim: true},

	{kind: Datastore, fact: "extents", scheme: anyLUN, link: Extent, to: []Kind{Volume}, consequence: "the map ends at this datastore"},
	{kind: Datastore, fact: "export", scheme: Export, link: Exports, to: []Kind{Share}, consequence: "the map ends at this datastore"},
	{kind: Volume, fact: "replicas", scheme: anyLUN, link: ReplicatedTo, to: []Kind{Volume}, consequence: "where it is replicated to is not on the map"},
	{kind: Device, fact: "naa", scheme: NAA, link: Opens, to: []Kind{Volume}, consequence: "the map ends at this device"},
	{kind: Device, fact: "eui", scheme: EUI, link: Opens, to: []Kind{Volume}, consequence: "the map ends at this device"},
	{kind: Device, fact: "nguid", scheme: NGUID, link: Opens, to: []Kind{Volume}, consequence: "the map ends at this device"},
	{kind: Device, fact: "lun", scheme: LUN, link: Opens, to: []Kind{Volume}, consequence: "the map ends at this device"},
	{kind: Path, fact: "initiator", scheme: anyPort, link: Initiator, to: []Kind{HBAPort, TargetPort}, consequence: "the way from the host into the fabric is unknown"},
	{kind: Path, fact: "target", scheme: anyPort, link: Target, to: []Kind{TargetPort}, consequence: "the way from the fabric into the array is unknown"},
	{kind: Flow, fact: "initiator", scheme: anyPort, link: Initiator, to: []Kind{HBAPort, TargetPort}, consequence: "the way from the host into the fabric is unknown"},
	{kind: Flow, fact: "target", scheme: anyPort, link: Target, to: []Kind{TargetPort}, consequence: "the way from the fabric into the array is unknown"},
	{kind: Flow, fact: "vm_uuid", scheme: UUID, link: FlowOf, to: []Kind{VM}, consequence: "the flow counts for no VM"},
	{kind: SwitchPort, fact: "attached", scheme: anyPort, link: Attached, to: []Kind{HBAPort, TargetPort}, reversed: true, consequence: "what is logged in here is not on the map"},
	{kind: ISL, fact: "ends", scheme: WWN, link: Joins, to: []Kind{SwitchPort}, consequence: "the map has a gap between two switches"},
	{kind: Zone, fact: "members", scheme: anyPort, link: Zones, to: []Kind{HBAPort, TargetPort}},
}

// rolesOf lists by kind the positions of its roles.
var rolesOf = func() map[Kind][]uint8 {
	of := make(map[Kind][]uint8)
	for i, r := range roles {
		of[r.kind] = append(of[r.kind], uint8(i))
	}
	return of
}()

// bearing is an identifier that an object carries, in a role.
type bearing struct {
	role uint8
	id   Identity
}

// bearings lists the identifiers of an object in the order of its roles; unreadable ones go to bad.
func bearings(o *Node, bad func(r *role, err error)) []bearing {
	of := rolesOf[o.Key.Ref.Kind]
	if len(of) == 0 {
		return nil
	}
	var buffer [8]string
	raws := buffer[:len(of)]
	missing := len(of)
	o.Facts.each(func(name, raw string) bool {
		for n, k := range of {
			if raws[n] == "" && roles[k].fact == name {
				raws[n] = raw
				missing--
			}
		}
		return missing > 0
	})
	if missing == len(of) {
		return nil
	}
	out := make([]bearing, 0, len(of)-missing)
	one := func(k uint8, text string) {
		r := &roles[k]
		id, err := Normalize(r.scheme, text)
		if err == nil {
			out = append(out, bearing{k, id})
		} else if bad != nil {
			bad(r, err)
		}
	}
	for n, k := range of {
		switch raw := raws[n]; {
		case raw == "":
		case raw[0] == '"':
			one(k, unquote(raw))
		default:
			for _, text := range texts(raw) {
				one(k, text)
			}
		}
	}
	return out
}

// Identities returns all identifiers of an object, its own and those of what it shows, normalised. Facts that cannot be
// read are left out; an estate lists them as findings.
func Identities(o *Node) []Identity {
	var out []Identity
	for _, b := range bearings(o, nil) {
		switch r := &roles[b.role]; {
		case r.claim, r.kind == Device, r.kind == Datastore:
			out = append(out, b.id)
		}
	}
	return out
}

// shows reports whether objects of a kind carry the identifiers of others without being them.
func shows(k Kind) bool { return k == Device || k == Datastore }
