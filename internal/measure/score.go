package main

import (
	"context"
	"time"

	"dowsingrod/core/strata"
	"dowsingrod/core/suspect"
	"dowsingrod/internal/client"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab"
)

// score holds the diagnosis against the truth of the scenario.
func (p *place) score(ctx context.Context) error {
	_, err := p.svc.ImportRecords(ctx, func(write func(feed.Record) error) error {
		return p.lab.Write(p.anchor.Add(-lab.Day), p.anchor, true, write)
	})
	if err != nil {
		return err
	}
	point := func(ok bool) float64 {
		if ok {
			return 1
		}
		return 0
	}
	for _, tr := range p.lab.Truths() {
		from, to := tr.From.Add(-time.Hour), tr.To.Add(time.Hour)
		if to.After(p.anchor) {
			to = p.anchor
		}
		w := client.Window{From: from.Format(time.RFC3339), To: to.Format(time.RFC3339)}
		s, err := p.client.Strata(ctx, tr.Sufferer, w)
		if err != nil {
			return err
		}
		if tr.Component == "" {
			line("SCORE", tr.What+".storage_cleared", point(s.Verdict == strata.Cleared), "")
			continue
		}
		line("SCORE", tr.What+".component_named", point(s.Change != nil && s.Change.Component == tr.Component), "")
		sus, err := p.client.Suspects(ctx, tr.Component, w)
		if err != nil {
			return err
		}
		accused := 0
		right := false
		for _, t := range sus.Tenants {
			if t.Role == suspect.Suspect {
				accused++
				right = right || t.Ref == tr.Culprit
			}
		}
		if tr.Culprit == "" {
			line("SCORE", tr.What+".nobody_accused", point(accused == 0), "")
		} else {
			line("SCORE", tr.What+".culprit_named", point(right && accused == 1), "")
		}
	}
	return nil
}
