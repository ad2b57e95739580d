package service_test

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/route"
	"dowsingrod/core/strata"
	"dowsingrod/core/suspect"
	"dowsingrod/internal/lab"
	"dowsingrod/internal/service"
	"dowsingrod/internal/store"
	"dowsingrod/internal/testbed"
)

func TestMain(m *testing.M) { os.Exit(testbed.Run(m)) }

func window(t *testing.T, d testbed.Demo, from, to time.Duration) service.Window {
	w, err := d.Service.Window(d.Anchor.Add(from), d.Anchor.Add(to))
	require.NoError(t, err)
	return w
}

func truth(d testbed.Demo, what string) lab.Truth {
	for _, tr := range d.Lab.Truths() {
		if tr.What == what {
			return tr
		}
	}
	panic("no truth " + what)
}

func TestTheNoisyNeighbourIsFound(t *testing.T) {
	d := testbed.LoadDemo(t)
	tr := truth(d, "noisy")
	w := window(t, d, -2*time.Hour, 0)
	s, err := d.Service.Strata(t.Context(), tr.Sufferer, w)
	require.NoError(t, err)
	require.NotNil(t, s.Change)
	assert.Equal(t, estate.LayerBackEnd, s.Change.Layer)
	assert.Equal(t, tr.Component, s.Change.Component)
	assert.WithinDuration(t, tr.From, s.Change.From, time.Minute)
	assert.Greater(t, float64(s.Change.Added), 0.9*float64(s.Change.During-s.Change.Usual), "nearly all of it arises there")

	sus, err := d.Service.Suspects(t.Context(), tr.Component, w)
	require.NoError(t, err)
	require.Equal(t, suspect.Culprit, sus.Outcome, phrase.Text(sus.Statement, time.UTC))
	assert.Equal(t, tr.Culprit, sus.Tenants[0].Ref)
	assert.Greater(t, float64(sus.Confidence), 0.8)
	for _, tn := range sus.Tenants[1:] {
		assert.NotEqual(t, suspect.Suspect, tn.Role, tn.Name)
	}
	busiest := ""
	var most float64
	for _, tn := range sus.Tenants {
		if v := float64(tn.BytesPair.Before); v > most {
			busiest, most = tn.Name, v
		}
	}
	assert.NotEqual(t, sus.Tenants[0].Name, busiest, "the culprit is not the VM that is always busiest")
}

func TestTheControllerThatSlowedByItselfAccusesNobody(t *testing.T) {
	d := testbed.LoadDemo(t)
	tr := truth(d, "slow")
	w := window(t, d, -10*time.Hour, -7*time.Hour)
	s, err := d.Service.Strata(t.Context(), tr.Sufferer, w)
	require.NoError(t, err)
	require.NotNil(t, s.Change)
	assert.Equal(t, estate.LayerFrontEnd, s.Change.Layer)
	assert.Equal(t, tr.Component, s.Change.Component)
	assert.WithinDuration(t, tr.To, s.Change.To, 2*time.Minute)
	sus, err := d.Service.Suspects(t.Context(), tr.Component, w)
	require.NoError(t, err)
	assert.Equal(t, suspect.Itself, sus.Outcome)
	for _, tn := range sus.Tenants {
		assert.NotEqual(t, suspect.Suspect, tn.Role, tn.Name)
	}
}

func TestTheStorageIsClearedWhereItIsNotTheCause(t *testing.T) {
	d := testbed.LoadDemo(t)
	s, err := d.Service.Strata(t.Context(), truth(d, "cleared").Sufferer, window(t, d, -2*time.Hour, 0))
	require.NoError(t, err)
	assert.Equal(t, strata.Cleared, s.Verdict)
	said := phrase.Text(s.Statement, time.UTC)
	assert.Contains(t, said, "The storage is not the cause")
	assert.Contains(t, said, "processor")
}

// In the quiet hours nobody is accused of anything, whatever shared component one asks about.
func TestQuietHoursAccuseNobody(t *testing.T) {
	d := testbed.LoadDemo(t)
	w := window(t, d, -16*time.Hour, -12*time.Hour)
	for _, kind := range []estate.Kind{estate.Pool, estate.Controller} {
		for _, k := range d.Lab.Keys(kind) {
			s, err := d.Service.Suspects(t.Context(), k.String(), w)
			require.NoError(t, err)
			assert.NotContains(t, []suspect.Outcome{suspect.Culprit, suspect.Several}, s.Outcome, "%s: %s", k, phrase.Text(s.Statement, time.UTC))
		}
	}
}

func TestSectionMarksTheCauseOnce(t *testing.T) {
	d := testbed.LoadDemo(t)
	v, err := d.Service.Section(t.Context(), "manifest-db-02", window(t, d, -2*time.Hour, 0), nil)
	require.NoError(t, err)
	require.Len(t, v.Figures, len(v.Section.Nodes))
	marks := []string{}
	for k, n := range v.Section.Nodes {
		f := v.Figures[k]
		if (f.Condition == congest.Failing || f.Condition == congest.Strained) && f.Within == "" {
			marks = append(marks, n.Ref)
		}
		if n.Kind == estate.VM {
			assert.Equal(t, []string{"pool:p2@heron"}, f.Affected)
		}
	}
	assert.Equal(t, []string{"pool:p2@heron"}, marks, "RAID groups and drives past their limits are parts of the pool's fault")
}

func TestTopologyOfEachMoment(t *testing.T) {
	d := testbed.LoadDemo(t)
	host := func(at time.Duration) string {
		s, err := d.Service.Route(t.Context(), "vm:crew-roster-03", d.Anchor.Add(at), route.Folding{})
		require.NoError(t, err)
		for _, n := range s.Nodes {
			if n.Kind == estate.Host {
				return n.Name
			}
		}
		return ""
	}
	assert.NotEqual(t, host(-6*time.Hour), host(-time.Hour), "it moved five hours ago")
	v, err := d.Service.Section(t.Context(), "crew-roster-03", window(t, d, -6*time.Hour, -4*time.Hour), nil)
	require.NoError(t, err)
	require.NotEmpty(t, v.Events)
	assert.Equal(t, "migrated", v.Events[0].What)
	assert.Greater(t, float64(v.Strata.Coverage), 0.95, "its strata go on across the move")
}

func TestSilenceIsMissingNotZero(t *testing.T) {
	d := testbed.LoadDemo(t)
	out, err := d.Service.Show(t.Context(), "node n1", window(t, d, -230*time.Minute, -200*time.Minute))
	require.NoError(t, err)
	gaps := 0
	for _, l := range out.Latest {
		if l.Metric == "busy_share" {
			for _, v := range l.Row {
				if v != v {
					gaps++
				}
			}
		}
	}
	assert.InDelta(t, 24, gaps, 5, "twelve of thirty minutes were silent")
}

func TestWholeEstateJoins(t *testing.T) {
	d := testbed.LoadDemo(t)
	o, err := d.Service.Overview(t.Context())
	require.NoError(t, err)
	require.Len(t, o.Findings, 1, "everything but the LUN of an array that nobody watches")
	assert.Equal(t, "datastore:ds-stray@hyp-northmole", o.Findings[0].Object)
	assert.Len(t, o.Sources, 7)
	n := map[estate.Kind]int{}
	for _, c := range o.Counts {
		n[c.Kind] = c.Count
	}
	assert.Equal(t, 120, n[estate.VM])
	assert.Equal(t, 12, n[estate.Host])
	assert.Equal(t, 3, n[estate.Array])
	assert.Equal(t, 4, n[estate.Fabric])
	for _, k := range d.Lab.Keys(estate.VM) {
		s, err := d.Service.Route(t.Context(), k.String(), time.Time{}, route.Folding{})
		require.NoError(t, err)
		assert.Empty(t, s.Breaks, k)
		drives := 0
		for _, node := range s.Nodes {
			if node.Kind == estate.Drive {
				drives++
			}
		}
		assert.Positive(t, drives, "%s has no way to its drives", k)
	}
	r, err := d.Service.Reach(t.Context(), "pool:p2@heron", time.Time{}, 1000)
	require.NoError(t, err)
	assert.Equal(t, "1", r.VMs[0].Tier, "the important ones first")
	assert.Equal(t, route.Active, r.VMs[0].State)
	assert.Equal(t, route.WouldStop, r.VMs[0].Outcome)
}

func TestPagesOfAListMeet(t *testing.T) {
	d := testbed.LoadDemo(t)
	var names []string
	for cursor := ""; ; {
		f, err := d.Service.List(t.Context(), estate.VM, cursor, 37)
		require.NoError(t, err)
		for _, o := range f.Objects {
			names = append(names, o.Ref)
		}
		if cursor = f.Next; cursor == "" {
			break
		}
	}
	assert.Len(t, names, 120)
	seen := map[string]bool{}
	for _, n := range names {
		assert.False(t, seen[n])
		seen[n] = true
	}
	_, err := d.Service.List(t.Context(), estate.VM, "%%%", 10)
	assert.Error(t, err)
}

func TestWindows(t *testing.T) {
	now := time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)
	s := service.New(nil, func() time.Time { return now })
	w, err := s.Window(time.Time{}, time.Time{})
	require.NoError(t, err)
	assert.Equal(t, 2*time.Hour, w.To.Sub(w.From))
	for name, c := range map[string][2]time.Time{
		"reversed": {now, now.Add(-time.Hour)}, "future": {now.Add(time.Hour), now.Add(2 * time.Hour)},
		"longer than": {now.Add(-9000 * time.Hour), now}, "shorter": {now.Add(-time.Second), now},
	} {
		_, err := s.Window(c[0], c[1])
		var bad *service.WindowError
		assert.ErrorAs(t, err, &bad, name)
	}
	for text, want := range map[string]time.Time{"": {}, "now": now, "-2h": now.Add(-2 * time.Hour), "-1d": now.Add(-24 * time.Hour), "-90m": now.Add(-90 * time.Minute),
		"2026-03-02T09:00:00Z": now.Add(-3 * time.Hour), "2026-03-02T10:00+01:00": now.Add(-3 * time.Hour)} {
		got, err := service.ParseTime(text, now)
		require.NoError(t, err, text)
		assert.True(t, want.Equal(got), text)
	}
	for _, text := range []string{"yesterday", "-x", "-5", "2026-13-01T00:00:00Z", "-1e9d"} {
		_, err := service.ParseTime(text, now)
		assert.Error(t, err, text)
	}
}

const goodFeed = `{"feed":{"version":1,"source":"hyp","time":"2026-03-02T09:00:00Z","full":true}}
{"object":{"kind":"vm","id":"a","name":"a"}}
`

func fresh(t *testing.T) *service.Service {
	return service.New(testbed.Store(t), func() time.Time { return time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC) })
}

func TestABadFeedChangesNothing(t *testing.T) {
	s := fresh(t)
	for name, text := range map[string]string{
		"empty":             "",
		"truncated":         goodFeed + `{"object":{"kind":"vm","id":"b"`,
		"duplicate":         goodFeed + `{"object":{"kind":"vm","id":"a"}}` + "\n",
		"unknown object":    goodFeed + `{"reading":{"of":"vm:none","from":"2026-03-02T09:00:00Z","step_s":20,"values":{"busy_share":[0.5]}}}` + "\n",
		"wrong version":     strings.Replace(goodFeed, `"version":1`, `"version":9`, 1),
		"broken compressed": "\x1f\x8b\x08\x00 not gzip at all",
	} {
		t.Run(name, func(t *testing.T) {
			_, err := s.Import(t.Context(), strings.NewReader(text), false)
			var refused *service.FeedError
			require.ErrorAs(t, err, &refused)
			assert.NotEmpty(t, refused.Result.Errors)
			assert.False(t, refused.Result.Stored)
			o, err := s.Overview(t.Context())
			require.NoError(t, err)
			assert.Empty(t, o.Sources)
		})
	}
}

func TestManyBadLinesAreCounted(t *testing.T) {
	var b strings.Builder
	b.WriteString(goodFeed)
	for range 57 {
		b.WriteString("{\"cow\":{}}\n")
	}
	s := fresh(t)
	_, err := s.Import(t.Context(), strings.NewReader(b.String()), false)
	var refused *service.FeedError
	require.True(t, errors.As(err, &refused))
	assert.Len(t, refused.Result.Errors, 20)
	assert.Equal(t, 57, refused.Result.Bad)
	assert.Equal(t, 3, refused.Result.Errors[0].Line)

	r, err := s.Import(t.Context(), strings.NewReader(b.String()), true)
	require.NoError(t, err)
	assert.True(t, r.Stored)
	assert.Equal(t, 1, r.Objects)
	assert.Equal(t, []service.LineRange{{First: 3, Last: 59}}, r.Rejected)
}

func TestAccounts(t *testing.T) {
	s := service.New(testbed.Store(t), time.Now)
	ctx := t.Context()
	require.ErrorIs(t, s.AddAccount(ctx, "ops", service.Admin, "short"), service.ErrPassword)
	require.ErrorIs(t, s.AddAccount(ctx, "o p s", service.Admin, ""), service.ErrName)
	require.Error(t, s.AddAccount(ctx, "ops", "king", ""))
	require.NoError(t, s.AddAccount(ctx, "ops", service.Admin, "twelve characters"))
	require.ErrorIs(t, s.AddAccount(ctx, "ops", service.Admin, ""), store.ErrTaken)
	_, _, err := s.SignIn(ctx, "ops", "wrong")
	require.ErrorIs(t, err, service.ErrSignIn)
	_, _, err = s.SignIn(ctx, "nobody", "twelve characters")
	require.ErrorIs(t, err, service.ErrSignIn)
	who, session, err := s.SignIn(ctx, "ops", "twelve characters")
	require.NoError(t, err)
	assert.Equal(t, service.Admin, who.Role)
	_, err = s.BySession(ctx, session)
	require.NoError(t, err)
	require.NoError(t, s.SignOut(ctx, session))
	_, err = s.BySession(ctx, session)
	require.ErrorIs(t, err, service.ErrSignIn, "the session is over")
	require.ErrorIs(t, s.RemoveAccount(ctx, "ops"), service.ErrLast)
}

func TestRoles(t *testing.T) {
	order := []service.Role{service.Viewer, service.Operator, service.Admin}
	for i, has := range order {
		for k, wants := range order {
			assert.Equal(t, i >= k, has.Includes(wants), fmt.Sprint(has, wants))
		}
	}
	assert.False(t, service.Role("").Includes(service.Viewer))
	assert.False(t, service.Role("").Includes(""))
}
