package access

import (
	"net/http"
	"time"

	"rotanex.example/api"
	"rotanex.example/service/httpapi"
)

// SignIn trades a token for a session cookie.
func (a *Access) SignIn(w http.ResponseWriter, r *http.Request) {
	body, err := httpapi.Body[api.SignInJSONBody](r)
	var who Principal
	var secret string
	if err == nil {
		err = a.door.try(r, func() (err error) {
			who, secret, err = a.signIn(r.Context(), body.Token)
			return err
		})
	}
	if err == nil {
		a.setCookie(w, secret, sessionLife)
	}
	httpapi.Answer(w, r, http.StatusOK, map[string]string{"name": who.Name, "role": who.Role}, err)
}

func (a *Access) setCookie(w http.ResponseWriter, value string, life time.Duration) {
	http.SetCookie(w, &http.Cookie{
		Name: Cookie, Value: value, Path: "/", MaxAge: int(life.Seconds()),
		HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: a.secure,
	})
}

// SignOut ends the browser's session.
func (a *Access) SignOut(w http.ResponseWriter, r *http.Request) {
	err := a.signOut(r.Context(), From(r.Context()), secretOf(r))
	if err == nil {
		a.setCookie(w, "", -time.Second)
	}
	httpapi.Done(w, r, err)
}

// ListTokens answers with a page of the tokens of people, scripts and agents, not
// of sessions.
func (a *Access) ListTokens(w http.ResponseWriter, r *http.Request, params api.ListTokensParams) {
	found, next, err := a.page(r.Context(), params.Cursor, params.Limit)
	httpapi.Answer(w, r, http.StatusOK, api.TokenList{Items: httpapi.Each(found, record), Next: next}, err)
}

// CreateToken makes a token; for the role agent, a one-time join token.
func (a *Access) CreateToken(w http.ResponseWriter, r *http.Request) {
	body, err := httpapi.Body[api.NewToken](r)
	var made Token
	var secret string
	if err == nil {
		made, secret, err = a.Make(r.Context(), body.Name, string(body.Role), body.Host, body.Days)
	}
	httpapi.Answer(w, r, http.StatusCreated, api.MadeToken{Token: record(made), Secret: secret}, err)
}

// RevokeToken makes a token, and the sessions signed in with it, worthless.
func (a *Access) RevokeToken(w http.ResponseWriter, r *http.Request, id int64) {
	httpapi.Done(w, r, a.Revoke(r.Context(), id))
}

// RotateToken gives a token another secret.
func (a *Access) RotateToken(w http.ResponseWriter, r *http.Request, id int64) {
	t, secret, err := a.Rotate(r.Context(), id)
	httpapi.Answer(w, r, http.StatusCreated, api.MadeToken{Token: record(t), Secret: secret}, err)
}

// JoinAgent trades a join token for a credential.
func (a *Access) JoinAgent(w http.ResponseWriter, r *http.Request) {
	body, err := httpapi.Body[api.JoinAgentJSONBody](r)
	secret := ""
	if err == nil {
		err = a.door.try(r, func() (err error) {
			secret, err = a.Join(r.Context(), body.JoinToken, body.Host)
			return err
		})
	}
	httpapi.Answer(w, r, http.StatusOK, map[string]string{"token": secret, "host": body.Host}, err)
}

func record(t Token) api.Token {
	out := api.Token{Id: t.ID, Name: t.Name, Role: api.Role(t.Role), Created: t.CreatedAt.UTC(), Join: t.Kind == "join"}
	if t.Host != nil {
		out.Host = *t.Host
	}
	if t.ExpiresAt != nil {
		out.Expires = t.ExpiresAt.UTC()
	}
	if t.UsedAt != nil {
		out.Used = t.UsedAt.UTC()
	}
	return out
}
