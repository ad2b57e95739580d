package service_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/route"
	"dowsingrod/internal/service"
	"dowsingrod/internal/store"
	"dowsingrod/internal/testbed"
)

func TestTheDemosHistoryIsTold(t *testing.T) {
	d := testbed.LoadDemo(t)
	c, err := d.Service.Changes(t.Context(), "", window(t, d, -12*time.Hour, 0), 100)
	require.NoError(t, err)
	var said []string
	for _, x := range slices.Backward(c.Changes) {
		said = append(said, x.Name+" "+x.What[0].Says)
	}
	assert.Equal(t, []string{"lamp-telemetry-04 disk 1 moved from ds-carrageen-02 to ds-carrageen-01", "back-end LUN 6 at southmole its state went from active to lost",
		"back-end LUN 6 at southmole its state went from lost to active", "gannet its firmware went from 7.3.0 to 7.3.1", "lighthouse-07 hba0 → heron 0A, LUN 5 the path went from active to dead",
		"crew-roster-03 migrated from lighthouse-07 to lighthouse-02", "lighthouse-07 hba0 → heron 0A, LUN 5 the path went from dead to active", "vol-0145 grew from 4.00 TiB to 5.00 TiB"}, said)
	assert.Len(t, c.Moments, 8)
	own, err := d.Service.Changes(t.Context(), "crew-roster-03", window(t, d, -12*time.Hour, 0), 100)
	require.NoError(t, err)
	names := map[string]bool{}
	for _, x := range own.Changes {
		names[x.Name] = true
	}
	assert.True(t, names["crew-roster-03"])
	assert.False(t, names["gannet"], "what is not on its routes is not its business")
	few, err := d.Service.Changes(t.Context(), "", window(t, d, -12*time.Hour, 0), 2)
	require.NoError(t, err)
	assert.Len(t, few.Changes, 2)
	assert.Equal(t, 8, few.Total)
	assert.Equal(t, "vol-0145", few.Changes[0].Name, "the latest first")
	_, err = d.Service.Changes(t.Context(), "nobody", window(t, d, -time.Hour, 0), 2)
	assert.Error(t, err)
}

func TestEveryTopologyOfAWindow(t *testing.T) {
	d := testbed.LoadDemo(t)
	h, err := d.Service.History(t.Context(), "stretched-2", window(t, d, -10*time.Hour, 0), route.Folding{})
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(h), 3)
	assert.True(t, h[0].From.Equal(d.Anchor.Add(-10*time.Hour)))
	assert.True(t, h[len(h)-1].To.Equal(d.Anchor))
	lost := 0
	for k, x := range h {
		if k > 0 {
			assert.True(t, x.From.Equal(h[k-1].To), "without gaps")
		}
		for _, r := range x.Remarks {
			if r.Code == "leg_lost" {
				lost++
				assert.True(t, x.From.Equal(d.Anchor.Add(-9*time.Hour)), "%s", x.From)
				assert.True(t, x.To.Equal(d.Anchor.Add(-8*time.Hour-10*time.Minute)), "%s", x.To)
			}
		}
	}
	assert.Equal(t, 1, lost, "for the time in which the leg was lost, and no longer")
	still, err := d.Service.History(t.Context(), "tide-model-01", window(t, d, -time.Hour, 0), route.Folding{})
	require.NoError(t, err)
	assert.Len(t, still, 1)
	_, err = d.Service.History(t.Context(), "nobody", window(t, d, -time.Hour, 0), route.Folding{})
	assert.Error(t, err)
}

func TestAReachSaysWhatALossWouldMean(t *testing.T) {
	d := testbed.LoadDemo(t)
	outcomes := func(of string) map[route.Outcome]int {
		r, err := d.Service.Reach(t.Context(), of, time.Time{}, 500)
		require.NoError(t, err)
		out := map[route.Outcome]int{}
		for _, o := range r.Outcomes {
			out[o.Outcome] = o.Count
		}
		tiers, applications := 0, 0
		for _, n := range r.Tiers {
			tiers += n.Count
		}
		for _, n := range r.Applications {
			applications += n.Count
		}
		assert.Equal(t, r.Total, tiers)
		assert.Equal(t, r.Total, applications)
		assert.Len(t, r.VMs, r.Total)
		return out
	}
	assert.Equal(t, map[route.Outcome]int{route.WouldStop: 65, route.WouldLoseLeg: 31}, outcomes("array:heron"))
	assert.Zero(t, outcomes("switch:skerry-a1@fabric-northmole")[route.WouldStop], "every host has two fabrics")
	assert.Positive(t, outcomes("switch:skerry-a1@fabric-northmole")[route.WouldLosePath])
	r, err := d.Service.Reach(t.Context(), "vol-0199", time.Time{}, 10)
	require.NoError(t, err)
	require.Len(t, r.VMs, 1)
	v := r.VMs[0]
	assert.Equal(t, "tide-model-01", v.Name)
	assert.Equal(t, []int{1, 2}, []int{v.Disks, v.OfDisks})
	assert.InDelta(t, 0.5, float64(v.Share), 0.1, "half of its I/O goes to the raw LUN")
}

func TestInventoriesFilterSortAndPage(t *testing.T) {
	d := testbed.LoadDemo(t)
	ask := func(q service.InventoryQuery) service.Inventory {
		if q.Limit == 0 {
			q.Limit = 1000
		}
		i, err := d.Service.Inventory(t.Context(), q)
		require.NoError(t, err, "%+v", q)
		return i
	}
	column := func(i service.Inventory, name string) (out []any) {
		k := slices.IndexFunc(i.Columns, func(c service.Column) bool { return c.Name == name })
		require.GreaterOrEqual(t, k, 0, name)
		for _, r := range i.Rows {
			out = append(out, r.Cells[k])
		}
		return out
	}
	all := ask(service.InventoryQuery{Kind: estate.VM})
	assert.Equal(t, 120, all.Total)
	tier1 := ask(service.InventoryQuery{Kind: estate.VM, Where: []string{"tier=1"}})
	assert.Less(t, tier1.Total, all.Total)
	for _, v := range column(tier1, "tier") {
		assert.Equal(t, "1", v)
	}
	some := ask(service.InventoryQuery{Kind: estate.VM, Where: []string{"name~manifest", "tier!=2"}, Sort: "-host"})
	assert.Equal(t, 15, some.Total)
	hosts := column(some, "host")
	assert.True(t, slices.IsSortedFunc(hosts, func(a, b any) int { return strings.Compare(b.(string), a.(string)) }))
	dead := ask(service.InventoryQuery{Kind: estate.Device, Where: []string{"dead>0"}})
	assert.Positive(t, dead.Total)
	for _, h := range column(dead, "host") {
		assert.Equal(t, "lighthouse-03", h)
	}
	big := ask(service.InventoryQuery{Kind: estate.Volume, Where: []string{"bytes>=4.5TiB"}})
	assert.Equal(t, []any{"vol-0145"}, column(big, "name"))
	then := ask(service.InventoryQuery{Kind: estate.Volume, Where: []string{"bytes>4.5tib"}, At: d.Anchor.Add(-4 * time.Hour)})
	assert.Zero(t, then.Total, "it had not grown then")
	assert.Equal(t, 1, ask(service.InventoryQuery{Kind: estate.Volume, Text: "NAA.600D05E" + strings.ToUpper(column(big, "naa")[0].(string)[11:])}).Total)
	assert.Equal(t, []any{"failed"}, column(ask(service.InventoryQuery{Kind: estate.Fan, Where: []string{"state!=ok"}}), "state"))
	assert.Equal(t, map[any]bool{"wholly": true}, set(column(ask(service.InventoryQuery{Kind: estate.VM, Where: []string{"replicated=wholly"}}), "replicated")))
	for kind := range map[estate.Kind]bool{estate.Host: true, estate.Path: true, estate.SwitchPort: true, estate.Zone: true, estate.Array: true, estate.Pool: true, estate.Drive: true, estate.Share: true, estate.Site: true} {
		i := ask(service.InventoryQuery{Kind: kind, Limit: 3})
		assert.NotEmpty(t, i.Rows, kind)
		assert.Len(t, i.Rows[0].Cells, len(i.Columns))
	}
	var paged []string
	for q := (service.InventoryQuery{Kind: estate.VM, Sort: "-tier", Limit: 37}); ; {
		page := ask(q)
		for _, r := range page.Rows {
			paged = append(paged, r.Ref)
		}
		if q.Cursor = page.Next; q.Cursor == "" {
			break
		}
	}
	assert.Len(t, paged, 120)
	assert.Len(t, slices.Compact(slices.Sorted(slices.Values(paged))), 120)
	for says, q := range map[string]service.InventoryQuery{
		"not a condition": {Kind: estate.VM, Where: []string{"tier"}}, "no column \"height\"": {Kind: estate.VM, Where: []string{"height=3"}}, "not a number": {Kind: estate.Volume, Where: []string{"bytes>many"}},
		"is text": {Kind: estate.VM, Where: []string{"tier>1"}}, "to sort by": {Kind: estate.VM, Sort: "height"}, "not one that this service gave": {Kind: estate.VM, Cursor: "x"},
		"another question": {Kind: estate.Host, Cursor: ask(service.InventoryQuery{Kind: estate.VM, Limit: 1}).Next},
	} {
		_, err := d.Service.Inventory(t.Context(), q)
		var wrong *service.QueryError
		if assert.ErrorAs(t, err, &wrong, says) {
			assert.Contains(t, err.Error(), says)
		}
	}
}

func set(values []any) map[any]bool {
	out := map[any]bool{}
	for _, v := range values {
		out[v] = true
	}
	return out
}

func TestHardwareAndWhy(t *testing.T) {
	d := testbed.LoadDemo(t)
	w := window(t, d, -2*time.Hour, 0)
	p, err := d.Service.Hardware(t.Context(), "gannet", w)
	require.NoError(t, err)
	assert.Equal(t, 1, p.Below)
	var failing []string
	var walk func(p service.HardwarePart)
	walk = func(p service.HardwarePart) {
		if p.Condition == congest.Failing {
			failing = append(failing, p.Name+": "+p.Why)
		}
		for _, x := range p.Parts {
			walk(x)
		}
	}
	walk(p)
	assert.Equal(t, []string{"fan 2.1: its source says it is failed"}, failing)

	y, err := d.Service.Why(t.Context(), "manifest-db-02", w)
	require.NoError(t, err)
	assert.Equal(t, congest.Steady, y.Condition.Condition)
	require.NotEmpty(t, y.Causes)
	assert.Equal(t, "pool:p2@heron", y.Causes[0].Ref)
	assert.Contains(t, y.Says, "affected by heron pool 2")
	for _, c := range y.Causes {
		assert.NotEqual(t, estate.Drive, c.Kind, "the parts of a marked whole are not marked again")
	}
	pool, err := d.Service.Why(t.Context(), "pool:p2@heron", w)
	require.NoError(t, err)
	assert.Equal(t, congest.Failing, pool.Condition.Condition)
	assert.Positive(t, pool.VMs)
	assert.Greater(t, pool.Affected, pool.VMs)
	calm, err := d.Service.Why(t.Context(), "ds-wrack-01", w)
	require.NoError(t, err)
	assert.Contains(t, calm.Says, "Nothing below")
}

func TestUnresolvedAndWeb(t *testing.T) {
	d := testbed.LoadDemo(t)
	u, err := d.Service.Unresolved(t.Context(), time.Time{})
	require.NoError(t, err)
	require.Len(t, u.Groups, 1)
	assert.Equal(t, estate.SourceMissing, u.Groups[0].Reason)
	for _, reach := range []bool{false, true} {
		w, err := d.Service.Web(t.Context(), "pool:p2@heron", time.Time{}, reach, route.Folding{})
		require.NoError(t, err)
		assert.Greater(t, len(w.Nodes), 30)
		for _, l := range w.Links {
			require.Less(t, l.From, len(w.Nodes))
			require.Less(t, l.To, len(w.Nodes))
		}
		assert.True(t, slices.ContainsFunc(w.Nodes, func(n route.Node) bool { return n.Ref == w.Focus }))
	}
}

// At any moment of its history the estate is the picture built from what the store says of that moment alone.
func TestPicturesOfThePastAreThoseOfTheStore(t *testing.T) {
	d := testbed.LoadDemo(t)
	st, err := store.Open(t.Context(), d.URL)
	require.NoError(t, err)
	t.Cleanup(st.Close)
	for _, back := range []time.Duration{30 * time.Hour, 10 * time.Hour, 8*time.Hour + 30*time.Minute, 6 * time.Hour, time.Minute} {
		at := d.Anchor.Add(-back)
		got, err := d.Service.Web(t.Context(), "volume:v2@petrel", at, false, route.Folding{})
		require.NoError(t, err)
		nodes, err := st.Estate(t.Context(), at)
		require.NoError(t, err)
		e := estate.Of(len(nodes), slices.Values(nodes))
		i, err := e.Resolve("volume:v2@petrel")
		require.NoError(t, err)
		section := route.NewMap(e).Section(i)
		assert.Equal(t, fmt.Sprint(section.Web()), fmt.Sprint(got), "%s ago", back)
	}
}
