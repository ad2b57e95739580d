package service

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"regexp"
	"sync"
	"time"

	"golang.org/x/crypto/bcrypt"

	"dowsingrod/internal/store"
)

// Role is what an account may do. Each role may do what those before it may.
type Role string

// Roles.
const (
	Viewer   Role = "viewer"   // look
	Operator Role = "operator" // bring in feeds, act
	Admin    Role = "admin"    // accounts
)

// Includes reports whether r may do what needs the role wanted.
func (r Role) Includes(wanted Role) bool {
	rank := map[Role]int{Viewer: 1, Operator: 2, Admin: 3}
	return rank[r] > 0 && rank[r] >= rank[wanted]
}

// Identity is who asks.
type Identity struct {
	ID   int64  `json:"-"`
	Name string `json:"name" doc:"Account name"`
	Role Role   `json:"role" doc:"What it may do" enum:"viewer,operator,admin"`
}

// AccountInfo is an account without its secrets.
type AccountInfo struct {
	Name     string    `json:"name" doc:"Account name"`
	Role     Role      `json:"role" doc:"What it may do" enum:"viewer,operator,admin"`
	Password bool      `json:"password" doc:"Whether it may sign in with a password"`
	Created  time.Time `json:"created" doc:"When it was made"`
}

// TokenInfo is a bearer token without its secret.
type TokenInfo struct {
	ID      string     `json:"id" doc:"To name it by"`
	Account string     `json:"account" doc:"Whose it is"`
	Label   string     `json:"label" doc:"What it is for"`
	Created time.Time  `json:"created" doc:"When it was made"`
	Used    *time.Time `json:"used,omitempty" doc:"When it was last used, to the minute"`
	Expires time.Time  `json:"expires" doc:"When it ends"`
}

// Errors of signing in and of accounts.
var (
	ErrSignIn   = errors.New("the name or the password is wrong")
	ErrLink     = errors.New("this sign-in link was used already, has expired, or is not complete")
	ErrPassword = errors.New("a password needs at least 12 characters and at most 72 bytes")
	ErrName     = errors.New("an account name has 2 to 64 letters, digits, dots, hyphens, underscores or @")
	ErrLast     = errors.New("this is the last admin: make another first")
)

// Lifetimes of credentials.
const (
	SessionLife = 12 * time.Hour
	LinkLife    = 30 * time.Minute
	TokenLife   = 365 * 24 * time.Hour
)

var accountName = regexp.MustCompile(`^[A-Za-z0-9._@-]{2,64}$`)

// nobody's password takes as long to compare as somebody's.
var nobody = sync.OnceValue(func() []byte {
	h, _ := bcrypt.GenerateFromPassword([]byte("nobody has this password"), bcrypt.DefaultCost)
	return h
})

func secret() string {
	var b [32]byte
	_, _ = rand.Read(b[:]) // never fails
	return base64.RawURLEncoding.EncodeToString(b[:])
}

func identity(a store.Account) Identity { return Identity{a.ID, a.Name, Role(a.Role)} }

// AddAccount adds an account; without a password it signs in by link only.
func (s *Service) AddAccount(ctx context.Context, name string, role Role, password string) error {
	if !accountName.MatchString(name) {
		return ErrName
	}
	if !role.Includes(Viewer) {
		return fmt.Errorf("there is no role %q: viewer, operator and admin are", role)
	}
	hash, err := hashPassword(password)
	if err != nil {
		return err
	}
	return s.store.AddAccount(ctx, name, string(role), hash)
}

func hashPassword(password string) (string, error) {
	if password == "" {
		return "", nil
	}
	if len([]rune(password)) < 12 || len(password) > 72 {
		return "", ErrPassword
	}
	h, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.DefaultCost)
	return string(h), err
}

// Accounts lists the accounts.
func (s *Service) Accounts(ctx context.Context) ([]AccountInfo, error) {
	all, err := s.store.Accounts(ctx)
	out := []AccountInfo{}
	for _, a := range all {
		out = append(out, AccountInfo{a.Name, Role(a.Role), a.Hash != "", a.Created})
	}
	return out, err
}

// RemoveAccount removes an account with its sessions and tokens; the last admin stays.
func (s *Service) RemoveAccount(ctx context.Context, name string) error {
	all, err := s.store.Accounts(ctx)
	if err != nil {
		return err
	}
	admins, last := 0, ""
	for _, a := range all {
		if Role(a.Role) == Admin {
			admins++
			last = a.Name
		}
	}
	if admins == 1 && last == name {
		return ErrLast
	}
	return s.store.RemoveAccount(ctx, name)
}

// SignIn opens a session by password and returns its secret.
func (s *Service) SignIn(ctx context.Context, name, password string) (Identity, string, error) {
	a, err := s.store.Account(ctx, name)
	hash := []byte(a.Hash)
	if errors.Is(err, store.ErrNotFound) || a.Hash == "" {
		hash = nobody()
	} else if err != nil {
		return Identity{}, "", err
	}
	if wrong := bcrypt.CompareHashAndPassword(hash, []byte(password)); wrong != nil || a.Hash == "" {
		return Identity{}, "", ErrSignIn
	}
	return s.openSession(ctx, a)
}

func (s *Service) openSession(ctx context.Context, a store.Account) (Identity, string, error) {
	code := secret()
	err := s.store.AddCredential(ctx, a.ID, store.SessionCredential, "", code, SessionLife)
	return identity(a), code, err
}

// Link makes a one-time sign-in code for an account.
func (s *Service) Link(ctx context.Context, name string) (string, error) {
	a, err := s.store.Account(ctx, name)
	if err != nil {
		return "", err
	}
	code := secret()
	return code, s.store.AddCredential(ctx, a.ID, store.LinkCredential, "", code, LinkLife)
}

// Redeem opens a session by a one-time code.
func (s *Service) Redeem(ctx context.Context, code string) (Identity, string, error) {
	a, err := s.store.Redeem(ctx, code)
	if errors.Is(err, store.ErrNotFound) {
		return Identity{}, "", ErrLink
	}
	if err != nil {
		return Identity{}, "", err
	}
	return s.openSession(ctx, a)
}

// SignOut ends a session.
func (s *Service) SignOut(ctx context.Context, code string) error {
	return s.store.Forget(ctx, store.SessionCredential, code)
}

// BySession returns who holds a session; ErrSignIn where it has ended.
func (s *Service) BySession(ctx context.Context, code string) (Identity, error) {
	return s.by(ctx, store.SessionCredential, code)
}

// ByToken returns who holds a bearer token; ErrSignIn where it is not known.
func (s *Service) ByToken(ctx context.Context, token string) (Identity, error) {
	return s.by(ctx, store.TokenCredential, token)
}

func (s *Service) by(ctx context.Context, kind store.CredentialKind, code string) (Identity, error) {
	a, err := s.store.Holder(ctx, kind, code)
	if errors.Is(err, store.ErrNotFound) {
		return Identity{}, ErrSignIn
	}
	return identity(a), err
}

// AddToken makes a bearer token for an account and returns it; it is never shown again.
func (s *Service) AddToken(ctx context.Context, account, label string) (string, error) {
	a, err := s.store.Account(ctx, account)
	if err != nil {
		return "", err
	}
	token := "dowse_" + secret()
	return token, s.store.AddCredential(ctx, a.ID, store.TokenCredential, label, token, TokenLife)
}

// Tokens lists an account's tokens.
func (s *Service) Tokens(ctx context.Context, who Identity) ([]TokenInfo, error) {
	all, err := s.store.Tokens(ctx, s.scope(who))
	out := []TokenInfo{}
	for _, t := range all {
		out = append(out, TokenInfo{t.ID, t.Account, t.Label, t.Created, t.Used, t.Expires})
	}
	return out, err
}

// RemoveToken removes a token by its id: one's own, or anybody's for an admin.
func (s *Service) RemoveToken(ctx context.Context, who Identity, id string) error {
	return s.store.RemoveToken(ctx, s.scope(who), id)
}

func (s *Service) scope(who Identity) int64 {
	if who.Role == Admin {
		return 0
	}
	return who.ID
}
