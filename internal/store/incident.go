package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"dowsingrod/core/incident"
)

// Incident is an incident as it is kept.
type Incident struct {
	incident.Incident
	Acknowledged   *time.Time
	AcknowledgedBy string
}

// Comment is what somebody wrote under an incident.
type Comment struct {
	At    time.Time `json:"at" doc:"When"`
	By    string    `json:"by" doc:"Who"`
	Words string    `json:"words" doc:"What"`
}

const incidentColumns = `id, component, onset, seen, ended, harm, judged, verdict, sufferers, acknowledged, coalesce(acknowledged_by, '')`

func scanIncident(row pgx.CollectableRow) (Incident, error) {
	var x Incident
	var verdict, sufferers []byte
	err := row.Scan(&x.ID, &x.Component, &x.Onset, &x.Last, &x.Ended, &x.Harm, &x.Judged, &verdict, &sufferers, &x.Acknowledged, &x.AcknowledgedBy)
	if err != nil {
		return x, err
	}
	return x, errors.Join(json.Unmarshal(verdict, &x.Verdict), json.Unmarshal(sufferers, &x.Sufferers))
}

func (s *Store) incidents(ctx context.Context, where string, args ...any) ([]Incident, error) {
	rows, err := s.pool.Query(ctx, "select "+incidentColumns+" from incident where "+where, args...)
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, scanIncident)
	return out, unavailable(err)
}

// OpenIncidents returns the incidents that last.
func (s *Store) OpenIncidents(ctx context.Context) ([]Incident, error) {
	return s.incidents(ctx, "ended is null order by id")
}

// Incidents returns those that overlap [from, to), those that last first, the most harm first, then the latest; at most limit.
func (s *Store) Incidents(ctx context.Context, from, to time.Time, limit int) ([]Incident, error) {
	return s.incidents(ctx, "onset < $2 and coalesce(ended, seen) >= $1 order by ended is not null, case when ended is null then harm end desc, onset desc, id limit $3", from, to, limit)
}

// IncidentOf returns one; ErrNotFound where there is none.
func (s *Store) IncidentOf(ctx context.Context, id int64) (Incident, error) {
	found, err := s.incidents(ctx, "id = $1", id)
	if err == nil && len(found) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return Incident{}, err
	}
	return found[0], nil
}

// Similar returns earlier incidents of the same component, or of the same class with the same kind of component: the likeliest first.
func (s *Store) Similar(ctx context.Context, x Incident, limit int) ([]Incident, error) {
	return s.incidents(ctx, `id <> $1 and onset < $2 and (component = $3 and component <> '' or class = $4 and split_part(component, ':', 1) = split_part($3, ':', 1))
		order by component = $3 desc, class = $4 desc, onset desc limit $5`, x.ID, x.Onset, x.Component, string(x.Verdict.Verdict.Class), limit)
}

// KeepIncidents keeps what changed, new ones under a number of their own, which they get.
func (s *Store) KeepIncidents(ctx context.Context, changed []*incident.Incident) error {
	return s.inTx(ctx, func(tx pgx.Tx) error {
		for _, x := range changed {
			verdict, err := json.Marshal(x.Verdict)
			if err != nil {
				return err
			}
			sufferers, err := json.Marshal(x.Sufferers)
			if err != nil {
				return err
			}
			if x.ID == 0 {
				err = tx.QueryRow(ctx, `insert into incident (component, class, onset, seen, ended, harm, judged, verdict, sufferers)
					values ($1, $2, $3, $4, $5, $6, $7, $8, $9) returning id`,
					x.Component, string(x.Verdict.Verdict.Class), x.Onset, x.Last, x.Ended, x.Harm, x.Judged, verdict, sufferers).Scan(&x.ID)
			} else {
				_, err = tx.Exec(ctx, `update incident set component = $2, class = $3, onset = $4, seen = $5, ended = $6, harm = $7, judged = $8, verdict = $9, sufferers = $10
					where id = $1`, x.ID, x.Component, string(x.Verdict.Verdict.Class), x.Onset, x.Last, x.Ended, x.Harm, x.Judged, verdict, sufferers)
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// Acknowledge notes that somebody has taken an incident on, or no longer has.
func (s *Store) Acknowledge(ctx context.Context, id int64, by string, yes bool) error {
	set := "acknowledged = now(), acknowledged_by = $2"
	if !yes {
		set = "acknowledged = null, acknowledged_by = nullif($2, $2)"
	}
	tag, err := s.pool.Exec(ctx, "update incident set "+set+" where id = $1", id, by)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return unavailable(err)
}

// Say adds a comment to an incident.
func (s *Store) Say(ctx context.Context, id int64, by, words string) error {
	tag, err := s.pool.Exec(ctx, "insert into incident_comment (incident, by, words) select id, $2, $3 from incident where id = $1", id, by, words)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return unavailable(err)
}

// Comments returns what was said of an incident, in order.
func (s *Store) Comments(ctx context.Context, id int64) ([]Comment, error) {
	rows, err := s.pool.Query(ctx, "select at, by, words from incident_comment where incident = $1 order by id", id)
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Comment])
	return out, unavailable(err)
}

// Claim moves a setting from one value to another, and reports whether it was so: of several services that try, one succeeds.
func (s *Store) Claim(ctx context.Context, name, from, to string) (bool, error) {
	tag, err := s.pool.Exec(ctx, `insert into setting values ($1, $3) on conflict (name) do update set value = excluded.value where setting.value = $2`, name, from, to)
	return err == nil && tag.RowsAffected() == 1, unavailable(err)
}
