package server

import "github.com/nats-io/nats.go"

// DropLog drops all records of the log but the last, as if they were a day old.
func (s *Server) DropLog() error {
	n := s.world.node
	js, err := n.conn.JetStream()
	if err != nil {
		return err
	}
	name := n.Name + "-log"
	info, err := js.StreamInfo(name)
	if err != nil {
		return err
	}
	return js.PurgeStream(name, &nats.StreamPurgeRequest{Sequence: info.State.LastSeq})
}
