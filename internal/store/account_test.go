package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/store"
	"dowsingrod/internal/testbed"
)

// Secrets stand for their account until they expire, are used up or forgotten, each kind for itself.
func TestCredentialsStandForTheirAccount(t *testing.T) {
	s := testbed.Store(t)
	ctx := t.Context()
	require.NoError(t, s.AddAccount(ctx, "ada", "admin", "hash"))
	assert.ErrorIs(t, s.AddAccount(ctx, "ada", "viewer", ""), store.ErrTaken)
	require.NoError(t, s.AddAccount(ctx, "bea", "viewer", ""))
	ada, err := s.Account(ctx, "ada")
	require.NoError(t, err)
	bea, err := s.Account(ctx, "bea")
	require.NoError(t, err)
	all, err := s.Accounts(ctx)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, "ada", all[0].Name, "by name")
	assert.Equal(t, "admin", all[0].Role)
	_, err = s.Account(ctx, "nobody")
	assert.ErrorIs(t, err, store.ErrNotFound)

	soon, past := time.Hour, -time.Second
	require.NoError(t, s.AddCredential(ctx, ada.ID, store.TokenCredential, "night job", "t-1", soon))
	require.NoError(t, s.AddCredential(ctx, bea.ID, store.TokenCredential, "laptop", "t-2", soon))
	require.NoError(t, s.AddCredential(ctx, ada.ID, store.SessionCredential, "", "s-1", soon))
	require.NoError(t, s.AddCredential(ctx, ada.ID, store.TokenCredential, "old", "t-old", past))
	require.NoError(t, s.AddCredential(ctx, bea.ID, store.LinkCredential, "", "l-1", soon))
	holder, err := s.Holder(ctx, store.TokenCredential, "t-1")
	require.NoError(t, err)
	assert.Equal(t, "ada", holder.Name)
	for kind, secret := range map[store.CredentialKind]string{store.SessionCredential: "t-1", store.TokenCredential: "t-old", store.LinkCredential: "s-1"} {
		_, err := s.Holder(ctx, kind, secret)
		assert.ErrorIs(t, err, store.ErrNotFound, "%s %s", kind, secret)
	}
	once, err := s.Redeem(ctx, "l-1")
	require.NoError(t, err)
	assert.Equal(t, "bea", once.Name)
	_, err = s.Redeem(ctx, "l-1")
	assert.ErrorIs(t, err, store.ErrNotFound, "a link works once")

	tokens, err := s.Tokens(ctx, 0)
	require.NoError(t, err)
	require.Len(t, tokens, 3)
	var night store.Token
	for _, x := range tokens {
		if x.Label == "night job" {
			night = x
		}
	}
	require.NotEmpty(t, night.ID)
	assert.NotNil(t, night.Used, "it was used just now")
	assert.NotContains(t, night.ID, "t-1")
	assert.ErrorIs(t, s.RemoveToken(ctx, bea.ID, night.ID), store.ErrNotFound, "somebody else's")
	require.NoError(t, s.RemoveToken(ctx, ada.ID, night.ID))
	_, err = s.Holder(ctx, store.TokenCredential, "t-1")
	assert.ErrorIs(t, err, store.ErrNotFound)
	of, err := s.Tokens(ctx, bea.ID)
	require.NoError(t, err)
	assert.Len(t, of, 1)

	require.NoError(t, s.Forget(ctx, store.SessionCredential, "s-1"))
	_, err = s.Holder(ctx, store.SessionCredential, "s-1")
	assert.ErrorIs(t, err, store.ErrNotFound)
	tokens, err = s.Tokens(ctx, 0)
	require.NoError(t, err)
	assert.Len(t, tokens, 1, "what has expired is gone with it")

	require.NoError(t, s.RemoveAccount(ctx, "bea"))
	assert.ErrorIs(t, s.RemoveAccount(ctx, "bea"), store.ErrNotFound)
	_, err = s.Holder(ctx, store.TokenCredential, "t-2")
	assert.ErrorIs(t, err, store.ErrNotFound, "with an account go its credentials")
}
