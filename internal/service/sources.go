package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/internal/collect"
	"dowsingrod/internal/source"
	"dowsingrod/internal/store"
	"dowsingrod/internal/vault"
)

// Collecting is what the service needs to collect by itself.
type Collecting struct {
	// Vault encrypts the secrets of sources; nil where there is no key file: then none can be kept.
	Vault *vault.Vault
	// Open makes a source of its settings.
	Open func(source.Settings) (source.Source, error)
	// Changed is called after the list of sources changed; nil calls nothing.
	Changed func()
}

// Collect gives the service what it needs to collect. It is called before the service is used.
func (s *Service) Collect(c Collecting) { s.collecting = c }

// SourceError says what is wrong with what was asked of a source.
type SourceError struct {
	Reason string
	// Probe is set where a probe failed.
	Probe *Probed
}

func (e *SourceError) Error() string { return e.Reason }

// SourceSpec is a source to probe or add.
type SourceSpec struct {
	Name        string      `json:"name" doc:"Its name: lower-case letters, digits and hyphens" minLength:"1" maxLength:"64" example:"hyp-northmole"`
	Kind        source.Kind `json:"kind,omitempty" doc:"The protocol; by the address where absent" enum:"libvirt,iscsi-target,feed"`
	Address     string      `json:"address" doc:"Where it is, in the protocol's notation; without secrets" minLength:"1" maxLength:"1000" example:"qemu+tls://farne.example/system"`
	Interval    float64     `json:"interval_s,omitempty" doc:"Time between two readings in s; 20 where absent" minimum:"0" maximum:"3600"`
	Pin         string      `json:"pin,omitempty" doc:"SHA-256 of the one certificate accepted, hexadecimal"`
	Authorities string      `json:"authorities,omitempty" doc:"Certificates trusted besides the machine's, PEM" maxLength:"200000"`
	source.Secrets
}

// SourceChange is what to change of a source; what is absent stays.
type SourceChange struct {
	Address     *string         `json:"address,omitempty" doc:"Where it is" maxLength:"1000"`
	Interval    *float64        `json:"interval_s,omitempty" doc:"Time between two readings in s" minimum:"1" maximum:"3600"`
	Pin         *string         `json:"pin,omitempty" doc:"SHA-256 of the one certificate accepted; empty asks for one that verifies"`
	Authorities *string         `json:"authorities,omitempty" doc:"Certificates trusted besides the machine's, PEM" maxLength:"200000"`
	Paused      *bool           `json:"paused,omitempty" doc:"Whether to stop asking it for now"`
	Secrets     *source.Secrets `json:"secrets,omitempty" doc:"New secrets, in place of all there were"`
}

// Probed is what a probe found.
type Probed struct {
	OK          bool                `json:"ok" doc:"Whether it may be added as it is"`
	Steps       []source.Step       `json:"steps" doc:"What was tried, in order"`
	Calls       string              `json:"calls" doc:"How the other end calls itself, with its version"`
	Certificate *source.Certificate `json:"certificate,omitempty" doc:"What the server showed"`
	Counts      []KindCount         `json:"counts" doc:"Objects recognised, by kind"`
	Joins       []estate.Joined     `json:"joins" doc:"Links by identity it would make with the present estate"`
}

// SourceInfo is a source with how it does. It never holds a secret.
type SourceInfo struct {
	Name      string          `json:"name" doc:"Its name"`
	Kind      string          `json:"kind" doc:"The protocol; pushed for one that sends by itself, former for one that was removed" enum:"libvirt,iscsi-target,feed,pushed,former"`
	Address   string          `json:"address,omitempty" doc:"Where it is"`
	Interval  float64         `json:"interval_s,omitempty" doc:"Time between two readings in s"`
	Paused    bool            `json:"paused" doc:"Whether it is not asked for now"`
	Pin       string          `json:"pin,omitempty" doc:"SHA-256 of the certificate pinned"`
	Secrets   []string        `json:"secrets" doc:"Which secrets are kept for it: token, client certificate"`
	Created   *time.Time      `json:"created,omitempty" doc:"When it was added"`
	CreatedBy string          `json:"created_by,omitempty" doc:"Who added it"`
	Health    *collect.Health `json:"health,omitempty" doc:"How collecting goes; absent for one that sends by itself"`
	Known     *SourceState    `json:"known,omitempty" doc:"What is stored of it; absent where nothing is"`
	Joins     []estate.Joined `json:"joins,omitempty" doc:"Links by identity with other sources"`
}

var sourceName = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,62}[a-z0-9])?$`)

// settings checks a spec and makes settings of it.
func (s *Service) settings(spec SourceSpec) (source.Settings, error) {
	var none source.Settings
	if s.collecting.Open == nil {
		return none, &SourceError{Reason: "this service does not collect"}
	}
	if !sourceName.MatchString(spec.Name) {
		return none, &SourceError{Reason: fmt.Sprintf("%q cannot be the name of a source: use up to 64 lower-case letters, digits and hyphens, as in hyp-northmole", spec.Name)}
	}
	if spec.Kind == "" {
		spec.Kind = source.KindOf(spec.Address)
	}
	if spec.Interval == 0 {
		spec.Interval = 20
	}
	if spec.Interval < 1 || spec.Interval > 3600 || spec.Interval != float64(int(spec.Interval)) {
		return none, &SourceError{Reason: fmt.Sprintf("an interval of %v s is not possible: choose whole seconds from 1 to 3600", spec.Interval)}
	}
	pin := strings.ToLower(strings.NewReplacer(":", "", " ", "", "sha256", "").Replace(strings.ToLower(spec.Pin)))
	if pin != "" && !regexp.MustCompile(`^[0-9a-f]{64}$`).MatchString(pin) {
		return none, &SourceError{Reason: "the pinned certificate is named by its SHA-256, 64 hexadecimal digits; the probe shows it"}
	}
	if (spec.Certificate == "") != (spec.Key == "") {
		return none, &SourceError{Reason: "a client certificate and its key belong together: give both or neither"}
	}
	set := source.Settings{Name: spec.Name, Kind: spec.Kind, Address: strings.TrimSpace(spec.Address), Interval: time.Duration(spec.Interval) * time.Second,
		Pin: pin, Authorities: spec.Authorities, Secrets: spec.Secrets, Now: s.now}
	return set, nil
}

// probeTime bounds a probe.
const probeTime = 20 * time.Second

// ProbeSource tries a source as it would be added, and says what would come of it. Nothing is kept.
func (s *Service) ProbeSource(ctx context.Context, spec SourceSpec) (Probed, error) {
	set, err := s.settings(spec)
	if err != nil {
		return Probed{}, err
	}
	return s.probe(ctx, set)
}

// ProbeKept tries a source that is collected from, as it is kept.
func (s *Service) ProbeKept(ctx context.Context, name string) (Probed, error) {
	c, err := s.store.Connection(ctx, name)
	if err != nil {
		return Probed{}, err
	}
	cfg := s.config(c)
	if cfg.Err != nil {
		return Probed{}, &SourceError{Reason: cfg.Err.Error()}
	}
	return s.probe(ctx, cfg.Settings)
}

func (s *Service) probe(ctx context.Context, set source.Settings) (Probed, error) {
	out := Probed{Steps: []source.Step{}, Counts: []KindCount{}, Joins: []estate.Joined{}}
	src, err := s.collecting.Open(set)
	if err != nil {
		var r source.Report
		r.Begin()
		r.Fail(source.StepAddress, err)
		out.Steps = r.Steps
		return out, nil
	}
	defer src.Close()
	within, cancel := context.WithTimeout(ctx, probeTime)
	defer cancel()
	r := src.Probe(within)
	if ctx.Err() != nil {
		return out, ctx.Err()
	}
	out.OK, out.Steps, out.Calls, out.Certificate = r.OK(), r.Steps, r.Calls, r.Certificate
	if !out.OK {
		out.Steps = append(out.Steps, source.Step{Name: stepJoins, Outcome: source.NotTried, Found: "a step before it failed"})
		return out, nil
	}
	return out, s.joins(ctx, set.Name, r, &out)
}

// stepJoins is the last step of every probe: it needs the estate.
const stepJoins = "joins"

// joins says what the recognised objects would be joined with.
func (s *Service) joins(ctx context.Context, name string, r source.Report, out *Probed) error {
	began := time.Now()
	m, err := s.current(ctx)
	if err != nil {
		return err
	}
	var change estate.Change
	for i := range m.Estate().All() {
		if k := m.Estate().At(i).Key; k.Source == name {
			change.Drop = append(change.Drop, k)
		}
	}
	counts := map[estate.Kind]int{}
	for k := range r.Objects {
		o := &r.Objects[k]
		counts[o.Kind]++
		change.Set = append(change.Set, o.Node(name))
	}
	for k, n := range counts {
		out.Counts = append(out.Counts, KindCount{k, n})
	}
	slices.SortFunc(out.Counts, func(a, b KindCount) int { return strings.Compare(string(a.Kind), string(b.Kind)) })
	out.Joins = m.Estate().With(change).JoinsOf(name)
	step := source.Step{Name: stepJoins, Outcome: source.Passed, Took: time.Since(began).Seconds()}
	total := 0
	with := map[string]bool{}
	for _, j := range out.Joins {
		total += j.Count
		with[j.With] = true
	}
	if total == 0 {
		step.Outcome = source.Noted
		step.Found = "nothing it lists has an identity in common with what other sources list"
		step.Try = "add the sources on its other side too: hypervisors for an array, arrays for a hypervisor"
	} else {
		step.Found = fmt.Sprintf("%s with %s", plural(total, "link by identity", "links by identity"), plural(len(with), "other source", "other sources"))
	}
	out.Steps = append(out.Steps, step)
	return nil
}

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// AddSource probes a source and keeps it, to be collected from at once. Where the probe fails nothing is kept, unless
// unprobed says to keep it all the same: the source may be down just now.
func (s *Service) AddSource(ctx context.Context, spec SourceSpec, by string, unprobed bool) (Probed, error) {
	set, err := s.settings(spec)
	if err != nil {
		return Probed{}, err
	}
	if _, err := s.store.Connection(ctx, set.Name); err == nil {
		return Probed{}, &SourceError{Reason: "there is a source " + set.Name + " already: choose another name, or change that one"}
	} else if !errors.Is(err, store.ErrNotFound) {
		return Probed{}, err
	}
	if _, err := s.collecting.Open(set); err != nil { // an address that cannot be right is never kept
		return Probed{}, &SourceError{Reason: err.Error()}
	}
	probed := Probed{Steps: []source.Step{}, Counts: []KindCount{}, Joins: []estate.Joined{}}
	if !unprobed {
		if probed, err = s.probe(ctx, set); err != nil {
			return probed, err
		}
		if !probed.OK {
			return probed, &SourceError{Reason: "the probe failed and nothing was kept: " + failure(probed.Steps), Probe: &probed}
		}
	}
	sealed, err := s.seal(set)
	if err != nil {
		return probed, err
	}
	err = s.store.AddConnection(ctx, store.Connection{Name: set.Name, Kind: string(set.Kind), Address: set.Address, Interval: set.Interval,
		Pin: set.Pin, Authorities: set.Authorities, Secret: sealed, CreatedBy: by})
	s.changed()
	return probed, err
}

func failure(steps []source.Step) string {
	for _, st := range steps {
		if st.Outcome == source.Failed {
			if st.Try != "" {
				return st.Found + "; " + st.Try
			}
			return st.Found
		}
	}
	return "see its steps"
}

func (s *Service) changed() {
	if s.collecting.Changed != nil {
		s.collecting.Changed()
	}
}

func purpose(name string) string { return "source " + name }

func (s *Service) seal(set source.Settings) ([]byte, error) {
	if set.Secrets == (source.Secrets{}) {
		return nil, nil
	}
	if s.collecting.Vault == nil {
		return nil, &SourceError{Reason: "secrets can only be kept with a key file: start the service with --key-file"}
	}
	text, err := json.Marshal(set.Secrets)
	if err != nil {
		return nil, err
	}
	return s.collecting.Vault.Seal(text, purpose(set.Name))
}

// config makes settings of what is kept, with the secrets decrypted.
func (s *Service) config(c store.Connection) collect.Config {
	out := collect.Config{Settings: source.Settings{Name: c.Name, Kind: source.Kind(c.Kind), Address: c.Address, Interval: c.Interval, Pin: c.Pin, Authorities: c.Authorities, Now: s.now},
		Paused: c.Paused, Revision: c.Revision}
	_ = json.Unmarshal(c.Health, &out.Health)
	if c.Secret == nil {
		return out
	}
	if s.collecting.Vault == nil {
		out.Err = &source.Trouble{What: "its secrets are encrypted and there is no key file", Try: "start the service with the key file they were encrypted with (--key-file)"}
		return out
	}
	text, err := s.collecting.Vault.Unseal(c.Secret, purpose(c.Name))
	if err == nil {
		err = json.Unmarshal(text, &out.Secrets)
	}
	if err != nil {
		out.Err = &source.Trouble{What: "its secrets cannot be decrypted with this key file", Try: "put back the key file they were encrypted with, or give the secrets again (dowse source add after remove)", Err: err}
	}
	return out
}

// ChangeSource changes what is kept of a source.
func (s *Service) ChangeSource(ctx context.Context, name string, change SourceChange) (SourceInfo, error) {
	c, err := s.store.Connection(ctx, name)
	if err != nil {
		return SourceInfo{}, err
	}
	cfg := s.config(c)
	spec := SourceSpec{Name: name, Kind: cfg.Kind, Address: cfg.Address, Interval: cfg.Interval.Seconds(), Pin: cfg.Pin, Authorities: cfg.Authorities, Secrets: cfg.Secrets}
	pick(&spec.Address, change.Address)
	pick(&spec.Interval, change.Interval)
	pick(&spec.Pin, change.Pin)
	pick(&spec.Authorities, change.Authorities)
	pick(&c.Paused, change.Paused)
	if change.Secrets != nil {
		spec.Secrets = *change.Secrets
	}
	set, err := s.settings(spec)
	if err != nil {
		return SourceInfo{}, err
	}
	if _, err := s.collecting.Open(set); err != nil {
		return SourceInfo{}, &SourceError{Reason: err.Error()}
	}
	c.Address, c.Interval, c.Pin, c.Authorities = set.Address, set.Interval, set.Pin, set.Authorities
	if change.Secrets != nil {
		if c.Secret, err = s.seal(set); err != nil {
			return SourceInfo{}, err
		}
	}
	if err := s.store.ChangeConnection(ctx, c); err != nil {
		return SourceInfo{}, err
	}
	s.changed()
	return s.SourceOf(ctx, name)
}

func pick[T any](to *T, from *T) {
	if from != nil {
		*to = *from
	}
}

// RemoveSource stops collecting from a source. With forget all that it brought is forgotten too, objects and
// readings; without, they end now and their history stays.
func (s *Service) RemoveSource(ctx context.Context, name string, forget bool) error {
	if err := s.store.RemoveConnection(ctx, name); err != nil {
		return err
	}
	s.changed()
	if forget {
		return s.store.DropSources(ctx, []string{name})
	}
	return s.store.EndSource(ctx, name, s.now())
}

// Sources lists all sources by name: those collected from, and those that send by themselves.
func (s *Service) Sources(ctx context.Context) ([]SourceInfo, error) {
	connections, err := s.store.Connections(ctx)
	if err != nil {
		return nil, err
	}
	known, err := s.store.Sources(ctx)
	if err != nil {
		return nil, err
	}
	states := make(map[string]*SourceState, len(known))
	for _, k := range known {
		st := s.state(k)
		states[k.Name] = &st
	}
	out := []SourceInfo{}
	for _, c := range connections {
		info := SourceInfo{Name: c.Name, Kind: c.Kind, Address: c.Address, Interval: c.Interval.Seconds(), Paused: c.Paused, Pin: c.Pin, Secrets: []string{},
			Created: &c.Created, CreatedBy: c.CreatedBy, Known: states[c.Name]}
		cfg := s.config(c)
		if cfg.Secrets.Token != "" {
			info.Secrets = append(info.Secrets, "token")
		}
		if cfg.Secrets.Certificate != "" {
			info.Secrets = append(info.Secrets, "client certificate")
		}
		if c.Secret != nil && cfg.Err != nil {
			info.Secrets = append(info.Secrets, "not readable with this key file")
		}
		h := cfg.Health
		if h.State == "" {
			h.State, h.Words, h.Since = collect.Waiting, "it has not been asked yet", c.Created
		}
		h.Missing, h.Notes, h.History, h.Compared = some(h.Missing), some(h.Notes), some(h.History), some(h.Compared)
		if h.Objects == nil {
			h.Objects = map[string]int{}
		}
		info.Health = &h
		out = append(out, info)
		delete(states, c.Name)
	}
	for _, k := range known {
		if st := states[k.Name]; st != nil {
			kind := "pushed"
			if k.Objects == 0 {
				kind = "former"
			}
			out = append(out, SourceInfo{Name: k.Name, Kind: kind, Secrets: []string{}, Known: st})
		}
	}
	slices.SortFunc(out, func(a, b SourceInfo) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

func some[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// SourceOf returns one source, with what joins it to others.
func (s *Service) SourceOf(ctx context.Context, name string) (SourceInfo, error) {
	all, err := s.Sources(ctx)
	if err != nil {
		return SourceInfo{}, err
	}
	for _, info := range all {
		if info.Name == name {
			m, err := s.current(ctx)
			if err != nil {
				return info, err
			}
			info.Joins = m.Estate().JoinsOf(name)
			return info, nil
		}
	}
	return SourceInfo{}, store.ErrNotFound
}
