// Package realm holds the use cases of Tovik: everything that a client, a back end or an
// operator can ask or do in a realm, over any kind of link or HTTP.
//
// A [Realm] owns a core and everything that is driven by it. A [Conversation] serves one
// client with a link: a person, or an operator who watches. A [Desk] serves an operator or a
// back end over HTTP. Both check what the caller may do, and keep the order of a change: it
// is written before it is answered, and published after.
//
// Requests and answers are plain data, mostly of package wire, so that links and cores can be
// on different nodes. Callers never reach into a core. This package has no rules of presence. The package may import delivery, engine, records, access, admission, problem,
// pace, presence and wire.
package realm
