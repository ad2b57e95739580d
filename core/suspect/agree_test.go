package suspect_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/phrase"
	. "dowsingrod/core/suspect"
)

func pressed(t *testing.T) Suspects {
	s := compare(t, map[string]vm{"sonar-tiles-05": {20, 900, 32 << 10, 256 << 10}, "manifest-db-02": steady(300), "tide-model-01": steady(200), "crew-roster-01": {50, 70, 8192, 8192}}, 5)
	require.Equal(t, Culprit, s.Outcome)
	return s
}

// What one who waits is known to wait for was held against all else: it is taken over, whoever is accused and whoever is not.
func TestWhatOneWhoWaitsKnowsIsTakenOver(t *testing.T) {
	for name, c := range map[string]struct {
		told    Told
		outcome Outcome
		accused []string
		says    string
	}{
		"the same who":           {Told{"manifest-db-02", Culprit, []string{"vm:sonar-tiles-05@hyp"}, 0.99}, Culprit, []string{"sonar-tiles-05"}, "sonar-tiles-05 did it, 99 % sure"},
		"another":                {Told{"manifest-db-02", Culprit, []string{"vm:tide-model-01@hyp"}, 0.8}, Culprit, []string{"tide-model-01"}, "tide-model-01 did it, 80 % sure"},
		"two":                    {Told{"manifest-db-02", Several, []string{"vm:sonar-tiles-05@hyp", "vm:tide-model-01@hyp"}, 0.9}, Several, []string{"sonar-tiles-05", "tide-model-01"}, "did it together, 90 % sure"},
		"nobody: it is slower":   {Told{"manifest-db-02", Itself, nil, 0.9}, Itself, nil, "became slower by itself"},
		"nobody: everybody grew": {Told{"manifest-db-02", Everybody, nil, 0.9}, Everybody, nil, "Everybody grew"},
		"one who is no tenant":   {Told{"manifest-db-02", Culprit, []string{"vm:gone@hyp"}, 0.9}, Culprit, []string{"sonar-tiles-05"}, "sonar-tiles-05 did it"},
	} {
		t.Run(name, func(t *testing.T) {
			s := pressed(t)
			s.Agree(c.told)
			said := phrase.Text(s.Statement, time.UTC)
			assert.Equal(t, c.outcome, s.Outcome)
			assert.ElementsMatch(t, c.accused, accused(s))
			assert.Contains(t, said, c.says)
			assert.NotContains(t, said, "NaN")
			assert.Equal(t, len(c.accused) > 0, s.Confidence.Known())
			assert.Equal(t, len(c.accused) > 0, len(s.Grounds) > 0)
			if len(c.accused) == 0 {
				assert.NotContains(t, said, "did it")
				assert.Contains(t, strings.Join(s.Notes, " "), "is not the reason")
				assert.Equal(t, Sufferer, roles(s)["manifest-db-02"])
			} else {
				assert.Equal(t, Suspect, s.Tenants[0].Role, "who did it stands first")
			}
			assert.Len(t, s.Tenants, 4, "nobody is left out")
		})
	}
}
