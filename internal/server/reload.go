package server

import (
	"crypto/tls"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"tovik.example/tovik/internal/config"
	"tovik.example/tovik/internal/journal"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/wire"
)

// Reload reloads the configuration, whole or not at all: the policies, the origins of realms,
// how long records are kept, and the certificate. It refuses a change that needs a restart, by
// name. Its error is a [*wire.Problem].
func (s *Server) Reload() (wire.Reloaded, error) { return s.world.Reload("") }

// Reload implements [httpapi.World].
func (w *world) Reload(by string) (wire.Reloaded, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	refused := func(detail string) (wire.Reloaded, error) {
		w.config.Log.Warn("configuration not reloaded", "because", detail)
		return wire.Reloaded{}, &wire.Problem{Code: wire.CodeBadConfig, Detail: detail + "; nothing has been changed", Allowed: "a configuration that passes tovik config check"}
	}
	if w.config.Reread == nil {
		return refused("the service was started without a configuration that could be read anew")
	}
	c, err := w.config.Reread()
	if err != nil {
		return refused(err.Error())
	}
	if c.Policy == nil {
		policy := presence.DefaultPolicy()
		c.Policy = &policy
	}
	c.addPractice()
	c.boundMemory()
	if names := needRestart(w.current(), c); names != nil {
		return refused("a restart is needed for " + strings.Join(names, ", "))
	}
	if err := w.secure.read(); err != nil {
		return refused(err.Error())
	}
	var done wire.Reloaded
	note := func(changed bool, what string) {
		if changed {
			done.Changed = append(done.Changed, what)
		}
	}
	differs := func(r *realm.Realm) bool { return !reflect.DeepEqual(r.Policy(), c.policy(r.Name())) }
	note(slices.ContainsFunc(w.realms.All(), differs), "policies")
	note(!reflect.DeepEqual(w.retention(), c.Retention), "keep")
	if w.node != nil {
		if err := w.shareConfig(&c); err != nil {
			return refused(err.Error())
		}
	}
	for _, realm := range w.realms.All() {
		origins := c.Realms[realm.Name()].Origins
		note(!slices.Equal(realm.Origins(), origins), "origins of "+realm.Name())
		realm.SetOrigins(origins)
		if w.node == nil { // otherwise the log brings it
			realm.SetPolicy(c.policy(realm.Name()))
		}
	}
	w.writer.SetRetention(c.Retention)
	w.settings.Lock()
	w.config.Policy, w.config.Retention, w.config.Realms = c.Policy, c.Retention, c.Realms
	w.settings.Unlock()
	note(w.secure.wanted(), "certificate")
	if done.Changed == nil {
		done.Changed = []string{}
	}
	w.act(journal.Entry{Kind: journal.ConfigReloaded, Note: strings.Join(done.Changed, ", "), By: by})
	w.config.Log.Info("configuration reloaded", "changed", strings.Join(done.Changed, ", "))
	return done, nil
}

// act notes in all journals what an operator did.
func (w *world) act(e journal.Entry) {
	if w.node == nil {
		w.writer.Act(e)
		return
	}
	e.At, e.Open = time.Now().UnixMilli(), true
	for _, r := range w.realms.All() {
		e.Realm = r.Name()
		if err := w.store.Act(e); err != nil {
			w.config.Log.Warn("what was done is not in the journal", "realm", e.Realm, "kind", e.Kind, "error", err)
		}
	}
}

// needRestart returns the keys of settings that differ and are read only at the start.
func needRestart(was, is Config) []string {
	names := config.NeedRestart(&was.Settings, &is.Settings)
	differs := func(name string, was, is any) {
		if !reflect.DeepEqual(was, is) {
			names = append(names, name)
		}
	}
	for _, name := range realmNames(was, is) {
		before, after := was.Realms[name], is.Realms[name]
		before.Origins, after.Origins, before.Policy, after.Policy = nil, nil, nil, nil
		_, was := was.Realms[name]
		if _, is := is.Realms[name]; was != is {
			names = append(names, fmt.Sprintf("realm %q", name))
			continue
		}
		differs(fmt.Sprintf("the keys of realm %q", name), [2]any{before.TokenKeys, before.KeySets}, [2]any{after.TokenKeys, after.KeySets})
		differs(fmt.Sprintf("the admission of realm %q", name), before.Admission, after.Admission)
	}
	return names
}

func realmNames(configs ...Config) (names []string) {
	for _, c := range configs {
		for name := range c.Realms {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	slices.Sort(names)
	return names
}

// certificate is the certificate of TLS, which a reload reads again.
type certificate struct {
	cert, key string // files in PEM; both empty: there is no TLS
	pair      atomic.Pointer[tls.Certificate]
}

func (c *certificate) wanted() bool { return c.cert != "" || c.key != "" }

func (c *certificate) read() error {
	switch {
	case !c.wanted():
		return nil
	case c.cert == "" || c.key == "":
		return errors.New("TLS needs both a certificate (--tls-cert) and its key (--tls-key)")
	}
	pair, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		return fmt.Errorf("the certificate %s with the key %s cannot be used: %w", c.cert, c.key, err)
	}
	c.pair.Store(&pair)
	return nil
}

func (c *certificate) config() *tls.Config {
	return &tls.Config{
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return c.pair.Load(), nil },
		MinVersion:     tls.VersionTLS12, NextProtos: []string{"http/1.1"},
	}
}
