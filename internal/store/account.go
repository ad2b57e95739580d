package store

import (
	"context"
	"crypto/sha256"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// Account is somebody, or something, that may sign in.
type Account struct {
	ID      int64
	Name    string
	Role    string
	Hash    string // bcrypt; "" where it has no password
	Created time.Time
}

// CredentialKind tells sessions, bearer tokens and one-time sign-in links apart.
type CredentialKind string

// Kinds of credential.
const (
	SessionCredential CredentialKind = "session"
	TokenCredential   CredentialKind = "token"
	LinkCredential    CredentialKind = "link"
)

// Token is a bearer token without its secret.
type Token struct {
	ID      string // first bytes of its hash, in hexadecimal
	Account string
	Label   string
	Created time.Time
	Used    *time.Time
	Expires time.Time
}

func unique(err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "23505" {
		return ErrTaken
	}
	return unavailable(err)
}

func found(err error) error {
	if errors.Is(err, pgx.ErrNoRows) {
		return ErrNotFound
	}
	return unavailable(err)
}

// AddAccount adds an account. ErrTaken where the name is in use.
func (s *Store) AddAccount(ctx context.Context, name, role, hash string) error {
	_, err := s.pool.Exec(ctx, `insert into account (name, role, password_hash) values ($1, $2, $3)`, name, role, hash)
	return unique(err)
}

// RemoveAccount removes an account with all its credentials.
func (s *Store) RemoveAccount(ctx context.Context, name string) error {
	tag, err := s.pool.Exec(ctx, `delete from account where name = $1`, name)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return unavailable(err)
}

// Accounts lists all accounts by name.
func (s *Store) Accounts(ctx context.Context) ([]Account, error) {
	rows, err := s.pool.Query(ctx, `select id, name, role, password_hash, created from account order by name`)
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Account])
	return out, unavailable(err)
}

// Account returns an account by name, or ErrNotFound.
func (s *Store) Account(ctx context.Context, name string) (Account, error) {
	rows, err := s.pool.Query(ctx, `select id, name, role, password_hash, created from account where name = $1`, name)
	if err != nil {
		return Account{}, unavailable(err)
	}
	a, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Account])
	return a, found(err)
}

func hash(secret string) []byte {
	h := sha256.Sum256([]byte(secret)) // the secret is 256 random bits: a slow hash would add nothing
	return h[:]
}

// AddCredential keeps the hash of a secret that stands for an account for so long, by the database's clock, which says as well whether it has expired.
func (s *Store) AddCredential(ctx context.Context, account int64, kind CredentialKind, label, secret string, lasts time.Duration) error {
	_, err := s.pool.Exec(ctx, `insert into credential (hash, account_id, kind, label, expires) values ($1, $2, $3, $4, now() + $5::interval)`, hash(secret), account, kind, label, lasts)
	return unique(err)
}

// Holder returns the account a secret stands for, or ErrNotFound where it is unknown or has expired.
func (s *Store) Holder(ctx context.Context, kind CredentialKind, secret string) (Account, error) {
	rows, err := s.pool.Query(ctx, `
		with c as (update credential set used = now()
		           where hash = $1 and kind = $2 and expires > now() and (used is null or used < now() - interval '1 minute'))
		select a.id, a.name, a.role, a.password_hash, a.created from credential c join account a on a.id = c.account_id
		where c.hash = $1 and c.kind = $2 and c.expires > now()`, hash(secret), kind)
	if err != nil {
		return Account{}, unavailable(err)
	}
	a, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Account])
	return a, found(err)
}

// Redeem uses up a one-time link: it works once.
func (s *Store) Redeem(ctx context.Context, secret string) (Account, error) {
	rows, err := s.pool.Query(ctx, `
		with c as (delete from credential where hash = $1 and kind = 'link' and expires > now() returning account_id)
		select a.id, a.name, a.role, a.password_hash, a.created from c join account a on a.id = c.account_id`, hash(secret))
	if err != nil {
		return Account{}, unavailable(err)
	}
	a, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[Account])
	return a, found(err)
}

// Forget ends a session by its secret.
func (s *Store) Forget(ctx context.Context, kind CredentialKind, secret string) error {
	_, err := s.pool.Exec(ctx, `delete from credential where (hash = $1 and kind = $2) or expires < now()`, hash(secret), kind)
	return unavailable(err)
}

// Tokens lists the bearer tokens of an account, or of all where account is 0.
func (s *Store) Tokens(ctx context.Context, account int64) ([]Token, error) {
	rows, err := s.pool.Query(ctx, `
		select encode(substring(c.hash for 6), 'hex'), a.name, c.label, c.created, c.used, c.expires
		from credential c join account a on a.id = c.account_id
		where c.kind = 'token' and ($1 = 0 or a.id = $1) order by c.created`, account)
	if err != nil {
		return nil, unavailable(err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Token])
	return out, unavailable(err)
}

// RemoveToken removes a token of an account (of any where account is 0) by its id.
func (s *Store) RemoveToken(ctx context.Context, account int64, id string) error {
	tag, err := s.pool.Exec(ctx, `delete from credential where kind = 'token' and encode(substring(hash for 6), 'hex') = $1 and ($2 = 0 or account_id = $2)`, id, account)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return unavailable(err)
}
