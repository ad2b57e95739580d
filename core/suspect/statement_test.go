package suspect_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"dowsingrod/core/phrase"
	. "dowsingrod/core/suspect"
)

func said(s Suspects) string { return phrase.Text(s.Statement, time.UTC) }

func TestWhatOneWouldSay(t *testing.T) {
	crowd := map[string]vm{}
	for i := range 12 {
		crowd[fmt.Sprintf("ticket-gate-%02d", i)] = vm{300, 520, 8192, 8192}
	}
	two := map[string]vm{"tide-model-01": {100, 2000, 8192, 8192}, "tide-model-02": {100, 1900, 8192, 8192}}
	for i := range 5 {
		two[fmt.Sprintf("crew-roster-%d", i)] = vm{200, 230, 8192, 8192}
	}
	for name, c := range map[string]struct {
		tenants map[string]vm
		slower  float64
		says    []string
		hides   []string
	}{
		"a culprit": {map[string]vm{"sonar-tiles-05": {20, 900, 32 << 10, 256 << 10}, "b": steady(300), "c": steady(200)}, 5,
			[]string{"sonar-tiles-05 did it", "% sure", "of what was added", "it began as that slowed", "256 KiB against the usual 32.0 KiB", "their data rates fell"}, nil},
		"a culprit with I/O of the same size": {map[string]vm{"a": {20, 3000, 8192, 8192}, "b": steady(300), "c": steady(200)}, 5, []string{"a did it"}, []string{"against the usual"}},
		"several":                             {two, 4, []string{"tide-model-01", "tide-model-02", "did it together"}, []string{"crew-roster"}},
		"everybody":                           {crowd, 4, []string{"Everybody grew", "no few of them brought it", "No single VM is to blame"}, []string{"did it"}},
		"itself":                              {map[string]vm{"a": steady(500), "b": steady(700)}, 4, []string{"became slower by itself", "12.0 ms instead of 3.00 ms", "No VM is to blame"}, []string{"did it"}},
		"nothing":                             {map[string]vm{"a": {100, 3000, 8192, 65536}, "b": steady(700)}, 1, []string{"did not become slower", "nobody is accused", "2 tenants"}, []string{"did it"}},
	} {
		t.Run(name, func(t *testing.T) {
			s := compare(t, c.tenants, c.slower)
			for _, words := range c.says {
				assert.Contains(t, said(s), words)
			}
			for _, words := range c.hides {
				assert.NotContains(t, said(s), words)
			}
			for _, p := range s.Statement {
				assert.NotContains(t, p.Text, "NaN")
				assert.Equal(t, p.Ref == "", p.Page == "", "a link leads to a page: %q", p.Text)
			}
		})
	}
}

func TestWhatIsSaidOfEachTenant(t *testing.T) {
	s := compare(t, map[string]vm{"grew": {20, 4000, 8192, 8192}, "waits": {300, 298, 8192, 8192}, "less": {300, 150, 8192, 8192}, "idle": {0, 0, 0, 0}, "some": {500, 640, 8192, 8192}}, 5)
	why := map[string]string{}
	for _, tn := range s.Tenants {
		why[tn.Name] = tn.Why
	}
	assert.Contains(t, why["grew"], "200 times as much")
	assert.Contains(t, why["waits"], "asks no more than before")
	assert.Contains(t, why["less"], "gets 50 % less done")
	assert.Contains(t, why["idle"], "asks nothing")
	assert.Contains(t, why["some"], "asks 28 % more")
}
