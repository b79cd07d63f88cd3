package server

import "github.com/nats-io/nats.go"

// DropLog drops all records of the log but the last, as if they were a day old, and returns the number of that one.
func (s *Server) DropLog() (uint64, error) {
	n := s.world.node
	js, err := n.conn.JetStream()
	if err != nil {
		return 0, err
	}
	name := n.Name + "-log"
	info, err := js.StreamInfo(name)
	if err != nil {
		return 0, err
	}
	return info.State.LastSeq, js.PurgeStream(name, &nats.StreamPurgeRequest{Sequence: info.State.LastSeq})
}

// Noted returns up to which record of the log a copy of the records goes.
func (s *Server) Noted() uint64 { return uint64(s.world.node.rows.Read()) }
