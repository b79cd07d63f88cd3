package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/wire"
)

func nodesCommand() *cli.Command {
	nodes := calling("nodes", "list the nodes of a cluster", "",
		"What each node owns and carries, how far it is behind the log, and whom it does not hear; which node owns each realm; and the last changes. "+
			"Any node answers. Needs the service's own key.\n\nExample: tovik nodes", nil,
		func(ctx context.Context, c *cli.Command, a client.API) error {
			list, err := a.Nodes(ctx)
			if err != nil {
				return err
			}
			return listing(c, list, list.Nodes, func(w io.Writer) { tableOfNodes(w, list, time.Now()) })
		})
	drain := calling("drain", "have a node hand over what it owns, and end", "NODE",
		"The node refuses new links, hands its realms to other nodes, sends its clients there, and exits with 0, as on SIGTERM. Needs the service's own key.\n\nExample: tovik nodes drain heron", nil,
		func(ctx context.Context, c *cli.Command, a client.API) error {
			node := c.Args().First()
			if err := a.DrainNode(ctx, node); err != nil {
				return err
			}
			return say(c, "%s hands over what it owns, and ends. To follow: tovik nodes", node)
		})
	nodes.Commands = []*cli.Command{drain}
	return nodes
}

func tableOfNodes(w io.Writer, list wire.Nodes, now time.Time) {
	_, _ = fmt.Fprintln(w, "NODE\tSTATE\tOWNS\tLINKS\tBEHIND\tCLOCK\tBROKER\tVERSION\tSINCE")
	for _, n := range list.Nodes {
		if n.State == wire.NodeAway {
			_, _ = fmt.Fprintf(w, "%s\t%s\t-\t-\t-\t-\t%s\t-\t-\n", n.Node, n.State, brokerOf(n))
			continue
		}
		since := ""
		if n.Since != nil {
			since = ago(now.Sub(n.Since.Time))
		}
		_, _ = fmt.Fprintf(w, "%s\t%s\t%s\t%d\t%d\t%+d ms\t%s\t%s\t%s\n", n.Node, n.State, orDash(strings.Join(n.Owns, ", ")), n.Links, n.Behind, n.Clock, brokerOf(n), n.Version, orDash(since))
	}
	for _, n := range list.Nodes {
		if n.Because != "" {
			_, _ = fmt.Fprintf(w, "\n%s: %s.\n", n.Node, n.Because)
		}
		if cut := cutOff(list, n); len(cut) > 0 {
			_, _ = fmt.Fprintf(w, "\n%s does not hear %s.\n", n.Node, phrase.List(cut))
		}
	}
	_, _ = fmt.Fprintln(w, "\nREALM\tOWNER\tEPOCH\tANSWERS")
	for _, r := range list.Realms {
		_, _ = fmt.Fprintf(w, "%s\t%s\t%d\t%s\n", r.Realm, orDash(r.Owner), r.Epoch, map[bool]string{true: "yes", false: "no"}[r.Answers])
	}
	log := list.Log
	_, _ = fmt.Fprintf(w, "\nThe log has records %d to %d, %s of at most %s; %d of %s complete.\n", log.First, log.Last, phrase.Size(log.Bytes), phrase.Size(log.Most), log.Current,
		phrase.Count(log.Copies, "copy"))
	if len(list.Changes) > 0 {
		_, _ = fmt.Fprintln(w, "\nWHEN\tREALM\tNEW OWNER\tEPOCH\tHOW")
	}
	for _, change := range list.Changes[:min(len(list.Changes), 8)] {
		_, _ = fmt.Fprintf(w, "%s\t%s\t%s\t%d\t%s\n", ago(now.Sub(change.Time.Time)), change.Realm, change.Owner, change.Epoch, howChanged(change))
	}
}

// cutOff returns the nodes that a node does not hear, but others do.
func cutOff(list wire.Nodes, n wire.Node) (nodes []string) {
	for _, other := range list.Nodes {
		if other.State != wire.NodeAway && slices.Contains(n.Unheard, other.Node) {
			nodes = append(nodes, other.Node)
		}
	}
	return nodes
}

func howChanged(c wire.OwnerChange) string {
	switch {
	case c.Handed:
		return "handed over"
	case c.Epoch == 1:
		return "the first owner"
	}
	return "taken over"
}

// brokerOf says what a node does for the broker.
func brokerOf(n wire.Node) string {
	if len(n.Leads) > 0 {
		return "leads " + strings.Join(n.Leads, ", ")
	}
	return cmp.Or(map[bool]string{true: "keeps the log"}[n.Keeps], "-")
}
