package target

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const listed = `Target 1: iqn.2026-03.example.tidewrack:shags
    System information:
        Driver: iscsi
        State: ready
    I_T nexus information:
        I_T nexus: 4
            Initiator: iqn.2026-03.example.tidewrack:farne alias: none
            Connection: 0
                IP Address: 127.0.0.1
    LUN information:
        LUN: 0
            Type: controller
            SCSI ID: IET     00010000
            Size: 0 MB, Block size: 1
            Backing store path: None
        LUN: 1
            Type: disk
            SCSI ID: IET     00010001
            SCSI SN: beaf11
            Size: 268 MB, Block size: 512
            Online: Yes
            Thin-provisioning: No
            Backing store type: rdwr
            Backing store path: /srv/luns/a: b.img
    Account information:
    ACL information:
        ALL
Target 2: iqn.2026-03.example.tidewrack:puffins
    I_T nexus information:
    LUN information:
`

const counted = `tgt lun sid rd_subm(bytes,cmds) rd_done(bytes,cmds) wr_subm(bytes,cmds) wr_done(bytes,cmds) errs
  1   0   4            0      0            0      0            0      0            0      0    0
  1   1   4         5869     12         5357     11       306403      9       304304      7    1
`

func TestAListingIsRead(t *testing.T) {
	got, err := parseTargets(listed)
	require.NoError(t, err)
	require.Len(t, got, 2)
	assert.Equal(t, map[int]string{4: "iqn.2026-03.example.tidewrack:farne"}, got[0].sessions)
	require.Len(t, got[0].luns, 2)
	u := got[0].luns[1]
	assert.Equal(t, "/srv/luns/a: b.img", u.backing)
	assert.Equal(t, "beaf11", u.serial)
	assert.EqualValues(t, 268e6, u.bytes)
	assert.True(t, u.online)
	assert.Equal(t, "/srv/luns", u.shelf())
	assert.Empty(t, got[1].luns)
}

func TestCountersAreRead(t *testing.T) {
	got, err := parseCounts(counted)
	require.NoError(t, err)
	require.Len(t, got, 2)
	assert.EqualValues(t, 11, got[1].reads)
	assert.EqualValues(t, 304304, got[1].writeBytes)
	reads, writes := got[1].inFlight()
	assert.Equal(t, []float64{1, 2}, []float64{reads, writes})
	assert.True(t, got[1].moved())
	assert.False(t, got[0].moved())
}

func TestWhatCannotBeRead(t *testing.T) {
	for text, why := range map[string]string{
		"head\n1 2 3":                            "12 are expected",
		"head\n1 0 x 0 0 0 0 0 0 0 0 0":          "no number",
		"head\n9999999999 0 0 0 0 0 0 0 0 0 0 0": "out of range",
	} {
		_, err := parseCounts(text)
		assert.ErrorContains(t, err, why)
	}
	_, err := parseTargets("Target x: iqn.a")
	assert.ErrorContains(t, err, "line 1")
	_, err = parseTargets("Target 1: iqn.a\n LUN: none\n")
	assert.ErrorContains(t, err, "line 2")
	_, err = parseTargets("Target 1: iqn.a\n" + strings.Repeat("x", maxLine+1))
	assert.Error(t, err)
}

func TestWhatLUNsShare(t *testing.T) {
	for backing, want := range map[string]string{"/srv/luns/1.img": "/srv/luns", "/dev/sdq": "/dev/sdq", "/dev/kelp/lv1": "/dev/kelp", "None": "", "": ""} {
		assert.Equal(t, want, lun{backing: backing}.shelf(), backing)
	}
}

func TestAddresses(t *testing.T) {
	for address, want := range map[string]string{"tgt://": standardSocket + ".0", "tgt:///run/x/tgt": "/run/x/tgt.0", "tgt:///run/x/tgt?port=3": "/run/x/tgt.3"} {
		e, err := parseAddress(address)
		require.NoError(t, err)
		assert.Equal(t, want, e.socket)
	}
	for _, address := range []string{"tgt://host/run/x", "/run/x", "http:///x", "tgt:///x?port=-1", "tgt:///x?port=no"} {
		_, err := parseAddress(address)
		assert.Error(t, err, address)
	}
}

func FuzzListing(f *testing.F) {
	f.Add(listed)
	f.Add("Target 1: a\nLUN: 1\nSize: -1 MB")
	f.Fuzz(func(_ *testing.T, text string) {
		all, err := parseTargets(text)
		if err != nil {
			return
		}
		for _, p := range all {
			for _, u := range p.luns {
				_, _ = u.shelf(), p.lunID(u.number)
			}
		}
	})
}

func FuzzCounters(f *testing.F) {
	f.Add(counted)
	f.Add("head\n 1 1 1 18446744073709551615 1 0 0 0 0 0 0 0")
	f.Fuzz(func(t *testing.T, text string) {
		counts, err := parseCounts(text)
		if err != nil {
			return
		}
		for _, c := range counts {
			reads, writes := c.inFlight()
			if reads < 0 || writes < 0 {
				t.Fatal("less than nothing is in flight")
			}
		}
	})
}
