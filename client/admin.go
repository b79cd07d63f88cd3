package client

import (
	"context"
	"io"
	"net/http"
	"net/url"

	"tovik.example/tovik/wire"
)

// Keys lists the operator keys of the realm.
func (a API) Keys(ctx context.Context) (wire.Keys, error) {
	var list wire.Keys
	return list, a.call(ctx, http.MethodGet, "/v1/keys", nil, &list)
}

// AddKey makes a key of an operator or back end. Only this answer has the key itself.
func (a API) AddKey(ctx context.Context, asked wire.NewKey) (wire.Key, error) {
	var made wire.Key
	return made, a.call(ctx, http.MethodPost, "/v1/keys", asked, &made)
}

// RevokeKey revokes a key, at once.
func (a API) RevokeKey(ctx context.Context, id string) error {
	return a.call(ctx, http.MethodDelete, "/v1/keys/"+url.PathEscape(id), nil, nil)
}

// TokenKeys lists the keys that verify tokens of the realm.
func (a API) TokenKeys(ctx context.Context) (wire.TokenKeys, error) {
	var list wire.TokenKeys
	return list, a.call(ctx, http.MethodGet, "/v1/token-keys", nil, &list)
}

// AddTokenKey adds a key that verifies tokens.
func (a API) AddTokenKey(ctx context.Context, asked wire.NewTokenKey) (wire.TokenKey, error) {
	var made wire.TokenKey
	return made, a.call(ctx, http.MethodPost, "/v1/token-keys", asked, &made)
}

// RevokeTokenKey revokes a key that verifies tokens, and closes the links of its tokens.
func (a API) RevokeTokenKey(ctx context.Context, id string) error {
	return a.call(ctx, http.MethodDelete, "/v1/token-keys/"+url.PathEscape(id), nil, nil)
}

// Nodes lists the nodes of the cluster, with what they own. It needs the service's own key.
func (a API) Nodes(ctx context.Context) (wire.Nodes, error) {
	var list wire.Nodes
	return list, a.call(ctx, http.MethodGet, "/v1/nodes", nil, &list)
}

// DrainNode has a node hand over what it owns, and end. It needs the service's own key.
func (a API) DrainNode(ctx context.Context, node string) error {
	var drained wire.Drained
	return a.call(ctx, http.MethodPost, "/v1/nodes/"+url.PathEscape(node)+"/drain", nil, &drained)
}

// Realms lists the realms of the service. It needs the service's own key.
func (a API) Realms(ctx context.Context) (wire.Realms, error) {
	var list wire.Realms
	return list, a.call(ctx, http.MethodGet, "/v1/realms", nil, &list)
}

// AddRealm makes a realm with its first operator key. It needs the service's own key.
func (a API) AddRealm(ctx context.Context, name string) (wire.NewRealm, error) {
	var made wire.NewRealm
	return made, a.call(ctx, http.MethodPost, "/v1/realms", map[string]string{"name": name}, &made)
}

// RemoveRealm removes a realm and deletes everything in it. It needs the service's own key.
func (a API) RemoveRealm(ctx context.Context, name string) error {
	return a.call(ctx, http.MethodDelete, "/v1/realms/"+url.PathEscape(name), nil, nil)
}

// Remove removes a person from a room, or with an empty room from the realm. Tokens issued
// before now are refused from then on.
func (a API) Remove(ctx context.Context, user, room string) (wire.Removal, error) {
	var done wire.Removal
	method, path := http.MethodPost, "/v1/people/"+url.PathEscape(user)+"/removal"
	if room != "" {
		method, path = http.MethodDelete, "/v1/rooms/"+url.PathEscape(room)+"/members/"+url.PathEscape(user)
	}
	return done, a.call(ctx, method, path, nil, &done)
}

// SignOut ends all sessions of a person.
func (a API) SignOut(ctx context.Context, user string) error {
	return a.call(ctx, http.MethodPost, "/v1/people/"+url.PathEscape(user)+"/sign-out", nil, nil)
}

// EndSession ends one session.
func (a API) EndSession(ctx context.Context, session string) error {
	return a.call(ctx, http.MethodPost, "/v1/sessions/"+url.PathEscape(session)+"/end", nil, nil)
}

// ExportPerson returns everything about a person as NDJSON: lines of [wire.ExportLine]. The caller
// closes it.
func (a API) ExportPerson(ctx context.Context, user string) (io.ReadCloser, error) {
	return a.open(ctx, "/v1/people/"+url.PathEscape(user)+"/export", "")
}

// Erase deletes everything about a person, and returns how much that was.
func (a API) Erase(ctx context.Context, user string) (wire.Erasure, error) {
	var receipt wire.Erasure
	return receipt, a.call(ctx, http.MethodPost, "/v1/people/"+url.PathEscape(user)+"/erasure", nil, &receipt)
}
