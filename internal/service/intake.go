package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/store"
)

// listedErrors is how many bad lines are described; the others are counted.
const listedErrors = 20

// BadLine says what is wrong with a line of a feed.
type BadLine struct {
	Line   int    `json:"line" doc:"Line number, from 1"`
	Reason string `json:"reason" doc:"What is wrong with it"`
}

// LineRange is a run of lines, both ends included.
type LineRange struct {
	First int `json:"first" doc:"First line"`
	Last  int `json:"last" doc:"Last line"`
}

// ImportResult says what was taken from a feed, and what was not.
type ImportResult struct {
	store.Totals
	Stored   bool        `json:"stored" doc:"Whether anything was stored: all or nothing, unless bad lines are skipped"`
	Lines    int         `json:"lines" doc:"Lines read"`
	Bad      int         `json:"bad_lines" doc:"Lines rejected"`
	Errors   []BadLine   `json:"errors" doc:"The first 20 of them"`
	Rejected []LineRange `json:"rejected" doc:"Numbers of all of them"`
	Took     float64     `json:"took_s" doc:"Time taken in s"`
}

// FeedError says that a feed was refused, and why. Nothing of it is stored.
type FeedError struct{ Result ImportResult }

func (e *FeedError) Error() string {
	first := e.Result.Errors[0]
	where := fmt.Sprintf("line %d: %s", first.Line, first.Reason)
	if first.Line == 0 {
		where = first.Reason
	}
	if e.Result.Bad > 1 {
		return fmt.Sprintf("the feed was refused and nothing stored: %d bad lines, the first is %s", e.Result.Bad, where)
	}
	return "the feed was refused and nothing stored: " + where
}

func (r *ImportResult) reject(line int, reason string) {
	r.Bad++
	if len(r.Errors) < listedErrors {
		r.Errors = append(r.Errors, BadLine{line, reason})
	}
	if n := len(r.Rejected); n > 0 && r.Rejected[n-1].Last+1 >= line {
		r.Rejected[n-1].Last = line
	} else {
		r.Rejected = append(r.Rejected, LineRange{line, line})
	}
}

// errRefused ends the transaction of a feed that is refused.
var errRefused = errors.New("refused")

// Import takes a feed from a stream, plain or compressed. Where any line is bad, nothing is stored and
// a *FeedError says why, unless skipBad is set: then all other lines are stored. A stream that breaks
// off is always refused.
func (s *Service) Import(ctx context.Context, in io.Reader, skipBad bool) (ImportResult, error) {
	began := s.now()
	result := ImportResult{Errors: []BadLine{}, Rejected: []LineRange{}}
	r, err := feed.NewReader(in, began)
	if err != nil {
		result.reject(0, err.Error())
		return result, &FeedError{result}
	}
	defer r.Close()
	totals, err := s.store.Import(ctx, func(take *store.Intake) error {
		r.Recognise = take.Recognise
		for {
			rec, err := r.Next()
			var bad *feed.LineError
			var broken *feed.StreamError
			switch {
			case errors.Is(err, io.EOF):
				result.Lines = r.Line()
				if result.Bad > 0 && !skipBad {
					return errRefused
				}
				return nil
			case errors.As(err, &bad):
				result.reject(bad.Line, bad.Reason)
				continue
			case errors.As(err, &broken):
				if errors.Is(err, context.Canceled) || ctx.Err() != nil {
					return err
				}
				result.reject(broken.Line, broken.Error())
				return errRefused
			case err != nil:
				return err
			}
			if err := put(take, rec); err != nil {
				if !errors.Is(err, store.ErrDuplicate) && !errors.Is(err, store.ErrUnknown) {
					return fmt.Errorf("line %d: %w", rec.Line, err)
				}
				result.reject(rec.Line, err.Error())
			}
		}
	})
	result.Took = time.Since(began).Seconds()
	if errors.Is(err, errRefused) {
		return result, &FeedError{result}
	}
	if err != nil {
		return result, err
	}
	result.Totals, result.Stored = totals, true
	return result, nil
}

// put hands one record to an intake.
func put(take *store.Intake, rec feed.Record) error {
	switch {
	case rec.Header != nil:
		return take.Begin(*rec.Header)
	case rec.Object != nil:
		return take.Object(rec.Object, rec.Line)
	case rec.Reading != nil:
		return take.Reading(rec.Reading)
	case rec.Histogram != nil:
		return take.Histogram(rec.Histogram)
	case rec.Event != nil:
		return take.Event(rec.Event)
	case rec.Gone != nil:
		ref, err := estate.ParseRef(rec.Gone.Ref)
		if err != nil {
			return err
		}
		return take.Gone(ref)
	}
	return nil
}

// ImportRecords takes the records that write hands over, as the lab does: the same intake without the
// text between. All or nothing is stored.
func (s *Service) ImportRecords(ctx context.Context, produce func(write func(feed.Record) error) error) (store.Totals, error) {
	return s.store.Import(ctx, func(take *store.Intake) error {
		return produce(func(r feed.Record) error { return put(take, r) })
	})
}
