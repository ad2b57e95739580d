package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dowsingrod/internal/store"
	"dowsingrod/internal/testbed"
)

func TestOneLeadsAndAnotherTakesOver(t *testing.T) {
	url := testbed.Database(t)
	open := func() *Store {
		s, err := Open(t.Context(), url)
		require.NoError(t, err)
		t.Cleanup(s.Close)
		return s
	}
	one, other := open(), open()
	first, err := one.Lead(t.Context())
	require.NoError(t, err)
	require.NotNil(t, first)
	assert.True(t, first.Held(t.Context()))
	second, err := other.Lead(t.Context())
	require.NoError(t, err)
	require.Nil(t, second, "only one replica collects")
	first.GiveUp()
	assert.False(t, first.Held(t.Context()))
	require.Eventually(t, func() bool {
		second, err = other.Lead(t.Context())
		return err == nil && second != nil
	}, 5*time.Second, 20*time.Millisecond, "another takes over")
	second.GiveUp()
}

func TestConnectionsAreKept(t *testing.T) {
	s := testbed.Store(t)
	c := Connection{Name: "a", Kind: "feed", Address: "https://exporter.example/feed", Interval: 20 * time.Second, Pin: "ab", Secret: []byte{1, 2}, CreatedBy: "ops"}
	require.NoError(t, s.AddConnection(t.Context(), c))
	require.ErrorIs(t, s.AddConnection(t.Context(), c), ErrTaken)
	got, err := s.Connection(t.Context(), "a")
	require.NoError(t, err)
	assert.Equal(t, c.Address, got.Address)
	assert.Equal(t, c.Interval, got.Interval)
	assert.Equal(t, c.Secret, got.Secret)
	require.NoError(t, s.SetHealth(t.Context(), "a", got.Revision, map[string]string{"state": "collecting"}))
	finest, err := s.FinestInterval(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 20*time.Second, finest)

	got.Paused, got.Secret = true, nil
	require.NoError(t, s.ChangeConnection(t.Context(), got))
	require.NoError(t, s.SetHealth(t.Context(), "a", got.Revision, map[string]string{"state": "late"}), "of a worker that does not know yet")
	again, err := s.Connection(t.Context(), "a")
	require.NoError(t, err)
	assert.True(t, again.Paused)
	assert.Nil(t, again.Secret)
	assert.Greater(t, again.Revision, got.Revision)
	assert.JSONEq(t, `{"state":"collecting"}`, string(again.Health), "health of an older revision is dropped")

	require.NoError(t, s.RemoveConnection(t.Context(), "a"))
	for _, err := range []error{s.RemoveConnection(t.Context(), "a"), s.ChangeConnection(t.Context(), got)} {
		require.ErrorIs(t, err, ErrNotFound)
	}
	_, err = s.Connection(t.Context(), "a")
	require.ErrorIs(t, err, ErrNotFound)
	require.NoError(t, s.EndSource(t.Context(), "a", time.Now()), "one that never brought anything")
	all, err := s.Sources(t.Context())
	require.NoError(t, err)
	assert.Empty(t, all)
}
