package server

import "tovik.example/tovik/internal/cluster/broker"

// DropLog drops all records of the log that this node has applied, as if they were a day old.
func (s *Server) DropLog() error { return broker.Drop(s.world.node.broker) }
