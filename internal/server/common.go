package server

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"time"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
)

// common is what the nodes of a cluster have in common of their configuration. The log has it: the first
// node writes it, and later a reload at any node changes it.
type common struct {
	Policy    presence.Policy             `json:"policy"`
	Realms    map[string]*presence.Policy `json:"realms"` // those with a policy of their own
	Retention records.Retention           `json:"keep"`
}

func (c *Config) common() ([]byte, error) {
	is := common{Policy: *c.Policy, Realms: map[string]*presence.Policy{}, Retention: c.Retention}
	for name, realm := range c.Realms {
		if realm.Policy != nil {
			is.Realms[name] = realm.Policy
		}
	}
	return json.Marshal(is)
}

// agree takes over the configuration of the cluster, or gives it this node's if it has none. It waits for an
// owner until ctx is done.
func (w *world) agree(ctx context.Context) error {
	now := w.current()
	own, err := now.common()
	if err != nil {
		return err
	}
	kept, err := w.store.Configuration()
	for err == nil && kept.Version == 0 {
		if failed := w.store.Configure(0, own); failed != nil && !errors.Is(failed, records.ErrExists) {
			w.config.Log.Info("waiting for the configuration of the cluster", "because", failed)
			if ctx.Err() != nil {
				return failed
			}
			time.Sleep(100 * time.Millisecond) // the cluster may be starting
		}
		kept, err = w.store.Configuration()
	}
	if err != nil {
		return err
	}
	if !bytes.Equal(kept.Text, own) {
		w.config.Log.Warn("the configuration of this node differs from that of the cluster, which holds; tovik reload at this node makes it that of all", "version", kept.Version)
	}
	return w.adopt(kept.Text)
}

// adopt puts the configuration of the cluster in force here.
func (w *world) adopt(text []byte) error {
	var is common
	if err := json.Unmarshal(text, &is); err != nil {
		return err
	}
	w.settings.Lock()
	w.config.Policy, w.config.Retention = &is.Policy, is.Retention
	next := maps.Clone(w.config.Realms)
	if next == nil {
		next = map[string]RealmConfig{}
	}
	for name, realm := range next {
		realm.Policy = nil
		next[name] = realm
	}
	for name, policy := range is.Realms {
		realm := next[name]
		realm.Policy = policy
		next[name] = realm
	}
	w.config.Realms = next
	w.settings.Unlock()
	for _, r := range w.realms.All() {
		r.SetPolicy(w.policy(r.Name()))
	}
	return nil
}

// shareConfig makes a configuration that of all nodes, if it differs.
func (w *world) shareConfig(c *Config) error {
	own, err := c.common()
	if err != nil {
		return err
	}
	kept, err := w.store.Configuration()
	if err != nil || bytes.Equal(kept.Text, own) {
		return err
	}
	err = w.store.Configure(kept.Version, own)
	if errors.Is(err, records.ErrExists) {
		return fmt.Errorf("another node has changed the configuration of the cluster since version %d", kept.Version)
	}
	return err
}

// HasPut implements [records.Listener]: a node has changed the configuration of all.
func (n *node) HasPut(list []records.Rows) {
	for i := range list {
		for _, change := range list[i].Changes {
			if c := change.Configure; c != nil {
				n.events <- func() {
					if err := n.world.adopt(c.Text); err != nil {
						n.fails(err)
					}
				}
			}
		}
	}
}
