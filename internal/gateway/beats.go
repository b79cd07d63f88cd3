package gateway

import (
	"net"

	"tovik.example/tovik/internal/realm"
	"tovik.example/tovik/wire"
)

// Beat carries out an HTTP beat: it opens or resumes a session without a connection, and applies
// what the client reports, whole or not at all. The error is a problem, or a refusal of the
// core.
func (g *Gateway) Beat(conn net.Conn, token, session string, b wire.Beating, caller realm.Caller) (wire.Lease, error) {
	c, err := g.realms.GreetLease(token, session, b, caller)
	if err != nil {
		return wire.Lease{}, err
	}
	ctx, done := g.whileAsking(conn)
	defer done()
	if c, err = c.Admit(ctx); err != nil {
		return wire.Lease{}, err
	}
	reply, err := g.open(ctx, conn, c)
	if err != nil {
		return wire.Lease{}, err
	}
	g.beats.Add(1)
	return c.Lease(reply), nil
}
