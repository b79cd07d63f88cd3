package server

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
)

// common is what the nodes of a cluster have in common of their configuration. It is in the log: the first
// node writes it, and a reload at any node changes it.
type common struct {
	Policy    presence.Policy             `json:"policy"`
	Realms    map[string]*presence.Policy `json:"realms"` // those with a policy of their own
	Retention records.Retention           `json:"keep"`
}

// policy returns the policy of a realm.
func (c *common) policy(realm string) *presence.Policy {
	if own := c.Realms[realm]; own != nil {
		return own
	}
	return &c.Policy
}

// common returns the text of what other nodes should have in common with this configuration.
func (c *Config) common() ([]byte, error) {
	is := common{Policy: *c.Policy, Realms: map[string]*presence.Policy{}, Retention: c.Retention}
	for name, realm := range c.Realms {
		if realm.Policy != nil {
			is.Realms[name] = realm.Policy
		}
	}
	return json.Marshal(is)
}

// agree adopts the configuration of the cluster. If the cluster has none, it gets that of this node, for
// which agree waits for an owner until ctx is done.
func (w *world) agree(ctx context.Context) error {
	now := w.current()
	own, err := now.common()
	if err != nil {
		return err
	}
	kept, err := w.store.Configuration()
	for err == nil && kept.Version == 0 {
		if failed := w.store.Configure(0, own); failed != nil && !errors.Is(failed, records.ErrExists) {
			w.config.Log.Info("waiting until the cluster takes a configuration", "because", failed)
			select {
			case <-ctx.Done():
				return failed
			case err := <-w.node.failed:
				return err
			case <-time.After(100 * time.Millisecond): // the cluster may be starting
			}
		}
		kept, err = w.store.Configuration()
	}
	if err != nil {
		return err
	}
	if !bytes.Equal(kept.Text, own) {
		w.config.Log.Warn("policies or keep in the file of this node differ from those of the cluster, which are in force; tovik reload at this node puts its own in force everywhere", "version", kept.Version)
	}
	return w.adopt(kept.Text)
}

// adopt puts the configuration of the cluster in force here.
func (w *world) adopt(text []byte) error {
	is := new(common)
	if err := json.Unmarshal(text, is); err != nil {
		return err
	}
	w.settings.Lock()
	w.common = is
	w.settings.Unlock()
	for _, r := range w.realms.All() {
		r.SetPolicy(w.policy(r.Name()))
	}
	return nil
}

// shareConfig puts the policies and retention of a configuration in force at all nodes, if they differ.
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

// HasPut implements [records.Listener]: some node has changed the configuration of the cluster.
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
