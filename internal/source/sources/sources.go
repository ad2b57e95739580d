// Package sources knows every protocol there is. Whoever adds one adds a line here.
package sources

import (
	"dowsingrod/internal/source"
	"dowsingrod/internal/source/libvirt"
	"dowsingrod/internal/source/pull"
	"dowsingrod/internal/source/target"
)

// Kinds lists the kinds of source that can be opened, with what they are.
var Kinds = []struct {
	Kind    source.Kind
	Words   string
	Example string
}{
	{source.Libvirt, "a libvirt daemon: host, VMs, virtual disks, storage pools", "qemu:///system"},
	{source.Target, "Debian's iSCSI target daemon on this machine: targets, LUNs, sessions", "tgt://"},
	{source.Feed, "a feed over HTTPS, in the format of docs/feed.md", "https://exporter.example/feed"},
}

// Open makes a source of its settings. It connects to nothing yet.
func Open(s source.Settings) (source.Source, error) {
	switch s.Kind {
	case source.Libvirt:
		return libvirt.Open(s)
	case source.Target:
		return target.Open(s)
	case source.Feed:
		return pull.Open(s)
	}
	return nil, &source.Trouble{What: "there is no kind of source " + string(s.Kind), Try: "choose libvirt, iscsi-target or feed"}
}
