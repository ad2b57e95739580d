package trial_test

import (
	"context"
	"fmt"
	"math"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/console"
	"dowsingrod/core/estate"
	"dowsingrod/core/route"
	"dowsingrod/core/strata"
	"dowsingrod/core/suspect"
	"dowsingrod/internal/browser"
	"dowsingrod/internal/client"
	"dowsingrod/internal/collect"
	"dowsingrod/internal/rig"
	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
	. "dowsingrod/internal/trial"
)

func TestMain(m *testing.M) { os.Exit(testbed.Run(m)) }

// watched is a rig and a service that knows nothing of it yet.
type watched struct {
	*Trial
	svc  *service.Service
	base string
}

func begin(t *testing.T) watched {
	if missing := rig.Missing(); len(missing) > 0 {
		t.Skipf("running machines cannot be had here; missing: %s", strings.Join(missing, ", "))
	}
	st := testbed.Store(t)
	svc := service.New(st, time.Now)
	testbed.Collect(t, svc)
	base := testbed.Serve(t, svc, console.Files())
	_, token := testbed.Token(t, svc, service.Admin)
	r, err := rig.Start(t.Context(), 5, rig.Options{SpareLUNs: 1})
	require.NoError(t, err)
	t.Cleanup(r.Stop)
	return watched{&Trial{Rig: r, Client: client.New(base, token), Interval: 5 * time.Second, Stretch: time.Minute, Say: t.Logf}, svc, base}
}

// The whole main job on readings nobody made up. The parts follow one another on the same machines.
func TestRunningMachines(t *testing.T) {
	w := begin(t)
	require.NoError(t, w.Watch(t.Context()))
	noisy, victims := w.Rig.Machines[2], []*rig.Machine{w.Rig.Machines[0], w.Rig.Machines[1], w.Rig.Machines[3], w.Rig.Machines[4]}
	ok := t.Run("every machine is mapped to its LUN and target", w.mapped) &&
		t.Run("quiet machines accuse nobody", w.quiet) &&
		t.Run("the noisy machine is named", func(t *testing.T) { w.noisy(t, noisy, victims[0]) }) &&
		t.Run("a limit lets the others recover", func(t *testing.T) { w.limit(t, noisy, victims) })
	if !ok {
		return
	}
	t.Run("a disk that moves is followed", w.move)
	t.Run("a disk plugged in while it runs", w.plug)
	t.Run("a name used again", w.names)
	t.Run("a machine started anew", w.reboot)
	t.Run("the hypervisor's daemon restarted", w.libvirtRestart)
	t.Run("the target daemon restarted", w.targetRestart)
	t.Run("half a minute without answers", w.silence)
}

func names(s route.Section, kind estate.Kind) (out []string) {
	for _, n := range s.Nodes {
		if n.Kind == kind {
			out = append(out, n.Name)
		}
	}
	return out
}

func (w watched) mapped(t *testing.T) {
	for _, m := range w.Rig.Machines {
		s, err := w.Client.Route(t.Context(), m.Name, "", route.Folding{})
		require.NoError(t, err)
		assert.Equal(t, []string{fmt.Sprintf("shags LUN %d", m.LUN)}, names(s, estate.Volume), m.Name)
		assert.Equal(t, []string{"target 1"}, names(s, estate.TargetPort), m.Name)
		assert.Equal(t, []string{"shelf"}, names(s, estate.Pool), m.Name)
		assert.Empty(t, s.Breaks, m.Name)
	}
	reach, err := w.Client.Reach(t.Context(), w.Component(), "", 100)
	require.NoError(t, err)
	vms := 0
	for _, c := range reach.Counts {
		if c.Kind == estate.VM {
			vms = c.Count
		}
	}
	assert.Equal(t, len(w.Rig.Machines), vms)
}

func accused(s suspect.Suspects) (out []string) {
	for _, t := range s.Tenants {
		if t.Role == suspect.Suspect {
			out = append(out, t.Name)
		}
	}
	return out
}

func (w watched) quiet(t *testing.T) {
	require.NoError(t, w.Quiet(t.Context()))
	require.NoError(t, Wait(t.Context(), 3*time.Second)) // a window is a minute long at least
	s, err := w.Suspects(t.Context())
	require.NoError(t, err)
	assert.Empty(t, accused(s), "%v", s.Statement)
	assert.Len(t, s.Tenants, 5)
	for _, name := range []string{Hypervisor, Array} { // our figures beside the source's own
		h, err := w.Await(t.Context(), name, time.Minute, func(h *collect.Health) bool { return len(h.Compared) == 3 })
		require.NoError(t, err)
		for _, c := range h.Compared {
			assert.InEpsilon(t, c.Theirs, c.Ours, 0.15, "%s of %s", c.What, name)
		}
	}
}

func (w watched) noisy(t *testing.T, noisy, victim *rig.Machine) {
	require.NoError(t, w.Noisy(t.Context(), noisy))
	s, err := w.Suspects(t.Context())
	require.NoError(t, err)
	require.Equal(t, []string{noisy.Name}, accused(s), "%v", s.Statement)
	assert.Greater(t, float64(s.Confidence), 0.7)
	split, err := w.Strata(t.Context(), victim)
	require.NoError(t, err)
	require.Equal(t, strata.ArisesInLayer, split.Verdict)
	assert.Equal(t, estate.LayerInArray, split.Change.Layer)
	assert.Equal(t, w.Component(), split.Change.Component)
	assert.Equal(t, 5, split.Change.Shared)
	// What the guest felt itself lies above what its virtual disk took, and not far.
	_, felt, err := victim.Felt()
	require.NoError(t, err)
	assert.Greater(t, felt, 2*time.Millisecond)

	page, end, err := browser.Open(context.Background(), 1280, 800)
	require.NoError(t, err)
	defer end()
	name, _ := testbed.Token(t, w.svc, service.Viewer)
	code, err := w.svc.Link(t.Context(), name)
	require.NoError(t, err)
	require.NoError(t, page.Go(w.base+"/sign-in#"+code))
	require.NoError(t, page.Until(`document.querySelector('h1')?.textContent.startsWith('Survey')`))
	require.NoError(t, page.Go(w.base+"/suspects?of="+w.Component()+"&from=-2m"))
	require.NoError(t, page.Until(`document.querySelectorAll('[data-testid=suspects] svg').length > 5`))
	text, err := page.Text("main")
	require.NoError(t, err)
	assert.Contains(t, text, noisy.Name+" did it")
}

func (w watched) limit(t *testing.T, noisy *rig.Machine, victims []*rig.Machine) {
	require.NoError(t, w.Limit(t.Context(), noisy, 40))
	// What the noisy machine wrote before is still being put on the disk, on a slow one for minutes.
	recovered := func() bool {
		ok := true
		for _, v := range victims {
			r, err := w.Recovery(t.Context(), v)
			require.NoError(t, err)
			t.Logf("%s: %s quiet, %s noisy, %s limited", v.Name, r.Quiet, r.Noisy, r.Limited)
			require.Greater(t, r.Noisy, 2*r.Quiet, v.Name)
			ok = ok && r.Share() > 0.7
		}
		return ok
	}
	for until := time.Now().Add(5 * time.Minute); !recovered(); {
		require.True(t, time.Now().Before(until), "the others do not recover")
		require.NoError(t, Wait(t.Context(), 10*time.Second))
	}
	d, err := w.Client.Show(t.Context(), noisy.Name+" vda", client.Window{})
	require.NoError(t, err)
	assert.EqualValues(t, 40, d.Facts["iops_limit"], "the limit in force is a fact of the disk")
	require.NoError(t, w.Rig.Limit(t.Context(), noisy, 0))
	require.NoError(t, noisy.Quiet())
}

// soon waits for something to be so within one interval, and a second for the pass itself.
func (w watched) soon(t *testing.T, what string, f func() bool) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), w.Interval+time.Second)
	defer cancel()
	for !f() {
		if Wait(ctx, 100*time.Millisecond) != nil {
			require.Fail(t, "not within one interval", what)
		}
	}
}

func (w watched) move(t *testing.T) {
	m := w.Rig.Machines[0]
	before, old := time.Now(), m.LUN
	require.NoError(t, w.Rig.Move(t.Context(), m, 6))
	w.soon(t, "the map shows the new LUN", func() bool {
		s, err := w.Client.Route(t.Context(), m.Name, "", route.Folding{})
		return err == nil && slices.Equal(names(s, estate.Volume), []string{"shags LUN 6"})
	})
	s, err := w.Client.Route(t.Context(), m.Name, before.UTC().Format(time.RFC3339Nano), route.Folding{})
	require.NoError(t, err)
	assert.Equal(t, []string{fmt.Sprintf("shags LUN %d", old)}, names(s, estate.Volume), "history keeps where it was")
}

func (w watched) plug(t *testing.T) {
	m, from := w.Rig.Machines[1], time.Now()
	require.NoError(t, w.Rig.Plug(t.Context(), m, 1, "vdb"))
	w.soon(t, "the new disk is there", func() bool {
		s, err := w.Client.Route(t.Context(), m.Name, "", route.Folding{})
		return err == nil && slices.Contains(names(s, estate.VDisk), m.Name+" vdb")
	})
	require.NoError(t, w.Rig.Unplug(t.Context(), m, "vdb"))
	w.soon(t, "it is gone again", func() bool {
		s, err := w.Client.Route(t.Context(), m.Name, "", route.Folding{})
		return err == nil && !slices.Contains(names(s, estate.VDisk), m.Name+" vdb")
	})
	w.plausible(t, m, from)
}

func (w watched) names(t *testing.T) {
	find := func(name string) (uuids []string) {
		found, err := w.Client.Find(t.Context(), name, estate.VM, 10, "")
		require.NoError(t, err)
		for _, o := range found.Objects {
			if o.Name == name {
				uuids = append(uuids, o.Ref)
			}
		}
		return uuids
	}
	first, err := w.Rig.Define(t.Context(), "radar-replay")
	require.NoError(t, err)
	w.soon(t, "a machine that is only defined is listed", func() bool { return len(find("radar-replay")) == 1 })
	_, err = w.Rig.Virsh(t.Context(), "domrename", "radar-replay", "radar-archive")
	require.NoError(t, err)
	w.soon(t, "it is the same machine under its new name", func() bool {
		return slices.Equal(find("radar-archive"), []string{"vm:" + first + "@" + Hypervisor}) && len(find("radar-replay")) == 0
	})
	_, err = w.Rig.Virsh(t.Context(), "undefine", "radar-archive")
	require.NoError(t, err)
	second, err := w.Rig.Define(t.Context(), "radar-archive")
	require.NoError(t, err)
	require.NotEqual(t, first, second)
	w.soon(t, "a new machine with an old name is another", func() bool {
		return slices.Equal(find("radar-archive"), []string{"vm:" + second + "@" + Hypervisor})
	})
	_, err = w.Rig.Virsh(t.Context(), "undefine", "radar-archive")
	require.NoError(t, err)
	w.soon(t, "and gone when it is", func() bool { return len(find("radar-archive")) == 0 })
}

func (w watched) reboot(t *testing.T) {
	m, from := w.Rig.Machines[4], time.Now()
	require.NoError(t, m.Reboot(t.Context()))
	require.NoError(t, m.Quiet())
	require.NoError(t, Wait(t.Context(), 4*w.Interval))
	s := w.plausible(t, m, from)
	assert.Positive(t, known(s.Read.IOPS), "its readings go on")
	assert.Less(t, known(s.Read.IOPS), len(s.Read.IOPS), "and miss the interval of the restart")
}

func known(row []float64) (n int) {
	for _, v := range row {
		if !math.IsNaN(v) {
			n++
		}
	}
	return n
}

// plausible asserts that since a moment a machine's readings hold no zero and no spike: a machine at work does some
// 14 reads a second, so what is known lies well within a few times that.
func (w watched) plausible(t *testing.T, m *rig.Machine, from time.Time) strata.Strata {
	t.Helper()
	s, err := w.Client.Strata(t.Context(), m.Name, client.Window{From: time.Now().Add(-90 * time.Second).UTC().Format(time.RFC3339)})
	require.NoError(t, err)
	for i, v := range s.Read.IOPS {
		at := s.From.Add(time.Duration(float64(i) * s.Step * float64(time.Second)))
		if at.Before(from) || math.IsNaN(v) {
			continue
		}
		assert.Less(t, v, 60.0, "a spike of %s at %s", m.Name, at)
		assert.Greater(t, v, 0.0, "a zero of %s at %s", m.Name, at)
	}
	return s
}

func (w watched) failing(t *testing.T, name, words string) {
	t.Helper()
	h, err := w.Await(t.Context(), name, 30*time.Second, func(h *collect.Health) bool { return h.State == collect.Failing })
	require.NoError(t, err)
	assert.Contains(t, h.Words, words)
	assert.NotEmpty(t, h.Try)
}

func (w watched) back(t *testing.T, name string) {
	t.Helper()
	since := time.Now()
	_, err := w.Await(t.Context(), name, time.Minute, func(h *collect.Health) bool { return h.State == collect.Collecting && h.Newest.After(since) })
	require.NoError(t, err)
}

func (w watched) libvirtRestart(t *testing.T) {
	m, from := w.Rig.Machines[1], time.Now()
	w.Rig.StopLibvirt()
	w.failing(t, Hypervisor, "no daemon listens there")
	h, err := w.Await(t.Context(), Array, time.Minute, func(h *collect.Health) bool { return h.Newest.After(from) })
	require.NoError(t, err, "the other source is not kept waiting")
	assert.Equal(t, collect.Collecting, h.State)
	require.NoError(t, w.Rig.StartLibvirt(t.Context()))
	w.back(t, Hypervisor)
	s := w.plausible(t, m, from)
	assert.Less(t, known(s.Read.IOPS), len(s.Read.IOPS), "a gap where nothing was read")
	r, err := w.Client.Route(t.Context(), m.Name, "", route.Folding{})
	require.NoError(t, err)
	assert.Empty(t, r.Breaks, "and the map as before")
}

func (w watched) targetRestart(t *testing.T) {
	from := time.Now()
	w.Rig.StopTarget()
	w.failing(t, Array, "nobody listens")
	require.NoError(t, w.Rig.StartTarget(t.Context()))
	w.back(t, Array)
	for _, m := range w.Rig.Machines {
		d, err := w.Client.Show(t.Context(), fmt.Sprintf("shags LUN %d", m.LUN), client.Window{From: time.Now().Add(-90 * time.Second).UTC().Format(time.RFC3339)})
		require.NoError(t, err)
		require.NotNil(t, d)
		w.plausible(t, m, from.Add(-time.Hour))
	}
}

func (w watched) silence(t *testing.T) {
	m, from := w.Rig.Machines[3], time.Now()
	require.NoError(t, w.Rig.FreezeLibvirt())
	w.failing(t, Hypervisor, "did not answer in time")
	require.NoError(t, Wait(t.Context(), 30*time.Second-time.Since(from)))
	require.NoError(t, w.Rig.ThawLibvirt())
	w.back(t, Hypervisor)
	s := w.plausible(t, m, from)
	missing := len(s.Read.IOPS) - known(s.Read.IOPS)
	assert.GreaterOrEqual(t, float64(missing)*s.Step, 25.0, "the silence is a gap")
	h, err := w.Await(t.Context(), Hypervisor, time.Minute, func(h *collect.Health) bool { return len(h.History) > 0 })
	require.NoError(t, err)
	assert.Contains(t, h.History[0].Words+h.History[min(1, len(h.History)-1)].Words, "answer in time", "and told in the history")
}
