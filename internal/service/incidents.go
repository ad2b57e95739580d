package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/verdict"
	"dowsingrod/internal/store"
)

// IncidentInfo is an incident in a list.
type IncidentInfo struct {
	ID             int64              `json:"id" doc:"Its number"`
	Onset          time.Time          `json:"onset" doc:"When it began"`
	Seen           time.Time          `json:"seen" doc:"When it was last seen"`
	Ended          *time.Time         `json:"ended" doc:"When it was over; null while it lasts"`
	Class          verdict.Class      `json:"class" doc:"Class of cause"`
	Words          string             `json:"words" doc:"The class in words"`
	Component      *verdict.Component `json:"component" doc:"Where it arises; null where that is not known"`
	Confidence     reading.Figure     `json:"confidence" doc:"How sure the verdict is, 0–1"`
	Summary        string             `json:"summary" doc:"The verdict in one sentence"`
	Subject        string             `json:"subject" doc:"The VM whose trouble was explained, kind:id@source"`
	Harm           reading.Figure     `json:"harm_s" doc:"I/O-seconds waited: I/Os in flight more than usual, summed over time"`
	Added          reading.Figure     `json:"added_us" doc:"The most that was added to an I/O of a VM, µs"`
	Sufferers      int                `json:"sufferers" doc:"VMs that were hurt"`
	Tiers          []TierCount        `json:"tiers" doc:"Those by service tier"`
	Acknowledged   *time.Time         `json:"acknowledged" doc:"When somebody took it on; null where nobody did"`
	AcknowledgedBy string             `json:"acknowledged_by,omitempty" doc:"Who"`
}

// TierCount counts VMs of a tier.
type TierCount struct {
	Tier string `json:"tier" doc:"The tier; empty where none is stated"`
	VMs  int    `json:"vms" doc:"How many"`
}

// IncidentList is a list of incidents.
type IncidentList struct {
	From      time.Time      `json:"from" doc:"Those that overlap the window from here"`
	To        time.Time      `json:"to" doc:"to here"`
	Until     *time.Time     `json:"until" doc:"Incidents were looked for up to here; null where never"`
	Incidents []IncidentInfo `json:"incidents" doc:"Those that last first, then the latest"`
}

// IncidentSufferer is a VM that was hurt.
type IncidentSufferer struct {
	Ref         string         `json:"ref" doc:"The VM, kind:id@source"`
	Name        string         `json:"name" doc:"Its name"`
	Tier        string         `json:"tier,omitempty" doc:"Its service tier"`
	Application string         `json:"application,omitempty" doc:"The application it belongs to"`
	Added       reading.Figure `json:"added_us" doc:"The most that was added to an I/O, µs"`
	Harm        reading.Figure `json:"harm_s" doc:"I/O-seconds waited"`
}

// IncidentDetail is all that is kept of an incident.
type IncidentDetail struct {
	IncidentInfo
	Explanation verdict.Explanation `json:"explanation" doc:"The verdict and what it rests on, as last judged"`
	Judged      time.Time           `json:"judged" doc:"When that was"`
	Suffered    []IncidentSufferer  `json:"suffered" doc:"Who was hurt, by harm"`
	Comments    []store.Comment     `json:"comments" doc:"What people wrote"`
	Similar     []IncidentInfo      `json:"similar" doc:"Earlier ones of the same component, or of the same class at the same kind of component"`
}

// Incidents lists those that overlap a window.
func (s *Service) Incidents(ctx context.Context, w Window, limit int) (IncidentList, error) {
	out := IncidentList{From: w.From, To: w.To, Incidents: []IncidentInfo{}}
	if limit <= 0 {
		limit = 100
	}
	found, err := s.store.Incidents(ctx, w.From, w.To, limit)
	if err != nil {
		return out, err
	}
	mark, err := s.store.Setting(ctx, watchedUntil)
	if err != nil {
		return out, err
	}
	if t, err := time.Parse(time.RFC3339, mark); err == nil {
		out.Until = &t
	}
	out.Incidents, err = s.incidentInfos(ctx, found)
	return out, err
}

func (s *Service) incidentInfos(ctx context.Context, found []store.Incident) ([]IncidentInfo, error) {
	m, err := s.current(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]IncidentInfo, 0, len(found))
	for k := range found {
		out = append(out, incidentInfo(m.Estate(), &found[k]))
	}
	return out, nil
}

func incidentInfo(e *estate.Estate, x *store.Incident) IncidentInfo {
	v := x.Verdict.Verdict
	i := IncidentInfo{ID: x.ID, Onset: x.Onset, Seen: x.Last, Ended: x.Ended, Class: v.Class, Words: v.Class.Words(), Component: v.Component, Confidence: v.Confidence, Summary: v.Summary,
		Subject: x.Verdict.Subject, Harm: reading.Figure(x.Harm), Sufferers: len(x.Sufferers), Tiers: []TierCount{}, Acknowledged: x.Acknowledged, AcknowledgedBy: x.AcknowledgedBy}
	tiers := map[string]int{}
	for ref, s := range x.Sufferers {
		i.Added = max(i.Added, reading.Figure(s.Added))
		tier := ""
		if at, ok := refAt(e, ref); ok {
			tier = e.At(at).Tier()
		}
		tiers[tier]++
	}
	for tier, n := range tiers {
		i.Tiers = append(i.Tiers, TierCount{tier, n})
	}
	slices.SortFunc(i.Tiers, func(a, b TierCount) int { return strings.Compare(a.Tier, b.Tier) })
	return i
}

func refAt(e *estate.Estate, ref string) (int32, bool) {
	key, err := estate.ParseKey(ref)
	if err != nil {
		return 0, false
	}
	return e.Position(key)
}

// Incident returns one with all that is kept of it.
func (s *Service) Incident(ctx context.Context, id int64) (IncidentDetail, error) {
	x, err := s.store.IncidentOf(ctx, id)
	if err != nil {
		return IncidentDetail{}, numbered(id, err)
	}
	m, err := s.current(ctx)
	if err != nil {
		return IncidentDetail{}, err
	}
	e := m.Estate()
	out := IncidentDetail{IncidentInfo: incidentInfo(e, &x), Explanation: x.Verdict, Judged: x.Judged, Suffered: []IncidentSufferer{}}
	for ref, h := range x.Sufferers {
		v := IncidentSufferer{Ref: ref, Name: ref, Added: reading.Figure(h.Added), Harm: reading.Figure(h.Harm)}
		if at, ok := refAt(e, ref); ok {
			o := e.At(at)
			v.Name, v.Tier, v.Application = o.Title(), o.Tier(), o.Facts.Text("application")
		}
		out.Suffered = append(out.Suffered, v)
	}
	slices.SortFunc(out.Suffered, func(a, b IncidentSufferer) int {
		return cmp.Or(-cmp.Compare(a.Harm, b.Harm), strings.Compare(a.Name, b.Name))
	})
	if out.Comments, err = s.store.Comments(ctx, id); err != nil {
		return out, err
	}
	if out.Comments == nil {
		out.Comments = []store.Comment{}
	}
	similar, err := s.store.Similar(ctx, x, 8)
	if err != nil {
		return out, err
	}
	if out.Similar, err = s.incidentInfos(ctx, similar); err != nil {
		return out, err
	}
	err = s.held(ctx, e, &out.Explanation)
	return out, err
}

// AcknowledgeIncident notes that somebody has taken an incident on, or no longer has.
func (s *Service) AcknowledgeIncident(ctx context.Context, id int64, by string, yes bool) (IncidentDetail, error) {
	if err := s.store.Acknowledge(ctx, id, by, yes); err != nil {
		return IncidentDetail{}, numbered(id, err)
	}
	return s.Incident(ctx, id)
}

// longestComment bounds what can be written at once, in bytes.
const longestComment = 8000

// CommentIncident adds a comment.
func (s *Service) CommentIncident(ctx context.Context, id int64, by, words string) (IncidentDetail, error) {
	words = strings.TrimSpace(words)
	switch {
	case words == "":
		return IncidentDetail{}, &QueryError{"a comment needs words"}
	case len(words) > longestComment:
		return IncidentDetail{}, &QueryError{fmt.Sprintf("a comment holds %d bytes at most, not %d: write it in two", longestComment, len(words))}
	}
	if err := s.store.Say(ctx, id, by, words); err != nil {
		return IncidentDetail{}, numbered(id, err)
	}
	return s.Incident(ctx, id)
}

// ForgetFindings forgets the incidents and stretches of sources whose history is another now; they are looked for anew.
func (s *Service) ForgetFindings(ctx context.Context, sources []string) error {
	return s.store.DropFindings(ctx, sources, watchedUntil)
}

// NumberError is for an incident that there is not.
type NumberError struct{ ID int64 }

func (e *NumberError) Error() string {
	return fmt.Sprintf("there is no incident %d: dowse incidents lists those of a window", e.ID)
}

func numbered(id int64, err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return &NumberError{id}
	}
	return err
}
