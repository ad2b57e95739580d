package service_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/route"
	"dowsingrod/core/strata"
	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
)

var noon = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

func bring(t *testing.T, s *service.Service, lines ...string) {
	t.Helper()
	_, err := s.Import(t.Context(), strings.NewReader(strings.Join(lines, "\n")+"\n"), false)
	require.NoError(t, err)
}

func header(source string, at time.Time, full bool) string {
	return fmt.Sprintf(`{"feed":{"version":1,"source":%q,"time":%q,"full":%v}}`, source, at.Format(time.RFC3339), full)
}

func runsOn(host string) string {
	return fmt.Sprintf(`{"object":{"kind":"vm","id":"a","name":"vm-a","links":{"runs_on":["host:%s"]}}}`, host)
}

const hosts = `{"object":{"kind":"host","id":"h1","name":"lighthouse-1"}}
{"object":{"kind":"host","id":"h2","name":"lighthouse-2"}}`

func hostAt(t *testing.T, s *service.Service, at time.Time) string {
	t.Helper()
	r, err := s.Route(t.Context(), "vm-a", at, route.Folding{})
	require.NoError(t, err)
	for _, n := range r.Nodes {
		if n.Kind == estate.Host {
			return n.Name
		}
	}
	return ""
}

func TestReplicasSeeEachOthersChanges(t *testing.T) {
	st := testbed.Store(t)
	clock := func() time.Time { return noon }
	one, two := service.New(st, clock), service.New(st, clock)
	bring(t, one, header("hyp", noon.Add(-3*time.Hour), true), hosts, runsOn("h1"))
	_, err := two.Route(t.Context(), "vm-a", time.Time{}, route.Folding{})
	require.NoError(t, err)
	bring(t, one, header("hyp", noon.Add(-time.Hour), false), strings.ReplaceAll(runsOn("h2"), "vm-a", "vm-a"))
	r, err := two.Show(t.Context(), "vm:a", service.Window{From: noon.Add(-30 * time.Minute), To: noon})
	require.NoError(t, err)
	require.NotEmpty(t, r.Links)
	assert.Equal(t, "lighthouse-2", r.Links[0].Name)
}

func TestAMovedAndAVanishedObject(t *testing.T) {
	s := service.New(testbed.Store(t), func() time.Time { return noon })
	bring(t, s, header("hyp", noon.Add(-5*time.Hour), true), hosts, runsOn("h1"))
	disk := `{"object":{"kind":"vdisk","id":"d","name":"d"}}`
	bring(t, s, header("hyp", noon.Add(-3*time.Hour), false), disk, strings.Replace(runsOn("h2"), `"runs_on"`, `"uses":["vdisk:d"],"runs_on"`, 1))
	bring(t, s, header("hyp", noon.Add(-time.Hour), false), `{"gone":{"ref":"vm:a"}}`)
	_, err := s.Route(t.Context(), "vm-a", noon, route.Folding{})
	var missing *estate.NotFoundError
	require.ErrorAs(t, err, &missing)
	assert.Empty(t, hostAt(t, s, noon.Add(-4*time.Hour)), "without a disk nothing is drawn below the VM")
	assert.Equal(t, "lighthouse-2", hostAt(t, s, noon.Add(-2*time.Hour)))
	d, err := s.Show(t.Context(), "vm-a", service.Window{From: noon.Add(-6 * time.Hour), To: noon})
	require.NoError(t, err, "a window in which it was there still answers")
	assert.Equal(t, "vm-a", d.Name)
}

func TestManyChangesInOneWindow(t *testing.T) {
	s := service.New(testbed.Store(t), func() time.Time { return noon })
	bring(t, s, header("hyp", noon.Add(-5*time.Hour), true), hosts, runsOn("h1"), `{"object":{"kind":"vdisk","id":"d","name":"d"}}`)
	for i := range 30 {
		bring(t, s, header("hyp", noon.Add(-4*time.Hour+time.Duration(i)*time.Minute), false), runsOn([]string{"h1", "h2"}[i%2]))
	}
	st, err := s.Strata(t.Context(), "vm-a", service.Window{From: noon.Add(-5 * time.Hour), To: noon})
	require.NoError(t, err)
	assert.Equal(t, strata.Unknown, st.Verdict)
}

func TestOverviewTellsSilenceFromNothingYet(t *testing.T) {
	s := service.New(testbed.Store(t), func() time.Time { return noon })
	o, err := s.Overview(t.Context())
	require.NoError(t, err)
	assert.Empty(t, o.Sources)
	assert.Nil(t, o.To)
	value := func(at time.Time) string {
		return fmt.Sprintf(`{"reading":{"of":"host:h1","from":%q,"step_s":20,"values":{"busy_share":[0.5,0.6]}}}`, at.Format(time.RFC3339))
	}
	bring(t, s, header("inventory only", noon, true), `{"object":{"kind":"vm","id":"x"}}`)
	bring(t, s, header("fresh", noon, true), hosts, value(noon.Add(-time.Minute)))
	bring(t, s, header("quiet", noon, true), hosts, value(noon.Add(-time.Hour)))
	o, err = s.Overview(t.Context())
	require.NoError(t, err)
	state := map[string]service.SourceState{}
	for _, src := range o.Sources {
		state[src.Name] = src
	}
	assert.EqualValues(t, -1, state["inventory only"].Age)
	assert.False(t, state["inventory only"].Silent)
	assert.False(t, state["fresh"].Silent)
	assert.InDelta(t, 20, state["fresh"].Age, 1)
	assert.True(t, state["quiet"].Silent)
	assert.Equal(t, 5, o.Objects)
}

func TestFindingsReachPeople(t *testing.T) {
	s := service.New(testbed.Store(t), func() time.Time { return noon })
	bring(t, s, header("hyp", noon, true),
		`{"object":{"kind":"vm","id":"a","name":"vm-a","links":{"runs_on":["host:none"]}}}`,
		`{"object":{"kind":"datastore","id":"d","name":"ds-lost","facts":{"extents":["naa.600d05e0000000000000000000000abc"]}}}`,
		`{"object":{"kind":"pool","id":"p","name":"pool","links":{"made_of":["raid_group:r"]}}}`,
		`{"object":{"kind":"raid_group","id":"r","name":"rg","links":{"made_of":["pool:p"]}}}`,
		`{"object":{"kind":"volume","id":"v1","name":"one","facts":{"naa":"600d05e0000000000000000000000def"}}}`,
		`{"object":{"kind":"volume","id":"v2","name":"two","facts":{"naa":"600D05E0000000000000000000000DEF"}}}`)
	o, err := s.Overview(t.Context())
	require.NoError(t, err)
	codes := map[string]int{}
	for _, f := range o.Findings {
		codes[f.Code]++
	}
	assert.Equal(t, map[string]int{estate.LinkToNothing: 1, estate.NotJoined: 1, estate.Cycle: 1, estate.IdentityClaimedTwice: 2}, codes)
	d, err := s.Show(t.Context(), "ds-lost", service.Window{From: noon.Add(-time.Hour), To: noon})
	require.NoError(t, err)
	require.Len(t, d.Findings, 1)
	assert.Contains(t, d.Findings[0].Detail, "the map ends")
}

func TestSectionsOfEveryKindOfTheDemo(t *testing.T) {
	d := testbed.LoadDemo(t)
	w := window(t, d, -time.Hour, 0)
	for _, kind := range []estate.Kind{estate.VDisk, estate.Host, estate.HBAPort, estate.Device, estate.Path, estate.Datastore, estate.Fabric, estate.Switch, estate.SwitchPort, estate.ISL,
		estate.Zone, estate.Array, estate.Controller, estate.TargetPort, estate.Volume, estate.Share, estate.Pool, estate.RAIDGroup, estate.Drive, estate.Enclosure, estate.Site, estate.SiteLink, estate.Cluster} {
		keys := d.Lab.Keys(kind)
		require.NotEmpty(t, keys, kind)
		v, err := d.Service.Section(t.Context(), keys[0].String(), w, nil)
		require.NoError(t, err, kind)
		assert.NotEmpty(t, v.Section.Nodes, kind)
		assert.Len(t, v.Figures, len(v.Section.Nodes))
		assert.NotEmpty(t, v.Strata.Statement, kind)
		for k, f := range v.Figures {
			assert.NotEmpty(t, f.Headline, "%s: %s", kind, v.Section.Nodes[k].Ref)
			assert.NotEmpty(t, f.Source)
		}
		_, err = d.Service.Suspects(t.Context(), keys[0].String(), w)
		require.NoError(t, err, kind)
		_, err = d.Service.Show(t.Context(), keys[0].String(), w)
		require.NoError(t, err, kind)
		r, err := d.Service.Reach(t.Context(), keys[0].String(), time.Time{}, 5)
		require.NoError(t, err, kind)
		assert.LessOrEqual(t, len(r.Objects), 5)
	}
}

func TestDeadPathsOfTheDemoAreFound(t *testing.T) {
	d := testbed.LoadDemo(t)
	dead := 0
	for _, k := range d.Lab.Keys(estate.Host) {
		s, err := d.Service.Route(t.Context(), k.String(), time.Time{}, route.Folding{})
		require.NoError(t, err)
		for _, r := range s.Routes {
			if r.State == route.Dead {
				dead++
				assert.Equal(t, "host:h-03@hyp-northmole", k.String())
			}
		}
	}
	assert.Positive(t, dead)
}
