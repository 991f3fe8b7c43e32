// Package access decides who may do what. Everybody brings a token: people and
// scripts one of their own with a role, a browser a session that stands for one,
// an agent a credential that is good for its host alone. Only a SHA-256 of each
// secret is kept; the secrets are 256 random bits, so that no slower hash is needed.
package access

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"rotanex.example/service/clock"
	"rotanex.example/service/gather"
	"rotanex.example/service/httpapi"
	"rotanex.example/service/store"
)

// Roles, each of which may do what the one before it may; an agent may do its
// host's work and nothing else.
const (
	Viewer   = "viewer"
	Operator = "operator"
	Admin    = "admin"
	Agent    = "agent"
)

// Cookie is the name of the browser's session cookie.
const Cookie = "rotanex_session"

const (
	sessionLife = 12 * time.Hour
	joinLife    = 24 * time.Hour
	// cacheLife is how long a token that was good is taken to be good still. A
	// revoked token works no longer than this on other service processes.
	cacheLife = 2 * time.Second
	// noted is how exactly it is known when a token was used last.
	noted = time.Minute
)

// Principal is who is asking.
type Principal struct {
	TokenID int64
	Name    string
	Role    string
	Host    string // of an agent
	From    string // the address that the request came from
	session bool
	expires *time.Time
}

// Token is the record of one.
type Token struct {
	ID        int64 `gorm:"primaryKey"`
	Kind      string
	Name      string
	Role      string
	Host      *string
	Hash      []byte
	CreatedAt time.Time
	ExpiresAt *time.Time
	ParentID  *int64
	UsedAt    *time.Time // to the minute
}

// Access looks after tokens and sessions.
type Access struct {
	store  *store.Store
	clock  clock.Clock
	secure bool
	door   *door

	asked *gather.Gather[[32]byte, *Token]

	mu    sync.Mutex
	known map[[32]byte]cached
}

// Those who come at about the same time are looked up together.
const (
	together = 3 * time.Millisecond
	atOnce   = 500
	answered = 5 * time.Second
)

type cached struct {
	Principal
	until time.Time
}

// New makes it. With secure set, cookies are only sent over TLS; with proxied set, a proxy in front says whose requests are.
func New(s *store.Store, c clock.Clock, secure, proxied bool) *Access {
	a := &Access{store: s, clock: c, secure: secure, door: newDoor(proxied), known: map[[32]byte]cached{}}
	a.asked = gather.New(together, atOnce, answered, a.lookUp)
	return a
}

// Bootstrap creates the first admin token and returns its secret, or "" if there
// already is a token. Of services that start together, one creates it.
func (a *Access) Bootstrap(ctx context.Context) (string, error) {
	secret := newSecret()
	hash := sha256.Sum256([]byte(secret))
	made, err := a.store.Once(ctx, "first_token", func(tx *gorm.DB) error {
		return tx.Create(&Token{Kind: "access", Name: "first admin", Role: "admin", Hash: hash[:], CreatedAt: a.clock.WallNow()}).Error
	})
	if err != nil || !made {
		return "", err
	}
	return secret, nil
}

func newSecret() string {
	raw := make([]byte, 32)
	_, _ = rand.Read(raw) // never fails
	return "rtx_" + base64.RawURLEncoding.EncodeToString(raw)
}

// Create makes a token of a kind and returns its secret, which is nowhere else.
func (a *Access) Create(ctx context.Context, t Token) (Token, string, error) {
	secret := newSecret()
	hash := sha256.Sum256([]byte(secret))
	t.Hash, t.CreatedAt = hash[:], a.clock.WallNow()
	return t, secret, a.store.DB.WithContext(ctx).Create(&t).Error
}

// JoinToken makes a one-time token with which an agent joins as host.
func (a *Access) JoinToken(ctx context.Context, host string) (Token, string, error) {
	expires := a.clock.WallNow().Add(joinLife)
	return a.Create(ctx, Token{Kind: "join", Name: "join " + host, Role: Agent, Host: &host, ExpiresAt: &expires})
}

// find returns whose secret it is.
func (a *Access) find(ctx context.Context, secret string) (Principal, bool, error) {
	hash := sha256.Sum256([]byte(secret))
	now := a.clock.WallNow()
	a.mu.Lock()
	hit, ok := a.known[hash]
	a.mu.Unlock()
	if ok && now.Before(hit.until) {
		return hit.Principal, true, nil
	}
	t, err := a.asked.Do(ctx, hash)
	if err != nil {
		return Principal{}, false, err
	}
	if t == nil {
		a.forget(hash)
		return Principal{}, false, nil
	}
	p := Principal{TokenID: t.ID, Name: t.Name, Role: t.Role, session: t.Kind == "session", expires: t.ExpiresAt}
	if t.Host != nil {
		p.Host = *t.Host
	}
	a.mu.Lock()
	if len(a.known) > 10_000 {
		clear(a.known)
	}
	until := now.Add(cacheLife)
	if t.ExpiresAt != nil && t.ExpiresAt.Before(until) {
		until = *t.ExpiresAt
	}
	a.known[hash] = cached{p, until}
	a.mu.Unlock()
	return p, true, nil
}

// lookUp finds whose secrets some are, by their hashes; nil for nobody's. That they are used is noted, to the minute.
func (a *Access) lookUp(ctx context.Context, hashes [][32]byte) ([]*Token, error) {
	now := a.clock.WallNow()
	all := make([][]byte, len(hashes))
	for i := range hashes {
		all[i] = hashes[i][:]
	}
	var found []Token
	if err := a.store.DB.WithContext(ctx).Where("hash IN ? AND kind <> 'join' AND (expires_at IS NULL OR expires_at > ?)", all, now).Find(&found).Error; err != nil {
		return nil, err
	}
	out, unnoted := make([]*Token, len(hashes)), []int64{}
	for i := range found {
		t := &found[i]
		for j := range all {
			if bytes.Equal(t.Hash, all[j]) {
				out[j] = t
			}
		}
		if t.UsedAt == nil || now.Sub(*t.UsedAt) >= noted {
			unnoted = append(unnoted, t.ID)
		}
	}
	if len(unnoted) == 0 {
		return out, nil
	}
	return out, a.store.WithContext(ctx).Model(&Token{}).Where("id IN ?", unnoted).UpdateColumn("used_at", now.Truncate(noted)).Error
}

func (a *Access) forget(hash [32]byte) {
	a.mu.Lock()
	delete(a.known, hash)
	a.mu.Unlock()
}

func (a *Access) forgetAll() {
	a.mu.Lock()
	clear(a.known)
	a.mu.Unlock()
}

type principalKey struct{}

// As returns a context in which p is who is asking.
func As(ctx context.Context, p Principal) context.Context {
	return context.WithValue(ctx, principalKey{}, p)
}

// From returns who is asking; the zero Principal outside of a request.
func From(ctx context.Context) Principal {
	p, _ := ctx.Value(principalKey{}).(Principal)
	return p
}

// Guard lets a request through if its token or session may do it. Writes from a
// browser must come from the same origin.
func (a *Access) Guard(next http.Handler) http.Handler {
	sameOrigin := http.NewCrossOriginProtection()
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if err := sameOrigin.Check(r); err != nil {
			httpapi.Fail(w, r, httpapi.Forbidden("a write from a page of another origin is refused"))
			return
		}
		path := strings.TrimPrefix(r.URL.Path, "/api/v1")
		if open(path, r.Method) {
			next.ServeHTTP(w, r.WithContext(As(r.Context(), Principal{From: a.door.address(r)})))
			return
		}
		p, err := a.identify(r)
		p.From = a.door.address(r)
		if err == nil {
			err = allow(p, r.Method, path)
		}
		leave := func() {}
		if err == nil {
			leave, err = a.door.enter(p.TokenID)
		}
		if err != nil {
			httpapi.Fail(w, r, err)
			return
		}
		defer leave()
		ctx := r.Context()
		if p.Role != Agent {
			ctx = store.ForPeople(ctx)
		}
		ctx, done := a.while(ctx, secretOf(r))
		defer done()
		next.ServeHTTP(w, r.WithContext(As(ctx, p)))
	})
}

func secretOf(r *http.Request) string {
	if scheme, secret, ok := strings.Cut(r.Header.Get("Authorization"), " "); ok && strings.EqualFold(scheme, "Bearer") {
		return strings.TrimSpace(secret)
	}
	if c, err := r.Cookie(Cookie); err == nil {
		return c.Value
	}
	return ""
}

func unauthorised(detail string) *httpapi.Problem {
	return &httpapi.Problem{Status: http.StatusUnauthorized, Title: "Not signed in", Detail: detail}
}

func (a *Access) identify(r *http.Request) (Principal, error) {
	secret := secretOf(r)
	if secret == "" {
		return Principal{}, unauthorised("a token is needed: send it as Authorization: Bearer TOKEN, or sign in")
	}
	p, ok, err := a.find(r.Context(), secret)
	if err == nil && !ok {
		err = unauthorised("the token is not known, was revoked or has expired")
	}
	return p, err
}

// moneys are what an admin alone changes: whom money goes to, at what price and up to what cap, and who is told.
var moneys = []string{"/sources", "/receivers", "/offers", "/farms", "/licences", "/exchange-rates"}

// open reports whether something is asked that needs no token: one is got by it.
func open(path, method string) bool {
	return path == "/agent/join" || path == "/session" && method == http.MethodPost
}

// allow holds the role against what is asked.
func allow(p Principal, method, path string) error {
	agentsOnly := strings.HasPrefix(path, "/agent/")
	need := Operator
	switch {
	case agentsOnly:
		need = Agent
	case path == "/audit":
	case strings.HasPrefix(path, "/tokens"), strings.HasPrefix(path, "/storage/"), method != http.MethodGet && slices.ContainsFunc(moneys, func(p string) bool { return strings.HasPrefix(path, p) }):
		need = Admin
	case method == http.MethodGet || path == "/session", strings.HasPrefix(path, "/computations/"):
		need = Viewer
	}
	rank := map[string]int{Viewer: 1, Operator: 2, Admin: 3}
	if p.Role == need || (!agentsOnly && rank[p.Role] >= rank[need]) {
		return nil
	}
	return httpapi.Forbidden(fmt.Sprintf("this needs the role %s; the token %q has %s", need, p.Name, p.Role))
}

// signIn makes a session of a person's token and returns its secret.
func (a *Access) signIn(ctx context.Context, token string) (who Principal, secret string, err error) {
	who, ok, err := a.find(ctx, token)
	switch {
	case err != nil:
		return who, "", err
	case !ok || who.session:
		return who, "", unauthorised("the token is not known, was revoked or has expired")
	case who.Role == Agent:
		return who, "", httpapi.Forbidden("an agent's credential does not sign a person in")
	}
	expires := a.clock.WallNow().Add(sessionLife)
	if who.expires != nil && who.expires.Before(expires) {
		expires = *who.expires // it does not outlive what it stands for
	}
	_, secret, err = a.Create(ctx, Token{Kind: "session", Name: who.Name, Role: who.Role, ExpiresAt: &expires, ParentID: &who.TokenID})
	return who, secret, err
}

// signOut ends a session, if it is one, with its secret.
func (a *Access) signOut(ctx context.Context, p Principal, secret string) error {
	if !p.session {
		return nil
	}
	err := a.store.WithContext(ctx).Delete(&Token{}, p.TokenID).Error
	a.forget(sha256.Sum256([]byte(secret)))
	return err
}

// page returns a page of the tokens of people, scripts and agents, not of sessions.
func (a *Access) page(ctx context.Context, cursor *string, limit *int) ([]Token, string, error) {
	return httpapi.Page(a.store.WithContext(ctx).Where("kind <> 'session'"), "id", func(t Token) int64 { return t.ID }, cursor, limit)
}

// Make makes a token of a role for a person or a script, good for so many days or with 0
// for good; for the role agent, a one-time join token of a host.
func (a *Access) Make(ctx context.Context, name, role, host string, days int) (Token, string, error) {
	if role == Agent {
		if host == "" {
			return Token{}, "", httpapi.BadField("/host", "", "an agent's join token is for one host: name it")
		}
		return a.JoinToken(ctx, host)
	}
	t := Token{Kind: "access", Name: name, Role: role}
	if days > 0 {
		expires := a.clock.WallNow().AddDate(0, 0, days)
		t.ExpiresAt = &expires
	}
	return a.Create(ctx, t)
}

// Revoke makes a token, and the sessions signed in with it, worthless. The last one of an admin stays: nobody could
// make another.
func (a *Access) Revoke(ctx context.Context, id int64) error {
	err := a.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		others, err := otherAdmins(tx, id, a.clock.WallNow())
		if err != nil {
			return err
		}
		gone := tx.Where("kind <> 'session' AND (role <> ? OR ?)", Admin, others > 0).Delete(&Token{}, id)
		if gone.Error != nil || gone.RowsAffected > 0 {
			return gone.Error
		}
		if err := tx.Where("kind <> 'session'").Take(&Token{}, id).Error; err != nil {
			return unknownToken(id, err)
		}
		return httpapi.Conflict(fmt.Sprintf("token %d is the last one of an admin: make another first (rotanex tokens create NAME --role admin)", id))
	})
	a.forgetAll()
	return err
}

func unknownToken(id int64, err error) error {
	if store.Missing(err) {
		return httpapi.NotFound(fmt.Sprintf("there is no token %d; rotanex tokens list shows them", id))
	}
	return err
}

// Rotate gives a person's or a script's token another secret, and returns it. The one before is worthless.
func (a *Access) Rotate(ctx context.Context, id int64) (t Token, secret string, err error) {
	secret = newSecret()
	hash := sha256.Sum256([]byte(secret))
	err = a.store.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Where("kind = 'access'").Take(&t, id).Error; err != nil {
			return unknownToken(id, err)
		}
		t.Hash = hash[:]
		return tx.Model(&t).UpdateColumn("hash", t.Hash).Error
	})
	a.forgetAll()
	return t, secret, err
}
