package libvirt

import (
	"path"
	"regexp"
	"strings"

	"dowsingrod/core/estate"
)

// backing is where a virtual disk truly lies.
type backing struct {
	lun       string // target/number of an iSCSI LUN
	initiator string // the IQN it is reached with, "" where not known
	naa       string // of a block device
	export    string // server:/path of a file on NFS
	pool      string // UUID of the storage pool a file or volume is in
	path      string // as the host sees it
	protocol  string // of a network disk
}

// byPath is the name udev gives an iSCSI disk: /dev/disk/by-path/ip-192.0.2.7:3260-iscsi-iqn.2026-03.example:t-lun-1
var byPath = regexp.MustCompile(`ip-[^/]+-iscsi-(.+)-lun-(\d+)$`)

var byID = regexp.MustCompile(`/(?:wwn-0x|scsi-3|dm-uuid-mpath-3)([0-9a-fA-F]{16}|[0-9a-fA-F]{32})$`)

// lunOf reads the target and number out of a network disk's name, target/number.
func lunOf(name string) string {
	id, err := estate.Normalize(estate.LUN, name)
	if err != nil {
		return ""
	}
	return id.Value
}

// place reads what a device's path tells of its identity.
func place(p string) (b backing) {
	b.path = p
	if m := byPath.FindStringSubmatch(p); m != nil {
		b.lun = lunOf(m[1] + "/" + m[2])
	}
	if m := byID.FindStringSubmatch(p); m != nil {
		b.naa = strings.ToLower(m[1])
	}
	return b
}

// find says where a disk lies, by its own description and the pools.
func find(d *diskXML, vm string, pools map[string]*pool) (b backing, ok bool) {
	switch {
	case d.Source.Protocol == "iscsi":
		b = backing{lun: lunOf(d.Source.Name), protocol: "iscsi", initiator: d.Source.IQN.Name, path: d.Source.Name}
	case d.Source.Protocol == "nfs":
		if len(d.Source.Hosts) > 0 {
			b.export = d.Source.Hosts[0].Name + ":" + path.Dir(d.Source.Name)
		}
		b.protocol, b.path = "nfs", d.Source.Name
	case d.Source.Protocol != "":
		b.protocol, b.path = d.Source.Protocol, d.Source.Name
	case d.Source.Pool != "":
		for _, p := range pools {
			if p.xml.Name != d.Source.Pool {
				continue
			}
			b = place(p.volumes[d.Source.Volume])
			b.pool = p.xml.UUID
			if b.path == "" {
				b.path = d.Source.Volume
			}
			if p.xml.Type == "iscsi-direct" || p.xml.Type == "iscsi" {
				b.protocol, b.initiator = "iscsi", p.xml.Source.Initiator.IQN.Name
			}
		}
	case d.Source.Dev != "":
		b = place(d.Source.Dev)
	case d.Source.File != "":
		b = place(d.Source.File)
	default:
		return b, false
	}
	if b.pool == "" && b.path != "" && d.Source.Protocol == "" {
		longest := 0
		for _, p := range pools {
			dir := strings.TrimSuffix(p.xml.Target.Path, "/") + "/"
			if dir != "/" && strings.HasPrefix(b.path, dir) && len(dir) > longest {
				b.pool, longest = p.xml.UUID, len(dir)
			}
		}
	}
	if b.lun != "" && b.initiator == "" && b.protocol == "iscsi" {
		// What QEMU calls itself where it is told nothing else.
		b.initiator = "iqn.2008-11.org.linux-kvm:" + vm
	}
	return b, true
}
