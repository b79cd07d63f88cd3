// Package broker is the broker of a cluster: [cluster.Log], [cluster.Table] and [cluster.Bus] over a
// nats-server, embedded ([StartServer]) or external ([Dial]).
//
// The log and the table are streams, replicated and synced to the disk before a write is answered. The bus is
// plain subjects, which lose messages. Everything is under one prefix, so that a broker may be shared.
package broker
