package access

import (
	"crypto/sha256"
	"net/http"
	"strconv"
	"time"

	"rotanex.example/api"
	"rotanex.example/service/httpapi"
)

// SignIn trades a token for a session cookie.
func (a *Access) SignIn(w http.ResponseWriter, r *http.Request) {
	body, err := httpapi.Body[api.SignInJSONBody](r)
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	p, ok, err := a.find(r.Context(), body.Token)
	switch {
	case err != nil:
	case !ok || p.session:
		err = unauthorised("the token is not known, was revoked or has expired")
	case p.Role == Agent:
		err = httpapi.Forbidden("an agent's credential does not sign a person in")
	}
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	expires := a.clock.WallNow().Add(sessionLife)
	_, secret, err := a.Create(r.Context(), Token{Kind: "session", Name: p.Name, Role: p.Role, ExpiresAt: &expires, ParentID: &p.TokenID})
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	a.setCookie(w, secret, sessionLife)
	httpapi.Answer(w, r, http.StatusOK, map[string]string{"name": p.Name, "role": p.Role}, nil)
}

func (a *Access) setCookie(w http.ResponseWriter, value string, life time.Duration) {
	http.SetCookie(w, &http.Cookie{
		Name: Cookie, Value: value, Path: "/", MaxAge: int(life.Seconds()),
		HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: a.secure,
	})
}

// SignOut ends the browser's session.
func (a *Access) SignOut(w http.ResponseWriter, r *http.Request) {
	if p := From(r.Context()); p.session {
		if err := a.store.DB.WithContext(r.Context()).Delete(&Token{}, p.TokenID).Error; err != nil {
			httpapi.Fail(w, r, err)
			return
		}
		a.forget(sha256.Sum256([]byte(secretOf(r))))
	}
	a.setCookie(w, "", -time.Second)
	w.WriteHeader(http.StatusNoContent)
}

// ListTokens answers with a page of the tokens of people, scripts and agents, not
// of sessions.
func (a *Access) ListTokens(w http.ResponseWriter, r *http.Request, params api.ListTokensParams) {
	out := api.TokenList{Items: []api.Token{}}
	tokens, next, err := httpapi.Page(a.store.WithContext(r.Context()).Where("kind <> 'session'"), "id",
		func(t Token) string { return strconv.FormatInt(t.ID, 10) }, params.Cursor, params.Limit)
	out.Next = next
	for _, t := range tokens {
		out.Items = append(out.Items, a.record(t))
	}
	httpapi.Answer(w, r, http.StatusOK, out, err)
}

// CreateToken makes a token; for the role agent, a one-time join token.
func (a *Access) CreateToken(w http.ResponseWriter, r *http.Request) {
	body, err := httpapi.Body[api.NewToken](r)
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	var made Token
	var secret string
	if string(body.Role) == Agent {
		if body.Host == "" {
			httpapi.Fail(w, r, httpapi.BadField("/host", "", "an agent's join token is for one host: name it"))
			return
		}
		made, secret, err = a.JoinToken(r.Context(), body.Host)
	} else {
		t := Token{Kind: "access", Name: body.Name, Role: string(body.Role)}
		if body.Days > 0 {
			expires := a.clock.WallNow().AddDate(0, 0, body.Days)
			t.ExpiresAt = &expires
		}
		made, secret, err = a.Create(r.Context(), t)
	}
	httpapi.Answer(w, r, http.StatusCreated, api.MadeToken{Token: a.record(made), Secret: secret}, err)
}

// RevokeToken makes a token, and the sessions signed in with it, worthless.
func (a *Access) RevokeToken(w http.ResponseWriter, r *http.Request, id int64) {
	done := a.store.DB.WithContext(r.Context()).Delete(&Token{}, id)
	err := done.Error
	if err == nil && done.RowsAffected == 0 {
		err = httpapi.NotFound("there is no such token")
	}
	a.forgetAll()
	httpapi.Done(w, r, err)
}

// JoinAgent trades a join token for a credential.
func (a *Access) JoinAgent(w http.ResponseWriter, r *http.Request) {
	body, err := httpapi.Body[api.JoinAgentJSONBody](r)
	if err != nil {
		httpapi.Fail(w, r, err)
		return
	}
	secret, err := a.Join(r.Context(), body.JoinToken, body.Host)
	httpapi.Answer(w, r, http.StatusOK, map[string]string{"token": secret, "host": body.Host}, err)
}
