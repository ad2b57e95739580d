package libvirt

import (
	"math"
	"testing"

	wire "github.com/digitalocean/go-libvirt"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func params(of map[string]any) (out []wire.TypedParam) {
	for field, v := range of {
		out = append(out, wire.TypedParam{Field: field, Value: wire.TypedParamValue{I: v}})
	}
	return out
}

// Statistics come as named values of several types, in any order; what is not understood is passed over.
func TestStatisticsOfADomain(t *testing.T) {
	r := wire.DomainStatsRecord{Dom: wire.Domain{Name: "manifest-db-02", ID: 7}, Params: params(map[string]any{
		"state.state": int32(1), "cpu.time": uint64(5e9), "vcpu.current": uint32(4), "vcpu.0.delay": uint64(3e8), "vcpu.3.delay": uint64(2e8),
		"block.count": uint32(2), "block.0.name": "vda", "block.0.path": "/dev/mapper/a", "block.0.rd.reqs": uint64(100), "block.0.rd.bytes": uint64(819200),
		"block.0.rd.times": uint64(5e7), "block.0.wr.reqs": int64(50), "block.0.fl.reqs": uint64(3), "block.0.capacity": uint64(1 << 30), "block.0.allocation": uint64(1 << 20),
		"block.1.name": "vdb", "block.1.rd.reqs": int64(-1), "block.1.wr.reqs": uint64(9),
		"block.9999999.name": "absurd", "block.x.name": "odd", "block.2": "short", "balloon.current": uint64(1),
	})}
	st := readRecord(&r)
	assert.Equal(t, "manifest-db-02", st.name)
	assert.EqualValues(t, 1, st.state)
	assert.Equal(t, 4.0, st.vcpus)
	assert.True(t, st.hasCPU && st.hasDelay)
	assert.EqualValues(t, 5e8, st.delay, "of all its processors together")
	require.Len(t, st.disks, 2)
	a, b := st.disks[0], st.disks[1]
	assert.Equal(t, "vda", a.name)
	assert.True(t, a.timed)
	assert.Equal(t, [8]uint64{100, 819200, 5e7, 50, 0, 0, 3, 0}, a.counters)
	assert.Equal(t, float64(1<<30), a.capacity)
	assert.Equal(t, "vdb", b.name)
	assert.False(t, b.timed, "its driver tells no times")
	assert.Zero(t, b.counters[rdReqs], "a negative number is no counter")
	assert.EqualValues(t, 9, b.counters[wrReqs])
}

// What identifies a domain changes when it is started anew or its disks do, and not when it works.
func TestTheMarkOfADomain(t *testing.T) {
	base := func() []wire.TypedParam {
		return []wire.TypedParam{{Field: "state.state", Value: wire.TypedParamValue{I: int32(1)}}, {Field: "block.0.name", Value: wire.TypedParamValue{I: "vda"}},
			{Field: "block.0.rd.reqs", Value: wire.TypedParamValue{I: uint64(5)}}}
	}
	mark := func(id int32, p []wire.TypedParam) string {
		r := wire.DomainStatsRecord{Dom: wire.Domain{Name: "a", ID: id}, Params: p}
		return readRecord(&r).mark
	}
	first := mark(1, base())
	busy := base()
	busy[2].Value.I = uint64(900)
	assert.Equal(t, first, mark(1, busy))
	assert.NotEqual(t, first, mark(2, base()), "started anew")
	for k, v := range map[int]any{0: int32(5), 1: "vdb"} {
		p := base()
		p[k].Value.I = v
		assert.NotEqual(t, first, mark(1, p), p[k].Field)
	}
}

// Rates and times follow from what counters grew by; a time per I/O that nobody did is missing, not zero.
func TestRatesFollowFromCounters(t *testing.T) {
	v := rates([]float64{200, 1638400, 4e8, 0, 0, 0, 0, 0}, 20, true)
	assert.Equal(t, 10.0, v["read_iops"][0])
	assert.Equal(t, 81920.0, v["read_bytes_s"][0])
	assert.Equal(t, 2000.0, v["read_latency_us"][0], "0.4 s for 200 reads")
	assert.Equal(t, 0.02, v["outstanding"][0], "by Little's law 10 a second × 2 ms")
	assert.Zero(t, v["write_iops"][0])
	assert.True(t, math.IsNaN(v["write_latency_us"][0]))
	assert.NotContains(t, v, "flush_iops")
	v = rates([]float64{0, 0, 0, 0, 0, 0, 40, 8e7}, 20, true)
	assert.Equal(t, 2.0, v["flush_iops"][0])
	assert.Equal(t, 2000.0, v["flush_latency_us"][0])
	v = rates([]float64{200, 1638400, 0, 0, 0, 0, 0, 0}, 20, false)
	assert.NotContains(t, v, "read_latency_us", "a driver that tells no times tells none")
	assert.NotContains(t, v, "outstanding")
}

func TestNumbersOfEveryType(t *testing.T) {
	for _, c := range []struct {
		in   any
		want uint64
		ok   bool
	}{{int32(4), 4, true}, {int32(-4), 0, false}, {uint32(7), 7, true}, {int64(-1), 0, false}, {int64(9), 9, true}, {uint64(math.MaxUint64), math.MaxUint64, true}, {"text", 0, false}, {3.5, 0, false}, {nil, 0, false}} {
		got, ok := number(c.in)
		assert.Equal(t, c.want, got, "%v", c.in)
		assert.Equal(t, c.ok, ok, "%v", c.in)
	}
	assert.Equal(t, 1.0, share(1.02), "what is a little beyond comes from the edges of the reading")
	assert.Zero(t, share(-0.01))
	assert.Equal(t, 0.4, share(0.4))
	assert.Empty(t, notes(0, 0, 0))
	assert.Len(t, notes(2, 1, 1), 3)
}
