package libvirt

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// Bounds on the descriptions that a daemon sends.
const (
	maxXML   = 4 << 20
	maxDepth = 128
)

type domainXML struct {
	Name   string    `xml:"name"`
	UUID   string    `xml:"uuid"`
	Memory amountXML `xml:"memory"`
	VCPU   string    `xml:"vcpu"`
	Disks  []diskXML `xml:"devices>disk"`
}

type amountXML struct {
	Unit string `xml:"unit,attr"`
	Text string `xml:",chardata"`
}

// bytes reads an amount in its unit; KiB where none is given, as libvirt defines it.
func (a amountXML) bytes() float64 {
	n, err := strconv.ParseFloat(strings.TrimSpace(a.Text), 64)
	if err != nil || n < 0 {
		return 0
	}
	units := map[string]float64{"b": 1, "bytes": 1, "kb": 1e3, "k": 1 << 10, "kib": 1 << 10, "mb": 1e6, "m": 1 << 20, "mib": 1 << 20,
		"gb": 1e9, "g": 1 << 30, "gib": 1 << 30, "tb": 1e12, "t": 1 << 40, "tib": 1 << 40}
	if scale, ok := units[strings.ToLower(a.Unit)]; ok {
		return n * scale
	}
	return n * (1 << 10)
}

type diskXML struct {
	Type     string `xml:"type,attr"`
	Device   string `xml:"device,attr"`
	Snapshot string `xml:"snapshot,attr"`
	Driver   struct {
		Type string `xml:"type,attr"`
	} `xml:"driver"`
	Source sourceXML `xml:"source"`
	Target struct {
		Dev string `xml:"dev,attr"`
	} `xml:"target"`
	Tune struct {
		TotalIOPS  float64 `xml:"total_iops_sec"`
		ReadIOPS   float64 `xml:"read_iops_sec"`
		WriteIOPS  float64 `xml:"write_iops_sec"`
		TotalBytes float64 `xml:"total_bytes_sec"`
		ReadBytes  float64 `xml:"read_bytes_sec"`
		WriteBytes float64 `xml:"write_bytes_sec"`
	} `xml:"iotune"`
	Serial string `xml:"serial"`
}

type sourceXML struct {
	File     string    `xml:"file,attr"`
	Dev      string    `xml:"dev,attr"`
	Dir      string    `xml:"dir,attr"`
	Protocol string    `xml:"protocol,attr"`
	Name     string    `xml:"name,attr"`
	Pool     string    `xml:"pool,attr"`
	Volume   string    `xml:"volume,attr"`
	Hosts    []hostXML `xml:"host"`
	IQN      struct {
		Name string `xml:"name,attr"`
	} `xml:"initiator>iqn"`
}

type hostXML struct {
	Name string `xml:"name,attr"`
	Port string `xml:"port,attr"`
}

type poolXML struct {
	Type   string `xml:"type,attr"`
	Name   string `xml:"name"`
	UUID   string `xml:"uuid"`
	Source struct {
		Hosts []hostXML `xml:"host"`
		Dir   struct {
			Path string `xml:"path,attr"`
		} `xml:"dir"`
		Devices []struct {
			Path string `xml:"path,attr"`
		} `xml:"device"`
		Initiator struct {
			IQN struct {
				Name string `xml:"name,attr"`
			} `xml:"iqn"`
		} `xml:"initiator"`
		Format struct {
			Type string `xml:"type,attr"`
		} `xml:"format"`
	} `xml:"source"`
	Target struct {
		Path string `xml:"path"`
	} `xml:"target"`
}

type capabilitiesXML struct {
	Host struct {
		UUID string `xml:"uuid"`
		CPU  struct {
			Arch string `xml:"arch"`
		} `xml:"cpu"`
		IQN string `xml:"iscsi>initiator"`
	} `xml:"host"`
}

// parse reads a description that came from outside, within bounds of size and depth.
func parse[T any](text string, into *T) error {
	if len(text) > maxXML {
		return fmt.Errorf("the description is %d bytes long; at most %d are read", len(text), maxXML)
	}
	d := xml.NewDecoder(strings.NewReader(text))
	for depth := 0; ; {
		token, err := d.RawToken()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return fmt.Errorf("the description is not well-formed: %w", err)
		}
		switch token.(type) {
		case xml.StartElement:
			if depth++; depth > maxDepth {
				return fmt.Errorf("the description is nested more than %d deep", maxDepth)
			}
		case xml.EndElement:
			depth--
		}
	}
	if err := xml.Unmarshal([]byte(text), into); err != nil {
		return fmt.Errorf("the description cannot be read: %w", err)
	}
	return nil
}
