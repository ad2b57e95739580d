package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"dowsingrod/core/normal"
	"dowsingrod/core/reading"
)

// Learned is a series with what was learned of it.
type Learned struct {
	Series  int64
	Want    Want
	Profile normal.Profile
}

// SeriesAfter returns at most limit series whose numbers follow one, in order, with what was learned of each.
func (s *Store) SeriesAfter(ctx context.Context, after int64, limit int) ([]Learned, error) {
	return s.learned(ctx, "select s.id, s.object_id, s.metric, n.profile from series s left join normal n on n.series_id = s.id where s.id > $1 order by s.id limit $2", after, limit)
}

// Profiles returns what was learned of the metrics of an object.
func (s *Store) Profiles(ctx context.Context, object int64) ([]Learned, error) {
	return s.learned(ctx, "select s.id, s.object_id, s.metric, n.profile from series s left join normal n on n.series_id = s.id where s.object_id = $1", object)
}

// ProfilesOf returns what was learned of some metrics of objects.
func (s *Store) ProfilesOf(ctx context.Context, objects []int64, metrics []string) ([]Learned, error) {
	return s.learned(ctx, "select s.id, s.object_id, s.metric, n.profile from series s join normal n on n.series_id = s.id where s.object_id = any($1) and s.metric = any($2)", objects, metrics)
}

func (s *Store) learned(ctx context.Context, query string, args ...any) ([]Learned, error) {
	rows, err := s.pool.Query(ctx, query, args...)
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (l Learned, err error) {
		var profile []byte
		if err = row.Scan(&l.Series, &l.Want.Object, &l.Want.Metric, &profile); err == nil && profile != nil {
			err = l.Profile.UnmarshalBinary(profile)
		}
		return l, err
	})
	return out, unavailable(err)
}

// KeepProfiles keeps what was learned of series up to a moment.
func (s *Store) KeepProfiles(ctx context.Context, of []Learned, until time.Time) error {
	if len(of) == 0 {
		return nil
	}
	ids, profiles := make([]int64, len(of)), make([][]byte, len(of))
	for k := range of {
		data, err := of[k].Profile.MarshalBinary()
		if err != nil {
			return err
		}
		ids[k], profiles[k] = of[k].Series, data
	}
	_, err := s.pool.Exec(ctx, `insert into normal (series_id, until, profile) select id, $3, profile from unnest($1::bigint[], $2::bytea[]) as x(id, profile)
		on conflict (series_id) do update set until = excluded.until, profile = excluded.profile`, ids, profiles, until)
	return unavailable(err)
}

// SeriesReadings returns the runs of series within [from, to), by their number.
func (s *Store) SeriesReadings(ctx context.Context, of []Learned, from, to time.Time) (map[int64][]reading.Series, error) {
	wants := make([]Want, len(of))
	number := make(map[Want]int64, len(of))
	for k, l := range of {
		wants[k] = l.Want
		number[l.Want] = l.Series
	}
	runs, err := s.Readings(ctx, wants, from, to)
	if err != nil {
		return nil, err
	}
	out := make(map[int64][]reading.Series, len(runs))
	for w, r := range runs {
		out[number[w]] = r
	}
	return out, nil
}
