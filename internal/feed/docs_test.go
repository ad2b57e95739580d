package feed_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
)

func document(t *testing.T) string {
	text, err := os.ReadFile(filepath.Join("..", "..", "docs", "feed.md"))
	require.NoError(t, err)
	return string(text)
}

// What the document shows must be what the reader takes.
func TestTheExampleInTheDocumentIsAFeed(t *testing.T) {
	example := regexp.MustCompile("(?s)```\n(\\{\"feed\".*?)```").FindStringSubmatch(document(t))
	require.Len(t, example, 2)
	records, bad, err := read(t, strings.NewReader(example[1]))
	require.NoError(t, err)
	assert.Empty(t, bad)
	assert.Len(t, records, 6)
}

func TestTheDocumentNamesEveryKindLinkAndMetric(t *testing.T) {
	text := document(t)
	for _, k := range []estate.Kind{estate.Site, estate.SiteLink, estate.VM, estate.VDisk, estate.Cluster, estate.Host, estate.HBAPort, estate.Device, estate.Path, estate.DatastoreGroup,
		estate.Datastore, estate.Fabric, estate.Switch, estate.Zone, estate.SwitchPort, estate.ISL, estate.Flow, estate.Array, estate.Controller, estate.TargetPort, estate.Volume,
		estate.Share, estate.Pool, estate.RAIDGroup, estate.Drive, estate.Cache, estate.Enclosure, estate.Fan, estate.PowerSupply} {
		assert.True(t, k.Known())
		assert.Contains(t, text, "`"+string(k)+"`")
	}
	for _, l := range []estate.LinkKind{estate.RunsOn, estate.Uses, estate.StoredOn, estate.MemberOf, estate.PartOf, estate.ServedBy, estate.ExposedOn, estate.CarvedFrom, estate.MadeOf,
		estate.BackedBy, estate.MirroredTo, estate.ReplicatedTo, estate.SnapshotOf, estate.Opens} {
		assert.True(t, l.Sendable())
		assert.Contains(t, text, "`"+string(l)+"`")
	}
	for _, derived := range []estate.LinkKind{estate.Extent, estate.Attached, estate.Initiator} {
		assert.False(t, derived.Sendable(), "%s is joined, never sent", derived)
	}
}

// Every metric of the catalogue is taken on each of its kinds, and on no other.
func TestEveryMetricOnItsKinds(t *testing.T) {
	all := map[estate.Kind]bool{}
	for _, m := range reading.Catalogue {
		for _, k := range m.Kinds {
			all[k] = true
		}
	}
	for _, m := range reading.Catalogue {
		for k := range all {
			line := `{"reading":{"of":"` + string(k) + `:a","from":"2026-03-02T09:00:00Z","step_s":60,"values":{"` + m.Name + `":[0.5,null]}}}`
			_, bad, err := read(t, strings.NewReader(head+line+"\n"))
			require.NoError(t, err)
			assert.Equal(t, m.On(k), len(bad) == 0, "%s on %s", m.Name, k)
		}
	}
}
