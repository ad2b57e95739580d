// Package libvirt reads a libvirt daemon: its host, virtual machines, virtual disks with what they truly lie on, and
// storage pools. It speaks the daemon's own protocol over a unix socket, TCP, or TCP with TLS, and only reads.
//
// All statistics come in one call a pass. Descriptions are read again for domains that an event or the statistics
// show to have changed, and for the rest in turn.
package libvirt

import (
	"cmp"
	"context"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	wire "github.com/digitalocean/go-libvirt"

	"dowsingrod/core/phrase"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/source"
	"dowsingrod/internal/source/meter"
)

// Source is a libvirt daemon. It keeps to the contract of source.Source.
type Source struct {
	settings source.Settings
	at       endpoint

	mu      sync.Mutex // guards session and stale, which Watch uses beside a pass
	session *session
	stale   map[string]bool // UUIDs whose description may have changed; "" for all

	host      host
	domains   map[string]*domain // by UUID
	pools     map[string]*pool   // by UUID
	poolsAt   time.Time
	poolsRead bool // in this pass
	stats     []stats
	statsAt   time.Time
	meter     *meter.Meter

	listed uint64
}

type host struct {
	name, uuid, iqn string
	cores           int
	memory          float64
}

type domain struct {
	xml    domainXML
	handle wire.Domain
	mark   string // what the statistics showed when the description was read
	read   time.Time
	state  int64
}

type pool struct {
	xml                  poolXML
	volumes              map[string]string // path by name
	capacity, allocation float64
}

// Open makes a source of settings. It connects to nothing yet.
func Open(s source.Settings) (*Source, error) {
	e, err := parseAddress(s.Address)
	if err != nil {
		return nil, err
	}
	return &Source{settings: s, at: e, stale: map[string]bool{"": true}, domains: make(map[string]*domain), pools: make(map[string]*pool),
		meter: meter.New(s.Interval, s.Phase())}, nil
}

// connect returns the session, opened anew where it was lost.
func (s *Source) connect(ctx context.Context) (*session, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.session != nil && s.session.alive() {
		return s.session, nil
	}
	if s.session != nil {
		s.session.close()
	}
	v, err := open(ctx, s.at, s.settings, nil)
	if err != nil {
		return nil, err
	}
	s.session, s.stale[""] = v, true
	return v, nil
}

// Close implements source.Source.
func (s *Source) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.session != nil {
		s.session.close()
	}
	return nil
}

// ask runs calls on the session within ctx. A broken connection becomes a Trouble.
func (s *Source) ask(ctx context.Context, f func(*session) error) error {
	v, err := s.connect(ctx)
	if err != nil {
		return err
	}
	err = v.within(ctx, func() error { return f(v) })
	var refusal wire.Error
	if err == nil || errors.As(err, &refusal) {
		return err
	}
	v.close() // whatever is wrong with it, the next call begins with a new one
	return lost(s.at, err)
}

// Inventory implements source.Source.
func (s *Source) Inventory(ctx context.Context) (source.Inventory, error) {
	inv := source.Inventory{}
	err := s.ask(ctx, func(v *session) error {
		if s.host.name == "" {
			if err := s.readHost(v); err != nil {
				return err
			}
		}
		if err := s.readStats(v); err != nil {
			return err
		}
		changedPools, partial := s.readPools(v)
		inv.Partial = append(inv.Partial, partial...)
		changed, partial := s.readDomains(v)
		inv.Partial = append(inv.Partial, partial...)
		inv.Unchanged = !changed && !changedPools && s.listed > 0 && len(inv.Partial) == 0
		return nil
	})
	if err != nil {
		s.stats = nil
		return inv, trouble(s.at, err)
	}
	inv.At = s.statsAt.Round(0).UTC()
	if !inv.Unchanged {
		inv.Objects = s.objects()
		s.listed++
	}
	return inv, nil
}

// trouble puts a refusal of the daemon into words.
func trouble(e endpoint, err error) error {
	var t *source.Trouble
	if errors.As(err, &t) {
		return err
	}
	var refusal wire.Error
	if errors.As(err, &refusal) {
		return refused(e, err)
	}
	return lost(e, err)
}

func (s *Source) readHost(v *session) error {
	name, err := v.ConnectGetHostname()
	if err != nil {
		return err
	}
	h := host{name: name}
	if text, err := v.ConnectGetCapabilities(); err == nil {
		var c capabilitiesXML
		if err := parse(text, &c); err != nil {
			return &source.Trouble{What: "the capabilities of the host: " + err.Error(), Try: "check that this is a libvirt daemon", Err: err}
		}
		h.uuid, h.iqn = c.Host.UUID, c.Host.IQN
	}
	if _, memory, cpus, _, _, _, _, _, err := v.NodeGetInfo(); err == nil {
		h.cores, h.memory = int(cpus), float64(memory)*1024
	}
	s.host = h
	return nil
}

// poolsEvery bounds how often the storage pools are asked; they change rarely, and by hand.
const poolsEvery = time.Minute

func (s *Source) readPools(v *session) (changed bool, partial []string) {
	now := s.settings.Clock()
	s.poolsRead = false
	s.mu.Lock()
	all := s.stale[""]
	s.mu.Unlock()
	if !all && now.Sub(s.poolsAt) < poolsEvery {
		return false, nil
	}
	s.poolsAt = now
	handles, _, err := v.ConnectListAllStoragePools(1, wire.ConnectListStoragePoolsActive)
	if err != nil {
		if unsupported(err) {
			return false, nil
		}
		return false, []string{"storage pools: " + err.Error()}
	}
	found := make(map[string]*pool, len(handles))
	for _, h := range handles {
		text, err := v.StoragePoolGetXMLDesc(h, 0)
		if err != nil {
			continue // it went away in between
		}
		p := &pool{volumes: make(map[string]string)}
		if err := parse(text, &p.xml); err != nil {
			partial = append(partial, "storage pool "+h.Name+": "+err.Error())
			continue
		}
		if _, capacity, allocation, _, err := v.StoragePoolGetInfo(h); err == nil {
			p.capacity, p.allocation = float64(capacity), float64(allocation)
		}
		if volumes, _, err := v.StoragePoolListAllVolumes(h, 1, 0); err == nil {
			for _, vol := range volumes {
				p.volumes[vol.Name] = vol.Key
				// For iSCSI the path names target and LUN; the key need not.
				if strings.HasPrefix(p.xml.Type, "iscsi") {
					if path, err := v.StorageVolGetPath(vol); err == nil {
						p.volumes[vol.Name] = path
					}
				}
			}
		}
		found[p.xml.UUID] = p
	}
	changed = len(found) != len(s.pools)
	for id, p := range found {
		old := s.pools[id]
		changed = changed || old == nil || old.capacity != p.capacity || len(old.volumes) != len(p.volumes) || old.xml.Name != p.xml.Name
	}
	s.pools, s.poolsRead = found, true
	return changed, partial
}

func unsupported(err error) bool {
	var lv wire.Error
	if !errors.As(err, &lv) {
		return false
	}
	switch wire.ErrorNumber(lv.Code) {
	case wire.ErrNoSupport, wire.ErrOperationUnsupported, wire.ErrArgumentUnsupported:
		return true
	}
	return false
}

// atLeastRead is how many descriptions are read again each pass though nothing seems to have changed.
const atLeastRead = 100

// readDomains reads the descriptions that may have changed.
func (s *Source) readDomains(v *session) (changed bool, partial []string) {
	s.mu.Lock()
	stale := s.stale
	s.stale = make(map[string]bool)
	s.mu.Unlock()
	present := make(map[string]bool, len(s.stats))
	var due, rest []*stats
	for i := range s.stats {
		st := &s.stats[i]
		present[st.uuid] = true
		d := s.domains[st.uuid]
		if d == nil || stale[""] || stale[st.uuid] || d.mark != st.mark {
			due = append(due, st)
		} else {
			rest = append(rest, st)
		}
	}
	for id := range s.domains {
		if !present[id] {
			delete(s.domains, id)
			changed = true
		}
	}
	again := max(atLeastRead, len(s.stats)/15)
	if len(rest) > again {
		slices.SortFunc(rest, func(a, b *stats) int {
			return cmp.Compare(s.domains[a.uuid].read.UnixNano(), s.domains[b.uuid].read.UnixNano())
		})
		rest = rest[:again]
	}
	for _, st := range append(due, rest...) {
		text, err := v.DomainGetXMLDesc(st.handle, 0)
		if err != nil {
			if !v.alive() {
				return changed, append(partial, "the connection was lost")
			}
			s.mark(st.uuid) // gone, or hanging: asked again at the next pass
			if !wire.IsNotFound(err) {
				partial = append(partial, "VM "+st.name+": "+err.Error())
			}
			continue
		}
		d := &domain{handle: st.handle, mark: st.mark, read: s.settings.Clock(), state: st.state}
		if err := parse(text, &d.xml); err != nil {
			partial = append(partial, "VM "+st.name+": "+err.Error())
			continue
		}
		old := s.domains[st.uuid]
		changed = changed || old == nil || old.mark != d.mark || !sameXML(&old.xml, &d.xml)
		s.domains[st.uuid] = d
	}
	return changed, partial
}

func sameXML(a, b *domainXML) bool {
	return a.Name == b.Name && a.VCPU == b.VCPU && a.Memory == b.Memory && slices.EqualFunc(a.Disks, b.Disks, func(x, y diskXML) bool {
		xs, ys := x.Source, y.Source
		same := slices.Equal(xs.Hosts, ys.Hosts)
		xs.Hosts, ys.Hosts = nil, nil
		return same && xs.File == ys.File && xs.Dev == ys.Dev && xs.Name == ys.Name && xs.Pool == ys.Pool && xs.Volume == ys.Volume &&
			xs.Protocol == ys.Protocol && xs.IQN == ys.IQN && x.Target == y.Target && x.Tune == y.Tune && x.Driver == y.Driver && x.Device == y.Device
	})
}

// mark says that a domain's description may have changed.
func (s *Source) mark(uuid string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.stale[uuid] = true
}

func uuidText(u wire.UUID) string {
	h := hex.EncodeToString(u[:])
	return h[:8] + "-" + h[8:12] + "-" + h[12:16] + "-" + h[16:20] + "-" + h[20:]
}

// Watch implements source.Source: it hears of domains that start, stop, change, move or have an I/O error.
func (s *Source) Watch(ctx context.Context, heard func(source.Happening)) error {
	// A connection of its own: what is heard does not wait behind a pass.
	v, err := open(ctx, s.at, s.settings, nil)
	if err != nil {
		return err
	}
	defer v.close()
	events := make(chan any)
	within, cancel := context.WithCancel(ctx)
	defer cancel()
	var readers sync.WaitGroup
	for _, id := range []wire.DomainEventID{wire.DomainEventIDLifecycle, wire.DomainEventIDBlockJob, wire.DomainEventIDDeviceRemoved,
		wire.DomainEventIDDeviceAdded, wire.DomainEventIDTunable, wire.DomainEventIDIoError, wire.DomainEventIDReboot, wire.DomainEventIDJobCompleted} {
		var from <-chan any
		err := v.within(ctx, func() (err error) {
			from, err = v.SubscribeEvents(within, id, nil)
			return err
		})
		if unsupported(err) {
			continue
		}
		if err != nil {
			cancel()
			v.close()
			return trouble(s.at, err)
		}
		readers.Go(func() {
			for e := range from {
				select {
				case events <- e:
				case <-within.Done():
				}
			}
		})
	}
	defer func() { // the subscriptions end with the connection, and their readers with them
		cancel()
		v.close()
		readers.Wait()
	}()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-v.Disconnected():
			return lost(s.at, errors.New("the daemon closed it"))
		case e := <-events:
			s.hear(e, heard)
		}
	}
}

func (s *Source) hear(e any, heard func(source.Happening)) {
	var dom wire.Domain
	var what, detail string
	changed := true
	switch m := e.(type) {
	case *wire.DomainEventCallbackLifecycleMsg:
		dom, what = m.Msg.Dom, lifecycle(m.Msg.Event, m.Msg.Detail)
	case *wire.DomainEventCallbackBlockJobMsg:
		dom, what, detail = m.Msg.Dom, "copy_job", blockJob(m.Msg.Status)+" for "+m.Msg.Path
	case *wire.DomainEventCallbackDeviceAddedMsg:
		dom, what, detail = m.Dom, "device_added", m.DevAlias
	case *wire.DomainEventCallbackDeviceRemovedMsg:
		dom, what, detail = m.Msg.Dom, "device_removed", m.Msg.DevAlias
	case *wire.DomainEventCallbackTunableMsg:
		dom, what = m.Dom, "limits_changed"
	case *wire.DomainEventCallbackIOErrorMsg:
		dom, what, detail, changed = m.Msg.Dom, "io_error", m.Msg.SrcPath, false
	case *wire.DomainEventCallbackRebootMsg:
		dom, what = m.Msg.Dom, "rebooted"
	case *wire.DomainEventCallbackJobCompletedMsg:
		dom, what = m.Dom, "job_completed"
	default:
		return
	}
	id := uuidText(dom.UUID)
	s.mark(id)
	heard(source.Happening{Changed: changed, Event: feed.Event{Of: "vm:" + id, Time: s.settings.Clock().UTC(), What: what, Detail: detail}})
}

func lifecycle(event, detail int32) string {
	names := []string{"defined", "undefined", "started", "suspended", "resumed", "stopped", "shutting_down", "suspended_by_guest", "crashed"}
	if event < 0 || int(event) >= len(names) {
		return "changed"
	}
	switch {
	case event == 2 && detail == 1:
		return "migrated_here"
	case event == 5 && detail == 3:
		return "migrated_away"
	case event == 0 && detail == 2:
		return "renamed"
	}
	return names[event]
}

func blockJob(status int32) string {
	switch status {
	case 0:
		return "completed"
	case 1:
		return "failed"
	case 2:
		return "cancelled"
	case 3:
		return "ready"
	}
	return fmt.Sprintf("status %d", status)
}

// Probe implements source.Source.
func (s *Source) Probe(ctx context.Context) source.Report {
	var r source.Report
	r.Begin()
	r.Pass(source.StepAddress, string(s.at.driver)+" by "+s.at.transport+" at "+s.at.String())
	v, err := open(ctx, s.at, s.settings, func(c *x509.Certificate) { r.Certificate = source.Describe(c) })
	var credential *credentialError
	if err != nil {
		step := source.StepReachable
		if r.Certificate != nil {
			r.Pass(source.StepReachable, s.at.String()+" answers")
			step = source.StepCertificate
		}
		if errors.As(err, &credential) {
			if r.Certificate == nil {
				r.Pass(source.StepReachable, s.at.String()+" answers")
				r.Skip(source.StepCertificate, "this transport has none")
			} else {
				r.Pass(source.StepCertificate, certified(s.settings, r.Certificate))
			}
			step, err = source.StepSignedIn, credential.Trouble
		}
		r.Fail(step, err)
		return r
	}
	defer v.close()
	r.Pass(source.StepReachable, s.at.String()+" answers")
	switch {
	case r.Certificate != nil:
		r.Pass(source.StepCertificate, certified(s.settings, r.Certificate))
	case s.at.transport == "tcp":
		r.Note(source.StepCertificate, "none: what is said here can be read and changed on the way", "use qemu+tls:// outside a trusted network")
	default:
		r.Skip(source.StepCertificate, "a socket of this machine has none")
	}
	r.Pass(source.StepSignedIn, "the daemon accepts us")
	s.mu.Lock()
	s.session = v
	s.mu.Unlock()
	inv, err := s.Inventory(ctx)
	if err != nil {
		r.Fail(source.StepPermissions, err)
		return r
	}
	if len(inv.Partial) > 0 {
		r.Note(source.StepPermissions, "some things could not be read: "+strings.Join(inv.Partial, "; "), "allow reading them, or go on without")
	} else {
		r.Pass(source.StepPermissions, "VMs, their statistics and storage pools can be read")
	}
	version := "libvirt"
	_ = v.within(ctx, func() error {
		n, err := v.ConnectGetLibVersion()
		if err == nil {
			version = fmt.Sprintf("libvirt %d.%d.%d", n/1e6, n/1e3%1e3, n%1e3)
		}
		if kind, err := v.ConnectGetType(); err == nil {
			version += " with " + kind
		}
		return nil
	})
	r.Calls = version + " on " + s.host.name
	r.Objects = inv.Objects
	r.Pass(source.StepRecognised, r.Calls+": "+s.counts())
	r.Skip(source.StepClock, "its readings carry no time; ours is used")
	return r
}

func certified(s source.Settings, c *source.Certificate) string {
	if s.Pin != "" {
		return "it is the pinned one, " + c.SHA256[:16] + "…"
	}
	return "it verifies for " + c.Subject + ", until " + c.To.Format(time.DateOnly)
}

func (s *Source) counts() string {
	running, disks := 0, 0
	for _, d := range s.domains {
		if d.state == 1 {
			running++
		}
		disks += len(d.xml.Disks)
	}
	var capacity float64
	for _, p := range s.pools {
		capacity += p.capacity
	}
	return fmt.Sprintf("%s (%d running), %s, %s of %.3g GiB", phrase.Count(len(s.domains), "VM", "VMs"), running, phrase.Count(disks, "virtual disk", "virtual disks"),
		phrase.Count(len(s.pools), "storage pool", "storage pools"), capacity/(1<<30))
}
